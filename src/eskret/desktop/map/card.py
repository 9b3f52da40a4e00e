"""The fields of the chosen feature, over the map."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFont
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QScrollArea, QToolButton, QVBoxLayout, QWidget

from eskret.desktop.theme.style import font


class FeatureCard(QFrame):
    """Names and values, one below the other."""

    closed = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._map = parent
        self._wanted = 0
        self.setObjectName("overMap")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.title = QLabel()
        self.title.setFont(font(13, QFont.Weight.DemiBold))
        self.title.setStyleSheet("font-weight: 600;")
        close = QToolButton()
        close.setObjectName("quiet")
        close.setText("Close")
        close.clicked.connect(self.leave)
        head = QHBoxLayout()
        head.addWidget(self.title)
        head.addStretch()
        head.addWidget(close)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setFrameShape(QFrame.Shape.NoFrame)
        self._area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 6, 6, 8)
        column.setSpacing(2)
        column.addLayout(head)
        column.addWidget(self._area)
        self.hide()

    def show_fields(self, title: str, fields: Sequence[tuple[str, str, bool]]) -> None:
        """Show a feature.

        Parameters
        ----------
        fields : name, value in words, and whether a value is missing.
        """
        self.title.setText(title)
        body = QWidget()
        body.setObjectName("formBody")
        grid = QGridLayout(body)
        grid.setContentsMargins(0, 2, 6, 2)
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(3)
        grid.setColumnStretch(1, 1)
        for row, (name, value, missing) in enumerate(fields):
            label = QLabel(name)
            label.setObjectName("faint")
            shown = QLabel(value)
            shown.setWordWrap(True)
            shown.setTextFormat(Qt.TextFormat.PlainText)
            shown.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            if missing:
                shown.setObjectName("faint")
                shown.setStyleSheet("font-style: italic;")
            grid.addWidget(label, row, 0, Qt.AlignmentFlag.AlignTop)
            grid.addWidget(shown, row, 1)
        grid.setRowStretch(len(fields), 1)
        self._area.setWidget(body)
        self._wanted = body.sizeHint().height() + 52
        self.place()
        self.show()
        self.raise_()

    def place(self) -> None:
        """Stand at the left of the map, no taller than it."""
        room = self._map
        height = min(self._wanted, room.height() - 50)
        self.setGeometry(10, 10, min(230, room.width() - 90), max(70, height))

    def leave(self) -> None:
        """Go away, and say so."""
        self.hide()
        self.closed.emit()
