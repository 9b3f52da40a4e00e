"""Paint the legend: what colours stand for, with how many features have each."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QPainter, QPen

from eskret.desktop.map_view.lettering import RIGHT, write_in
from eskret.desktop.map_view.render import Symbol, paint_sample
from eskret.desktop.map_view.scene import Block
from eskret.desktop.theme.palette import Palette
from eskret.desktop.theme.style import font

_ROW, _PAD, _SWATCH = 16.0, 8.0, 18.0


def legend_size(blocks: Sequence[Block], room: float) -> tuple[float, float]:
    """Width and height in pixels of a legend that has ``room`` from top to bottom; 0, 0 of none."""
    if not blocks:
        return 0.0, 0.0
    lines = _lines(blocks, room)
    plain, strong = QFontMetricsF(font(11)), QFontMetricsF(_strong())
    width = 0.0
    for text, count, look, _ in lines:
        left = _SWATCH + 8 if look is not None else 0.0
        metrics = plain if look is not None or count is None else strong
        tail = plain.horizontalAdvance(_count(count)) + 14 if count is not None and count >= 0 else 0.0
        width = max(width, left + metrics.horizontalAdvance(text) + tail)
    return min(width, 260.0) + 2 * _PAD, len(lines) * _ROW + 2 * _PAD - 4


Line = tuple[str, int | None, Symbol | None, str]
"""Text; the count, -1 for a title, None for a remark; how it is drawn; the kind."""


def _lines(blocks: Sequence[Block], room: float) -> list[Line]:
    out: list[Line] = []
    for block in blocks:
        if len(block.keys) == 1 and not block.about:
            out.append((block.title, None, block.keys[0].look, block.kind))
            continue
        out.append((f"{block.title}{': ' + block.about if block.about else ''}", -1, None, block.kind))
        out += [(k.text, k.count, k.look, block.kind) for k in block.keys]
    fit = max(3, int((room - 2 * _PAD) // _ROW))
    if len(out) > fit:
        out = [*out[: fit - 1], (f"and {len(out) - fit + 1:,} more", None, None, "")]
    return out


def _strong() -> QFont:
    return font(11, QFont.Weight.DemiBold)


def _count(count: int | None) -> str:
    return f"{count:,}" if count is not None and count >= 0 else ""


def paint_legend(painter: QPainter, blocks: Sequence[Block], corner: QPointF, room: float, palette: Palette) -> None:
    """Paint it with its lower left corner at a place."""
    width, height = legend_size(blocks, room)
    if not width:
        return
    box = QRectF(corner.x(), corner.y() - height, width, height)
    ground = QColor(palette.paper)
    ground.setAlpha(235)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setPen(QPen(QColor(palette.line), 1))
    painter.setBrush(ground)
    painter.drawRect(box)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    y = box.top() + _PAD - 2
    for text, count, look, kind in _lines(blocks, room):
        row = QRectF(box.left() + _PAD, y, box.width() - 2 * _PAD, _ROW)
        if look is not None:
            swatch(painter, look, kind, QRectF(row.left(), row.top() + 2, _SWATCH, _ROW - 5))
            row.setLeft(row.left() + _SWATCH + 8)
        painter.setFont(_strong() if count == -1 else font(11))
        painter.setPen(QColor(palette.ink if look is not None or count == -1 else palette.faint))
        tail = _count(count)
        room_for = row.width() - (painter.fontMetrics().horizontalAdvance(tail) + 8 if tail else 0)
        shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(room_for) + 1)
        write_in(painter, row, shown)
        if tail:
            painter.setPen(QColor(palette.faint))
            write_in(painter, row, tail, RIGHT)
        y += _ROW
    painter.restore()


def swatch(painter: QPainter, look: Symbol, kind: str, box: QRectF) -> None:
    """A little of what a layer draws, in a look."""
    x0, y0, x1, y1 = box.left(), box.top(), box.right(), box.bottom()
    middle = box.center()
    if kind == "point":
        paint_sample(painter, look, np.array([(middle.x(), middle.y())]), "point")
    elif kind == "line":
        corners = [(x0, y1 - 2), (x0 + 6, y0 + 3), (x1 - 6, y1 - 3), (x1, y0 + 2)]
        paint_sample(painter, look, np.array(corners), "line")
    else:
        paint_sample(painter, look, np.array([(x0, y0), (x1, y0), (x1, y1), (x0, y1), (x0, y0)]), "area")
