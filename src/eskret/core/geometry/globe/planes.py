"""A plane for every feature, about its own middle: azimuthal, so that distance and direction from the middle are those on the
ellipsoid (inverse and direct geodesic problem after Karney, J. Geodesy 87, 2013). Nothing is cut at 180 degrees in it, and a
pole is a place like any other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from eskret.core.geometry.globe.ellipsoid import Ellipsoid
from eskret.core.geometry.globe.seam import PoleWithin, wrapped
from eskret.core.geometry.ordinates import moved
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.vertices import split_edges

EARTH = 6_371_000.0
"""Metres; for estimates alone."""


def unit_vectors(lonlat: np.ndarray) -> np.ndarray:
    """Directions (n, 3) of longitudes and latitudes in degrees, as if on a sphere."""
    lon, lat = np.radians(lonlat[:, 0]), np.radians(lonlat[:, 1])
    return np.column_stack([np.cos(lat) * np.cos(lon), np.cos(lat) * np.sin(lon), np.sin(lat)])


@dataclass(frozen=True)
class Middles:
    """Where features lie: ``lonlat`` of the middle of each (n, 2, degrees; NaN for none), and ``reach`` (n), how far the
    furthest vertex is from it, in radians of the sphere."""

    lonlat: np.ndarray
    reach: np.ndarray

    @property
    def error(self) -> np.ndarray:
        """The largest relative error of a distance in the plane about each: r² / 6R² across the direction to the middle."""
        with np.errstate(invalid="ignore"):
            inner = np.minimum(self.reach, np.pi * 0.999)
            return np.asarray(np.where(self.reach > 0, inner / np.maximum(np.sin(inner), 1e-12) - 1.0, 0.0))


def middles(shapes: np.ndarray, on: Ellipsoid) -> Middles:
    """The middle of each shape: that of the box about its vertices in space, so that neither 180 degrees nor a pole tells."""
    xy, owner = shapely.get_coordinates(shapes, return_index=True)
    lonlat, reach = np.full((len(shapes), 2), np.nan), np.full(len(shapes), np.nan)
    if not len(xy):
        return Middles(lonlat, reach)
    v = unit_vectors(xy * on.degrees)
    starts = np.flatnonzero(np.r_[True, owner[1:] != owner[:-1]])
    rows = owner[starts]
    low, high = np.minimum.reduceat(v, starts), np.maximum.reduceat(v, starts)
    middle = (low + high) / 2
    size = np.linalg.norm(middle, axis=1)
    middle = np.where(size[:, None] > 1e-6, middle / np.maximum(size, 1e-12)[:, None], [1.0, 0.0, 0.0])
    lonlat[rows, 0] = np.degrees(np.arctan2(middle[:, 1], middle[:, 0]))
    lonlat[rows, 1] = np.degrees(np.arcsin(np.clip(middle[:, 2], -1, 1)))
    # a feature of one vertex has its middle just there, to the last digit
    single = np.diff(np.r_[starts, len(xy)]) == 1
    lonlat[rows[single]] = xy[starts[single]] * on.degrees
    place = np.repeat(np.arange(len(rows)), np.diff(np.r_[starts, len(xy)]))
    chord = np.linalg.norm(v - middle[place], axis=1)
    reach[rows] = 2 * np.arcsin(np.minimum(np.maximum.reduceat(chord, starts) / 2, 1.0))
    reach[rows[single]] = 0.0
    return Middles(lonlat, reach)


def bends(begin: np.ndarray, end: np.ndarray, reach: np.ndarray | float = 0.0) -> np.ndarray:
    """How far straight edges in degrees (n, 2) are from a straight line in a plane, in metres, at most and roughly.

    Parameters
    ----------
    reach : how far from the middle of the plane they lie, in radians.
    """
    step = np.radians(end - begin)
    turn = np.abs(step[:, 0])
    low = np.radians(np.minimum(np.abs(begin[:, 1]), np.abs(end[:, 1])))
    high = np.radians(np.minimum(np.maximum(np.abs(begin[:, 1]), np.abs(end[:, 1])), 90.0))
    low = np.where(np.sign(begin[:, 1]) != np.sign(end[:, 1]), 0.0, low)
    north = np.sin(high) * np.cos(low) * turn**2
    east = 2 * np.sin(high) * np.abs(step[:, 1]) * turn
    length = np.hypot(np.cos(low) * turn, step[:, 1])
    return np.asarray(EARTH / 8 * (np.hypot(north, east) + length**2 * np.minimum(reach, np.pi)))


def stretches(bend: np.ndarray, tolerance: np.ndarray | float) -> np.ndarray:
    """Into how many stretches edges are cut so that none is further off than a tolerance; what is off by it falls with the
    square of the length."""
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(np.ceil(np.sqrt(bend / tolerance)))


def followed(shapes: np.ndarray, middle: Middles, on: Ellipsoid, tolerance: np.ndarray) -> np.ndarray:
    """Shapes with so many vertices that their edges, drawn straight in the plane of each, stay within a tolerance (metres, a
    figure a shape) of what they are in degrees."""

    def count(begin: np.ndarray, end: np.ndarray, row: np.ndarray) -> np.ndarray:
        bend = bends(begin * on.degrees, end * on.degrees, middle.reach[row])
        # and never so long that a short way round could be taken for the long one
        wide = np.ceil(np.abs(end - begin).max(axis=1, initial=0.0) * on.degrees / 30.0)
        return np.maximum(stretches(bend, tolerance[row]), wide)

    return split_edges(shapes, count)


def into_planes(shapes: np.ndarray, middle: Middles, on: Ellipsoid) -> np.ndarray:
    """Each shape in the plane about its middle, in metres; heights and measures stay."""
    place = _Place(shapes)

    def move(xy: np.ndarray) -> np.ndarray:
        row = place.next(len(xy))
        c = middle.lonlat[row]
        azimuth, _, far = on.geod.inv(c[:, 0], c[:, 1], xy[:, 0] * on.degrees, xy[:, 1] * on.degrees)
        return np.column_stack([far * np.sin(np.radians(azimuth)), far * np.cos(np.radians(azimuth))])

    return _by_row(shapes, move, place)


def out_of_planes(flat: np.ndarray, middle: Middles, on: Ellipsoid, tolerance: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The way back, cut at 180 degrees and closed over poles.

    Parameters
    ----------
    flat : shapes, a shape for each middle.
    tolerance : how far an edge may be from what it was in the plane, in metres, a figure a shape.

    Returns
    -------
    The shapes in degrees, and the positions (int64) of those that were cut or closed.
    """

    def lonlat(xy: np.ndarray, row: np.ndarray) -> np.ndarray:
        c = middle.lonlat[row]
        lon, lat, _ = on.geod.fwd(c[:, 0], c[:, 1], np.degrees(np.arctan2(xy[:, 0], xy[:, 1])), np.hypot(xy[:, 0], xy[:, 1]))
        lon = np.asarray(lon)
        return np.column_stack([c[:, 0] + (lon - c[:, 0] + 180.0) % 360.0 - 180.0, lat])

    def count(begin: np.ndarray, end: np.ndarray, row: np.ndarray) -> np.ndarray:
        length = np.hypot(*(end - begin).T)
        far = np.hypot(*np.maximum(np.abs(begin), np.abs(end)).T) / EARTH
        reach = np.radians(np.abs(middle.lonlat[row, 1])) + far
        # what an edge of this length is off by at this latitude, at most: most are short, and need not be looked at
        steep = np.tan(np.minimum(reach, 1.56))
        rough = length**2 / (8 * EARTH) * (2 * steep + far)
        out = np.ones(len(row))
        at = np.flatnonzero((rough > tolerance[row]) & (length > 0))
        if len(at):
            a, b = lonlat(begin[at], row[at]), lonlat(end[at], row[at])
            b[:, 0] = a[:, 0] + (b[:, 0] - a[:, 0] + 180.0) % 360.0 - 180.0
            wide = np.ceil(np.abs(b[:, 0] - a[:, 0]) / 10.0)
            out[at] = np.maximum(stretches(bends(a, b, far[at]), tolerance[row[at]]), wide)
        return out

    flat = split_edges(flat, count)
    place = _Place(flat)
    back = _by_row(flat, lambda xy: lonlat(xy, place.next(len(xy))), place)

    def pole(row: int) -> PoleWithin:
        c = middle.lonlat[row]
        parts = shapely.get_parts(flat[row])
        at = {}
        for sign in (1, -1):
            azimuth, _, far = on.geod.inv(c[0], c[1], c[0], 90.0 * sign)
            at[sign] = shapely.Point(far * np.sin(np.radians(azimuth)), far * np.cos(np.radians(azimuth)))

        def within(part: int, ring: int) -> int:
            rings = shapely.get_rings(parts[part])
            held = shapely.polygons(rings[ring])
            return next((sign for sign in (1, -1) if shapely.intersects(held, at[sign])), 0)

        return within

    out, cut = wrapped(back, pole)
    if on.degrees != 1.0:
        out = moved(out, lambda xy: xy / on.degrees)
    return out, cut


class _Place:
    """Which row each vertex belongs to, as ``moved`` asks for them: all at once, or those of some rows after others."""

    def __init__(self, shapes: np.ndarray) -> None:
        self.rows = np.arange(len(shapes))
        self.counts = shapely.get_num_coordinates(shapes)

    def next(self, count: int) -> np.ndarray:
        row = np.repeat(self.rows, self.counts[self.rows])
        assert len(row) == count
        return row


def _by_row(shapes: np.ndarray, move, place: _Place) -> np.ndarray:  # type: ignore[no-untyped-def]
    """As ``moved``, with ``place`` telling the rows that the vertices belong to; rows with and without heights go apart."""
    out = np.full(len(shapes), None, object)
    z, m = shapely.has_z(shapes), shapely.has_m(shapes)
    there = is_nonempty(shapes)
    for tall in (False, True):
        for measured in (False, True):
            rows = np.flatnonzero(there & (z == tall) & (m == measured))
            if len(rows):
                place.rows = rows
                out[rows] = moved(shapes[rows], move)
    return out
