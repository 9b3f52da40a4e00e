"""Arrays to draw from in which some features are put together anew: those that would go across the whole map."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.workflow.cache.results import LINE, POINT, RING, pieces_of
from eskret.workflow.cache.stored import Shapes


def with_others(shapes: Shapes, moved: np.ndarray, rows: np.ndarray, work: Callable[[np.ndarray], np.ndarray]) -> Shapes:
    """Shapes brought elsewhere vertex by vertex, but for some features, of which ``work`` makes others as a whole.

    Parameters
    ----------
    shapes : as they were.
    moved : their vertices elsewhere.
    rows : the features to be made as a whole.
    """
    made = work(np.array([_geometry(shapes, row) for row in rows.tolist()] + [None], object)[:-1])
    xy, starts, kinds, first = pieces_of(made)
    owner = np.repeat(np.arange(len(shapes)), np.diff(shapes.first))
    old = np.flatnonzero(~np.isin(owner, rows))
    new_owner = rows[np.repeat(np.arange(len(rows)), np.diff(first))]
    order = np.argsort(np.concatenate([owner[old], new_owner]), kind="stable")
    begin = np.concatenate([shapes.starts[:-1][old], len(moved) + starts[:-1]])[order]
    count = np.concatenate([np.diff(shapes.starts)[old], np.diff(starts)])[order]
    ends = np.cumsum(count)
    at = np.arange(int(count.sum())) - np.repeat(ends - count, count) + np.repeat(begin, count)
    whose = np.concatenate([owner[old], new_owner])[order]
    return Shapes(
        np.concatenate([moved, xy])[at],
        np.concatenate([[0], ends]).astype(np.int64),
        np.concatenate([shapes.kinds[old], kinds])[order],
        np.searchsorted(whose, np.arange(len(shapes) + 1)).astype(np.int64),
        shapes.boxes,
    )


def _geometry(shapes: Shapes, row: int) -> BaseGeometry | None:
    """A feature as a shape; rings run one way round where they hold something, and the other where they are holes."""
    pieces = list(zip(shapes.pieces(row), shapes.kinds[shapes.first[row] : shapes.first[row + 1]].tolist(), strict=True))
    out: list[BaseGeometry] = []
    for xy, kind in pieces:
        if kind == POINT:
            out += map(shapely.Point, xy.reshape(-1, 2).tolist())
        elif kind == LINE:
            out.append(shapely.LineString(xy))
    rings = [shapely.LinearRing(xy) for xy, kind in pieces if kind == RING]
    if rings:
        shells = [shapely.Polygon(r) for r in rings if shapely.is_ccw(r)]
        holes = [shapely.Polygon(r) for r in rings if not shapely.is_ccw(r)]
        out.append(shapely.difference(shapely.union_all(shells), shapely.union_all(holes)))
    return out[0] if len(out) == 1 else shapely.GeometryCollection(out) if out else None
