"""Cut what goes over the antimeridian, as RFC 7946 (3.1.9) wants it: parts on either side of 180 degrees."""

from __future__ import annotations

import numpy as np
import shapely

from eskret.core.geometry.globe.seam import beyond_seam, jumps, nowhere, whole_turns, wrapped

_WHOLE, _HALF = 360.0, 180.0
_SLACK = 1e-9


def crossing(lon: np.ndarray, starts: np.ndarray) -> np.ndarray:
    """Which pieces go over the antimeridian: (pieces,) of bool.

    Parameters
    ----------
    lon : longitudes of all vertices.
    starts : where each piece (a ring, a line, a point) begins in them (pieces + 1).

    Notes
    -----
    Two neighbours more than half a turn apart are taken to be joined the short way round; a whole turn is the edge of the map,
    not a way over it. A longitude beyond 180 lies on the other side.
    """
    out = np.zeros(len(starts) - 1, bool)
    if not len(lon) or (lon.min() >= -_HALF and lon.max() <= _HALF and np.ptp(lon) <= _HALF):
        return out
    owner = np.repeat(np.arange(len(out)), np.diff(starts))
    out[owner[np.abs(lon) > _HALF + _SLACK]] = True
    jump = np.abs(np.diff(lon))
    over = (jump > _HALF + _SLACK) & (jump < _WHOLE - _SLACK) & (owner[1:] == owner[:-1])
    out[owner[1:][over]] = True
    return out


def no_degrees(shapes: np.ndarray) -> np.ndarray:
    """Positions (int64) of shapes with coordinates that no place on the globe has (``globe.seam.nowhere``)."""
    return np.flatnonzero(nowhere(shapes)).astype(np.int64)


def cut(shapes: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Shapes in degrees, those that go over the antimeridian cut there, and rings round a pole closed over it.

    Returns
    -------
    The shapes, and the positions (int64) of those that were cut or closed.
    """
    shapes = np.asarray(shapes, object)
    whole = np.flatnonzero(whole_turns(shapes))
    suspect = np.flatnonzero(jumps(shapes) | beyond_seam(shapes))
    out, done = shapes.copy(), []
    # an edge as long as a whole turn is the edge of the map, so that what has one is taken as it is drawn
    for rows, short_way in ((np.setdiff1d(suspect, whole), True), (np.intersect1d(suspect, whole), False)):
        if len(rows):
            made, _ = wrapped(shapes[rows], short_way=short_way)
            changed = ~shapely.equals_exact(made, shapes[rows], 0.0)
            out[rows[changed]] = made[changed]
            done.append(rows[changed])
    return out, np.sort(np.concatenate(done)) if done else np.empty(0, np.int64)


def around(boxes: np.ndarray) -> tuple[float, float]:
    """West and east of boxes (n, 4) the shorter way round: west is greater where that is over the antimeridian."""
    boxes = boxes[np.isfinite(boxes).all(axis=1)]
    order = np.argsort(boxes[:, 0])
    west, east = boxes[order, 0], np.maximum.accumulate(boxes[order, 2])
    gaps = np.r_[west[1:] - east[:-1], west[0] + _WHOLE - east[-1]]
    widest = int(np.argmax(gaps))
    if widest == len(gaps) - 1 or gaps[widest] <= 0:
        return float(west[0]), float(east[-1])
    return float(west[widest + 1]), float(east[widest])
