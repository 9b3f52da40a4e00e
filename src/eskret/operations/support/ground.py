"""Lengths on the ground: in the plane of a layer's coordinate system where that is true, else along its ellipsoid."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import shapely

from eskret.core.accounts.account import Remark
from eskret.core.crs import crs_facts, for_looking_only, geographic_of, is_geographic, move
from eskret.core.geometry.globe.ellipsoid import Ellipsoid, edge_lengths, ellipsoid_of
from eskret.core.geometry.globe.moving import reproject_whole
from eskret.core.geometry.globe.seam import beyond, beyond_seam, nowhere, snapped, wrapped
from eskret.core.geometry.local_projection import Plane, plane_for
from eskret.core.geometry.measuring import scale_error
from eskret.core.geometry.ordinates import moved
from eskret.core.layer import Layer, LayerFacts
from eskret.errors import CrsError
from eskret.operations.base import Context, Finding
from eskret.operations.settings import setting

Along = Literal["fitting", "planar", "geodesic"]
FOLLOWED = 0.01
"""Metres within which edges of a plane are followed on the ellipsoid."""
TOLD = 0.01
"""The share of a length from which on it is told that the plane is off."""


def along_setting(what: str = "Distance along", **more: Any) -> Any:
    """Where lengths are taken."""
    return setting(
        what,
        kind="choice",
        default="fitting",
        rare=True,
        **more,
        choices={
            "fitting": "the plane, or the ellipsoid where the plane is no measure",
            "planar": "the plane",
            "geodesic": "the ellipsoid",
        },
        help="Degrees and the metres of web maps are no true lengths: there the ellipsoid is used unless you choose otherwise.",
    )


def crs_of(layer: Layer) -> str:
    """The CRS of a layer in which a distance is taken.

    Raises
    ------
    CrsError : it has none.
    """
    if layer.crs is None:
        raise CrsError("without a coordinate system a distance means nothing", place=layer.key, way_out="Say it where the layer is loaded")
    return layer.crs


def on_ellipsoid(crs: str | None, along: str) -> bool:
    """Whether lengths are taken along the ellipsoid."""
    if crs is None:
        return False
    return crs_facts(crs).geographic or along == "geodesic" or (along == "fitting" and for_looking_only(crs))


def _off(extent: tuple[float, float, float, float] | None, crs: str | None, along: str) -> str:
    if crs is None or on_ellipsoid(crs, along):
        return ""
    off = scale_error(extent, crs)
    if off <= TOLD:
        return ""
    return (
        f"lengths in {crs_facts(crs).name} are off by up to {100 * off:{',.0f' if off >= 0.1 else '.2g'}} % here; "
        "take the distance along the ellipsoid, or reproject first"
    )


def forecast_along(facts: LayerFacts, along: str, setting: str = "along") -> list[Finding]:
    """What a rehearsal has to say of lengths in the plane of this layer."""
    text = _off(facts.extent, facts.crs, along)
    return [Finding.look(f"{text}.", setting, facts)] if text else []


def remarks_of(layer: Layer, along: str, context: Context) -> list[Remark]:
    """What a run has to say of it."""
    text = _off(context.extent_of(layer), layer.crs, along)
    return [Remark(text, layer.key, look=True)] if text else []


@dataclass(frozen=True)
class Ground:
    """The ellipsoid below a layer, with the way to degrees on it and back."""

    crs: str
    degrees: str
    on: Ellipsoid

    def there(self, shapes: np.ndarray, tolerance: float | None = FOLLOWED) -> np.ndarray:
        """Shapes of the layer's CRS in degrees, null for what is nowhere on the globe; edges of a plane are followed to a tolerance
        in metres, if any."""
        if crs_facts(self.crs).geographic:
            return snapped(on_the_globe(self._scaled(shapes, ellipsoid_of(self.crs).degrees)))
        return reproject_whole(shapes, self.crs, self.degrees, tolerance).geometry

    def back(self, shapes: np.ndarray, tolerance: float | None = FOLLOWED) -> np.ndarray:
        """The way back, edges followed to a tolerance in metres, if any."""
        if crs_facts(self.crs).geographic:
            return self._scaled(shapes, 1.0 / ellipsoid_of(self.crs).degrees)
        return reproject_whole(shapes, self.degrees, self.crs, tolerance).geometry

    def apart(self, begin: np.ndarray, end: np.ndarray) -> np.ndarray:
        """Metres between places of the layer's CRS (n, 2), the shortest way along the ellipsoid; NaN where one is nowhere."""
        a, b = self.lonlat(begin), self.lonlat(end)
        return np.asarray(self.on.geod.inv(*a.T, *b.T)[2])

    def lonlat(self, xy: np.ndarray) -> np.ndarray:
        """Degrees (n, 2) of places of the layer's CRS, NaN for those that are nowhere on the globe."""
        out = np.full((len(xy), 2), np.nan)
        finite = np.flatnonzero(np.isfinite(xy).all(axis=1))
        found = self.there(np.asarray(shapely.points(xy[finite]), object), None)
        known = ~shapely.is_missing(found) & ~shapely.is_empty(found)
        out[finite[known]] = shapely.get_coordinates(found[known])
        return out

    @staticmethod
    def _scaled(shapes: np.ndarray, factor: float) -> np.ndarray:
        return shapes if factor == 1.0 else moved(shapes, lambda xy: xy * factor)


NOWHERE = "has coordinates that are no degrees"


def may_be_nowhere(facts: LayerFacts) -> bool:
    """Whether some of a layer in degrees may be nowhere on the globe, as far as its extent tells."""
    return is_geographic(facts.crs) and (facts.extent is None or bool(beyond(np.array([facts.extent]))[0]))


def nowhere_rows(layer: Layer) -> np.ndarray:
    """Positions (int64) of features in degrees that are nowhere on the globe."""
    if layer.geometry is None or not is_geographic(layer.crs):
        return np.empty(0, np.int64)
    return np.flatnonzero(nowhere(layer.geometry))


def told_of_nowhere(layer: Layer) -> list[Remark]:
    """What to say of them."""
    many = len(nowhere_rows(layer))
    text = "{n|feature has|features have} coordinates that are no degrees, and no place"
    return [Remark.counted(text, layer.key, look=True, n=many)] if many else []


def on_the_globe(shapes: np.ndarray) -> np.ndarray:
    """Shapes in degrees, null for those that are nowhere on the globe."""
    off = nowhere(shapes)
    if not off.any():
        return shapes
    out = shapes.copy()
    out[off] = None
    return out


def plane_of(shapes: np.ndarray, crs: str | None, along: str, tolerance: float = np.inf) -> Plane:
    """The plane in which the distances between these shapes of a CRS are measured: its own, or one about their middle where lengths
    are taken along the ellipsoid.

    Parameters
    ----------
    tolerance : metres within which edges are followed; without one only the vertices there are are brought over.

    Raises
    ------
    CrsError : no CRS, or one without a unit of length.
    """
    if crs is None or crs_facts(crs).geographic or not on_ellipsoid(crs, along):
        sound = on_the_globe(shapes) if is_geographic(crs) else shapes
        return plane_for(sound, crs, tolerance)
    below = ground_of(crs)
    within = tolerance if np.isfinite(tolerance) else None
    plane = plane_for(below.there(shapes, within), below.degrees, tolerance)
    return Plane(lambda some: plane.there(below.there(some, within)), lambda some: below.back(plane.back(some), within), 1.0, plane.error)


def ground_of(crs: str) -> Ground:
    """The ellipsoid of a CRS."""
    degrees = geographic_of(crs)
    on = ellipsoid_of(degrees)
    return Ground(crs, degrees, Ellipsoid(on.geod))


def in_degrees(crs: str) -> bool:
    """Whether coordinates are degrees, and no other unit of an angle."""
    return crs_facts(crs).geographic and ellipsoid_of(crs).degrees == 1.0


def within_the_turn(made: np.ndarray, before: np.ndarray, crs: str) -> int:
    """Cuts shapes in degrees (in place) that reach beyond 180 degrees where they did not before; how many they are."""
    if not in_degrees(crs):
        return 0
    rows = np.flatnonzero(beyond_seam(made) & ~beyond_seam(before))
    made[rows] = wrapped(made[rows], short_way=False)[0]
    return len(rows)


def edge_length(crs: str) -> Callable[[np.ndarray, np.ndarray], np.ndarray]:
    """Metres along edges on the ellipsoid: straight in degrees, or in the plane as long as a scale at both ends makes them."""
    on = ellipsoid_of(crs)
    if crs_facts(crs).geographic:
        return lambda begin, end: edge_lengths(begin * on.degrees, end * on.degrees, on)
    degrees = geographic_of(crs)

    def length(begin: np.ndarray, end: np.ndarray) -> np.ndarray:
        middle = move((begin + end) / 2, crs, degrees)
        a, b = move(begin, crs, degrees), move(end, crs, degrees)
        legs = (on.geod.inv(*p.T, *q.T)[2] for p, q in ((a, middle), (middle, b)))
        return np.asarray(sum(np.asarray(leg) for leg in legs))

    return length


_ENDLESS = 1e12
_STEP = 1e-6
"""Degrees; in other units one unit is taken."""


def metres_of(layer: Layer, along: str) -> Callable[[np.ndarray], np.ndarray]:
    """Gives for places (n, 2) how many metres a unit of x and of y is long there (n, 2): for what is near to them."""
    crs = crs_of(layer)
    if not on_ellipsoid(crs, along):
        unit = crs_facts(crs).unit_metres or 1.0
        return lambda xy: np.full((len(xy), 2), unit)
    below = ground_of(crs)
    step = _STEP if crs_facts(crs).geographic else 1.0

    def metres(xy: np.ndarray) -> np.ndarray:
        if not len(xy):
            return np.empty((0, 2))
        # towards the equator and the middle meridian, so that no place is left
        signs = -np.where(xy < 0, -1.0, 1.0)
        east, north = (below.apart(xy, xy + signs * d) / step for d in ([step, 0.0], [0.0, step]))
        # what is nowhere is near to nothing
        return np.maximum(np.nan_to_num(np.column_stack([east, north]), nan=_ENDLESS), 1e-9)

    return metres
