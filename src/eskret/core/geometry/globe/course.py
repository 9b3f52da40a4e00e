"""What becomes of the course of straight edges on the way from one coordinate system to another: they bend, as far as told."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely

from eskret.core.crs import crs_facts
from eskret.core.geometry.globe.planes import EARTH, stretches
from eskret.core.geometry.vertices import edges_of, split_edges

Move = Callable[[np.ndarray], np.ndarray]
_LOOKED_AT = 2_000
_WIDE = 60.0
"""Degrees of longitude from which an edge is cut in any case, so that it is known which way round it goes."""


def _metres(off: np.ndarray, at: np.ndarray, crs: str) -> np.ndarray:
    """Lengths of differences of coordinates, roughly."""
    facts = crs_facts(crs)
    if facts.geographic:
        east = (off[:, 0] + 180.0) % 360.0 - 180.0
        return np.asarray(EARTH * np.radians(np.hypot(east * np.cos(np.radians(at[:, 1])), off[:, 1])))
    return np.asarray(np.hypot(*off.T) * (facts.unit_metres or 1.0))


def bend_of(begin: np.ndarray, end: np.ndarray, move: Move, target: str) -> np.ndarray:
    """Metres by which the middle of edges is off when only their ends are moved; not a number where there is no way."""
    a, b, middle = move(begin), move(end), move((begin + end) / 2)
    with np.errstate(invalid="ignore"):
        if crs_facts(target).geographic:
            # the short way between the two ends
            b[:, 0] = a[:, 0] + (b[:, 0] - a[:, 0] + 180.0) % 360.0 - 180.0
        return _metres(middle - (a + b) / 2, middle, target)


def most_bent(shapes: np.ndarray, move: Move, target: str) -> float:
    """Metres by which an edge of these shapes is off at most when only its ends are moved; found among the longest of the
    largest shapes."""
    boxes = shapely.bounds(shapes).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        size = np.hypot(boxes[:, 2] - boxes[:, 0], boxes[:, 3] - boxes[:, 1])
    shapes = shapes[np.isfinite(size)]
    size = size[np.isfinite(size)]
    begin, end, _ = edges_of(shapes[_largest(size)])
    if not len(begin):
        return 0.0
    at = _largest(np.hypot(*(end - begin).T))
    found = bend_of(begin[at], end[at], move, target)
    return float(np.max(found[np.isfinite(found)], initial=0.0))


def _largest(size: np.ndarray) -> np.ndarray:
    return np.argpartition(size, -_LOOKED_AT)[-_LOOKED_AT:] if len(size) > _LOOKED_AT else np.arange(len(size))


def following(shapes: np.ndarray, move: Move, target: str, tolerance: float) -> np.ndarray:
    """Shapes with so many vertices that their edges keep their course to a tolerance (metres) when they are moved."""
    to_degrees = crs_facts(target).geographic

    def count(begin: np.ndarray, end: np.ndarray, row: np.ndarray) -> np.ndarray:
        many = stretches(bend_of(begin, end, move, target), tolerance)
        if to_degrees:
            a, b = move(begin), move(end)
            with np.errstate(invalid="ignore"):
                wide = np.abs((b[:, 0] - a[:, 0] + 180.0) % 360.0 - 180.0)
            many = np.maximum(many, np.where(wide > _WIDE, 64.0, 1.0))
        return np.nan_to_num(many, nan=1.0, posinf=1.0)

    return split_edges(shapes, count)
