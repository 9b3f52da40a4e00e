"""Write words with a painter of any device; in an SVG as outlines, since its reader may not have the letters."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetricsF, QPaintEngine, QPainter, QPainterPath

LEFT = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft
RIGHT = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight


def write_at(painter: QPainter, place: QPointF, words: str) -> None:
    """Write from a place on the base line, in the painter's pen and font."""
    if painter.paintEngine().type() != QPaintEngine.Type.SVG:
        painter.drawText(place, words)
        return
    path = QPainterPath()
    path.addText(place, painter.font(), words)
    painter.fillPath(path, painter.pen().color())


def write_in(painter: QPainter, box: QRectF, words: str, align: Qt.AlignmentFlag = LEFT) -> None:
    """Write in the middle of a box's height, at its left or right."""
    if painter.paintEngine().type() != QPaintEngine.Type.SVG:
        painter.drawText(box, align, words)
        return
    metrics = QFontMetricsF(painter.font())
    x = box.right() - metrics.horizontalAdvance(words) if align == RIGHT else box.left()
    y = box.center().y() + (metrics.ascent() - metrics.descent()) / 2
    write_at(painter, QPointF(x, y), words)
