"""The nearest of other shapes in longitude and latitude, at any distance, along the ellipsoid.

Edges are cut into stretches of some kilometres, which stand as points in space with half their length: a chord through the
earth tells which can be nearest at all. Those are compared in a plane about each stretch, and the few that are left measured
along the ellipsoid (Karney, J. Geodesy 87, 2013), from the very places on both edges that are closest.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
import shapely

from eskret.core.geometry.globe.ellipsoid import Ellipsoid
from eskret.core.geometry.globe.meeting import meeting
from eskret.core.geometry.globe.planes import EARTH, bends, stretches
from eskret.core.geometry.globe.seam import running
from eskret.core.geometry.parallel import Watch, is_nonempty
from eskret.core.geometry.vertices import edges_of, split_edges
from eskret.core.scientific import kd_tree

_STRETCH = 10_000.0
"""Metres of the longest stretch."""
_BEND = 10.0
"""Metres by which a stretch may differ from a straight one."""
_CLASSES = (0.0, 100.0, 1_000.0, np.inf)
"""Half lengths (metres) up to which stretches are looked for together."""
_PAIRS = 1_000_000
_SAME = 1e-6
"""Metres within which two are equally near."""


@dataclass(frozen=True)
class _Stretches:
    """Stretches of edges, points as ones of no length: begin and end in degrees, the row of each, its middle in space (metres
    from the centre of the earth) and half its length."""

    begin: np.ndarray
    end: np.ndarray
    row: np.ndarray
    middle: np.ndarray
    half: np.ndarray

    @classmethod
    def of(cls, shapes: np.ndarray, on: Ellipsoid) -> _Stretches:
        def count(begin: np.ndarray, end: np.ndarray, row: np.ndarray) -> np.ndarray:
            step = np.radians(end - begin)
            low = np.radians(np.minimum(np.abs(begin[:, 1]), np.abs(end[:, 1])))
            far = EARTH * np.hypot(step[:, 0] * np.cos(low), step[:, 1])
            return np.maximum(np.ceil(far / _STRETCH), stretches(bends(begin, end), _BEND))

        begin, end, row = edges_of(split_edges(shapely.force_2d(shapes), count))
        a, b = in_space(begin, on), in_space(end, on)
        half = np.linalg.norm(b - a, axis=1) / 2 * 1.001
        half[half > 0] += _BEND
        order = np.argsort(row, kind="stable")
        return cls(begin[order], end[order], row[order], in_space((begin + end) / 2, on)[order], half[order])


def in_space(lonlat: np.ndarray, on: Ellipsoid) -> np.ndarray:
    """Positions on the ellipsoid in metres from the centre of the earth (n, 3)."""
    lon, lat = np.radians(lonlat[:, 0]), np.radians(lonlat[:, 1])
    normal = on.axis / np.sqrt(1 - on.eccentricity2 * np.sin(lat) ** 2)
    return np.column_stack(
        [normal * np.cos(lat) * np.cos(lon), normal * np.cos(lat) * np.sin(lon), normal * (1 - on.eccentricity2) * np.sin(lat)]
    )


def _chord(metres: np.ndarray, on: Ellipsoid) -> np.ndarray:
    """The longest chord between two places that far apart along the ellipsoid: where it is least curved."""
    least = on.axis / np.sqrt(1 - on.eccentricity2)
    return np.asarray(2 * least * np.sin(np.minimum(metres / (2 * least), np.pi / 2)) * (1 + 1e-9) + 1e-6)


def nearest(
    left: np.ndarray, right: np.ndarray, on: Ellipsoid, limit: float | None = None, watch: Watch | None = None
) -> tuple[np.ndarray, np.ndarray]:
    """For each shape the nearest of the others.

    Parameters
    ----------
    left, right : arrays of shapely geometry in degrees; null and empty ones have no nearest and are none.
    limit : metres beyond which nothing counts; exactly that far still does.
    watch : called as (shapes done, of all).

    Returns
    -------
    The position of the nearest (int64, -1 for none; of equal ones the first) and the metres to it (NaN for none).
    """
    partner, metres, _ = nearest_places(left, right, on, limit, watch)
    return partner, metres


def nearest_places(
    left: np.ndarray, right: np.ndarray, on: Ellipsoid, limit: float | None = None, watch: Watch | None = None
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """As ``nearest``, with the place on the nearest (n, 2, degrees) that is closest; NaN where the two meet, or there is none."""
    partner, metres = np.full(len(left), -1, np.int64), np.full(len(left), np.nan)
    places = np.full((len(left), 2), np.nan)
    if not is_nonempty(right).any() or not is_nonempty(left).any():
        return partner, metres, places
    a, b = meeting(left, right)
    first = np.flatnonzero(np.r_[True, a[1:] != a[:-1]]) if len(a) else a
    partner[a[first]], metres[a[first]] = b[first], 0.0
    if limit is not None and limit <= 0:
        return partner, metres, places
    rows = np.flatnonzero(is_nonempty(left) & (partner < 0))
    if not len(rows):
        return partner, metres, places
    ours, theirs = _Stretches.of(running(left[rows])[0], on), _Stretches.of(running(right)[0], on)
    found, far, at = _search(ours, theirs, len(rows), on, np.inf if limit is None else limit, watch)
    good = (found >= 0) & (far <= (np.inf if limit is None else limit * (1 + 1e-12)))
    partner[rows[good]], metres[rows[good]], places[rows[good]] = found[good], far[good], at[good]
    return partner, metres, places


def _search(
    ours: _Stretches, theirs: _Stretches, count: int, on: Ellipsoid, limit: float, watch: Watch | None
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    tree = kd_tree(theirs.middle)
    chord, close = tree.query(ours.middle, workers=-1)
    # one pair each is measured, so that nothing further needs to be looked at
    order = np.lexsort((chord, ours.row))
    head = order[np.r_[True, ours.row[order][1:] != ours.row[order][:-1]]]
    bound = np.full(count, np.inf)
    bound[ours.row[head]] = _measured(ours, head, theirs, close[head], on)[0]
    bound = np.minimum(bound, limit) * (1 + 1e-9) + _SAME
    best, far, at_best = np.full(count, -1, np.int64), np.full(count, np.inf), np.full((count, 2), np.nan)
    classes = []
    for least, most in zip((-1.0, *_CLASSES), _CLASSES, strict=False):
        at = np.flatnonzero((theirs.half > least) & (theirs.half <= most))
        if len(at):
            classes.append((at, kd_tree(theirs.middle[at]), float(theirs.half[at].max())))
    starts = np.searchsorted(ours.row, np.arange(count + 1))
    radii = [_chord(bound[ours.row] + ours.half + half, on) for _, _, half in classes]
    many = np.zeros(len(ours.row), np.int64)
    for (_, one, _), radius in zip(classes, radii, strict=True):
        many += one.query_ball_point(ours.middle, radius, return_length=True, workers=-1)
    # rows together, as many as make a million pairs
    total = np.concatenate([[0], np.cumsum(many)])[starts]
    begin = 0
    while begin < count:
        stop = max(begin + 1, int(np.searchsorted(total, total[begin] + _PAIRS, side="right")) - 1)
        some = slice(starts[begin], starts[stop])
        pair_a, pair_b = [], []
        for (at, one, _), radius in zip(classes, radii, strict=True):
            lists = one.query_ball_point(ours.middle[some], radius[some], workers=-1)
            sizes = np.fromiter(map(len, lists), np.int64, len(lists))
            pair_a.append(np.repeat(np.arange(some.start, some.stop), sizes))
            pair_b.append(at[np.concatenate([np.asarray(x, np.int64) for x in lists])] if sizes.any() else at[:0])
        _settle(ours, theirs, np.concatenate(pair_a), np.concatenate(pair_b), bound, on, best, far, at_best)
        begin = stop
        if watch is not None:
            watch(begin, count)
    return best, far, at_best


def _settle(
    ours: _Stretches,
    theirs: _Stretches,
    a: np.ndarray,
    b: np.ndarray,
    bound: np.ndarray,
    on: Ellipsoid,
    best: np.ndarray,
    far: np.ndarray,
    places: np.ndarray,
) -> None:
    """Find the nearest among some pairs of stretches, and write it down for the rows that have any."""
    if not len(a):
        return
    row = ours.row[a]
    rough, _, _ = _in_plane(ours.begin[a], ours.end[a], theirs.begin[b], theirs.end[b], on)
    slack = 1e-4 * rough + np.where((ours.half[a] > 0) | (theirs.half[b] > 0), 4 * _BEND, 1e-3)
    least = bound.copy()
    np.minimum.at(least, row, rough + slack)
    kept = rough - slack <= least[row]
    a, b, row = a[kept], b[kept], row[kept]
    if not len(a):
        return  # all of them lie further than was asked for
    distance, there = _measured(ours, a, theirs, b, on)
    np.minimum.at(far, row, distance)
    # of those equally near, the first in the layer's order
    equal = distance <= far[row] + _SAME
    chosen = np.full(len(best), np.iinfo(np.int64).max)
    np.minimum.at(chosen, row[equal], theirs.row[b[equal]])
    some = np.unique(row)
    best[some] = chosen[some]
    mine = np.flatnonzero(theirs.row[b] == best[row])
    order = mine[np.lexsort((distance[mine], row[mine]))]
    first = order[np.r_[True, row[order][1:] != row[order][:-1]]]
    places[row[first]] = there[first]


def _at(begin: np.ndarray, end: np.ndarray, share: np.ndarray) -> np.ndarray:
    return np.asarray(begin + share[:, None] * (end - begin))


def _apart(p: np.ndarray, q: np.ndarray, on: Ellipsoid) -> np.ndarray:
    return np.asarray(on.geod.inv(p[:, 0], p[:, 1], q[:, 0], q[:, 1])[2])


def _measured(ours: _Stretches, a: np.ndarray, theirs: _Stretches, b: np.ndarray, on: Ellipsoid) -> tuple[np.ndarray, np.ndarray]:
    """Metres between stretches, along the ellipsoid, from the closest places on both, and the one on theirs (n, 2, degrees)."""
    a0, a1, b0, b1 = ours.begin[a], ours.end[a], theirs.begin[b], theirs.end[b]
    points = (ours.half[a] == 0) & (theirs.half[b] == 0)
    out, places = np.empty(len(a)), b0.copy()
    out[points] = _apart(a0[points], b0[points], on)
    rest = np.flatnonzero(~points)
    if len(rest):
        a0, a1, b0, b1 = a0[rest], a1[rest], b0[rest], b1[rest]
        _, s, t = _in_plane(a0, a1, b0, b1, on)
        for reach in (0.1, 0.01, 0.001):
            s = _closer(partial(_to_place, a0, a1, _at(b0, b1, t), on), s, reach)
            t = _closer(partial(_to_place, b0, b1, _at(a0, a1, s), on), t, reach)
        places[rest] = _at(b0, b1, t)
        out[rest] = _apart(_at(a0, a1, s), places[rest], on)
    return out, places


def _to_place(begin: np.ndarray, end: np.ndarray, place: np.ndarray, on: Ellipsoid, share: np.ndarray) -> np.ndarray:
    return _apart(_at(begin, end, share), place, on)


def _closer(apart: Callable[[np.ndarray], np.ndarray], share: np.ndarray, reach: float) -> np.ndarray:
    """A share of an edge where a distance is less: the lowest place of the parabola through three squares of it."""
    middle = np.clip(share, reach, 1 - reach)
    low, high = middle - reach, middle + reach
    f0, f1, f2 = apart(low) ** 2, apart(middle) ** 2, apart(high) ** 2
    curve = f0 - 2 * f1 + f2
    with np.errstate(divide="ignore", invalid="ignore"):
        found = middle + reach * (f0 - f2) / (2 * curve)
    found = np.where(np.isfinite(found) & (curve > 0), np.clip(found, 0.0, 1.0), share)
    return np.where(apart(found) <= apart(share), found, share)


def _in_plane(a0: np.ndarray, a1: np.ndarray, b0: np.ndarray, b1: np.ndarray, on: Ellipsoid) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Metres between stretches in the plane about the middle of the first, and the shares of both where they are closest."""
    c = (a0 + a1) / 2

    def flat(p: np.ndarray) -> np.ndarray:
        azimuth, _, far = on.geod.inv(c[:, 0], c[:, 1], p[:, 0], p[:, 1])
        return np.column_stack([far * np.sin(np.radians(azimuth)), far * np.cos(np.radians(azimuth))])

    alone_a, alone_b = (a0 == a1).all(axis=1), (b0 == b1).all(axis=1)
    p0 = np.zeros_like(c) if alone_a.all() else flat(a0)
    p1 = p0 if alone_a.all() else flat(a1)
    q0 = flat(b0)
    q1 = q0 if alone_b.all() else flat(b1)
    best, s, t = np.full(len(c), np.inf), np.zeros(len(c)), np.zeros(len(c))

    def offer(distance: np.ndarray, at_s: np.ndarray | float, at_t: np.ndarray | float) -> None:
        nonlocal best, s, t
        better = distance < best
        s, t = np.where(better, at_s, s), np.where(better, at_t, t)
        best = np.where(better, distance, best)

    for end, p in ((0.0, p0), (1.0, p1)):
        share = _foot(p, q0, q1)
        offer(np.hypot(*(q0 + share[:, None] * (q1 - q0) - p).T), end, share)
    for end, q in ((0.0, q0), (1.0, q1)):
        share = _foot(q, p0, p1)
        offer(np.hypot(*(p0 + share[:, None] * (p1 - p0) - q).T), share, end)
    return best, s, t


def _foot(p: np.ndarray, begin: np.ndarray, end: np.ndarray) -> np.ndarray:
    """The share of an edge that is closest to a place in the plane."""
    along = end - begin
    size = (along**2).sum(axis=1)
    return np.asarray(np.clip(((p - begin) * along).sum(axis=1) / np.where(size > 0, size, 1.0), 0.0, 1.0))
