"""Small marks painted by hand, so that they are sharp at every scale and follow the theme."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPainterPath, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from eskret.desktop.theme.style import theme

STATE_COLOURS = {"balanced": "good", "good": "good", "look": "look", "failed": "bad", "error": "bad", "bad": "bad"}


def paint_state(painter: QPainter, state: str, centre: QPointF) -> None:
    """A shape for a state: a disc balances, a triangle asks for a look, a square failed, a ring is none of these."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    colour = theme.colour(STATE_COLOURS.get(state, "faint"))
    painter.setPen(QPen(colour, 1.6))
    filled = state in ("balanced", "good", "look", "failed", "bad")
    painter.setBrush(colour if filled else Qt.BrushStyle.NoBrush)
    x, y = centre.x(), centre.y()
    if state == "look":
        painter.drawPolygon(QPolygonF([QPointF(x, y - 4), QPointF(x + 4.2, y + 3.4), QPointF(x - 4.2, y + 3.4)]))
    elif state in ("failed", "error", "bad"):
        painter.drawRect(QRectF(x - 3.6, y - 3.6, 7.2, 7.2))
    else:
        painter.drawEllipse(centre, 3.4, 3.4)
    painter.restore()


class StateMark(QWidget):
    """A state's shape as a widget."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._state = "good"
        self.setFixedSize(16, 16)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)

    def show_state(self, state: str) -> None:
        self._state = state
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        paint_state(painter, self._state, QPointF(8.0, 8.0))
        painter.end()


_STROKES: dict[str, list[list[tuple[float, float]]]] = {
    # a feature between four marks: bring everything into view
    "fit": [
        [(3, 6), (3, 3), (6, 3)],
        [(10, 3), (13, 3), (13, 6)],
        [(13, 10), (13, 13), (10, 13)],
        [(6, 13), (3, 13), (3, 10)],
        [(6.5, 8), (9.5, 8)],
    ],
    # a pane that grows, and one that shrinks
    "larger": [[(3, 3), (13, 3), (13, 13), (3, 13), (3, 3)], [(3, 7), (9, 7), (9, 13)]],
    "smaller": [[(3, 3), (13, 3), (13, 13), (3, 13), (3, 3)], [(3, 9), (7, 9), (7, 13)]],
    # three strips, one longer than the other: what is on the map, and how
    "colours": [
        [(3, 4), (13, 4)],
        [(3, 8), (10.5, 8)],
        [(3, 12), (8, 12)],
        [(3, 4.8), (13, 4.8)],
        [(3, 8.8), (10.5, 8.8)],
        [(3, 12.8), (8, 12.8)],
    ],
    # choosing by hand: a frame, a loop; and a shape being drawn
    "box": [
        [(2.5, 4), (6, 4)],
        [(8, 4), (11, 4)],
        [(13, 4), (13, 7)],
        [(13, 9), (13, 12), (10, 12)],
        [(8, 12), (5, 12)],
        [(3, 12), (3, 9)],
        [(3, 7), (3, 6)],
    ],
    "lasso": [[(8, 11), (4.2, 10), (2.6, 7.2), (4, 4.4), (8, 3.2), (12, 4.4), (13.4, 7.2), (11.8, 10), (8, 11), (6.6, 12), (7.2, 13.6)]],
    "sketch": [
        [(3, 12.5), (4.5, 4.5), (10, 3), (13, 9)],
        [(3, 12.5), (8, 11.5)],
        [(9.5, 13.5), (13.5, 13.5)],
        [(11.5, 11.5), (11.5, 15.5)],
    ],
    "wedge": [[(5, 6.5), (8, 9.5), (11, 6.5)]],
}


def icon(name: str, colour: QColor) -> QIcon:
    """A drawn icon of 16 pixels at 100 %, sharp at 200 %."""
    made = QIcon()
    for scale in (1, 2, 3):
        picture = QPixmap(16 * scale, 16 * scale)
        picture.setDevicePixelRatio(scale)
        picture.fill(Qt.GlobalColor.transparent)
        painter = QPainter(picture)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(colour, 1.4, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap, Qt.PenJoinStyle.RoundJoin))
        for stroke in _STROKES[name]:
            painter.drawPolyline([QPointF(x, y) for x, y in stroke])
        painter.end()
        made.addPixmap(picture)
    return made


def paint_kind(painter: QPainter, kind: str, centre: QPointF, colour: QColor) -> None:
    """What a layer draws: three dots, a bent line, a leaning quadrilateral, a grid of rows, or dot and line."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(QPen(colour, 1.3))
    x, y = centre.x(), centre.y()
    if kind in ("point", "mixed"):
        painter.setBrush(colour)
        for dx, dy in ((-4.0, 2.5), (0.5, -3.5), (4.0, 3.0)):
            painter.drawEllipse(QPointF(x + dx, y + dy), 1.1, 1.1)
    if kind in ("line", "mixed"):
        painter.setBrush(Qt.BrushStyle.NoBrush)
        path = QPainterPath(QPointF(x - 5.5, y + 3.5))
        path.cubicTo(QPointF(x - 2, y - 7), QPointF(x + 2, y + 7), QPointF(x + 5.5, y - 3.5))
        painter.drawPath(path)
    elif kind == "area":
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolygon(QPolygonF([QPointF(x - 5, y + 3), QPointF(x - 2.5, y - 4.5), QPointF(x + 5, y - 2.5), QPointF(x + 3, y + 4.5)]))
    elif kind == "table":
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(x - 5, y - 4, 10, 8))
        for dy in (-1.3, 1.3):
            painter.drawLine(QPointF(x - 5, y + dy), QPointF(x + 5, y + dy))
    painter.restore()
