"""Heights and measures of vertices (Z and M), kept where the library would drop them.

The library works in x and y, carries Z along and interpolates it where it makes new vertices; M it mostly drops. What is
done to x and y does not hang on Z, so it is done twice where there are measures: once with the heights, once with the
measures in their place, and both results are laid together.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from typing import TypeVar

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

_POINT, _LINE, _POLYGON = 1, 2, 3
One = TypeVar("One", bound=BaseGeometry | None)
Move = Callable[[np.ndarray], np.ndarray]
"""Coordinates (n, 2) in, coordinates (n, 2) out."""


def moved(shapes: np.ndarray, move: Move) -> np.ndarray:
    """The shapes with every vertex at another place; heights and measures stay with their vertices.

    Parameters
    ----------
    shapes : array of shapely geometry; null stays null.
    move : is given the x and y of all vertices at once.
    """

    def flat(some: np.ndarray) -> np.ndarray:
        if len(some) and (shapely.get_type_id(some) == 0).all() and not shapely.is_empty(some).any():
            return np.asarray(shapely.points(move(shapely.get_coordinates(some))), object)  # in a third of the time
        return np.asarray(shapely.transform(some, move), object)

    def high(some: np.ndarray) -> np.ndarray:
        lifted = shapely.transform(some, lambda c: np.column_stack([move(c[:, :2]), c[:, 2]]), include_z=True)
        return np.asarray(lifted, object)

    def both(some: np.ndarray) -> np.ndarray:
        has_z = shapely.has_z(some)
        if not has_z.any():
            return flat(some)
        if has_z.all():
            return high(some)
        out = np.empty(len(some), object)
        out[has_z], out[~has_z] = high(some[has_z]), flat(some[~has_z])
        return out

    return with_measures(both, np.asarray(shapes, object))


def with_measures(work: Callable[..., np.ndarray], shapes: np.ndarray, *beside: np.ndarray) -> np.ndarray:
    """What ``work`` makes of some shapes, a shape for each, with the measures that they had.

    Parameters
    ----------
    work : gives a shape (or null) for each shape; what it does to x and y must not hang on Z. Heights it must carry itself, as
        the library does.
    shapes : array of shapely geometry.
    beside : what ``work`` is given besides, a value for each shape.
    """
    with_m = shapely.has_m(shapes)
    if not with_m.any():
        return work(shapes, *beside)
    out = np.empty(len(shapes), object)
    if not with_m.all():
        out[~with_m] = work(shapes[~with_m], *(b[~with_m] for b in beside))
    some, more = shapes[with_m], [b[with_m] for b in beside]
    doubled = work(_measures_as_heights(some), *(shapely.force_2d(b) if b.dtype == object else b for b in more))
    m = shapely.get_coordinates(doubled, include_z=True)[:, 2]
    out[with_m] = measured(work(without_measures(some), *more), m)
    return out


def one_with_measures(work: Callable[[np.ndarray], One], members: np.ndarray) -> One:
    """The one shape (or null) that ``work`` makes of one or of several, with the measures that they had; else as ``with_measures``."""
    with_m = shapely.has_m(members)
    if not with_m.any():
        return work(members)
    doubled = work(_measures_as_heights(members))
    m = shapely.get_coordinates(doubled, include_z=True)[:, 2]
    one: One = measured(np.array([work(without_measures(members))], object), m)[0]
    return one


def without_measures(shapes: np.ndarray) -> np.ndarray:
    """The shapes without M; heights stay."""
    out = np.array(shapes, object)
    for tall in (True, False):
        at = np.flatnonzero(shapely.has_m(out) & (shapely.has_z(out) == tall))
        if len(at):
            kept = shapely.to_wkb(out[at], output_dimension=3 if tall else 2)
            out[at] = shapely.from_wkb(kept)
    return out


def _measures_as_heights(shapes: np.ndarray) -> np.ndarray:
    m = shapely.get_coordinates(shapes, include_m=True)[:, 2]
    lifted = shapely.force_3d(shapely.force_2d(shapes), 0.0)
    return np.asarray(shapely.transform(lifted, lambda c: np.column_stack([c[:, :2], m]), include_z=True), object)


def measured(shapes: np.ndarray, m: np.ndarray) -> np.ndarray:
    """Shapes without measures (with heights or without) with one for each of their vertices, in their order."""
    out = np.array(shapes, object)
    there = np.flatnonzero(~(shapely.is_missing(out) | shapely.is_empty(out)))
    if not len(there):
        return out
    starts = np.concatenate([[0], np.cumsum(shapely.get_num_coordinates(out[there]))])
    binary = shapely.to_wkb(out[there], byte_order=1, flavor="iso")
    out[there] = shapely.from_wkb([_with_m(b, m[starts[n] : starts[n + 1]]) for n, b in enumerate(binary)])
    return out


def _with_m(binary: bytes, m: np.ndarray) -> bytes:
    """ISO binary (little-endian, with or without Z) with the measures of its vertices, in their order."""
    place, used = 0, 0

    def shape() -> bytes:
        nonlocal place
        number = struct.unpack_from("<I", binary, place + 1)[0]
        place += 5
        kind, tall = number % 1000, number >= 1000
        head = struct.pack("<BI", 1, kind + (3000 if tall else 2000))
        if kind == _POINT:
            return head + vertices(1, tall)
        count = struct.unpack_from("<I", binary, place)[0]
        place += 4
        out = [head, struct.pack("<I", count)]
        if kind == _LINE:
            out.append(vertices(count, tall))
        elif kind == _POLYGON:
            for _ in range(count):
                many = struct.unpack_from("<I", binary, place)[0]
                place += 4
                out += [struct.pack("<I", many), vertices(many, tall)]
        else:
            out += [shape() for _ in range(count)]
        return b"".join(out)

    def vertices(count: int, tall: bool) -> bytes:
        nonlocal place, used
        width = 3 if tall else 2
        found = np.frombuffer(binary, "<f8", count * width, place).reshape(count, width)
        place += count * width * 8
        measures = m[used : used + count]
        used += count
        return np.column_stack([found, measures]).astype("<f8").tobytes()

    return shape()
