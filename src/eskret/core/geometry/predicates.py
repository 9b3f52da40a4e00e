"""Which features hold a relation to others: OGC Simple Features (06-103r4, DE-9IM) or a distance.

Index first: a feature whose box is too far from every other one is never looked at closely. The others are prepared
once and asked about many features at a time, in threads; GEOS lets go of the interpreter's lock.
"""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum

import numpy as np
import shapely

from eskret.core.geometry.globe.meeting import pairs, with_poles
from eskret.core.geometry.globe.seam import HALF, SLACK, at_seam, beyond_seam
from eskret.core.geometry.grid_index import EDGE, INSIDE, Cells
from eskret.core.geometry.parallel import ThreadLocalPrepared, Watch, in_chunks, is_nonempty, runs

_MANY = 50_000


class Predicate(StrEnum):
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
_ASKED_OF_OTHER: dict[tuple[Predicate, bool], Callable[..., np.ndarray]] = {
    (Predicate.INTERSECTS, False): shapely.intersects,
    (Predicate.WITHIN, False): shapely.contains,
    (Predicate.WITHIN, True): shapely.covers,
    (Predicate.CONTAINS, False): shapely.within,
    (Predicate.CONTAINS, True): shapely.covered_by,
    (Predicate.TOUCHES, False): shapely.touches,
    (Predicate.CROSSES, False): shapely.crosses,
    (Predicate.OVERLAPS, False): shapely.overlaps,
    (Predicate.EQUALS, False): shapely.equals,
}


def matches_predicate(
    geometry: np.ndarray, others: np.ndarray, relation: Predicate, *, edge: bool = False, globe: bool = False, watch: Watch | None = None
) -> np.ndarray:
    """Whether each feature holds the relation to at least one of the others (for DISJOINT: to all of them).

    Parameters
    ----------
    geometry : features, array of shapely geometry; null and empty ones hold nothing.
    others : in the same CRS; null and empty ones are passed over.
    edge : for WITHIN and CONTAINS, whether what lies on the edge only counts (covered by, covers).
    globe : whether coordinates are degrees, of which 180 and -180 are one meridian.
    watch : called as (features done, features in all); may raise to end the work.

    Returns
    -------
    bool array, one a feature.
    """
    if relation is Predicate.DISJOINT:
        return is_nonempty(geometry) & ~matches_predicate(geometry, others, Predicate.INTERSECTS, globe=globe, watch=watch)
    test = _ASKED_OF_OTHER[relation, edge and relation in (Predicate.WITHIN, Predicate.CONTAINS)]
    if not globe:
        return _any(geometry, others, 0.0, test, watch)
    over = beyond_seam(others)
    alone = np.flatnonzero(at_seam(geometry) if not over.any() else is_nonempty(geometry))
    out = np.zeros(len(geometry), bool)
    if len(alone) < len(geometry):
        rest = np.setdiff1d(np.arange(len(geometry)), alone)
        out[rest] = _any(geometry[rest], others, 0.0, test, watch)

    def ask(left: np.ndarray, right: np.ndarray) -> np.ndarray:
        a, b = shapely.STRtree(right).query(left)
        good = test(right[b], left[a])
        return np.stack([a[good], b[good]])

    out[alone[pairs(geometry[alone], others, ask)[0]]] = True
    if relation is Predicate.INTERSECTS:
        nothing = np.empty(0, np.int64)
        out[with_poles((nothing, nothing), geometry, others)[0]] = True
    return out


def points_match(
    xy: np.ndarray, others: np.ndarray, relation: Predicate, *, edge: bool = False, globe: bool = False, watch: Watch | None = None
) -> np.ndarray | None:
    """As ``holds``, for points given by their coordinates (n, 2), without making shapes of them.

    None where that cannot be told from coordinates: for other relations than INTERSECTS, DISJOINT and WITHIN, for others
    that are no areas, for many of them, and where something reaches 180 degrees.
    """
    others = others[is_nonempty(others)]
    if globe and ((np.abs(xy[:, 0]) >= HALF - SLACK).any() or beyond_seam(others).any()):
        return None
    areas = np.isin(shapely.get_type_id(others), (3, 6)).all()
    if relation not in (Predicate.INTERSECTS, Predicate.DISJOINT, Predicate.WITHIN) or len(others) > 8 or not areas:
        return None
    prepared = ThreadLocalPrepared(others)
    strict = relation is Predicate.WITHIN and not edge
    test = shapely.contains_xy if strict else shapely.intersects_xy
    boxes = shapely.bounds(others)
    cells = [Cells.over(o) if len(xy) > _MANY else None for o in prepared.shapes]
    out = np.zeros(len(xy), bool)

    def chunk(start: int, stop: int) -> None:
        some, found = xy[start:stop], out[start:stop]
        x, y = some[:, 0], some[:, 1]
        for number, (west, south, east, north) in enumerate(boxes):
            at = np.flatnonzero(~found & (x >= west) & (x <= east) & (y >= south) & (y <= north))
            grid = cells[number]
            if grid is not None:
                where = grid.of(x[at], y[at])
                found[at[where == INSIDE]] = True
                at = at[where == EDGE]
            found[at] = test(prepared.shapes[number], x[at], y[at])

    in_chunks(chunk, len(xy), watch)
    return np.isfinite(xy).all(axis=1) & ~out if relation is Predicate.DISJOINT else out


def near(geometry: np.ndarray, others: np.ndarray, distance: float, watch: Watch | None = None) -> np.ndarray:
    """Whether each feature lies within a distance (in units of the plane; exactly that far counts) of one of the others."""
    return _any(geometry, others, distance, lambda other, some: np.asarray(shapely.dwithin(other, some, distance)), watch)


def _any(geometry: np.ndarray, others: np.ndarray, reach: float, test: Callable[..., np.ndarray], watch: Watch | None) -> np.ndarray:
    out = np.zeros(len(geometry), bool)
    others = others[is_nonempty(others)]
    if not len(others) or not len(geometry):
        return out
    prepared = ThreadLocalPrepared(others)
    boxes = shapely.bounds(others)
    boxes[:, :2] -= reach
    boxes[:, 2:] += reach
    # a tree of a few others is not worth its walk; of many, it is asked a chunk of features at a time
    tree = shapely.STRtree(np.asarray(shapely.box(*boxes.T))) if len(others) > 8 else None

    def chunk(start: int, stop: int) -> None:
        some = geometry[start:stop]
        found = out[start:stop]
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
            for a, b in zip(*runs(which), strict=True):
                at = row[a:b]
                at = at[~found[at]]
                found[at] = test(prepared.shapes[which[a]], some[at])

    in_chunks(chunk, len(geometry), watch)
    return out
