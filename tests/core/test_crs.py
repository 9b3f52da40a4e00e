"""Coordinate systems and control totals, against PROJ's registry, geographiclib's figures and plain arithmetic."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from pyproj import Geod

from eskret.core.crs import crs_code, crs_facts, extent_of, out_of_range, parse_crs, same_crs, transformation
from eskret.core.geometry.globe.moving import reproject
from eskret.core.layer import GeometryKind, Layer, LayerSet, kind_of, matches
from eskret.core.measure.totals import measured_total, totals_of
from eskret.errors import CrsError
from tests.conftest import squares


def test_facts_of_a_projected_and_a_geographic_system() -> None:
    utm, wgs = crs_facts("EPSG:32626"), crs_facts("EPSG:4326")
    assert (utm.unit, utm.unit_metres, utm.geographic) == ("m", 1.0, False)
    assert (wgs.unit, wgs.unit_metres, wgs.geographic) == ("degrees", 0.0, True)
    assert crs_code(parse_crs(parse_crs("EPSG:32626").to_wkt())) == "EPSG:32626"
    assert same_crs("EPSG:4326", "OGC:CRS84") and not same_crs("EPSG:4326", None)
    # EPSG 2263 is in US survey feet: 1200/3937 m by definition
    assert crs_facts("EPSG:2263").unit_metres == pytest.approx(1200 / 3937, rel=1e-12)


def test_an_unknown_system_is_named() -> None:
    with pytest.raises(CrsError, match="'EPSG:999999' is not a coordinate system"):
        crs_facts("EPSG:999999")


def test_reprojection_there_and_back_and_z_is_kept() -> None:
    there = shapely.points([[-26.4, 47.2, 5.0], [-27.0, 47.0, 6.0]])
    moved, lost = reproject(there, "EPSG:4326", "EPSG:32626")
    back, _ = reproject(moved, "EPSG:32626", "EPSG:4326")
    assert not len(lost)
    np.testing.assert_allclose(shapely.get_coordinates(back, include_z=True), shapely.get_coordinates(there, include_z=True), atol=1e-9)
    # the central meridian of zone 26 is 27 W: there the easting is 500,000 m by definition
    assert shapely.get_x(moved[1]) == pytest.approx(500_000, abs=1e-6)
    assert transformation("EPSG:4326", "EPSG:32626").accuracy == 0


def test_rows_without_a_place_in_the_target_are_named() -> None:
    geometry = np.array([shapely.Point(0, 0), None, shapely.Point(np.inf, 2), shapely.Point(10, 1e300)], dtype=object)
    _, lost = reproject(geometry, "EPSG:4326", "EPSG:32626")
    assert 0 not in lost and 1 not in lost and {2, 3} <= set(lost.tolist())


def test_degrees_out_of_range_are_noticed() -> None:
    assert out_of_range((500_000, 5_200_000, 500_100, 5_200_100), "EPSG:4326")
    assert not out_of_range((-27, 47, -26, 48), "EPSG:4326")
    assert not out_of_range((500_000, 5_200_000, 500_100, 5_200_100), "EPSG:32626")


def test_totals_in_metres_feet_and_degrees() -> None:
    assert measured_total(squares(100)) == ("area", pytest.approx(1.0), "ha")
    feet = squares(1, 1000.0, "EPSG:2263")
    assert measured_total(feet)[1] == pytest.approx((1000 * 1200 / 3937) ** 2 / 10_000)  # type: ignore[index]
    line = Layer("l", pa.table({"a": [1]}), np.array([shapely.LineString([(-27, 47), (-26, 48), (-25, 47)])]), "EPSG:4326")
    # edges are straight in degrees (RFC 7946, 3.1.1): many short geodesics along them, as geographiclib and PROJ compute them
    geod = Geod(ellps="WGS84")
    legs = geod.line_length(np.linspace(-27, -25, 20_001), 48 - np.abs(np.linspace(-1, 1, 20_001)))
    assert measured_total(line) == ("length", pytest.approx(legs / 1000, rel=1e-9), "km")
    box = Layer("b", pa.table({"a": [1]}), np.array([shapely.box(-27, 47, -26.99, 47.01)]), "EPSG:4326")
    area = abs(geod.polygon_area_perimeter([-27, -26.99, -26.99, -27], [47, 47, 47.01, 47.01])[0])
    assert measured_total(box)[1] == pytest.approx(area / 10_000, rel=1e-6)  # type: ignore[index]


def test_sums_of_fields_are_totals_too() -> None:
    assert totals_of(squares(4), ["id", "nothing"])[1:] == (("id", 6.0, ""),)


def test_kinds_of_geometry() -> None:
    point, line, area = shapely.Point(0, 0), shapely.LineString([(0, 0), (1, 1)]), shapely.box(0, 0, 1, 1)
    assert kind_of(None) is GeometryKind.TABLE
    assert kind_of(np.array([point, None, shapely.MultiPoint([(0, 0)])])) is GeometryKind.POINT
    assert kind_of(np.array([line])) is GeometryKind.LINE and kind_of(np.array([area])) is GeometryKind.POLYGON
    assert kind_of(np.array([line, area])) is GeometryKind.MIXED


def test_layers_cannot_be_changed_and_sets_are_chosen_by_pattern() -> None:
    layer = squares(3)
    with pytest.raises(ValueError):
        layer.geometry[0] = None  # type: ignore[index]
    taken = layer.take(np.array([2, 0]))
    assert taken.table.column("id").to_pylist() == [2, 0] and taken.kind is GeometryKind.POLYGON
    layers = LayerSet([layer.with_key("lease_a"), layer.with_key("lease_b"), layer.with_key("moorings")])
    assert list(layers.matching("lease_*")) == ["lease_a", "lease_b"]
    assert matches("a[b]", "a[b]") and not matches("a[b]", "ab") and not matches("A", "a")
    with pytest.raises(ValueError, match="two layers"):
        LayerSet([layer, layer])


def test_the_way_fits_the_place_and_a_coarse_one_is_no_secret() -> None:
    # EPSG's operation 1149, ETRS89 to WGS 84 (1), is stated at 1 m and is for Europe
    europe = transformation("EPSG:4258", "EPSG:4326", (5.2, 45.1, 6.9, 46.8))
    assert (europe.name, europe.accuracy, europe.coarse) == ("ETRS89 to WGS 84 (1)", 1.0, False)
    ocean = transformation("EPSG:4258", "EPSG:32626", (-27.5, 46.1, -26.2, 47.9))
    assert ocean.accuracy is None and ocean.coarse and "accuracy not stated" in ocean.sentence()
    # the datum of Great Britain: the grid that gives a decimetre is not on this machine, and that is said
    britain = transformation("EPSG:27700", "EPSG:4326", (400_000, 200_000, 410_000, 210_000))
    assert not britain.best and britain.coarse and britain.accuracy is not None and britain.accuracy >= 1


def test_an_extent_leaves_out_what_is_not_finite() -> None:
    assert extent_of(np.array([shapely.Point(1, 2), None, shapely.Point(np.inf, 5), shapely.Point(3, -4)])) == (1, -4, 3, 2)
    assert extent_of(np.array([None, shapely.Point()], dtype=object)) is None


@given(st.floats(-26.9, -24.1), st.floats(0.5, 83.5), st.sampled_from(["EPSG:32626", "EPSG:6933", "EPSG:3857", "EPSG:3995"]))
def test_any_place_comes_back_from_any_system(lon: float, lat: float, crs: str) -> None:
    there, lost = reproject(np.array([shapely.Point(lon, lat)]), "EPSG:4326", crs)
    back, lost_too = reproject(there, crs, "EPSG:4326")
    assert not len(lost) and not len(lost_too)
    assert shapely.get_coordinates(back)[0] == pytest.approx((lon, lat), abs=1e-7)
    assert same_crs(crs, crs) and not same_crs(crs, "EPSG:4326")
