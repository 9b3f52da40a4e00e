"""The nearest of other shapes in a plane, and the place on it."""

from __future__ import annotations

import numpy as np
import shapely

from eskret.core.geometry.parallel import Watch, in_chunks
from eskret.core.geometry.parts import single_parts

_ROWS = 5_000


def closest(
    left: np.ndarray, right: np.ndarray, limit: float | None = None, watch: Watch | None = None, index: shapely.STRtree | None = None
) -> tuple[np.ndarray, np.ndarray]:
    """For each shape the nearest of the others.

    Parameters
    ----------
    left, right : arrays of shapely geometry; null and empty ones have no nearest and are none.
    limit : the distance beyond which nothing counts, in units of the coordinates; exactly that far still does.
    watch : called as (shapes done, of all).
    index : of ``right``, where there is one already.

    Returns
    -------
    The position of the nearest (int64, -1 for none; of equal ones the first) and the distance to it (NaN for none).
    """
    partner, apart = np.full(len(left), -1, np.int64), np.full(len(left), np.nan)
    if not len(right):
        return partner, apart
    tree = shapely.STRtree(right) if index is None else index
    tree.query(shapely.Point())  # builds it before threads ask

    def some(start: int, stop: int) -> None:
        shapes = left[start:stop]
        if limit == 0:
            # the library's search wants some distance: what lies none apart meets
            at, near = tree.query(shapes, predicate="intersects")
            distance = np.zeros(len(at))
        else:
            (at, near), distance = tree.query_nearest(shapes, max_distance=limit, return_distance=True)
        order = np.lexsort((near, at))
        at, near, distance = at[order], near[order], distance[order]
        first = np.flatnonzero(np.r_[True, at[1:] != at[:-1]]) if len(at) else at
        partner[start + at[first]] = near[first]
        apart[start + at[first]] = distance[first]

    in_chunks(some, len(left), watch, _ROWS)
    return partner, apart


def edges(shapes: np.ndarray) -> np.ndarray:
    """The line around each area; points and lines as they are. Of a collection, to which the library gives no boundary, part by part."""
    out = np.array(shapes, object)
    area, mixed = shapely.get_dimensions(out) == 2, shapely.get_type_id(out) == 7
    out[area & ~mixed] = shapely.boundary(out[area & ~mixed])
    if (area & mixed).any():
        parts, owner = single_parts(out[area & mixed])
        parts = np.where(shapely.get_dimensions(parts) == 2, shapely.boundary(parts), parts)
        out[area & mixed] = shapely.geometrycollections(parts, indices=owner)
    return out


def places_on(points: np.ndarray, shapes: np.ndarray) -> np.ndarray:
    """The place (n, 2) on each shape that is nearest to the point of its row: of an area the point itself, where it lies within."""
    ways = shapely.shortest_line(points, shapes)
    return np.asarray(shapely.get_coordinates(shapely.get_point(ways, 1)))
