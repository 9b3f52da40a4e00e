"""Settings below each other, or in two columns where there is room for them."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QGridLayout, QWidget

TWO_FROM = 560
"""Width in pixels from which on there are two columns."""


class OneOrTwoColumns(QWidget):
    """Widgets in the order in which they were added; those that are hidden take no room, wide ones take a row of their own."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(20)
        self._grid.setVerticalSpacing(11)
        self._all: list[tuple[QWidget, bool]] = []
        self._laid: object = None

    def add(self, widget: QWidget, wide: bool = False) -> None:
        """Put a widget below the others."""
        self._all.append((widget, wide))
        widget.setParent(self)
        self._laid = None

    def lay(self) -> None:
        """Give every widget its place, after some were shown or hidden or the width has changed."""
        two = self.width() >= TWO_FROM
        shown = [not w.isHidden() for w, _ in self._all]
        if self._laid == (two, shown):
            return
        self._laid = (two, shown)
        for widget, _ in self._all:
            self._grid.removeWidget(widget)
        row = column = 0
        for (widget, wide), there in zip(self._all, shown, strict=True):
            if not there:
                continue
            if not two or wide:
                row += column
                self._grid.addWidget(widget, row, 0, 1, 2 if two else 1, Qt.AlignmentFlag.AlignTop)
                row, column = row + 1, 0
            else:
                self._grid.addWidget(widget, row, column, Qt.AlignmentFlag.AlignTop)
                row, column = row + column, 1 - column
        for n in (0, 1):
            self._grid.setColumnStretch(n, 1 if two or n == 0 else 0)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.lay()
