"""Vertices taken out of lines and areas in longitude and latitude.

Edges are straight in degrees before and after, so that the course is compared in degrees, stretched to metres: as wide as they are
at the latitude of the feature nearest to the equator. No vertex left out lies further off than said; towards the poles, where a
degree is shorter, more stay than need be. Those that stay are the very ones that were there, with their heights and measures.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely

from eskret.core.geometry.globe.ellipsoid import Ellipsoid, radii
from eskret.core.geometry.ordinates import measured


def degree_scales(boxes: np.ndarray, on: Ellipsoid) -> np.ndarray:
    """Metres of a unit of longitude and of latitude (n, 2) within boxes (n, 4), at most."""
    boxes = np.radians(boxes * on.degrees)
    south, north = np.clip(boxes[:, 1], -np.pi / 2, np.pi / 2), np.clip(boxes[:, 3], -np.pi / 2, np.pi / 2)
    least = np.where((south <= 0) & (north >= 0), 0.0, np.minimum(np.abs(south), np.abs(north)))
    across, along = radii(least, on)[1], radii(np.maximum(np.abs(south), np.abs(north)), on)[0]
    return np.asarray(np.radians(on.degrees) * np.column_stack([np.maximum(across, 1.0), along]))


def stretched(shapes: np.ndarray, scale: np.ndarray, work: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
    """What ``work`` leaves of shapes, with the vertices that they had.

    Parameters
    ----------
    shapes : array of shapely geometry.
    scale : how many metres a unit of x and of y is for each (n, 2).
    work : takes vertices out of shapes in metres; it makes none.
    """
    shapes = np.asarray(shapes, object)
    xy, row = shapely.get_coordinates(shapes, return_index=True)
    number = np.arange(len(xy), dtype=float)
    flat = shapely.force_3d(shapely.force_2d(shapes), 0.0)
    flat = shapely.transform(flat, lambda c: np.column_stack([c[:, :2] * scale[row], number]), include_z=True)
    left = np.asarray(work(flat), object)
    kept = shapely.get_coordinates(left, include_z=True)[:, 2].astype(np.int64)
    tall, with_m = shapely.has_z(shapes), shapely.has_m(shapes)
    heights = shapely.get_coordinates(shapes, include_z=True)[:, 2] if tall.any() else np.zeros(len(xy))
    out = np.asarray(shapely.transform(left, lambda c: np.column_stack([xy[kept], heights[kept]]), include_z=True), object)
    out[~tall] = shapely.force_2d(out[~tall])
    if with_m.any():
        m = shapely.get_coordinates(shapes, include_m=True)[:, 2]
        _, of = shapely.get_coordinates(out, return_index=True)
        out[with_m] = measured(out[with_m], m[kept][with_m[of]])
    return out
