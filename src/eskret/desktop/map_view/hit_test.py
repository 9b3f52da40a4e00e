"""Which feature is under the pointer: boxes first, then the shape itself."""

from __future__ import annotations

import numpy as np

from eskret.desktop.map_view.render import PaintItem
from eskret.workflow.cache.results import RING


def feature_at(item: PaintItem, x: float, y: float, reach: float) -> int:
    """The row of the feature at a place on the ground, the topmost first; -1 for none.

    Parameters
    ----------
    reach : how near counts as on a line or a point, in ground units.
    """
    boxes = item.shapes.boxes if item.rows is None else item.shapes.boxes[item.rows]
    near = np.flatnonzero((boxes[:, 0] <= x + reach) & (boxes[:, 2] >= x - reach) & (boxes[:, 1] <= y + reach) & (boxes[:, 3] >= y - reach))
    rows = near if item.rows is None else item.rows[near]
    best, best_distance = -1, reach
    for row in rows[::-1][:400]:
        distance = distance_to(item, int(row), x, y)
        if distance == 0.0:
            return int(row)
        if distance < best_distance:
            best, best_distance = int(row), distance
    return best


def distance_to(item: PaintItem, row: int, x: float, y: float) -> float:
    """Distance from a place to a feature; 0 inside an area."""
    shapes = item.shapes
    inside, best = False, np.inf
    for piece in range(shapes.first[row], shapes.first[row + 1]):
        xy = shapes.xy[shapes.starts[piece] : shapes.starts[piece + 1]]
        if shapes.kinds[piece] == RING:
            inside ^= _in_ring(xy, x, y)
        best = min(best, _to_line(xy, x, y))
    return 0.0 if inside else float(best)


def _in_ring(xy: np.ndarray, x: float, y: float) -> bool:
    """Even-odd rule: a ray to the right crosses the ring an odd number of times."""
    x0, y0, x1, y1 = xy[:-1, 0], xy[:-1, 1], xy[1:, 0], xy[1:, 1]
    crossing = (y0 > y) != (y1 > y)
    if not crossing.any():
        return False
    at = x0[crossing] + (y - y0[crossing]) / (y1[crossing] - y0[crossing]) * (x1[crossing] - x0[crossing])
    return bool((at > x).sum() % 2)


def _to_line(xy: np.ndarray, x: float, y: float) -> float:
    if len(xy) == 1:
        return float(np.hypot(xy[0, 0] - x, xy[0, 1] - y))
    a, d = xy[:-1], np.diff(xy, axis=0)
    length = (d * d).sum(axis=1)
    t = np.clip(((x - a[:, 0]) * d[:, 0] + (y - a[:, 1]) * d[:, 1]) / np.where(length > 0, length, 1), 0, 1)
    return float(np.hypot(a[:, 0] + t * d[:, 0] - x, a[:, 1] + t * d[:, 1] - y).min())
