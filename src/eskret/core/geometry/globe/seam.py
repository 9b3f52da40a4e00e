"""The meridian of 180 degrees and the poles, where a shape in longitude and latitude comes apart or is closed.

A shape is *running* where its longitudes go on beyond 180 instead of starting again at -180. ``wrapped`` brings running shapes
back between -180 and 180, cut at the meridian and closed over a pole that they hold; ``running`` joins what was cut there.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.core.geometry.ordinates import moved, one_with_measures
from eskret.core.geometry.parts import dimension, single_parts, together
from eskret.core.geometry.vertices import edges_of

WHOLE, HALF = 360.0, 180.0
SLACK = 1e-9
"""Degrees within which a longitude counts as that of the meridian; a tenth of a millimetre."""

_FAR = 10 * WHOLE

PoleWithin = Callable[[int, int], int]
"""Of a part and one of its rings: 1 where the north pole lies within the ring, -1 for the south pole, 0 where it is not known."""


def at_seam(shapes: np.ndarray) -> np.ndarray:
    """Which shapes (bool) touch the meridian of 180 degrees, or have longitudes beyond it."""
    boxes = shapely.bounds(np.asarray(shapes, object)).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        return np.asarray((boxes[:, 0] <= -HALF + SLACK) | (boxes[:, 2] >= HALF - SLACK))


def beyond_seam(shapes: np.ndarray) -> np.ndarray:
    """Which shapes (bool) have longitudes beyond 180 degrees."""
    boxes = shapely.bounds(np.asarray(shapes, object)).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        return np.asarray((boxes[:, 0] < -HALF - SLACK) | (boxes[:, 2] > HALF + SLACK))


def nowhere(shapes: np.ndarray) -> np.ndarray:
    """Which shapes (bool) have coordinates that no place on the globe has: not finite, beyond a pole, or more than a turn beyond 180
    degrees."""
    shapes = np.asarray(shapes, object)
    boxes = shapely.bounds(shapes).reshape(-1, 4)
    xy, owner = shapely.get_coordinates(shapes, return_index=True)
    out = np.zeros(len(shapes), bool)
    out[owner[~np.isfinite(xy).all(axis=1)]] = True
    return out | beyond(boxes)


def beyond(boxes: np.ndarray) -> np.ndarray:
    """Which boxes in degrees (n, 4) reach beyond a pole, or more than a turn beyond 180 degrees (bool)."""
    far = np.abs(boxes)
    with np.errstate(invalid="ignore"):
        return np.asarray(
            (far[:, [0, 2]].max(axis=1, initial=0.0) > HALF + WHOLE) | (far[:, [1, 3]].max(axis=1, initial=0.0) > HALF / 2 + 1e-6)
        )


def snapped(shapes: np.ndarray) -> np.ndarray:
    """Shapes whose longitudes hardly beyond 180 degrees, or hardly short of them, are just there; latitudes at the poles too."""
    shapes = np.asarray(shapes, object)
    boxes = np.abs(shapely.bounds(shapes).reshape(-1, 4))
    with np.errstate(invalid="ignore"):
        off = (np.abs(boxes[:, 0::2] - HALF) < SLACK) & (boxes[:, 0::2] != HALF)
        off |= (np.abs(boxes[:, 1::2] - HALF / 2) < SLACK) & (boxes[:, 1::2] != HALF / 2)
    rows = np.flatnonzero(off.any(axis=1))
    if not len(rows):
        return shapes
    out = shapes.copy()

    def snap(xy: np.ndarray) -> np.ndarray:
        for column, limit in ((0, HALF), (1, HALF / 2)):
            near = np.abs(np.abs(xy[:, column]) - limit) < SLACK
            xy[near, column] = np.sign(xy[near, column]) * limit
        return xy

    out[rows] = moved(shapes[rows], snap)
    return out


def jumps(shapes: np.ndarray) -> np.ndarray:
    """Which shapes (bool) have an edge longer than half a turn, but no whole one: drawn the long way round."""
    return _with_edges(shapes, lambda step: (step > HALF + SLACK) & (step < WHOLE - SLACK))


def whole_turns(shapes: np.ndarray) -> np.ndarray:
    """Which shapes (bool) have an edge as long as a whole turn: the edge of a map of the whole world."""
    return _with_edges(shapes, lambda step: step >= WHOLE - SLACK)


def _with_edges(shapes: np.ndarray, wanted: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
    shapes = np.asarray(shapes, object)
    out = np.zeros(len(shapes), bool)
    boxes = shapely.bounds(shapes).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        rows = np.flatnonzero(boxes[:, 2] - boxes[:, 0] > HALF + SLACK)
    begin, end, row = edges_of(shapes[rows])
    out[rows[row[wanted(np.abs(end[:, 0] - begin[:, 0]))]]] = True
    return out


def running_on(lon: np.ndarray, piece: np.ndarray) -> np.ndarray:
    """Longitudes that run on: each within half a turn of the one before in its piece (in order)."""
    step = np.diff(lon, prepend=lon[:1])
    fresh = np.r_[True, piece[1:] != piece[:-1]] if len(piece) else np.empty(0, bool)
    turns = np.where(fresh, 0.0, -np.round(step / WHOLE))
    total = np.cumsum(turns)
    starts = np.flatnonzero(fresh)
    before = total[starts] if len(starts) else np.empty(0)
    return np.asarray(lon + WHOLE * (total - np.repeat(before, np.diff(np.r_[starts, len(lon)]))))


def wrapped(
    shapes: np.ndarray, pole: Callable[[int], PoleWithin] | None = None, *, short_way: bool = True
) -> tuple[np.ndarray, np.ndarray]:
    """Shapes whose longitudes run on, brought between -180 and 180.

    Parameters
    ----------
    shapes : array of shapely geometry, each ring and line running on. The rings of one polygon may lie whole turns apart.
    pole : gives for a row what tells which pole lies within one of its rings, for rings that go round one; without it, and where
        that does not tell, the pole of the ring's own half of the globe is taken.
    short_way : whether two vertices more than half a turn apart are joined the short way round; else as they are drawn.

    Returns
    -------
    The shapes, valid, and the positions (int64) of those that were cut or closed. What is endlessly far away stays as it is.
    """
    shapes = snapped(shapes)
    out = shapes.copy()
    boxes = shapely.bounds(shapes).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        beyond = (boxes[:, 0] < -HALF) | (boxes[:, 2] > HALF)
    beyond |= _with_edges(shapes, lambda step: step > HALF + SLACK) if short_way else False
    suspect = np.flatnonzero(beyond & _somewhere(boxes))
    for row in suspect.tolist():
        out[row] = one_with_measures(
            partial(_wrapped, pole=pole(row) if pole is not None else _unknown, short_way=short_way), shapes[[row]]
        )
    return out, suspect.astype(np.int64)


def _somewhere(boxes: np.ndarray) -> np.ndarray:
    """Which boxes (bool) are finite and not so far away that there would be turns without end between."""
    with np.errstate(invalid="ignore"):
        return np.asarray(np.isfinite(boxes).all(axis=1) & (np.abs(boxes[:, [0, 2]]).max(axis=1, initial=0.0) <= _FAR))


def _unknown(part: int, ring: int) -> int:
    return 0


def _wrapped(one: np.ndarray, pole: PoleWithin, short_way: bool) -> BaseGeometry | None:
    return _wrapped_one(one[0], pole, short_way)


def _wrapped_one(shape: BaseGeometry, pole: PoleWithin, short_way: bool) -> BaseGeometry | None:
    kind = int(dimension(np.array([shape], object))[0])
    kept: list[BaseGeometry] = []
    for number, part in enumerate(shapely.get_parts(shape) if shape is not None else []):
        if part.geom_type == "Polygon":
            kept += _polygon(part, number, pole, short_way)
        elif part.geom_type in ("LineString", "LinearRing"):
            kept += _sides(_line(part) if short_way else part)
        elif part.geom_type == "Point":
            kept += _sides(part)
        else:
            inner = _wrapped_one(part, pole, short_way)
            kept += [] if inner is None else [inner]
    if not kept:
        return None
    if kind == -2:
        return shapely.geometrycollections(kept)
    return together(np.array(kept, object), np.zeros(len(kept), np.int64), 1, np.array([kind]))[0]


def _line(part: BaseGeometry) -> BaseGeometry:
    c = shapely.get_coordinates(part, include_z=part.has_z)
    c[:, 0] = running_on(c[:, 0], np.zeros(len(c), np.int64))
    return shapely.LineString(c)


def _polygon(part: BaseGeometry, number: int, pole: PoleWithin, short_way: bool) -> list[BaseGeometry]:
    if not short_way:
        return _sides(part)
    rings = shapely.get_rings(part)
    regions = [_region(ring, pole(number, n)) for n, ring in enumerate(rings)]
    inside = regions[0]
    if len(regions) > 1:
        inside = shapely.difference(inside, shapely.union_all(regions[1:]))
    return [p for p in shapely.get_parts(inside) if p.geom_type == "Polygon" and not p.is_empty]


def _region(ring: BaseGeometry, pole: int) -> BaseGeometry:
    """What a ring holds, between -180 and 180."""
    c = shapely.get_coordinates(ring, include_z=ring.has_z)
    c[:, 0] = running_on(c[:, 0], np.zeros(len(c), np.int64))
    turn = c[-1, 0] - c[0, 0]
    if abs(turn) > HALF:
        c = _from_meridian(c, turn)
        north = pole > 0 if pole else float(c[:, 1].mean()) > 0
        end, begin = c[-1].copy(), c[0].copy()
        end[1] = begin[1] = 90.0 if north else -90.0
        c = np.vstack([c, end, begin, c[:1]])
    shape: BaseGeometry = shapely.Polygon(c)
    if not shapely.is_valid(shape):
        shape = shapely.make_valid(shape)
    return shapely.union_all(np.array(_sides(shape), object))


def _from_meridian(c: np.ndarray, turn: float) -> np.ndarray:
    """A ring round a pole, running on by a turn, that begins and ends at 180 degrees: so that it is nowhere else cut open."""
    low, high = sorted((c[0, 0], c[-1, 0]))
    at = HALF + WHOLE * np.ceil((low - HALF) / WHOLE)
    at = min(at, high)
    beyond = (c[:, 0] - at) * np.sign(turn) >= 0
    k = max(int(np.argmax(beyond)) - 1, 0)
    step = c[k + 1, 0] - c[k, 0]
    first = c[k] + ((at - c[k, 0]) / step if step else 0.0) * (c[k + 1] - c[k])
    first[0] = at
    round_ = np.zeros(c.shape[1])
    round_[0] = turn
    out = np.vstack([first, c[k + 1 : -1], c[: k + 1] + round_, first + round_])
    out[:, 0] -= at + np.sign(turn) * HALF
    out[0, 0], out[-1, 0] = -np.sign(turn) * HALF, np.sign(turn) * HALF
    return out


def _sides(shape: BaseGeometry) -> list[BaseGeometry]:
    """What lies in each turn of 360 degrees, brought between -180 and 180."""
    west, south, east, north = shapely.bounds(shape)
    dim = shapely.get_dimensions(shape)
    out = []
    first, last = int(np.floor((west + HALF) / WHOLE)), int(np.ceil((east - HALF) / WHOLE))
    for turn in range(first, max(first, last) + 1):
        piece = shape
        if west < turn * WHOLE - HALF or east > turn * WHOLE + HALF:
            window = shapely.box(turn * WHOLE - HALF, south - 1, turn * WHOLE + HALF, north + 1)
            piece = shapely.intersection(shape, window)
        by = turn * WHOLE
        if by:
            tall = bool(piece.has_z)
            piece = shapely.transform(piece, partial(_shifted, by=-by), include_z=tall)
        parts, _ = single_parts(np.array([piece], object))
        out += [p for p in parts if shapely.get_dimensions(p) == dim and not p.is_empty]
    return out


def _shifted(coordinates: np.ndarray, by: float) -> np.ndarray:
    return np.asarray(coordinates + np.r_[by, np.zeros(coordinates.shape[1] - 1)])


def running(shapes: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Shapes that were cut at 180 degrees, joined again there, with longitudes that run on beyond it.

    Returns
    -------
    The shapes, and the positions (int64) of those that were joined. What goes all the way round the globe stays as it is.
    """
    shapes = snapped(shapes)
    boxes = shapely.bounds(shapes).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        suspect = np.flatnonzero((boxes[:, 0] <= -HALF + SLACK) & (boxes[:, 2] >= HALF - SLACK) & _somewhere(boxes))
    out, done = shapes.copy(), []
    for row in suspect.tolist():
        made = one_with_measures(_joined_one, shapes[[row]])
        if made is not None:
            out[row] = made
            done.append(row)
    return out, np.array(done, np.int64)


def _joined_one(one: np.ndarray) -> BaseGeometry | None:
    parts, _ = single_parts(one)
    parts = parts[~shapely.is_empty(parts)]
    boxes = shapely.bounds(parts)
    order = np.argsort(boxes[:, 0], kind="stable")
    west, east = boxes[order, 0], np.maximum.accumulate(boxes[order, 2])
    gap = west[1:] - east[:-1]
    if not len(gap) or gap.max() <= SLACK:
        return None  # it goes all the way round
    split = int(np.argmax(gap)) + 1
    moved = parts.copy()
    left = order[:split]
    # heights are carried along; what is moved is moved by a whole turn
    moved[left] = [shapely.transform(p, partial(_shifted, by=WHOLE), include_z=bool(p.has_z)) for p in parts[left]]
    dims = shapely.get_dimensions(moved)
    if len(np.unique(dims)) > 1:
        return shapely.GeometryCollection(list(moved))
    if dims[0] == 0:
        return shapely.MultiPoint(moved)
    if dims[0] == 1:
        merged = shapely.line_merge(shapely.MultiLineString(list(moved)))
        return merged if merged is not None else shapely.MultiLineString(list(moved))
    try:
        return shapely.union_all(moved)
    except shapely.errors.GEOSException:
        return shapely.union_all(shapely.make_valid(moved))
