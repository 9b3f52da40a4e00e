"""More vertices on the edges of shapes, without moving them: heights and measures run evenly along an edge."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
import shapely

from eskret.core.geometry.ordinates import with_measures
from eskret.core.geometry.parts import dimension, single_parts, together

CountOf = Callable[[np.ndarray, np.ndarray, np.ndarray], np.ndarray]
"""Begin and end of edges (n, 2) and the row of each; gives into how many stretches each is to be cut."""
_MOST = 100_000
"""Stretches of one edge, at the most."""


def edges_of(shapes: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Begin and end (n, 2) of all edges of lines and areas, and the row of each; one of no length where a part is a point."""
    parts, owner = single_parts(shapes)
    flat = dimension(parts)
    rings, of = shapely.get_rings(parts, return_index=True)
    lines = np.flatnonzero(flat == 1)
    points = np.flatnonzero((flat == 0) & ~shapely.is_empty(parts))
    pieces = np.concatenate([rings, parts[lines]])
    row_of = np.concatenate([owner[of], owner[lines]])
    xy, piece = shapely.get_coordinates(pieces, return_index=True)
    inside = piece[1:] == piece[:-1] if len(piece) else np.empty(0, bool)
    begin, end = xy[:-1][inside], xy[1:][inside]
    row = row_of[piece[:-1][inside]] if len(piece) else np.empty(0, np.int64)
    dots = shapely.get_coordinates(parts[points])
    return np.concatenate([begin, dots]), np.concatenate([end, dots]), np.concatenate([row, owner[points]])


def split_edges(shapes: np.ndarray, count_of: CountOf) -> np.ndarray:
    """The shapes with vertices put into their edges.

    Parameters
    ----------
    shapes : array of shapely geometry; null, empty and points stay as they are.
    count_of : gives the number of stretches of each edge; less than one counts as one.
    """
    shapes = np.asarray(shapes, object)
    begin, end, row = edges_of(shapes)
    many = np.minimum(np.maximum(np.nan_to_num(count_of(begin, end, row)), 1), _MOST)
    rows = np.unique(row[many > 1])
    if not len(rows):
        return shapes
    out = shapes.copy()

    measured = shapely.has_m(shapes[rows])
    for place in (rows[~measured], rows[measured]):
        if len(place):
            out[place] = with_measures(partial(_by_height, count_of=count_of, place=place), shapes[place])
    return out


def _by_height(shapes: np.ndarray, count_of: CountOf, place: np.ndarray) -> np.ndarray:
    """Shapes with heights and those without apart; ``place`` is the row of each."""
    out = np.empty(len(shapes), object)
    tall = shapely.has_z(shapes)
    for z in (False, True):
        at = np.flatnonzero(tall == z)
        if len(at):
            rows = place[at]

            def count(begin: np.ndarray, end: np.ndarray, row: np.ndarray, rows: np.ndarray = rows) -> np.ndarray:
                return count_of(begin, end, rows[row])

            out[at] = _split(shapes[at], count, z)
    return out


def _split(shapes: np.ndarray, count_of: CountOf, tall: bool) -> np.ndarray:
    parts, owner = single_parts(shapes)
    kind = dimension(parts)
    new = parts.copy()
    lines, polygons = np.flatnonzero(kind == 1), np.flatnonzero(kind == 2)
    if len(lines):
        coordinates, piece = _more(parts[lines], owner[lines], count_of, tall)
        new[lines] = shapely.linestrings(coordinates, indices=piece)
    if len(polygons):
        rings, of = shapely.get_rings(parts[polygons], return_index=True)
        coordinates, piece = _more(rings, owner[polygons][of], count_of, tall)
        new[polygons] = shapely.polygons(np.asarray(shapely.linearrings(coordinates, indices=piece)), indices=of)
    wanted = dimension(shapes)
    out = together(new, owner, len(shapes), wanted)
    single = np.isin(shapely.get_type_id(shapes), (4, 5, 6)) & np.isin(shapely.get_type_id(out), (0, 1, 3))
    starts = np.searchsorted(owner, np.arange(len(shapes) + 1))
    for n in np.flatnonzero(single | (wanted == -2)).tolist():  # a multiple of one part stays one, a collection a collection
        some = new[starts[n] : starts[n + 1]]
        out[n] = (
            shapely.geometrycollections(some)
            if wanted[n] == -2
            else (shapely.multipoints, shapely.multilinestrings, shapely.multipolygons)[wanted[n]](some)
        )
    return out


def _more(pieces: np.ndarray, row: np.ndarray, count_of: CountOf, tall: bool) -> tuple[np.ndarray, np.ndarray]:
    """The coordinates of some lines or rings with more vertices, and the piece of each."""
    c, piece = shapely.get_coordinates(pieces, include_z=tall, return_index=True)
    inside = np.flatnonzero(piece[1:] == piece[:-1])
    times = np.ones(len(c), np.int64)
    wanted = np.nan_to_num(count_of(c[inside, :2], c[inside + 1, :2], row[piece[inside]]))
    times[inside] = np.minimum(np.maximum(wanted, 1), _MOST).astype(np.int64)
    at = np.repeat(np.arange(len(c)), times)
    step = np.arange(len(at)) - np.repeat(np.cumsum(times) - times, times)
    after = np.minimum(at + 1, len(c) - 1)
    # neighbours run along a shared edge in opposite directions: both work it out from the same end, to the same last digit
    turned = (c[at, 0] > c[after, 0]) | ((c[at, 0] == c[after, 0]) & (c[at, 1] > c[after, 1]))
    from_, to = np.where(turned, after, at), np.where(turned, at, after)
    share = (np.where(turned, times[at] - step, step) / times[at])[:, None]
    return np.where(step[:, None] == 0, c[at], c[from_] + share * (c[to] - c[from_])), piece[at]
