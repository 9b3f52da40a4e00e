"""A ring around what a lesson is about, over everything, through which one clicks as if it were not there."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from eskret.desktop.theme.style import theme

_AROUND = 4


class Pointer(QWidget):
    """A child of the window that covers it; only the ring is painted."""

    def __init__(self, over: QWidget) -> None:
        super().__init__(over)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._place = QRect()
        self.hide()

    def point_at(self, widget: QWidget | None, part: QRect | None = None) -> None:
        """Put the ring around a widget, or a part of it; nowhere for None, or where it is not to be seen."""
        over = self.parentWidget()
        if widget is None or not widget.isVisible() or over is None:
            self.hide()
            return
        inside = (part if part is not None else widget.rect()).intersected(widget.visibleRegion().boundingRect())
        if inside.isEmpty():
            self.hide()  # scrolled away
            return
        place = QRect(widget.mapTo(over, inside.topLeft()), inside.size()).adjusted(-_AROUND, -_AROUND, _AROUND, _AROUND)
        place = place.intersected(over.rect())
        if self.isVisible() and place == self._place:
            return
        self._place = place
        self.setGeometry(place)
        self.show()
        self.raise_()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("ring"), 3))
        painter.drawRoundedRect(QRect(QPoint(2, 2), self.size()).adjusted(0, 0, -4, -4), 5, 5)
        painter.end()
