"""The fields of the chosen feature, over the map."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFont
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QScrollArea, QStackedWidget, QToolButton, QVBoxLayout, QWidget

from eskret.core.words import pluralise
from eskret.desktop.map_view.vertex_table import CornersTable
from eskret.desktop.theme.style import font
from eskret.workflow.cache.stored import Shapes


class FeatureCard(QFrame):
    """Names and values, one below the other."""

    closed = Signal()
    corners_shown = Signal(object, int)  # the feature's corners on the ground (n, 2) or None; the one in hand, or -1

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
        self.corners_button = QToolButton()
        self.corners_button.setText("corners")
        self.corners_button.setObjectName("quiet")
        self.corners_button.setCheckable(True)
        self.corners_button.clicked.connect(self._show_corners)
        head.addStretch()
        head.addWidget(self.corners_button)
        head.addWidget(close)
        self.corners = CornersTable()
        self.corners.corner_chosen.connect(self._corner_chosen)
        self._stack = QStackedWidget()
        self._area = QScrollArea()
        self._area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._area.setWidgetResizable(True)
        self._area.setFrameShape(QFrame.Shape.NoFrame)
        self._area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 6, 6, 8)
        column.setSpacing(2)
        column.addLayout(head)
        self._stack.addWidget(self._area)
        self._stack.addWidget(self.corners)
        column.addWidget(self._stack)
        self.hide()

    def show_fields(self, title: str, fields: Sequence[tuple[str, str, bool]], shapes: Shapes | None, row: int, degrees: bool) -> None:
        """Show a feature.

        Parameters
        ----------
        fields : name, value in words, and whether a value is missing.
        shapes, row, degrees : where its corners are; whether their coordinates are degrees.
        """
        self.title.setText(title)
        self.corners_button.setVisible(shapes is not None)
        if shapes is not None:
            self.corners.show_feature(shapes, row, degrees)
            self.corners_button.setText(pluralise(self.corners.model_.rowCount(), "corner"))
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
        self.show()
        self.raise_()
        self._show_corners(self.corners_button.isChecked() and shapes is not None)

    def _show_corners(self, on: bool) -> None:
        self.corners_button.setChecked(on)
        self._stack.setCurrentIndex(int(on))
        self.place()
        self.corners_shown.emit(self.corners.model_.xy if on else None, -1)

    def _corner_chosen(self, corner: int) -> None:
        if self.corners_button.isChecked():
            self.corners_shown.emit(self.corners.model_.xy, corner)

    def place(self) -> None:
        """Stand at the left of the map, no taller than it."""
        room = self._map
        corners = self.corners_button.isChecked()
        height = min(300 if corners else self._wanted, room.height() - 50)
        self.setGeometry(10, 10, min(380 if corners else 230, room.width() - 90), max(70, height))

    def leave(self) -> None:
        """Go away, and say so."""
        self.hide()
        self.closed.emit()
