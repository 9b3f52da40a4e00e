"""Which features hold a relation to others: OGC Simple Features (06-103r4, DE-9IM) or a distance.

Index first: a feature whose box is too far from every other one is never looked at closely. The others are prepared
once and asked about many features at a time, in threads; GEOS lets go of the interpreter's lock.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import shapely

CHUNK = 20_000


class _Prepared(threading.local):
    """Prepared shapes, a copy for each thread: GEOS makes their indexes when they are first asked, and two threads that
    ask the same shape at the same time spoil each other's memory."""

    def __init__(self, others: np.ndarray) -> None:
        # called anew in every thread that touches it
        self.shapes = np.asarray(shapely.from_wkb(shapely.to_wkb(others)), object)
        shapely.prepare(self.shapes)


_MANY, _SIDE = 50_000, 64
_OUTSIDE, _INSIDE, _EDGE = 0, 1, 2


@dataclass(frozen=True)
class _Cells:
    """A grid over an area that says of each cell whether all of it is inside, outside, or neither: of many points only
    those in cells on the edge need a closer look."""

    west: float
    south: float
    wide: float
    high: float
    state: np.ndarray

    @classmethod
    def over(cls, area: shapely.Geometry) -> _Cells | None:
        """The grid of a prepared area; None for one too small to be divided."""
        west, south, east, north = area.bounds
        wide, high = (east - west) / _SIDE, (north - south) / _SIDE
        if not (wide > 0 and high > 0):
            return None
        col, row = np.meshgrid(np.arange(_SIDE), np.arange(_SIDE))
        # a little larger than the cell, so that a point on its border is in it whatever the rounding
        slack_x, slack_y = wide * 1e-6, high * 1e-6
        x, y = west + col * wide, south + row * high
        boxes = shapely.box(x - slack_x, y - slack_y, x + wide + slack_x, y + high + slack_y)
        state = np.where(
            shapely.contains_properly(area, boxes), _INSIDE, np.where(shapely.intersects(area, boxes), _EDGE, _OUTSIDE)
        )
        return cls(west, south, wide, high, state.astype(np.uint8))

    def of(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        """The state of the cell that each point is in."""
        col = np.clip(((x - self.west) / self.wide).astype(np.int64), 0, _SIDE - 1)
        row = np.clip(((y - self.south) / self.high).astype(np.int64), 0, _SIDE - 1)
        return np.asarray(self.state[row, col])


class Relation(StrEnum):
    """A relation of a feature to another, read feature first: the feature is *within* the other."""

    INTERSECTS = "intersects"
    WITHIN = "within"
    CONTAINS = "contains"
    TOUCHES = "touches"
    CROSSES = "crosses"
    OVERLAPS = "overlaps"
    EQUALS = "equals"
    DISJOINT = "disjoint"


# asked of the other one, which is prepared: "a within b" is "b contains a"
_ASKED_OF_OTHER: dict[tuple[Relation, bool], Callable[..., np.ndarray]] = {
    (Relation.INTERSECTS, False): shapely.intersects,
    (Relation.WITHIN, False): shapely.contains,
    (Relation.WITHIN, True): shapely.covers,
    (Relation.CONTAINS, False): shapely.within,
    (Relation.CONTAINS, True): shapely.covered_by,
    (Relation.TOUCHES, False): shapely.touches,
    (Relation.CROSSES, False): shapely.crosses,
    (Relation.OVERLAPS, False): shapely.overlaps,
    (Relation.EQUALS, False): shapely.equals,
}


def holds(
    geometry: np.ndarray, others: np.ndarray, relation: Relation, *, edge: bool = False,
    watch: Callable[[int, int], None] | None = None,
) -> np.ndarray:  # fmt: skip
    """Whether each feature holds the relation to at least one of the others (for DISJOINT: to all of them).

    Parameters
    ----------
    geometry : features, array of shapely geometry; null and empty ones hold nothing.
    others : in the same CRS; null and empty ones are passed over.
    edge : for WITHIN and CONTAINS, whether what lies on the edge only counts (covered by, covers).
    watch : called as (features done, features in all); may raise to end the work.

    Returns
    -------
    bool array, one a feature.
    """
    if relation is Relation.DISJOINT:
        real = _real(geometry)
        return real & ~holds(geometry, others, Relation.INTERSECTS, watch=watch)
    test = _ASKED_OF_OTHER[relation, edge and relation in (Relation.WITHIN, Relation.CONTAINS)]
    return _any(geometry, others, 0.0, lambda other, some: test(other, some), watch)


def points_hold(
    xy: np.ndarray, others: np.ndarray, relation: Relation, *, edge: bool = False,
    watch: Callable[[int, int], None] | None = None,
) -> np.ndarray | None:  # fmt: skip
    """As ``holds``, for points given by their coordinates (n, 2), without making shapes of them.

    None where that cannot be told from coordinates: for other relations than INTERSECTS, DISJOINT and WITHIN, for others
    that are no areas, and for many of them.
    """
    others = others[_real(others)]
    areas = np.isin(shapely.get_type_id(others), (3, 6)).all()
    if relation not in (Relation.INTERSECTS, Relation.DISJOINT, Relation.WITHIN) or len(others) > 8 or not areas:
        return None
    prepared = _Prepared(others)
    strict = relation is Relation.WITHIN and not edge
    test = shapely.contains_xy if strict else shapely.intersects_xy
    boxes = shapely.bounds(others)
    cells = [_Cells.over(o) if len(xy) > _MANY else None for o in prepared.shapes]
    out = np.zeros(len(xy), bool)

    def chunk(start: int) -> None:
        some, found = xy[start : start + CHUNK], out[start : start + CHUNK]
        x, y = some[:, 0], some[:, 1]
        for number, (west, south, east, north) in enumerate(boxes):
            at = np.flatnonzero(~found & (x >= west) & (x <= east) & (y >= south) & (y <= north))
            grid = cells[number]
            if grid is not None:
                where = grid.of(x[at], y[at])
                found[at[where == _INSIDE]] = True
                at = at[where == _EDGE]
            found[at] = test(prepared.shapes[number], x[at], y[at])

    starts = range(0, len(xy), CHUNK)
    with ThreadPoolExecutor(max(1, os.cpu_count() or 1)) as pool:
        for done, _ in enumerate(pool.map(chunk, starts), 1):
            if watch is not None:
                watch(min(done * CHUNK, len(xy)), len(xy))
    return np.isfinite(xy).all(axis=1) & ~out if relation is Relation.DISJOINT else out


def near(
    geometry: np.ndarray, others: np.ndarray, distance: float, watch: Callable[[int, int], None] | None = None
) -> np.ndarray:
    """Whether each feature lies within a distance (in units of the CRS; exactly that far counts) of one of the others."""
    return _any(geometry, others, distance, lambda other, some: shapely.dwithin(other, some, distance), watch)


def _real(geometry: np.ndarray) -> np.ndarray:
    return ~(shapely.is_missing(geometry) | shapely.is_empty(geometry))


def _any(
    geometry: np.ndarray, others: np.ndarray, reach: float, test: Callable[[object, np.ndarray], np.ndarray],
    watch: Callable[[int, int], None] | None,
) -> np.ndarray:  # fmt: skip
    out = np.zeros(len(geometry), bool)
    others = others[_real(others)]
    if not len(others) or not len(geometry):
        return out
    prepared = _Prepared(others)
    boxes = shapely.bounds(others)
    boxes[:, :2] -= reach
    boxes[:, 2:] += reach
    # a tree of a few others is not worth its walk; of many, it is asked a chunk of features at a time
    tree = shapely.STRtree(shapely.box(*boxes.T)) if len(others) > 8 else None

    def chunk(start: int) -> None:
        some = geometry[start : start + CHUNK]
        found = out[start : start + CHUNK]
        bounds = shapely.bounds(some)
        if tree is None:
            for other, (west, south, east, north) in zip(prepared.shapes, boxes, strict=True):
                open_ = ~found & (bounds[:, 2] >= west) & (bounds[:, 0] <= east)
                at = np.flatnonzero(open_ & (bounds[:, 3] >= south) & (bounds[:, 1] <= north))
                found[at] = test(other, some[at])
        else:
            row, which = tree.query(some)
            order = np.argsort(which, kind="stable")
            row, which = row[order], which[order]
            for a, b in zip(*_runs(which), strict=True):
                at = row[a:b]
                at = at[~found[at]]
                found[at] = test(prepared.shapes[which[a]], some[at])

    starts = range(0, len(geometry), CHUNK)
    with ThreadPoolExecutor(max(1, os.cpu_count() or 1)) as pool:
        for done, _ in enumerate(pool.map(chunk, starts), 1):
            if watch is not None:
                watch(min(done * CHUNK, len(geometry)), len(geometry))
    return out


def _runs(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Where runs of equal values begin and end."""
    if not len(values):
        return np.empty(0, np.int64), np.empty(0, np.int64)
    begins = np.flatnonzero(np.r_[True, values[1:] != values[:-1]])
    return begins, np.r_[begins[1:], len(values)]
