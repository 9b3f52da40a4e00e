"""GeoJSON against RFC 7946, and read back by GDAL."""

from __future__ import annotations

import datetime as dt
import json
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyogrio
import pytest
import shapely

from eskret.core.layer import Layer
from eskret.formats import geojson
from tests.conftest import points, squares


def written(tmp_path: Path, layer: Layer, **options: object) -> dict:
    path = tmp_path / "out.geojson"
    geojson.write(path, layer, **options)  # type: ignore[arg-type]
    return json.loads(path.read_text(encoding="utf-8"))


def test_collection_features_and_members(tmp_path: Path) -> None:
    found = written(tmp_path, squares(3))
    assert found["type"] == "FeatureCollection" and len(found["features"]) == 3  # section 3.3
    assert "crs" not in found  # section 4: the member of old is gone
    for feature in found["features"]:
        assert set(feature) == {"type", "properties", "geometry"} and feature["type"] == "Feature"  # section 3.2


def test_coordinates_are_longitude_and_latitude_in_wgs84_with_bounded_digits(tmp_path: Path) -> None:
    found = written(tmp_path, squares(1))
    ring = found["features"][0]["geometry"]["coordinates"][0]
    # 500,000 E is the central meridian of zone 26, 27 W; section 4: longitude first
    assert ring[0][0] == pytest.approx(-27.0, abs=2e-4) and 46 < ring[0][1] < 48
    digits = max(len(repr(v).partition(".")[2]) for p in ring for v in p)
    assert digits <= geojson.DECIMALS  # section 11.2
    few = written(tmp_path, squares(1), decimals=3)
    assert max(len(repr(v).partition(".")[2]) for p in few["features"][0]["geometry"]["coordinates"][0] for v in p) <= 3


def test_outer_rings_run_anticlockwise_and_holes_clockwise(tmp_path: Path) -> None:
    hole = shapely.Polygon([(0, 0), (0, 90), (90, 90), (90, 0)], [[(10, 10), (20, 10), (20, 20), (10, 20)]])
    layer = Layer("a", pa.table({"n": [1]}), np.array([hole]), "EPSG:32626")
    rings = written(tmp_path, layer)["features"][0]["geometry"]["coordinates"]
    assert [shapely.LinearRing(r).is_ccw for r in rings] == [True, False]  # section 3.1.6
    assert all(r[0] == r[-1] and len(r) >= 4 for r in rings)


def test_bounding_box_is_west_south_east_north(tmp_path: Path) -> None:
    found = written(tmp_path, squares(10))
    every = np.array([p for f in found["features"] for r in f["geometry"]["coordinates"] for p in r])
    assert found["bbox"] == [*every.min(axis=0), *every.max(axis=0)]  # section 5
    assert "bbox" not in written(tmp_path, squares(0))


def test_values_and_nulls(tmp_path: Path) -> None:
    layer = points(
        {
            "whole": pa.array([2**53 + 1, None]), "text": ['"quoted" 🦪 \u2028', None], "flag": [True, None],
            "number": [1.5, float("nan")], "day": [dt.date(2031, 9, 3), None], "list": [[1, 2], None],
            "moment": pa.array([dt.datetime(2031, 9, 3, 10, tzinfo=dt.UTC), None], pa.timestamp("ms", "UTC")),
        }
    )  # fmt: skip
    first, second = (f["properties"] for f in written(tmp_path, layer)["features"])
    assert first == {
        "whole": 2**53 + 1, "text": '"quoted" 🦪 \u2028', "flag": True, "number": 1.5, "day": "2031-09-03", "list": [1, 2],
        "moment": "2031-09-03T10:00:00Z",
    }  # fmt: skip
    assert set(second.values()) == {None}  # RFC 8259 has no NaN


def test_empty_and_missing_geometry(tmp_path: Path) -> None:
    geometry = np.array([None, shapely.Point(), shapely.Point(500_000, 5_200_000, 7.5)], dtype=object)
    layer = Layer("a", pa.table({"n": [1, 2, 3]}), geometry, "EPSG:32626")
    found = [f["geometry"] for f in written(tmp_path, layer)["features"]]
    assert found[0] is None and found[1]["coordinates"] == [] and found[2]["coordinates"][2] == 7.5
    plain = written(tmp_path, Layer("t", pa.table({"n": [1]})))
    assert plain["features"][0]["geometry"] is None


def test_rows_without_a_place_on_earth_are_left_out_and_named(tmp_path: Path) -> None:
    geometry = np.array([shapely.Point(500_000, 5_200_000), shapely.Point(1e300, 1e300)], dtype=object)
    layer = Layer("a", pa.table({"n": [1, 2]}), geometry, "EPSG:32626")
    path = tmp_path / "a.geojson"
    assert geojson.write(path, layer).tolist() == [1]
    assert len(json.loads(path.read_text())["features"]) == 1


@pytest.mark.parametrize("indent", [False, True])
def test_gdal_reads_back_the_same(tmp_path: Path, indent: bool) -> None:
    layer = squares(25)
    path = tmp_path / "a.geojson"
    geojson.write(path, layer, indent=indent)
    frame = pyogrio.read_dataframe(path)
    assert frame["id"].tolist() == list(range(25)) and frame.crs.to_epsg() == 4326
    back = frame.to_crs(32626)
    # seven decimals of a degree are about a centimetre
    assert layer.geometry is not None
    assert shapely.hausdorff_distance(back.geometry.to_numpy(), layer.geometry).max() < 0.02
    assert (path.read_bytes().count(b"\n") > 200) == indent
