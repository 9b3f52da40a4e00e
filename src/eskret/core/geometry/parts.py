"""Geometry by its dimension: 0 points, 1 lines, 2 areas."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely

from eskret.core.geometry.ordinates import with_measures

_DIMENSION = np.array([-1, 0, 1, 1, 2, 0, 1, 2, -2])  # by type number, null first; -2: a collection, which has several
_SINGLE = ((0,), (1, 2), (3,))
_JOIN: tuple[Callable[..., np.ndarray], ...] = (shapely.multipoints, shapely.multilinestrings, shapely.multipolygons)


def dimension(geometry: np.ndarray) -> np.ndarray:
    """0, 1 or 2 of each; -1 for null, -2 for a collection."""
    return np.asarray(_DIMENSION[shapely.get_type_id(geometry) + 1])


def invalid(geometry: np.ndarray) -> np.ndarray:
    """Which shapes are there and not valid: to the library, one that is missing is not valid either."""
    return np.asarray(~shapely.is_valid(geometry) & ~shapely.is_missing(geometry))


def made_valid(geometry: np.ndarray) -> np.ndarray:
    """Shapes made valid, measures kept; null for those with coordinates that are not finite, which nothing can be made of."""
    out = np.array(geometry, object)
    xy, owner = shapely.get_coordinates(out, return_index=True)
    out[np.unique(owner[~np.isfinite(xy).all(axis=1)])] = None
    return with_measures(lambda some: np.asarray(shapely.make_valid(some), object), out)


def single_parts(geometry: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """All single parts, in order, collections within collections taken apart too, and the feature of each (int64)."""
    parts, owner = shapely.get_parts(geometry, return_index=True)
    while (shapely.get_type_id(parts) >= 4).any():
        parts, inner = shapely.get_parts(parts, return_index=True)
        owner = owner[inner]
    return parts, owner.astype(np.int64)


def together(parts: np.ndarray, owner: np.ndarray, count: int, wanted: np.ndarray) -> np.ndarray:
    """Single parts put together again, one shape for each of ``count`` owners; null where there is no part of its kind.

    Parameters
    ----------
    parts, owner : as from ``single_parts``, in order of the owner.
    wanted : the dimension each owner may have; parts of others are left out.
    """
    out = np.full(count, None, object)
    kinds = shapely.get_type_id(parts)
    for which, (single, join) in enumerate(zip(_SINGLE, _JOIN, strict=True)):
        at = np.flatnonzero(np.isin(kinds, single) & (wanted[owner] == which) & ~shapely.is_empty(parts))
        if not len(at):
            continue
        of = owner[at]
        number = np.bincount(of, minlength=count)
        alone = number[of] == 1
        out[of[alone]] = parts[at[alone]]
        several = at[~alone]
        if len(several):
            owners, position = np.unique(owner[several], return_inverse=True)
            out[owners] = join(parts[several], indices=position)
    return out


def of_dimension(geometry: np.ndarray, wanted: np.ndarray) -> np.ndarray:
    """What of each shape has the dimension wanted of it: an area, say, without the lines and points beside it."""
    out = np.array(geometry, object)
    found = dimension(geometry)
    other = np.flatnonzero((found != wanted) & (found != -1) & (wanted >= 0))
    if len(other):
        parts, owner = single_parts(out[other])
        out[other] = together(parts, owner, len(other), wanted[other])
    out[shapely.is_empty(out)] = None
    return out
