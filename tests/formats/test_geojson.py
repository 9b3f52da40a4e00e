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
from hypothesis import given
from hypothesis import strategies as st

from eskret import EskretError, read, write
from eskret.core.geometry import antimeridian
from eskret.core.layer import Layer
from eskret.core.layer.wkb import WkbArray
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
            "whole": pa.array([2**53 + 1, None]),
            "text": ['"quoted" 🦪 \u2028', None],
            "flag": [True, None],
            "number": [1.5, float("nan")],
            "day": [dt.date(2031, 9, 3), None],
            "list": [[1, 2], None],
            "moment": pa.array([dt.datetime(2031, 9, 3, 10, tzinfo=dt.UTC), None], pa.timestamp("ms", "UTC")),
        }
    )
    first, second = (f["properties"] for f in written(tmp_path, layer)["features"])
    assert first == {
        "whole": 2**53 + 1,
        "text": '"quoted" 🦪 \u2028',
        "flag": True,
        "number": 1.5,
        "day": "2031-09-03",
        "list": [1, 2],
        "moment": "2031-09-03T10:00:00Z",
    }
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
    assert geojson.write(path, layer).lost.tolist() == [1]
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


def cut_of(tmp_path: Path, shapes: list[shapely.Geometry], crs: str = "EPSG:4326") -> tuple[dict, int]:
    layer = Layer("a", pa.table({"n": list(range(len(shapes)))}), np.array([*shapes, None], object)[:-1], crs)
    path = tmp_path / "cut.geojson"
    done = geojson.write(path, layer)
    return json.loads(path.read_text()), done.cut


def test_what_goes_over_the_antimeridian_is_cut(tmp_path: Path) -> None:
    """RFC 7946, 3.1.9, with its own two examples, and 5.2 for the box (from memory)."""
    line = shapely.LineString([(170.0, 45.0), (-170.0, 45.0)])
    area = shapely.Polygon([(177.0, -20.0), (-178.0, -20.0), (-178.0, -16.0), (177.0, -16.0)])
    found, cut = cut_of(tmp_path, [line, area, shapely.Point(190.0, 5.0), shapely.box(10, 10, 20, 20)])
    first, second, third, fourth = (f["geometry"] for f in found["features"])
    assert cut == 3
    assert first == {"type": "MultiLineString", "coordinates": [[[170, 45], [180, 45]], [[-180, 45], [-170, 45]]]}
    assert second["type"] == "MultiPolygon" and len(second["coordinates"]) == 2
    boxes = [shapely.Polygon(p[0]).bounds for p in second["coordinates"]]
    assert sorted(boxes) == [(-180, -20, -178, -16), (177, -20, 180, -16)]
    assert all(shapely.LinearRing(p[0]).is_ccw for p in second["coordinates"])
    assert third == {"type": "Point", "coordinates": [-170, 5]} and fourth["type"] == "Polygon"
    assert cut_of(tmp_path, [area])[0]["bbox"] == [177, -20, -178, -16]


def test_what_only_touches_the_antimeridian_is_left(tmp_path: Path) -> None:
    world = shapely.Polygon([(-180, -90), (180, -90), (180, 90), (-180, 90)])
    for shape in (world, shapely.box(170, 0, 180, 10), shapely.LineString([(-180, 0), (-170, 0)])):
        found, cut = cut_of(tmp_path, [shape])
        assert cut == 0 and shapely.from_geojson(json.dumps(found["features"][0]["geometry"])).equals(shape)


def test_what_is_cut_on_the_way_to_degrees_is_counted(tmp_path: Path) -> None:
    """EPSG:3832 has its middle at 150 east: 30 degrees east of it lies the antimeridian."""
    metre = 111_319.49
    shape = shapely.box(25 * metre, 0, 35 * metre, 10 * metre)
    layer = Layer("a", pa.table({"n": [1]}), np.array([shape], object), "EPSG:3832")
    done = geojson.write(tmp_path / "a.geojson", layer)
    parts = shapely.get_parts(shapely.from_geojson((tmp_path / "a.geojson").read_text()).geoms[0])
    assert done.cut == 1 and sorted(np.ptp(shapely.get_coordinates(p)[:, 0]).round(3) for p in parts) == [5, 5]


def test_a_ring_round_a_pole_is_closed_over_it(tmp_path: Path) -> None:
    found, cut = cut_of(tmp_path, [shapely.Polygon([(-120, 80), (0, 80), (120, 80)])])
    shape = shapely.from_geojson(json.dumps(found["features"][0]["geometry"]))
    assert cut == 1 and shape.is_valid and shape.bounds == (-180, 80, 180, 90)


@given(st.floats(170, 190), st.floats(-60, 60), st.floats(1, 9), st.floats(1, 9), st.booleans(), st.sampled_from(["area", "line", "holed"]))
def test_a_cut_keeps_all_there_is(west: float, south: float, width: float, height: float, wrapped: bool, kind: str) -> None:
    """What was cut is, put together again the long way round, what there was."""
    shape: shapely.Geometry = shapely.box(west, south, west + width, south + height)
    if kind == "line":
        shape = shapely.LineString([(west, south), (west + width, south + height)])
    if kind == "holed":
        hole = shapely.box(west + width / 4, south + height / 4, west + width / 2, south + height / 2)
        shape = shapely.Polygon(shape.exterior, [hole.exterior.coords])  # type: ignore[attr-defined]
    told = shapely.transform(shape, lambda c: np.column_stack([(c[:, 0] + 180) % 360 - 180, c[:, 1]])) if wrapped else shape
    made, _ = antimeridian.cut(np.array([told, None], object)[:1])
    lon = shapely.get_coordinates(made[0])[:, 0]
    assert np.abs(lon).max() <= 180
    parts = shapely.get_parts(made[0])
    east_of_it = [shapely.transform(p, lambda c: c + np.array([360, 0])) if shapely.bounds(p)[2] <= 0 else p for p in parts]
    whole = shapely.union_all(east_of_it)
    assert whole.area == pytest.approx(shape.area, rel=1e-9) and whole.length >= shape.length * (1 - 1e-9)
    assert shapely.hausdorff_distance(shape, whole) < 1e-9


def test_arrays_and_shapes_are_written_alike(tmp_path: Path) -> None:
    """The fast way, from arrays, and the one by shapes give the same file."""
    rng = np.random.default_rng(7)
    holed = shapely.Polygon([(0, 0), (9, 0), (9, 9), (0, 9)], [[(1, 1), (1, 2), (2, 2), (2, 1)], [(4, 4), (5, 4), (5, 5), (4, 5)]])
    kinds = {
        "points": shapely.points(rng.uniform(500_000, 600_000, (50, 2))),
        "lines": np.array([shapely.LineString(rng.uniform(500_000, 501_000, (n, 2))) for n in range(2, 40)], object),
        "areas": np.array([shapely.transform(holed, lambda c, k=k: c * (k + 1) + 500_000) for k in range(30)], object),
    }
    for name, shapes in kinds.items():
        table = pa.table({"n": range(len(shapes)), "t": ["a"] * len(shapes), "x": rng.normal(size=len(shapes))})
        column = pa.chunked_array([pa.array(list(shapely.to_wkb(shapes, byte_order=1, flavor="iso")), pa.binary())])
        encoded = Layer(name, table, WkbArray.from_arrow(column), "EPSG:32626")
        fast, slow = tmp_path / f"{name}.geojson", tmp_path / f"{name}-slow.geojson"
        geojson.write(fast, encoded)
        geojson.write(slow, Layer(name, table, shapes, "EPSG:32626"))
        a, b = (json.loads(p.read_text()) for p in (fast, slow))
        assert a == b, name


def test_text_sequence(tmp_path: Path) -> None:
    """RFC 8142: each text begins with a record separator (1E) and ends with a line feed; GDAL reads it."""
    path = tmp_path / "a.geojsons"
    geojson.write(path, squares(4), sequence=True)
    texts = path.read_bytes().split(b"\x1e")
    assert texts[0] == b"" and len(texts) == 5 and all(t.endswith(b"}\n") for t in texts[1:])
    assert [json.loads(t)["properties"]["id"] for t in texts[1:]] == [0, 1, 2, 3]
    assert pyogrio.read_info(path)["features"] == 4


def test_another_crs_only_where_it_is_asked_for(tmp_path: Path) -> None:
    path = tmp_path / "native.geojson"
    geojson.write(path, squares(2), crs="EPSG:32626", members={"title": "Squares"})
    found = json.loads(path.read_text())
    assert found["crs"]["properties"]["name"] == "urn:ogc:def:crs:EPSG::32626" and found["title"] == "Squares"
    assert found["features"][0]["geometry"]["coordinates"][0][0] in ([500_000, 5_200_000], [500_010, 5_200_000])
    assert pyogrio.read_info(path)["crs"] == "EPSG:32626"


def test_coordinates_that_are_no_degrees_are_refused_and_a_shape_that_crosses_itself_is_cut(tmp_path: Path) -> None:
    for shape in (shapely.box(1_120_782, 1_928_198, 1_120_800, 1_928_250), shapely.box(7, 3_774_130, 8, 3_774_131)):
        layer = Layer("feet", pa.table({"n": [1]}), np.array([shape], object), "EPSG:4326")
        with pytest.raises(EskretError, match=r"1 feature has coordinates of up to .*, which are no degrees"):
            write(layer, tmp_path / "feet.geojson")
        assert not (tmp_path / "feet.geojson").exists()
    bow = shapely.Polygon([(179, 0), (181, 2), (181, 0), (179, 2), (179, 0)])
    write(Layer("bow", pa.table({"n": [1]}), np.array([bow], object), "EPSG:4326"), tmp_path / "bow.geojson")
    back = read(tmp_path / "bow.geojson").geometry
    assert back is not None and shapely.area(back[0]) == pytest.approx(2.0) and abs(shapely.bounds(back[0])).max() <= 180
