"""A pane's head and body, and the buttons that stay in its background."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QToolButton, QVBoxLayout, QWidget

from eskret.desktop.theme.icons import icon
from eskret.desktop.theme.style import theme


class Pane(QWidget):
    """A head and a body."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.head = QWidget()
        self.head.setObjectName("paneHead")
        self.head.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.head.setFixedHeight(34)
        self.row = QHBoxLayout(self.head)
        self.row.setContentsMargins(12, 0, 8, 0)
        self.row.setSpacing(8)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(0)
        self.column.addWidget(self.head)


ICONS = ("fit", "larger", "colours")


class QuietButton(QToolButton):
    """A button that stays in the background until it is needed; ``text`` is one of ``ICONS``, or words."""

    def __init__(self, text: str, tip: str, checkable: bool = False) -> None:
        super().__init__()
        self.setObjectName("quiet")
        self.setToolTip(tip)
        self.setCheckable(checkable)
        self._icon = text if text in ICONS else ""
        if self._icon:
            self.setAccessibleName(tip)
            self._dress()
            theme.changed.connect(self._dress)
        else:
            self.setText(text)

    def _dress(self) -> None:
        self.setIcon(icon(self._icon, theme.colour("ink")))
