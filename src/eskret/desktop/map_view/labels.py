"""Write a field beside features: those with the most room first, none over another."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QPainter, QPainterPath, QPen

from eskret.desktop.map_view.render import PaintItem, visible_rows
from eskret.desktop.map_view.viewport import Viewport
from eskret.workflow.cache.results import LINE, POINT, RING
from eskret.workflow.cache.stored import Shapes

MOST = 500
"""More labels than this can nobody read at once; of more features the largest are tried."""
_CELL = 6.0


@dataclass(frozen=True)
class Labels:
    """What is written: a field of the rows of an item, in words by ``show``."""

    item: PaintItem
    column: pa.ChunkedArray
    show: Callable[[object], str]


@dataclass(frozen=True)
class PlacedLabel:
    """One label: the left end of its base line, and the text."""

    x: float
    y: float
    text: str


def place(labels: Labels, view: Viewport, metrics: QFontMetricsF, taken: np.ndarray) -> list[PlacedLabel]:
    """Find room for labels.

    Parameters
    ----------
    taken : cells of the view that are written on already (bool, rows by columns); those used are marked in it.
    """
    shapes = labels.item.shapes
    rows = visible_rows(labels.item, view)
    boxes = shapes.boxes[rows]
    size = (boxes[:, 2] - boxes[:, 0]) * (boxes[:, 3] - boxes[:, 1])
    rows = rows[np.argsort(-size, kind="stable")][:MOST]
    texts = labels.column.take(pa.array(rows)).to_pylist()
    out = []
    for row, value in zip(rows.tolist(), texts, strict=True):
        if value is None or value == "":
            continue
        kind, x, y = anchor(shapes, row, view)
        box_of = shapes.boxes[row]
        upright = box_of[3] - box_of[1] > 2 * (box_of[2] - box_of[0])
        text = labels.show(value)
        if not np.isfinite(x):
            continue
        at = view.to_screen(np.array([(x, y)]))[0]
        width, height = metrics.horizontalAdvance(text), metrics.height()
        for dx, dy in _PLACES[kind] if kind != LINE or not upright else _BESIDE:
            box = QRectF(at[0] + dx * width / 2 - width / 2, at[1] + dy * height - height / 2, width, height)
            box.translate(7.0 * np.sign(dx), 3.0 * np.sign(dy))
            if _take(taken, box, view):
                out.append(PlacedLabel(box.left(), box.bottom() - metrics.descent(), text))
                break
    return out


_PLACES = {RING: ((0, 0), (0, -0.6), (0, 0.6)), LINE: ((0, -0.6), (0, 0.6), (1, 0), (-1, 0)), POINT: ((1, 0), (-1, 0), (0, -0.9), (0, 0.9))}
"""Where a label may stand about its place: shares of its width and height."""
_BESIDE = ((1, 0), (-1, 0))
"""The same for a line that goes up or down."""


def _take(taken: np.ndarray, box: QRectF, view: Viewport) -> bool:
    if box.left() < 2 or box.top() < 2 or box.right() > view.width - 2 or box.bottom() > view.height - 2:
        return False
    a, b = int(box.top() // _CELL), int(box.bottom() // _CELL) + 1
    c, d = int(box.left() // _CELL), int(box.right() // _CELL) + 1
    if taken[a:b, c:d].any():
        return False
    taken[a:b, c:d] = True
    return True


def reserve(taken: np.ndarray, box: QRectF) -> None:
    """Keep a box free of labels."""
    if box.width() > 0 and box.height() > 0:
        a, b = max(0, int(box.top() // _CELL)), int(box.bottom() // _CELL) + 1
        taken[a:b, max(0, int(box.left() // _CELL)) : int(box.right() // _CELL) + 1] = True


def cells(view: Viewport) -> np.ndarray:
    """The cells of a view, none written on."""
    return np.zeros((int(view.height // _CELL) + 2, int(view.width // _CELL) + 2), bool)


def anchor(shapes: Shapes, row: int, view: Viewport) -> tuple[int, float, float]:
    """What a feature is, and where its label belongs: inside an area, midway along a line, at a point."""
    pieces = range(shapes.first[row], shapes.first[row + 1])
    if not len(pieces):
        return POINT, np.nan, np.nan
    kinds = shapes.kinds[pieces.start : pieces.stop]
    if (kinds == RING).any():
        return (RING, *_inside(shapes, row, view))
    spans = [shapes.xy[shapes.starts[p] : shapes.starts[p + 1]] for p in pieces]
    longest = max(spans, key=lambda xy: float(np.hypot(*np.ptp(xy, axis=0))))
    if len(longest) == 1:
        return POINT, float(longest[0, 0]), float(longest[0, 1])
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(longest, axis=0).T))])
    half = along[-1] / 2
    return LINE, float(np.interp(half, along, longest[:, 0])), float(np.interp(half, along, longest[:, 1]))


def _inside(shapes: Shapes, row: int, view: Viewport) -> tuple[float, float]:
    """The middle of the widest stretch inside an area, halfway up the part of it that is in view."""
    x0, y0, x1, y1 = view.box
    box = shapes.boxes[row]
    low, high = max(box[1], y0), min(box[3], y1)
    y = (low + high) / 2
    crossings = []
    for piece in range(shapes.first[row], shapes.first[row + 1]):
        if shapes.kinds[piece] != RING:
            continue
        xy = shapes.xy[shapes.starts[piece] : shapes.starts[piece + 1]]
        a, b = xy[:-1], xy[1:]
        hit = (a[:, 1] > y) != (b[:, 1] > y)
        crossings.append(a[hit, 0] + (y - a[hit, 1]) / (b[hit, 1] - a[hit, 1]) * (b[hit, 0] - a[hit, 0]))
    at = np.clip(np.sort(np.concatenate(crossings)), x0, x1)
    if len(at) < 2:
        return float((box[0] + box[2]) / 2), float((box[1] + box[3]) / 2)
    inside = (at[1::2] - at[: len(at) // 2 * 2 : 2]).argmax()
    return float(at[2 * inside] + at[2 * inside + 1]) / 2, float(y)


def write(painter: QPainter, placed: list[PlacedLabel], font: QFont, ink: QColor, ground: QColor) -> None:
    """Write labels with a rim in the colour of the ground, so that they can be read over anything."""
    if not placed:
        return
    path = QPainterPath()
    for label in placed:
        path.addText(QPointF(label.x, label.y), font, label.text)
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    pen = QPen(ground, 3.0)
    pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
    painter.strokePath(path, pen)
    painter.fillPath(path, ink)
    painter.restore()
