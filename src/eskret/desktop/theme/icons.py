"""Small marks, sharp at every scale, that follow the theme: shapes of states and kinds are painted, icons are drawings in files."""

from __future__ import annotations

from functools import cache

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QIcon, QPainter, QPainterPath, QPaintEvent, QPen, QPixmap, QPolygonF
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import QSizePolicy, QWidget

from eskret.desktop.theme.style import RESOURCES, theme

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


@cache
def _drawing(name: str) -> str:
    return (RESOURCES / "icons" / f"{name}.svg").read_text(encoding="utf-8")


def icon(name: str, colour: QColor) -> QIcon:
    """An icon of 16 pixels at 100 %, sharp at 200 %: a file of ``resources/icons``, drawn in a colour of the theme."""
    renderer = QSvgRenderer(_drawing(name).replace("currentColor", colour.name()).encode())
    made = QIcon()
    for scale in (1, 2, 3):
        picture = QPixmap(16 * scale, 16 * scale)
        picture.fill(Qt.GlobalColor.transparent)
        painter = QPainter(picture)
        renderer.render(painter)
        painter.end()
        picture.setDevicePixelRatio(scale)
        made.addPixmap(picture)
    return made


@cache
def application_icon() -> QIcon:
    """The application's own, drawn sharp at the sizes in which desktops show one."""
    renderer = QSvgRenderer((RESOURCES / "eskret.svg").read_bytes())
    made = QIcon()
    for size in (16, 24, 32, 48, 64, 128, 256):
        picture = QPixmap(size, size)
        picture.fill(Qt.GlobalColor.transparent)
        painter = QPainter(picture)
        renderer.render(painter)
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
