"""Shapes drawn around others in longitude and latitude: together across 180 degrees, and closed over a pole that they surround."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.core.geometry.globe.ellipsoid import Ellipsoid
from eskret.core.geometry.globe.planes import Middles, into_planes, out_of_planes
from eskret.core.geometry.globe.seam import HALF, WHOLE, wrapped
from eskret.core.geometry.ordinates import moved
from eskret.core.geometry.parallel import is_nonempty

_FOLLOWED = 1.0
"""Metres within which edges drawn about a pole are followed in degrees."""


def around_on_globe(shapes: np.ndarray, draw: Callable[[np.ndarray], np.ndarray], on: Ellipsoid) -> np.ndarray:
    """What ``draw`` puts around each shape.

    The longitudes of a shape are taken where they lie closest together. Where no gap between them is as wide as half a turn, and all
    lie on one half of the globe, it surrounds a pole, and is drawn about in the plane that has the pole in its middle.
    """
    shapes = np.asarray(shapes, object)
    out = np.full(len(shapes), None, object)
    polar: list[int] = []
    ready = shapes.copy()
    boxes = shapely.bounds(shapes).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        wide = np.flatnonzero(boxes[:, 2] - boxes[:, 0] > HALF)
    for row in wide.tolist():
        xy = shapely.get_coordinates(shapes[row])
        lon = np.sort(np.unique(xy[:, 0] % WHOLE))
        gaps = np.diff(np.r_[lon, lon[0] + WHOLE])
        at = int(np.argmax(gaps))
        one_half = (xy[:, 1] > 0).all() or (xy[:, 1] < 0).all()
        # an edge drawn over half a turn is meant as it is drawn
        drawn = shapely.get_dimensions(shapes[row]) > 0 and _long_edge(shapes[row])
        if gaps[at] < HALF and one_half and not drawn:
            polar.append(row)
        elif gaps[at] >= HALF and not drawn:
            ready[row] = moved(shapes[[row]], partial(_from, float(lon[(at + 1) % len(lon)])))[0]
    rows = np.setdiff1d(np.flatnonzero(is_nonempty(shapes)), polar)
    out[rows] = draw(ready[rows])
    found = rows[is_nonempty(out[rows])]
    out[found] = wrapped(out[found], short_way=False)[0]
    if polar:
        held = np.array(polar)
        north = boxes[held, 1] > 0
        pole = Middles(np.column_stack([np.zeros(len(held)), np.where(north, 90.0, -90.0)]), np.full(len(held), np.pi / 2))
        made = draw(into_planes(shapes[held], pole, on))
        there = is_nonempty(made)
        some = Middles(pole.lonlat[there], pole.reach[there])
        out[held[there]] = out_of_planes(made[there], some, on, np.full(int(there.sum()), _FOLLOWED))[0]
    return out


def _from(west: float, xy: np.ndarray) -> np.ndarray:
    """Longitudes between ``west`` and a whole turn east of it."""
    return np.column_stack([west + (xy[:, 0] - west) % WHOLE, xy[:, 1]])


def _long_edge(shape: BaseGeometry) -> bool:
    xy, piece = shapely.get_coordinates(shapely.get_parts(shape), return_index=True)
    step = np.abs(np.diff(xy[:, 0]))
    return bool(((step > HALF) & (step < WHOLE) & (piece[1:] == piece[:-1])).any())
