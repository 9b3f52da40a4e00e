"""Lengths, areas and bearings, in the plane and along the ellipsoid.

Along the ellipsoid an edge is straight in its coordinates (``globe.ellipsoid``), or, where that is asked for, the shortest line
between its ends, after Karney (Algorithms for geodesics, J. Geodesy 87, 2013), by the projection library.
"""

from __future__ import annotations

import threading

import numpy as np
import pyproj
import shapely

from eskret.core.crs import crs_facts, geographic_of, is_geographic, parse_crs
from eskret.core.geometry.globe.ellipsoid import areas, ellipsoid_of, lengths
from eskret.core.geometry.globe.moving import reproject, reproject_whole
from eskret.core.geometry.ordinates import moved
from eskret.core.geometry.parallel import Watch
from eskret.core.geometry.parts import dimension, single_parts

_FOLLOWED = 0.001
"""Metres within which edges of a plane are followed on the ellipsoid."""


def planar(geometry: np.ndarray, crs: str) -> dict[str, np.ndarray]:
    """``length`` of lines, ``perimeter`` and ``area`` of areas in metres and square metres of a projected CRS; NaN where a
    feature has none."""
    unit = crs_facts(crs).unit_metres
    kind = dimension(geometry)
    length = shapely.length(geometry) * unit
    return {
        "length": np.where(kind == 1, length, np.nan),
        "perimeter": np.where(kind == 2, length, np.nan),
        "area": np.where(kind == 2, shapely.area(geometry) * unit**2, np.nan),
    }


def straight(geometry: np.ndarray, crs: str) -> dict[str, np.ndarray]:
    """As ``planar``, on the ellipsoid of the CRS; edges are straight in the coordinates that they have."""
    degrees = geometry
    if not crs_facts(crs).geographic:
        crs, degrees = geographic_of(crs), reproject_whole(geometry, crs, geographic_of(crs), _FOLLOWED).geometry
    on, kind = ellipsoid_of(crs), dimension(geometry)
    length = lengths(degrees, on)
    return {
        "length": np.where(kind == 1, length, np.nan),
        "perimeter": np.where(kind == 2, length, np.nan),
        "area": np.where(kind == 2, areas(degrees, on), np.nan),
    }


def geodesic(geometry: np.ndarray, crs: str, watch: Watch | None = None) -> dict[str, np.ndarray]:
    """As ``planar``, on the ellipsoid of the CRS; edges are the shortest lines between their ends."""
    geod = geod_of(crs)
    if not crs_facts(crs).geographic:
        geometry, _ = reproject(geometry, crs, geographic_of(crs))
    elif ellipsoid_of(crs).degrees != 1.0:
        factor = ellipsoid_of(crs).degrees
        geometry = moved(geometry, lambda xy: xy * factor)
    kind = dimension(geometry)
    out = {n: np.full(len(geometry), np.nan) for n in ("length", "perimeter", "area")}
    lines = np.flatnonzero(kind == 1)
    out["length"][lines] = geodesic_lengths(geometry[lines], geod)
    areas = np.flatnonzero(kind == 2)
    parts, owner = single_parts(geometry[areas])
    rings, ring_of = shapely.get_rings(parts, return_index=True)
    shell = np.r_[True, ring_of[1:] != ring_of[:-1]] if len(rings) else np.empty(0, bool)
    size, around = np.zeros(len(areas)), np.zeros(len(areas))
    xy, of = shapely.get_coordinates(rings, return_index=True)
    starts = np.searchsorted(of, np.arange(len(rings) + 1))
    for n in range(len(rings)):
        a, b = starts[n], starts[n + 1]
        area, length = geod.polygon_area_perimeter(xy[a : b - 1, 0], xy[a : b - 1, 1])
        row = owner[ring_of[n]]
        size[row] += abs(area) if shell[n] else -abs(area)
        around[row] += length
        if watch is not None and n % 2000 == 0:
            watch(n, len(rings))
    out["area"][areas], out["perimeter"][areas] = size, around
    return out


def geod_of(crs: str) -> pyproj.Geod:
    """The ellipsoid of a CRS."""
    return parse_crs(crs).get_geod() or pyproj.Geod(ellps="WGS84")


def geodesic_lengths(lines: np.ndarray, geod: pyproj.Geod) -> np.ndarray:
    """Length in metres along an ellipsoid of each line (longitude, latitude in degrees)."""
    parts, owner = single_parts(lines)
    xy, part = shapely.get_coordinates(parts, return_index=True)
    out = np.zeros(len(lines))
    if len(xy) < 2:
        return out
    inside = part[1:] == part[:-1]
    leg = np.asarray(geod.inv(xy[:-1, 0], xy[:-1, 1], xy[1:, 0], xy[1:, 1])[2])
    np.add.at(out, owner[part[:-1][inside]], leg[inside])
    return out


def bearings(geometry: np.ndarray, crs: str | None) -> np.ndarray:
    """Degrees clockwise from north, 0 to 360, from the first corner of a line to its last; NaN for what is no line of one
    part, or comes back to its beginning. Along the ellipsoid where the CRS is one of degrees, else from the grid's north."""
    out = np.full(len(geometry), np.nan)
    at = np.flatnonzero((dimension(geometry) == 1) & (shapely.get_num_geometries(geometry) == 1))
    lines = shapely.get_geometry(geometry[at], 0)
    a = shapely.get_coordinates(shapely.get_point(lines, 0)).reshape(-1, 2)
    b = shapely.get_coordinates(shapely.get_point(lines, -1)).reshape(-1, 2)
    if is_geographic(crs):
        geod = geod_of(crs)
        found = np.asarray(geod.inv(a[:, 0], a[:, 1], b[:, 0], b[:, 1])[0])
    else:
        found = np.degrees(np.arctan2(b[:, 0] - a[:, 0], b[:, 1] - a[:, 1]))
    found = np.where((a == b).all(axis=1), np.nan, found % 360.0)
    out[at] = found
    return out


def scale_error(extent: tuple[float, float, float, float] | None, crs: str) -> float:
    """How far a length in the plane is off at the corners and the middle of an extent, at most, as a share of it."""
    facts = crs_facts(crs)
    if extent is None or facts.geographic or not facts.unit_metres:
        return 0.0
    found = _projection(crs)
    if found is None:
        return 0.0
    to_degrees, projection = found
    x = np.array([extent[0], extent[2], extent[0], extent[2], (extent[0] + extent[2]) / 2])
    y = np.array([extent[1], extent[1], extent[3], extent[3], (extent[1] + extent[3]) / 2])
    lon, lat = to_degrees.transform(x, y)
    try:
        factors = projection.get_factors(lon, lat)
    except pyproj.exceptions.ProjError:
        return 0.0
    scale = np.concatenate([np.atleast_1d(factors.tissot_semimajor), np.atleast_1d(factors.tissot_semiminor)])
    scale = scale[np.isfinite(scale)]
    return float(np.abs(scale - 1).max(initial=0.0))


def least_scales(boxes: np.ndarray, crs: str) -> np.ndarray:
    """How many metres of the plane of a projected CRS one metre on the ground makes at least, at the corners and the middle of
    boxes (n, 4); 1 where it cannot be told."""
    found = _projection(crs)
    if found is None or not len(boxes):
        return np.ones(len(boxes))
    to_degrees, projection = found
    west, south, east, north = boxes.T
    x = np.concatenate([west, east, west, east, (west + east) / 2])
    y = np.concatenate([south, south, north, north, (south + north) / 2])
    try:
        scale = np.asarray(projection.get_factors(*to_degrees.transform(x, y)).tissot_semiminor).reshape(5, -1)
    except pyproj.exceptions.ProjError:
        return np.ones(len(boxes))
    least = np.where(np.isfinite(scale), scale, np.inf).min(axis=0)
    return np.asarray(np.where(np.isfinite(least) & (least > 0), least, 1.0))


class _Projections(threading.local):
    """Ways from projected CRSs to their degrees with their projections: a projection is for one thread alone."""

    def __init__(self) -> None:
        self.known: dict[str, tuple[pyproj.Transformer, pyproj.Proj] | None] = {}


_projections = _Projections()


def _projection(crs: str) -> tuple[pyproj.Transformer, pyproj.Proj] | None:
    """The way from a projected CRS to its degrees, and its projection; None where it has no datum."""
    if crs not in _projections.known:
        known = parse_crs(crs)
        datum = known.geodetic_crs
        _projections.known[crs] = None if datum is None else (pyproj.Transformer.from_crs(known, datum, always_xy=True), pyproj.Proj(known))
    return _projections.known[crs]
