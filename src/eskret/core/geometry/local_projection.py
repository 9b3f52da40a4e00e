"""A plane for a whole layer, in which a unit is a length: that of its own CRS, or one about its middle where coordinates are
degrees. What belongs to single features has planes of their own (``globe``)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import shapely

from eskret.core.crs import crs_facts
from eskret.core.geometry.globe.ellipsoid import ellipsoid_of
from eskret.core.geometry.globe.planes import Middles, followed, into_planes, middles, out_of_planes
from eskret.core.geometry.globe.seam import nowhere, running
from eskret.errors import CrsError


@dataclass(frozen=True)
class Plane:
    """``there`` brings shapes into it, ``back`` out of it. One unit of it is ``metres`` long; ``error`` is the largest relative
    error of a distance in it."""

    there: Callable[[np.ndarray], np.ndarray]
    back: Callable[[np.ndarray], np.ndarray]
    metres: float
    error: float


def plane_for(shapes: np.ndarray, crs: str | None, tolerance: float = np.inf) -> Plane:
    """A plane in which the distances between these shapes can be measured.

    Parameters
    ----------
    tolerance : metres within which edges in degrees are followed, by vertices put in; without it only the vertices there are
        are brought over.

    Raises
    ------
    CrsError : no CRS, or one without a unit of length.
    """
    facts = crs_facts(crs) if crs else None
    if facts is None or not (facts.geographic or facts.unit_metres):
        raise CrsError("without a coordinate system a distance means nothing", way_out="Say it where the layer is loaded")
    if not facts.geographic:
        return Plane(np.asarray, np.asarray, facts.unit_metres, 0.0)
    assert crs is not None
    on = ellipsoid_of(crs)
    whole = middles(np.array([shapely.multipoints(shapely.get_coordinates(shapes))], object), on)

    def about(some: np.ndarray) -> Middles:
        return Middles(np.repeat(whole.lonlat, len(some), axis=0), np.repeat(whole.reach, len(some)))

    def there(some: np.ndarray) -> np.ndarray:
        joined, _ = running(some)
        off = nowhere(joined)
        if off.any():
            joined[off] = None
        if np.isfinite(tolerance):
            joined = followed(joined, about(some), on, np.full(len(some), tolerance))
        return into_planes(joined, about(some), on)

    def back(some: np.ndarray) -> np.ndarray:
        return out_of_planes(some, about(some), on, np.full(len(some), tolerance))[0]

    return Plane(there, back, 1.0, float(whole.error[0]) if np.isfinite(whole.reach[0]) else 0.0)


def moved_by(now: np.ndarray, then: np.ndarray, crs: str) -> np.ndarray:
    """How far each shape in degrees is from what it was, in metres (Hausdorff, by vertices)."""
    on = ellipsoid_of(crs)
    about = middles(now, on)
    return np.asarray(shapely.hausdorff_distance(into_planes(now, about, on), into_planes(then, about, on)))
