"""Which shapes in longitude and latitude meet, where 180 degrees and -180 degrees are one meridian.

Shapes are compared as they are drawn. Two that both reach the meridian, or one that has longitudes beyond it, are compared whole
turns apart, with the parts joined that were cut there: so a place right on it lies within an area that goes over it.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely

from eskret.core.geometry.globe.seam import HALF, SLACK, WHOLE, at_seam, beyond_seam, running, wrapped
from eskret.core.geometry.ordinates import moved

Pairs = tuple[np.ndarray, np.ndarray]
Ask = Callable[[np.ndarray, np.ndarray], np.ndarray]
"""Gives the positions (2, n) of the pairs of two arrays for which something holds."""


def turned(shapes: np.ndarray, turns: int) -> np.ndarray:
    """The shapes some whole turns further east."""
    return moved(shapes, lambda xy: xy + np.array([turns * WHOLE, 0.0])) if turns else shapes


def meeting(left: np.ndarray, right: np.ndarray) -> Pairs:
    """Positions (int64) of the shapes of both sides that meet or touch, by left and then right; at a pole, whatever longitude they
    say, all that reach it do."""
    return with_poles(pairs(left, right, lambda a, b: shapely.STRtree(b).query(a, predicate="intersects")), left, right)


def with_poles(found: Pairs, left: np.ndarray, right: np.ndarray) -> Pairs:
    """Pairs that meet, and those that do at a pole, which is one place."""
    more = []
    for sign in (1, -1):
        mine, theirs = (np.flatnonzero(_reaches_pole(s, sign)) for s in (left, right))
        if len(mine) and len(theirs):
            more.append(np.stack([np.repeat(mine, len(theirs)), np.tile(theirs, len(mine))]))
    if not more:
        return found
    a, b = np.unique(np.concatenate([np.stack(found), *more], axis=1), axis=1)
    return a, b


def _reaches_pole(shapes: np.ndarray, sign: int) -> np.ndarray:
    boxes = shapely.bounds(np.asarray(shapes, object)).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        return np.asarray(boxes[:, 3] >= HALF / 2 - SLACK if sign > 0 else boxes[:, 1] <= SLACK - HALF / 2)


def pairs(left: np.ndarray, right: np.ndarray, ask: Ask) -> Pairs:
    """Positions of the pairs that ``ask`` finds, by left and then right; asked again for what reaches 180 degrees."""
    return with_seam(np.asarray(ask(left, right), np.int64).reshape(2, -1), left, right, ask)


def with_seam(found: np.ndarray, left: np.ndarray, right: np.ndarray, ask: Ask) -> Pairs:
    """Pairs (2, n) found as the shapes are drawn, put right where both reach 180 degrees or one lies beyond."""
    seam, over = (at_seam(left), at_seam(right)), (beyond_seam(left), beyond_seam(right))
    if (seam[0].any() and seam[1].any()) or over[0].any() or over[1].any():
        mine, theirs = running(left)[0], running(right)[0]
        a, b = found
        doubtful = over[0][a] | over[1][b] | (seam[0][a] & seam[1][b])
        kept = [found[:, ~doubtful]]
        asked = ((over[0], np.ones(len(right), bool)), (~over[0], over[1]), (seam[0] & ~over[0], seam[1] & ~over[1]))
        for rows, others in (map(np.flatnonzero, one) for one in asked):
            for turn in (-1, 0, 1) if len(rows) and len(others) else ():
                more = np.asarray(ask(turned(mine[rows], turn), theirs[others]), np.int64).reshape(2, -1)
                kept.append(np.stack([rows[more[0]], others[more[1]]]))
        found = np.unique(np.concatenate(kept, axis=1), axis=1)
    order = np.lexsort((found[1], found[0]))
    return found[0][order], found[1][order]


def centres(shapes: np.ndarray) -> np.ndarray:
    """The centre of mass of each shape, also of one that was cut at 180 degrees."""
    joined, rows = running(shapes)
    out = np.asarray(shapely.centroid(joined), object)
    if len(rows):
        out[rows] = wrapped(out[rows])[0]
    return out


def laid_about(shapes: np.ndarray, west: float, east: float) -> np.ndarray:
    """Shapes as they are to be laid over a layer that reaches from ``west`` to ``east``: where one of the two has longitudes beyond
    180 degrees, each shape is there in every turn in which it can meet the layer, as one of several parts."""
    shapes = np.asarray(shapes, object)
    boxes = shapely.bounds(shapes).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        outside = west < -HALF - SLACK or east > HALF + SLACK
        outside |= bool((boxes[:, 0] < -HALF - SLACK).any() or (boxes[:, 2] > HALF + SLACK).any())
        if not outside:
            return shapes
        out = shapes.copy()
        copies = {t: (boxes[:, 0] + t * WHOLE <= east) & (boxes[:, 2] + t * WHOLE >= west) for t in (-2, -1, 0, 1, 2)}
    for row in np.flatnonzero(np.any([copies[t] for t in copies if t], axis=0)).tolist():
        turns = [t for t in copies if copies[t][row]]
        some = np.concatenate([turned(shapes[[row]], t) for t in turns])
        out[row] = some[0] if len(some) == 1 else shapely.union_all(some)
    return out
