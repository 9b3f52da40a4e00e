"""Coordinate systems: what they are, their unit, and the way from one to another with its accuracy."""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from functools import lru_cache
from typing import TypeGuard

import numpy as np
import pyproj
import shapely
from pyproj.aoi import AreaOfInterest
from pyproj.exceptions import CRSError, ProjError
from pyproj.transformer import TransformerGroup

from eskret.errors import CrsError

WGS84 = "EPSG:4326"
"""The CRS of a GPS recording. Coordinates are held as x, y: longitude first."""


@dataclass(frozen=True, slots=True)
class CrsFacts:
    """What a person wants to know of a coordinate system.

    ``unit_metres`` is the length of one unit in metres, or 0 for degrees. ``bounds`` is the area of use as
    west, south, east, north in degrees, where known.
    """

    code: str
    name: str
    unit: str
    unit_metres: float
    geographic: bool
    area: str
    bounds: tuple[float, float, float, float] | None


@dataclass(frozen=True, slots=True)
class Transformation:
    """The way chosen from one CRS to another. ``accuracy`` in metres, None where nobody states it."""

    name: str
    accuracy: float | None
    best: bool
    """False where a better way exists but needs a grid file that this machine does not have."""

    @property
    def coarse(self) -> bool:
        """Whether a person should look at it: a better way is missing here, or it is worse than a metre or unstated."""
        return not self.best or self.accuracy is None or self.accuracy > 1

    def sentence(self) -> str:
        """How a person reads it."""
        if self.accuracy is None:
            return f"{self.name}; accuracy not stated"
        return f"{self.name}; accurate to {self.accuracy:g} m" if self.accuracy > 0 else f"{self.name}; exact"


@lru_cache(maxsize=256)
def parse_crs(crs: str) -> pyproj.CRS:
    """The CRS of a code, a name or WKT.

    Raises
    ------
    CrsError : nothing known is called so.
    """
    try:
        return pyproj.CRS.from_user_input(crs)
    except (CRSError, ValueError, RecursionError) as error:  # a text can hold signs that no name has
        raise CrsError(
            f"{crs[:80]!r} is not a coordinate system that is known here", way_out="Give an authority and code such as EPSG:32626"
        ) from error


@lru_cache(maxsize=256)
def crs_facts(crs: str) -> CrsFacts:
    """Facts of a CRS given as code or WKT."""
    known = parse_crs(crs)
    axis = known.axis_info[0] if known.axis_info else None
    unit = {"metre": "m", "degree": "degrees"}.get(axis.unit_name, axis.unit_name) if axis else ""
    area = known.area_of_use
    return CrsFacts(
        code=crs_code(known),
        name=known.name,
        unit=unit,
        unit_metres=0.0 if known.is_geographic else (axis.unit_conversion_factor if axis else 0.0),
        geographic=known.is_geographic,
        area=area.name if area else "",
        bounds=area.bounds if area else None,
    )


def crs_code(crs: pyproj.CRS | str) -> str:
    """``AUTHORITY:CODE`` where the CRS is one of a register, else its WKT."""
    known = parse_crs(crs) if isinstance(crs, str) else crs
    found = known.to_authority(min_confidence=70)
    return ":".join(found) if found else known.to_wkt()


def same_crs(a: str | None, b: str | None) -> bool:
    """Whether two layers can be laid over each other as they are (order of axes does not count)."""
    if a is None or b is None or a == b:
        return a == b
    return bool(parse_crs(a).equals(parse_crs(b), ignore_axis_order=True))


Extent = tuple[float, float, float, float]


@lru_cache(maxsize=256)
def _way(source: str, target: str, area: Extent | None) -> tuple[pyproj.Transformer, Transformation]:
    """The first way of those that apply, for an area in degrees (west, south, east, north) where one is given."""
    interest = AreaOfInterest(*area) if area else None
    try:
        with warnings.catch_warnings():
            # it would warn of a grid that is missing here; the Transformation says so
            warnings.simplefilter("ignore")
            group = TransformerGroup(parse_crs(source), parse_crs(target), always_xy=True, area_of_interest=interest)
    except ProjError as error:
        raise CrsError(f"there is no way from {source[:60]} to {target[:60]}") from error
    if not group.transformers:
        raise CrsError(f"there is no way from {source[:60]} to {target[:60]} on this machine")
    first = group.transformers[0]
    accuracy = first.accuracy if first.accuracy is not None and first.accuracy >= 0 else None
    # a change of axis order moves nothing that is held as x, y
    name = " + ".join(p for p in first.description.split(" + ") if not p.startswith("axis order change")) or "no change"
    return first, Transformation(name, accuracy, bool(group.best_available))


def degrees_of(extent: Extent | None, crs: str) -> Extent | None:
    """An extent in whole degrees around it, so that like ones share a way; None where it cannot be told."""
    if extent is None or not np.isfinite(extent).all():
        return None
    try:
        known = parse_crs(crs)
        to_degrees = pyproj.Transformer.from_crs(known, known.geodetic_crs or WGS84, always_xy=True)
        west, south, east, north = to_degrees.transform_bounds(*extent)
    except ProjError:
        return None
    if not np.isfinite([west, south, east, north]).all() or west > east or max(abs(south), abs(north)) > 90:
        return None
    if west < -180 or east > 180:
        return None
    return float(np.floor(west)), float(np.floor(south)), float(np.ceil(east)), float(np.ceil(north))


_EDGE = 500
"""Places on each edge of a box that is drawn elsewhere; how far an edge bends between two of them goes with the square."""


def extent_in(extent: Extent, source: str, target: str) -> Extent:
    """An extent in another CRS, drawn around all of it: a little wider, since edges bend between the places that are asked for.
    Where it goes over 180 degrees it is all round the globe there.

    Raises
    ------
    CrsError : it has no place there.
    """
    try:
        west, south, east, north = way_of(source, target, extent).transform_bounds(*extent, densify_pts=_EDGE)
    except ProjError as error:
        raise CrsError(f"the box around it has no place in {crs_facts(target).name}") from error
    if not np.isfinite([west, south, east, north]).all():
        raise CrsError(f"the box around it has no place in {crs_facts(target).name}")
    if west > east:
        west, east = -180.0, 180.0
    wider, higher = (east - west) / _EDGE**2, (north - south) / _EDGE**2
    reach = max(wider, higher)
    return west - reach, south - reach, east + reach, north + reach


def way_of(source: str, target: str, extent: Extent | None = None) -> pyproj.Transformer:
    """The transformer for geometry with this extent in ``source``; x and y, longitude first."""
    return _way(source, target, degrees_of(extent, source))[0]


@lru_cache(maxsize=256)
def geographic_of(crs: str) -> str:
    """The longitudes and latitudes, in degrees, on the datum of a CRS; those of WGS 84 where it has none."""
    datum = parse_crs(crs).geodetic_crs
    if datum is None:
        return WGS84
    axes = datum.axis_info
    if datum.is_geographic and len(axes) == 2 and abs(axes[0].unit_conversion_factor - np.pi / 180) < 1e-12:
        return crs_code(datum)
    ellipsoid = datum.ellipsoid
    if ellipsoid is None:
        return WGS84
    plain = pyproj.CRS.from_dict(
        {
            "proj": "longlat",
            "a": ellipsoid.semi_major_metre,
            "b": ellipsoid.semi_minor_metre,
            "no_defs": True,
            **({"pm": datum.prime_meridian.longitude} if datum.prime_meridian and datum.prime_meridian.unit_name == "degree" else {}),
        }
    )
    return str(plain.to_wkt())


@lru_cache(maxsize=256)
def for_looking_only(crs: str) -> bool:
    """Whether a CRS is the square map of the whole world that is only meant to be looked at (EPSG method 1024, Popular
    Visualisation Pseudo-Mercator): its metres are none but at the equator."""
    operation = parse_crs(crs).coordinate_operation
    return operation is not None and (operation.method_code == "1024" or "pseudo" in operation.method_name.lower())


def transformation(source: str, target: str, extent: Extent | None = None) -> Transformation:
    """The way that ``globe.moving`` would take for geometry with this extent in ``source``."""
    return _way(source, target, degrees_of(extent, source))[1]


def move(xy: np.ndarray, source: str, target: str, area: Extent | None = None) -> np.ndarray:
    """Bare coordinates (n, 2) in another CRS; not finite where one cannot be brought over.

    Parameters
    ----------
    area : the extent that they belong to, in ``source``, if not their own.

    Raises
    ------
    CrsError : there is no way between the two.
    """
    if same_crs(source, target) or not len(xy):
        return xy
    whole = area or (float(xy[:, 0].min()), float(xy[:, 1].min()), float(xy[:, 0].max()), float(xy[:, 1].max()))
    x, y = _way(source, target, degrees_of(whole, source))[0].transform(xy[:, 0], xy[:, 1])
    return np.column_stack([x, y])


def extent_of(geometry: np.ndarray) -> Extent | None:
    """xmin, ymin, xmax, ymax of what is finite; None where nothing is."""
    bounds = shapely.bounds(geometry).reshape(-1, 4)
    bounds = bounds[np.isfinite(bounds).all(axis=1)]
    if not len(bounds):
        return None
    low, high = bounds[:, :2].min(axis=0), bounds[:, 2:].max(axis=0)
    return float(low[0]), float(low[1]), float(high[0]), float(high[1])


def is_geographic(crs: str | None) -> TypeGuard[str]:
    """Whether a CRS is known and its coordinates are longitudes and latitudes."""
    return crs is not None and crs_facts(crs).geographic


def out_of_range(extent: tuple[float, float, float, float] | None, crs: str | None) -> bool:
    """Whether coordinates cannot be degrees although the CRS says so."""
    if extent is None or not is_geographic(crs):
        return False
    return extent[0] < -360.001 or extent[2] > 360.001 or extent[1] < -90.001 or extent[3] > 90.001
