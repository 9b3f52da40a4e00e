"""Measuring by hand, against geographiclib (Karney's own implementation) and the plane's geometry."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
import shapely
from geographiclib.geodesic import Geodesic
from pyproj import Transformer

from eskret.core.measure.ruler import Ruler

DEGREES = np.array([(-26.4, 47.1), (-26.1, 47.1), (-26.0, 47.3), (-26.3, 47.35)])


def true_length(lonlat: np.ndarray) -> float:
    legs = itertools.pairwise(lonlat)
    return sum(Geodesic.WGS84.Inverse(a[1], a[0], b[1], b[0])["s12"] for a, b in legs)


def true_area(lonlat: np.ndarray) -> float:
    polygon = Geodesic.WGS84.Polygon()
    for lon, lat in lonlat:
        polygon.AddPoint(lat, lon)
    return abs(polygon.Compute()[2])


def test_degrees_are_no_lengths_but_have_one_along_the_ellipsoid() -> None:
    ruler = Ruler("EPSG:4326")
    plane, along = ruler.length(DEGREES)
    assert plane is None and along == pytest.approx(true_length(DEGREES), abs=1e-6)
    plane, along = ruler.area(DEGREES)
    assert plane is None and along == pytest.approx(true_area(DEGREES), rel=1e-9)
    assert ruler.length(np.array([(0.0, 95.0), (1.0, 95.0)])) == (None, None), "no such latitude"


@pytest.mark.parametrize(("crs", "unit"), [("EPSG:32626", 1.0), ("EPSG:2263", 1200 / 3937)])
def test_plane_and_ellipsoid_in_a_projected_crs(crs: str, unit: float) -> None:
    lonlat = DEGREES if crs == "EPSG:32626" else np.add(DEGREES, (-47.5, -6.4))
    datum = "EPSG:4326" if crs == "EPSG:32626" else "EPSG:4269"
    xy = np.column_stack(Transformer.from_crs(datum, crs, always_xy=True).transform(*lonlat.T))
    ruler = Ruler(crs)
    plane, along = ruler.length(xy)
    assert plane == pytest.approx(shapely.LineString(xy).length * unit, rel=1e-12)
    assert along == pytest.approx(true_length(lonlat), rel=1e-7)
    plane, along = ruler.area(xy)
    assert plane == pytest.approx(shapely.Polygon(xy).area * unit**2, rel=1e-9)
    assert along == pytest.approx(true_area(lonlat), rel=1e-7)
    assert ruler.area(np.vstack([xy, xy[:1]]))[0] == pytest.approx(plane), "a closed ring is the same"
    assert ruler.length(xy[:1]) == (0.0, 0.0) and ruler.area(xy[:2]) == (0.0, 0.0)
