"""Small marks painted by hand, so that they are sharp at every scale and follow the theme."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF


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
        painter.drawPolygon(
            QPolygonF([QPointF(x - 5, y + 3), QPointF(x - 2.5, y - 4.5), QPointF(x + 5, y - 2.5), QPointF(x + 3, y + 4.5)])
        )
    elif kind == "table":
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(x - 5, y - 4, 10, 8))
        for dy in (-1.3, 1.3):
            painter.drawLine(QPointF(x - 5, y + dy), QPointF(x + 5, y + dy))
    painter.restore()
