"""Cut features at the edge of an area.

Index first: what lies wholly within the area, or wholly apart from it, is only told so; just the features on its edge are
cut, and each of them by the piece of the area about its own box, since cutting costs by the vertices of both.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.core.geometry.grid_index import EDGE, INSIDE, OUTSIDE, Cells
from eskret.core.geometry.ordinates import with_measures
from eskret.core.geometry.parallel import ThreadLocalPrepared, Watch, in_chunks, is_nonempty
from eskret.core.geometry.parts import dimension, invalid, made_valid, of_dimension

_PIECE = 500
_MANY = 2_000


@dataclass(frozen=True)
class Cut:
    """How features lie to an area.

    ``within`` and ``apart`` (bool, one a feature) lie wholly on one side; ``edge`` (positions, int64) lie on both, or
    touch it. Of those, ``inside`` and ``outside`` are what lies on either side, of the feature's own dimension, null for
    none. ``mended`` are positions of invalid ones that were made valid to be cut.
    """

    within: np.ndarray
    apart: np.ndarray
    edge: np.ndarray
    inside: np.ndarray
    outside: np.ndarray
    mended: np.ndarray


def outline(areas: np.ndarray) -> BaseGeometry:
    """The joined outline of some areas, invalid ones made valid; an empty polygon for none."""
    areas = areas[is_nonempty(areas)]
    if len(areas) == 1 and shapely.is_valid(areas[0]):
        return areas[0]
    valid = np.where(shapely.is_valid(areas), areas, made_valid(areas))
    valid = valid[is_nonempty(valid)]
    whole = of_dimension(np.array([shapely.union_all(valid)], object), np.array([2]))[0]
    return shapely.Polygon() if whole is None else whole


def _sides(shapes: np.ndarray, area: BaseGeometry) -> tuple[np.ndarray, np.ndarray]:
    """Which shapes lie properly within a prepared area, and which apart from it (two boolean arrays)."""
    within = shapely.contains_properly(area, shapes)
    apart = np.zeros(len(shapes), bool)
    rest = np.flatnonzero(~within)
    apart[rest] = ~shapely.intersects(area, shapes[rest])
    return within, apart


def cut(bounds: np.ndarray, shapes_at: Callable[[np.ndarray], np.ndarray], area: BaseGeometry, watch: Watch | None = None) -> Cut:
    """Cut features at the edge of an area.

    Parameters
    ----------
    bounds : xmin, ymin, xmax, ymax of each feature (n, 4); NaN for null and empty ones, which are told as apart.
    shapes_at : gives the shapes at some positions; asked only for those whose box does not tell.
    area : valid polygon or multipolygon, in the same CRS. A point on its edge is inside.
    watch : called as (features done, of all).
    """
    prepared = ThreadLocalPrepared(np.array([area], object))
    count = len(bounds)
    within, apart = np.zeros(count, bool), np.ones(count, bool)
    if area.is_empty:
        nothing = np.empty(0, object)
        return Cut(within, apart, np.empty(0, np.int64), nothing, nothing, np.empty(0, np.int64))
    cells = Cells.over(prepared.shapes[0]) if count > _MANY else None
    state = cells.of_boxes(bounds) if cells is not None else np.full(count, EDGE)
    within[state == INSIDE] = True
    apart[state != OUTSIDE] = False
    at = np.flatnonzero((state == EDGE) & ~np.isnan(bounds[:, 0]))
    apart[np.isnan(bounds[:, 0])] = True
    unsure = np.zeros(count, bool)

    def by_box(start: int, stop: int) -> None:
        rows = at[start:stop]
        within[rows], apart[rows] = _sides(shapely.box(*bounds[rows].T), prepared.shapes[0])
        unsure[rows] = ~within[rows] & ~apart[rows]

    in_chunks(by_box, len(at), watch)
    close = np.flatnonzero(unsure)
    shapes = shapes_at(close)

    def closely(start: int, stop: int) -> None:
        rows = close[start:stop]
        within[rows], apart[rows] = _sides(shapes[start:stop], prepared.shapes[0])

    in_chunks(closely, len(close), watch, _PIECE)
    shapes = shapes[~within[close] & ~apart[close]]
    edge = np.flatnonzero(~within & ~apart)
    bad = invalid(shapes)
    if bad.any():
        shapes = shapes.copy()
        shapes[bad] = of_dimension(made_valid(shapes[bad]), dimension(shapes[bad]))
    inside, outside = np.full(len(edge), None, object), np.full(len(edge), None, object)
    wanted = dimension(shapes)

    def divide(start: int, stop: int) -> None:
        some = shapes[start:stop]
        local = _about(area, shapely.bounds(some))
        inside[start:stop] = of_dimension(with_measures(shapely.intersection, some, local), wanted[start:stop])
        outside[start:stop] = of_dimension(with_measures(shapely.difference, some, local), wanted[start:stop])

    in_chunks(divide, len(edge), watch, _PIECE)
    return Cut(within, apart, edge, inside, outside, edge[bad])


def _about(area: BaseGeometry, bounds: np.ndarray) -> np.ndarray:
    """The area about each box, a good deal larger than it, so that the cut itself is not touched; all of it where the
    piece is not sound."""
    wide, high = bounds[:, 2] - bounds[:, 0], bounds[:, 3] - bounds[:, 1]
    more = 0.1 * np.maximum(np.maximum(wide, high), 1e-9 * np.abs(bounds).max(axis=1))
    out = np.full(len(bounds), area, object)
    if shapely.get_num_coordinates(area) < 100:
        return out
    for row, ((west, south, east, north), by) in enumerate(zip(bounds.tolist(), more.tolist(), strict=True)):
        out[row] = shapely.clip_by_rect(area, west - by, south - by, east + by, north + by)
    unsound = ~shapely.is_valid(out) | (dimension(out) != 2)
    out[unsound] = area
    return out
