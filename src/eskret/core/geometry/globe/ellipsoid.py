"""Lengths and areas on an ellipsoid where the edges between two vertices are straight in longitude and latitude.

That is what an edge means in the OGC's Simple Features and in GeoJSON (RFC 7946, 3.1.1): longitude and latitude both run evenly
from one vertex to the next, so that an edge between two places of one latitude stays on that parallel. The length of such an
edge, and the area to the equator below it, are integrals in closed form but for one quadrature (Gauss and Legendre); the area up
to a latitude is that of the authalic latitude (Snyder, Map Projections: A Working Manual, USGS Professional Paper 1395, 3-12).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import pyproj
import shapely

from eskret.core.crs import parse_crs
from eskret.core.geometry.parallel import in_chunks
from eskret.core.geometry.parts import dimension, single_parts

_NODES = tuple((most, np.polynomial.legendre.leggauss(n)) for most, n in ((0.002, 2), (0.05, 6), (np.inf, 24)))
"""Up to how many radians of longitude or latitude an edge is measured at how many places."""


_PIECE = 5_000
_MOST_LON, _MOST_LAT = 540.0, 90.0 + 1e-6
"""Degrees beyond which there is no place: a turn beyond 180, and the poles."""


@dataclass(frozen=True)
class Ellipsoid:
    """An ellipsoid of two axes. ``degrees`` is how many degrees one unit of the coordinates makes (0.9 for grads)."""

    geod: pyproj.Geod
    degrees: float = 1.0

    @property
    def axis(self) -> float:
        """The longer half axis in metres."""
        return float(self.geod.a)

    @property
    def eccentricity2(self) -> float:
        return float(self.geod.es)


@lru_cache(maxsize=64)
def ellipsoid_of(crs: str) -> Ellipsoid:
    """The ellipsoid of a CRS; that of WGS 84 where it has none."""
    known = parse_crs(crs)
    geod = known.get_geod() or pyproj.Geod(ellps="WGS84")
    axis = known.axis_info[0] if known.is_geographic and known.axis_info else None
    factor = float(np.degrees(axis.unit_conversion_factor)) if axis is not None and axis.unit_conversion_factor else 1.0
    return Ellipsoid(geod, 1.0 if abs(factor - 1.0) < 1e-12 else factor)


def radii(latitude: np.ndarray, on: Ellipsoid) -> tuple[np.ndarray, np.ndarray]:
    """Metres a radian along the meridian and along the parallel, at latitudes in radians."""
    e2 = on.eccentricity2
    w = 1.0 - e2 * np.sin(latitude) ** 2
    return on.axis * (1.0 - e2) / w**1.5, on.axis * np.cos(latitude) / np.sqrt(w)


def edge_lengths(begin: np.ndarray, end: np.ndarray, on: Ellipsoid) -> np.ndarray:
    """Metres along straight edges, from ``begin`` to ``end`` (n, 2; longitude and latitude in degrees)."""
    with np.errstate(invalid="ignore"):
        a, step = np.radians(begin), np.radians(end - begin)
    out = np.zeros(len(a))
    for rows, (nodes, weights) in _by_length(step):
        for node, weight in zip(nodes, weights, strict=True):
            along, across = radii(a[rows, 1] + (node + 1) / 2 * step[rows, 1], on)
            out[rows] += weight / 2 * np.hypot(along * step[rows, 1], across * step[rows, 0])
    return out


def _under_edges(begin: np.ndarray, end: np.ndarray, on: Ellipsoid, level: np.ndarray) -> np.ndarray:
    """Square metres between straight edges and the parallel at ``level`` (radians), negative to the west."""
    a, step = np.radians(begin), np.radians(end - begin)
    out = np.zeros(len(a))
    floor = _zone(level, on)
    for rows, (nodes, weights) in _by_length(step):
        for node, weight in zip(nodes, weights, strict=True):
            found = _zone(a[rows, 1] + (node + 1) / 2 * step[rows, 1], on)
            out[rows] += weight / 2 * (found - floor[rows]) * step[rows, 0]
    return out


def _zone(latitude: np.ndarray, on: Ellipsoid) -> np.ndarray:
    """Square metres from the equator to a latitude, for a radian of longitude."""
    e2 = on.eccentricity2
    s = np.sin(latitude)
    # the closed form (s / (1 - e² s²) + artanh(e s) / e) / 2 as a series in e² s², which is smaller than 0.0069: nine terms are exact
    square = e2 * s**2
    series = np.zeros_like(s)
    for k in range(8, -1, -1):
        series = series * square + (k + 1) / (2 * k + 1)
    return np.asarray(on.axis**2 * (1 - e2) * s * series)


def _by_length(step: np.ndarray) -> list[tuple[np.ndarray, tuple[np.ndarray, np.ndarray]]]:
    size = np.abs(step).max(axis=1, initial=0.0)
    out, least = [], -1.0
    for most, nodes in _NODES:
        out.append((np.flatnonzero((size > least) & (size <= most)), nodes))
        least = most
    return out


def lengths(geometry: np.ndarray, on: Ellipsoid) -> np.ndarray:
    """Metres of each line, or around each area with its holes; 0 for points and null."""
    return _in_pieces(_lengths, geometry, on)


def _in_pieces(work: Callable[[np.ndarray, Ellipsoid], np.ndarray], geometry: np.ndarray, on: Ellipsoid) -> np.ndarray:
    """Figures of many shapes, some at a time in threads, so that what is worked out stays near the processor. What has coordinates
    that are no degrees has no size."""
    boxes = np.abs(shapely.bounds(geometry).reshape(-1, 4)) * on.degrees
    with np.errstate(invalid="ignore"):
        off = (boxes[:, [0, 2]] > _MOST_LON).any(axis=1) | (boxes[:, [1, 3]] > _MOST_LAT).any(axis=1)
    if off.any():
        geometry = np.array(geometry, object)
        geometry[off] = None
    if len(geometry) <= _PIECE:
        return work(geometry, on)
    found = in_chunks(lambda a, b: work(geometry[a:b], on), len(geometry), None, _PIECE)
    return np.concatenate(found)


def _lengths(geometry: np.ndarray, on: Ellipsoid) -> np.ndarray:
    edges = _edges(geometry, on)
    return np.bincount(edges.row, edge_lengths(edges.begin, edges.end, on), minlength=len(geometry))


def areas(geometry: np.ndarray, on: Ellipsoid) -> np.ndarray:
    """Square metres of each area, holes taken off; 0 for what is none.

    A ring is as large as what lies between it and a parallel, edge by edge, so that a band round the whole globe and an area
    closed over a pole along 180 degrees come out right too.
    """
    return _in_pieces(_areas, geometry, on)


def _areas(geometry: np.ndarray, on: Ellipsoid) -> np.ndarray:
    edges = _edges(geometry, on, only_rings=True)
    if not len(edges.row):
        return np.zeros(len(geometry))
    level = np.radians(edges.begin[:, 1][np.maximum.accumulate(np.where(edges.first, np.arange(len(edges.row)), 0))])
    below = np.bincount(edges.ring, _under_edges(edges.begin, edges.end, on, level), minlength=len(edges.row_of_ring))
    signed = np.where(edges.shell, np.abs(below), -np.abs(below))
    return np.bincount(edges.row_of_ring, signed, minlength=len(geometry))


@dataclass(frozen=True)
class _Edges:
    begin: np.ndarray
    end: np.ndarray
    row: np.ndarray
    ring: np.ndarray
    first: np.ndarray
    row_of_ring: np.ndarray
    shell: np.ndarray


def _edges(geometry: np.ndarray, on: Ellipsoid, only_rings: bool = False) -> _Edges:
    """The edges of lines and rings, in degrees."""
    parts, owner = single_parts(geometry)
    kind = dimension(parts)
    flat = kind == 1
    rings, of = shapely.get_rings(parts, return_index=True)
    shell = np.r_[True, of[1:] != of[:-1]] if len(rings) else np.empty(0, bool)
    pieces, row_of = rings, owner[of]
    if not only_rings and flat.any():
        pieces = np.concatenate([rings, parts[flat]])
        row_of = np.concatenate([row_of, owner[flat]])
        shell = np.concatenate([shell, np.zeros(int(flat.sum()), bool)])
    xy, piece = shapely.get_coordinates(pieces, return_index=True)
    if on.degrees != 1.0:
        xy = xy * on.degrees
    inside = piece[1:] == piece[:-1] if len(piece) else np.empty(0, bool)
    begin, end, ring = xy[:-1][inside], xy[1:][inside], piece[:-1][inside] if len(piece) else piece
    first = np.r_[True, ring[1:] != ring[:-1]] if len(ring) else np.empty(0, bool)
    return _Edges(begin, end, row_of[ring], ring, first, row_of, shell)
