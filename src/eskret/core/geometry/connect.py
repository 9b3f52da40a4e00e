"""Points in an order: legs between them, lines through them, and how fast the way was."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from eskret.core.crs import crs_facts, geographic_of, move
from eskret.core.geometry.globe.ellipsoid import ellipsoid_of
from eskret.core.geometry.measuring import geod_of


@dataclass(frozen=True)
class Way:
    """Points in the order of their ways.

    ``rows`` are positions of the points (int64), way after way; ``way`` the number of each one's (from 0, int64), ``metres``
    and ``seconds`` those of the leg that leads to it (NaN for the first of a way, or where no time is known).
    """

    rows: np.ndarray
    way: np.ndarray
    metres: np.ndarray
    seconds: np.ndarray
    breaks: tuple[int, int] = (0, 0)
    """Where a way ended since the next point was too far, and since it came too late."""

    @property
    def first(self) -> np.ndarray:
        """Whether each is the first of its way."""
        return np.r_[True, self.way[1:] != self.way[:-1]] if len(self.way) else np.empty(0, bool)


def legs(xy: np.ndarray, crs: str | None, on_ellipsoid: bool = False) -> np.ndarray:
    """Metres from each point (n, 2) to the next (n - 1): along the ellipsoid where that is wanted, or the CRS is one of degrees."""
    if len(xy) < 2:
        return np.empty(0)
    facts = crs_facts(crs) if crs else None
    if crs and facts is not None and (facts.geographic or on_ellipsoid):
        xy = xy * ellipsoid_of(crs).degrees if facts.geographic else move(xy, crs, geographic_of(crs))
        return np.asarray(geod_of(crs).inv(xy[:-1, 0], xy[:-1, 1], xy[1:, 0], xy[1:, 1])[2])
    unit = facts.unit_metres if facts is not None and facts.unit_metres else 1.0
    return np.hypot(*np.diff(xy, axis=0).T) * unit


def ways(
    xy: np.ndarray,
    group: np.ndarray,
    order: np.ndarray | None,
    seconds: np.ndarray | None,
    crs: str | None,
    *,
    on_ellipsoid: bool = False,
    most_metres: float = np.inf,
    most_seconds: float = np.inf,
) -> Way:
    """Put points in order and part them into ways.

    Parameters
    ----------
    xy : places (n, 2).
    group : what each belongs to (int64, -1 for a point in no way).
    order : a figure to order by, or None for the order they stand in. Equal ones keep that.
    seconds : times, NaN where unknown; None without times.
    on_ellipsoid : whether legs are measured there, also where the CRS is a plane.
    most_metres, most_seconds : a longer leg ends a way and the next begins.
    """
    rows = np.flatnonzero(group >= 0)
    keys = (rows, group[rows]) if order is None else (rows, order[rows], group[rows])
    rows = rows[np.lexsort(keys)]
    metres = np.r_[np.nan, legs(xy[rows], crs, on_ellipsoid)][: len(rows)]
    passed = np.full(len(rows), np.nan)
    if seconds is not None and len(rows):
        passed[1:] = np.diff(seconds[rows])
    new = np.r_[True, group[rows][1:] != group[rows][:-1]][: len(rows)]
    with np.errstate(invalid="ignore"):
        far, late = metres > most_metres, passed > most_seconds
    breaks = int((far & ~new).sum()), int((late & ~far & ~new).sum())
    new |= far | late
    metres[new] = passed[new] = np.nan
    return Way(rows, np.cumsum(new) - 1, metres, passed, breaks)


def lines(xyz: np.ndarray, way: np.ndarray, closed: bool) -> np.ndarray:
    """A line through the points of each way; ``way`` numbers them without a break. Each has at least two points."""
    if not len(way):
        return np.empty(0, object)
    if closed:
        count = int(way[-1]) + 1
        begin = np.searchsorted(way, np.arange(count))
        xyz, way = np.concatenate([xyz, xyz[begin]]), np.concatenate([way, np.arange(count)])
        order = np.argsort(way, kind="stable")
        xyz, way = xyz[order], way[order]
    return np.asarray(shapely.linestrings(xyz, indices=way), object)
