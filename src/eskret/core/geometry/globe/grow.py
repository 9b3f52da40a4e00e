"""The area within a distance of shapes in longitude and latitude.

A feature of some kilometres grows in the plane about its own middle. Of a larger one only its edge grows, in pieces, each in a
plane of its own, and the pieces are joined to it (or taken off it), so that the distance is true everywhere along it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import shapely

from eskret.core.geometry.globe.ellipsoid import Ellipsoid
from eskret.core.geometry.globe.planes import EARTH, Middles, bends, followed, into_planes, middles, out_of_planes, stretches
from eskret.core.geometry.globe.seam import HALF, SLACK, at_seam, running, snapped, wrapped
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.parts import dimension, invalid, of_dimension
from eskret.core.geometry.vertices import edges_of, split_edges

SMALL = 0.008
"""Radians (51 km) up to which a plane about a feature is true to 1 in 100,000."""
_SHARE = 1e-4
_LEAST = 0.001
_MOST = 0.5 * np.pi * EARTH
Buffer = Callable[[np.ndarray, np.ndarray], np.ndarray]
"""Shapes in planes and a distance in metres for each; gives the areas."""


@dataclass(frozen=True)
class Grown:
    """``geometry`` as areas, or what else was made; ``error``, how true the distance is at worst, as a share of it; ``cut``, how many
    were cut at 180 degrees or closed over a pole."""

    geometry: np.ndarray
    error: float
    cut: int


def tolerance_of(metres: np.ndarray | float) -> np.ndarray:
    """How far an edge may be from where it is meant, for work at a distance."""
    return np.asarray(np.maximum(np.abs(metres) * _SHARE, _LEAST))


def too_far(metres: float) -> bool:
    """Whether a distance is more than a quarter of the globe, beyond which areas about features turn inside out."""
    return abs(metres) > _MOST


def grow(shapes: np.ndarray, metres: float, on: Ellipsoid, buffer: Buffer, *, round_: bool) -> Grown:
    """Areas within a distance of shapes.

    Parameters
    ----------
    shapes : array of shapely geometry in the unit of the ellipsoid's coordinates.
    metres : the distance; below zero areas shrink.
    buffer : makes them in planes.
    round_ : whether ends and corners are round, so that an edge may grow in pieces.
    """
    shapes = snapped(shapes)
    out = np.full(len(shapes), None, object)
    if on.degrees != 1.0:
        raise ValueError("degrees are wanted")
    joined, _ = running(shapes)
    middle = middles(joined, on)
    there = is_nonempty(shapes)
    large = there & (middle.reach > SMALL) & round_
    if metres < 0:
        large &= dimension(shapes) == 2
    small = np.flatnonzero(there & ~large)
    error, cut = _SHARE, 0
    if len(small):
        out[small], many, off = _in_planes(joined[small], metres, on, buffer)
        error, cut = max(error, off), many
    rows = np.flatnonzero(large)
    if len(rows):
        out[rows], many = _by_edge(joined[rows], shapes[rows], metres, on, buffer)
        cut += many
    return Grown(out, error, cut)


def _in_planes(shapes: np.ndarray, metres: float, on: Ellipsoid, buffer: Buffer) -> tuple[np.ndarray, int, float]:
    middle = middles(shapes, on)
    tolerance = np.full(len(shapes), tolerance_of(metres))
    flat = into_planes(followed(shapes, middle, on, tolerance), middle, on)
    made = buffer(flat, np.full(len(flat), metres))
    there = is_nonempty(made)
    out = np.full(len(shapes), None, object)
    if there.any():
        kept = np.flatnonzero(there)
        found, cut = out_of_planes(made[kept], _some(middle, kept), on, tolerance[kept])
        out[kept] = found
        return out, len(cut), float(np.nanmax(middle.error[kept]))
    return out, 0, 0.0


def about_each(shapes: np.ndarray, metres: float, on: Ellipsoid, make: Buffer) -> Grown:
    """What is made of shapes in degrees at a distance, each in the plane about its own middle, of whatever kind and size.

    Parameters
    ----------
    make : makes it in planes, of shapes and a distance in metres for each.
    """
    if on.degrees != 1.0:
        raise ValueError("degrees are wanted")
    shapes = snapped(shapes)
    rows = np.flatnonzero(is_nonempty(shapes))
    out = np.full(len(shapes), None, object)
    out[rows], cut, error = _in_planes(running(shapes[rows])[0], metres, on, make)
    return Grown(out, max(error, _SHARE), cut)


def _some(middle: Middles, rows: np.ndarray) -> Middles:
    return Middles(middle.lonlat[rows], middle.reach[rows])


def _by_edge(joined: np.ndarray, shapes: np.ndarray, metres: float, on: Ellipsoid, buffer: Buffer) -> tuple[np.ndarray, int]:
    pieces, row = edge_pieces(joined, on, tolerance_of(metres))
    grown, _, _ = _in_planes(pieces, abs(metres), on, buffer)
    out = np.full(len(shapes), None, object)
    order = np.argsort(row, kind="stable")
    starts = np.searchsorted(row[order], np.arange(len(shapes) + 1))
    base, _ = wrapped(shapely.force_2d(shapes), short_way=False)
    bad = np.flatnonzero(invalid(base))
    base[bad] = shapely.make_valid(base[bad])
    kind = dimension(shapes)
    for n in range(len(shapes)):
        band = grown[order[starts[n] : starts[n + 1]]]
        if metres >= 0:
            made = shapely.union_all(np.r_[band, base[n : n + 1]] if kind[n] in (2, -2) else band)
        else:
            made = shapely.difference(base[n], shapely.union_all(band)) if len(band) else base[n]
        out[n] = of_dimension(np.array([made], object), np.array([2]))[0]
    return out, int(at_seam(out).sum())


def edge_pieces(shapes: np.ndarray, on: Ellipsoid, tolerance: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Lines and the edges of areas in pieces of some 50 km, and points one by one, with the row of each.

    What only lies along 180 degrees or a pole, because a shape was cut there, is no edge of it.
    """

    def count(begin: np.ndarray, end: np.ndarray, row: np.ndarray) -> np.ndarray:
        return np.maximum(stretches(bends(begin, end, SMALL), tolerance), np.ceil(_rough(begin, end) / (SMALL * EARTH)))

    dense = split_edges(shapely.force_2d(shapes), count)
    begin, end, row = edges_of(dense)
    kept = ~_artificial(begin, end, row, shapes)
    begin, end, row = begin[kept], end[kept], row[kept]
    # a new piece begins where the edges do not hang together, and where one has grown long
    length = _rough(begin, end)
    new = np.r_[True, (row[1:] != row[:-1]) | (begin[1:] != end[:-1]).any(axis=1)] if len(row) else np.empty(0, bool)
    run = np.cumsum(new) - 1
    along = np.cumsum(length) - length
    first = np.flatnonzero(new)
    inside = np.floor((along - along[first][run]) / (SMALL * EARTH)) if len(first) else along
    code = np.r_[True, (np.diff(run) != 0) | (np.diff(inside) != 0)] if len(row) else np.empty(0, bool)
    piece = np.cumsum(code) - 1
    count_of = np.bincount(piece) if len(piece) else np.empty(0, np.int64)
    # the vertices of a piece: where each edge begins, and where the last one ends
    at = np.arange(len(begin))
    last = np.r_[code[1:], True] if len(code) else code
    xy = np.concatenate([begin, end[last]])
    owner = np.concatenate([piece, piece[last]])
    order = np.lexsort((np.concatenate([at, at[last] + 1]), owner))
    lines = shapely.linestrings(xy[order], indices=owner[order]) if len(count_of) else np.empty(0, object)
    dots = np.flatnonzero((count_of == 1) & (length[code] == 0)) if len(count_of) else np.empty(0, np.int64)
    lines = np.asarray(lines, object)
    if len(dots):
        lines[dots] = shapely.points(begin[code][dots])
    return lines, row[code] if len(row) else row


def _rough(begin: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Metres along edges, roughly."""
    step = np.radians(end - begin)
    low = np.radians(np.minimum(np.abs(begin[:, 1]), np.abs(end[:, 1])))
    return EARTH * np.hypot(step[:, 0] * np.cos(low), step[:, 1])


def _artificial(begin: np.ndarray, end: np.ndarray, row: np.ndarray, shapes: np.ndarray) -> np.ndarray:
    """Which edges are only there because a shape was cut at 180 degrees or closed over a pole."""
    pole = (np.abs(begin[:, 1]) >= 90.0 - SLACK) & (np.abs(end[:, 1]) >= 90.0 - SLACK) & (begin[:, 0] != end[:, 0])
    same = np.abs(begin[:, 0] - end[:, 0]) < SLACK
    seam = np.flatnonzero(same & (np.abs(np.abs(begin[:, 0]) - HALF) < SLACK) & (begin[:, 1] != end[:, 1]))
    out = pole
    if len(seam):
        across = shapely.points(-begin[seam, 0], (begin[seam, 1] + end[seam, 1]) / 2)
        flat = dimension(shapes)[row[seam]] == 2
        out[seam] = flat & shapely.dwithin(shapes[row[seam]], across, SLACK)
    return out
