"""Choosing by place, by hand, by sketch and by repeats: every row is kept or set aside with its reason."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from geographiclib.geodesic import Geodesic
from hypothesis import given
from hypothesis import strategies as st

from eskret import Workflow, write
from eskret.core.layer import Layer
from eskret.errors import CrsError, InputError
from eskret.operations import operation_by_id
from eskret.operations.base import Context, Outcome
from eskret.workflow.run.step import prove
from tests.conftest import squares
from tests.exact import KARNEY, same


def run(use: str, layer: Layer, other: Layer | None = None, **settings) -> Outcome:
    """An operation on a layer, its accounts proved and its forecast held against what came."""
    operation = operation_by_id(use)
    made = operation.Settings(**({"to": "other"} if other is not None else {}), **settings)
    others = {"to": (other,)} if other is not None else {}
    outcome = operation.run(layer, made, Context(step=use, others=others))
    prove(outcome, operation.relation)
    facts = {"to": (other.facts(),)} if other is not None else {}
    forecast = operation.forecast(layer.facts(), made, Context(step=use, others=facts))
    assert not [f for f in forecast.findings if f.level == "error"]
    assert forecast.layers[0].schema() == outcome.layers[0].table.schema
    assert forecast.layers[0].count is None or forecast.layers[0].count >= len(outcome.layers[0])
    return outcome


def ids(outcome: Outcome) -> list[int]:
    return outcome.layers[0].table.column("id").to_pylist()


def aside(outcome: Outcome) -> dict[str, int]:
    return dict(outcome.inputs[0].set_aside.counts())


AREA = Layer("area", pa.table({"n": [1]}), np.array([shapely.box(500_000, 5_200_000, 500_030, 5_200_010)]), "EPSG:32626")


@pytest.mark.parametrize(
    ("settings", "expected"),
    [
        ({"relation": "within"}, [0, 1, 2]),
        ({"relation": "within", "edge": False}, [0, 1, 2]),
        ({"relation": "intersects"}, [0, 1, 2, 3]),
        ({"relation": "touches"}, [3]),
        ({"relation": "disjoint"}, [4, 5]),
        ({"relation": "near", "distance": "10 m"}, [0, 1, 2, 3, 4]),
        ({"relation": "near", "distance": "9 m"}, [0, 1, 2, 3]),
        ({"relation": "contains"}, []),
        ({"relation": "near", "distance": "0.1 km"}, [0, 1, 2, 3, 4, 5]),
    ],
)
def test_keep_by_place(settings: dict, expected: list[int]) -> None:
    outcome = run("keep_by_place", squares(6), AREA, **settings)
    assert ids(outcome) == expected and aside(outcome).get("does not lie there", 0) == 6 - len(expected)
    assert outcome.outputs[0].controls[0].agrees and (bool(expected) or any(r.look for r in outcome.remarks))
    assert outcome.inputs[1].setting == "to" and outcome.inputs[1].rows == 1


def test_within_each_or_within_the_whole() -> None:
    halves = replace(squares(2, size=15), key="halves")
    across = squares(3)
    assert ids(run("keep_by_place", across, halves, relation="within")) == [0, 2]
    assert ids(run("keep_by_place", across, halves, relation="within", against="whole")) == [0, 1, 2]


def test_without_geometry_is_a_reason_of_its_own() -> None:
    layer = squares(3)
    layer = replace(layer, geometry=np.array([None, shapely.Polygon(), layer.geometry[2]], object))
    other = replace(AREA, geometry=np.array([None], object))
    outcome = run("keep_by_place", layer, AREA, relation="intersects")
    assert ids(outcome) == [2] and aside(outcome) == {"has no geometry": 2}
    nothing = run("keep_by_place", layer, other, relation="disjoint")
    assert ids(nothing) == [2] and dict(nothing.inputs[1].set_aside.counts()) == {"has no geometry": 1}


def test_the_other_layer_is_brought_over_and_the_features_stay_as_they_are() -> None:
    from eskret.core.geometry.globe.moving import reproject

    degrees = replace(AREA, geometry=reproject(AREA.geometry, "EPSG:32626", "EPSG:4326")[0], crs="EPSG:4326")
    outcome = run("keep_by_place", squares(6), degrees, relation="intersects")
    assert ids(outcome)[:3] == [0, 1, 2] and outcome.layers[0].crs == "EPSG:32626"
    assert any("'area' was brought to WGS 84 / UTM zone 26N" in r.text for r in outcome.remarks)
    with pytest.raises(CrsError, match="no coordinate system"):
        run("keep_by_place", squares(1), replace(AREA, crs=None))


@pytest.mark.parametrize("latitude", [0.0, 47.0, -60.0, 78.0])
def test_a_distance_on_the_globe_is_geodesic(latitude: float) -> None:
    """Against geographiclib (Karney 2013): points just within and just beyond 25 km, all round."""
    layer_xy, expected = [], []
    for azimuth in range(0, 360, 20):
        for metres in (24_999.9, 25_000.1):
            end = Geodesic.WGS84.Direct(latitude, 179.99, azimuth, metres)
            layer_xy.append((end["lon2"], end["lat2"]))
            expected.append(metres < 25_000)
    layer = Layer("p", pa.table({"id": np.arange(len(layer_xy))}), shapely.points(np.array(layer_xy)), "EPSG:4326")
    other = Layer("o", pa.table({"n": [1]}), shapely.points([[179.99, latitude]]), "EPSG:4326")
    outcome = run("keep_by_place", layer, other, relation="near", distance="25 km")
    same("keep_by_place", KARNEY, ids(outcome), np.flatnonzero(np.array(expected)).tolist())


@pytest.mark.parametrize(
    ("settings", "says"),
    [
        ({"relation": "near"}, "'Distance' is not filled in"),
        ({"relation": "near", "distance": "5"}, "names no unit"),
        ({"to": "gone"}, "there is no such step"),
        ({"to": "load:gone"}, "names no layer"),
        ({"to": ""}, "'Compare with' cannot be"),
        ({"to": "load:table"}, "'table' is a table, which has no place"),
    ],
)
def test_what_is_wrong_with_a_place_is_told(tmp_path: Path, settings: dict, says: str) -> None:
    write(squares(2), tmp_path / "in.gpkg")
    write(Layer("table", pa.table({"a": [1]})), tmp_path / "in.gpkg")
    workflow = Workflow()
    workflow.load("load", files=[str(tmp_path / "in.gpkg")])
    workflow.step("keep_by_place", "near", "load:squares", **{"to": "load:squares", **settings})
    assert says in workflow.rehearse().errors[0].text


# -- by hand


@given(st.lists(st.integers(0, 30), min_size=1, max_size=12, unique=True), st.booleans())
def test_pick_balances(picked: list[int], all_but: bool) -> None:
    layer = squares(20)
    outcome = run("pick", layer, features=picked, key="id", take="all but these" if all_but else "these")
    there = [n for n in range(20) if n in picked]
    assert ids(outcome) == ([n for n in range(20) if n not in picked] if all_but else there)
    gone = [n for n in picked if n >= 20]
    assert any("no longer found" in r.text and r.look for r in outcome.remarks) == bool(gone)


def test_pick_by_the_sources_own_numbers_asks_for_a_look() -> None:
    layer = replace(squares(5), ids=np.array([11, 12, 13, 14, 15]))
    outcome = run("pick", layer.take(np.array([4, 1, 0])), features=[15, 11, 99])
    assert ids(outcome) == [4, 0]
    assert [r.text.split(",")[0] for r in outcome.remarks if r.look] == [
        "picked by the source's own number",
        "1 feature picked is no longer found: 99",
    ]
    with pytest.raises(InputError, match="no numbers of their own"):
        run("pick", squares(2), features=[1])


def test_pick_by_what_is_no_key_says_so() -> None:
    outcome = run("pick", squares(4), features=["a", "c"], key="kind")
    assert ids(outcome) == [0, 2]
    assert {r.text for r in outcome.remarks if r.look} == {
        "1 feature picked is no longer found: c",
        "'kind' is no key: a stands in more than one feature, and all were picked",
    }


# -- repeats


values = st.one_of(st.none(), st.sampled_from(["a", "b", ""]))


@given(st.lists(st.tuples(values, st.integers(0, 2)), max_size=25), st.booleans())
def test_the_first_of_each_is_kept(rows: list[tuple[str | None, int]], with_shape: bool) -> None:
    table = pa.table({"t": pa.array([t for t, _ in rows], pa.string()), "id": pa.array(range(len(rows)), pa.int64())})
    boxes = np.array([shapely.box(n, 0, n + 1, 1) for _, n in rows] + [None], object)[:-1]
    outcome = run("drop_repeats", Layer("l", table, boxes, "EPSG:32626"), fields=["t"], geometry=with_shape)
    like = [(t, n) if with_shape else t for t, n in rows]
    assert ids(outcome) == [n for n, v in enumerate(like) if v not in like[:n]]


def test_a_shape_is_the_same_wherever_its_ring_begins() -> None:
    ring = [(0, 0), (4, 0), (4, 3), (0, 3)]
    same = [shapely.Polygon(ring), shapely.Polygon(ring[2:] + ring[:2]), shapely.Polygon(ring[::-1])]
    other = [shapely.Polygon([*ring[:3], (0, 3.001)]), shapely.Polygon([(0, 0), (2, 0), *ring[1:]]), None, None]
    layer = Layer("l", pa.table({"id": list(range(7))}), np.array([*same, *other], object), "EPSG:32626")
    outcome = run("drop_repeats", layer, geometry=True)
    assert ids(outcome) == [0, 3, 4, 5] and aside(outcome) == {"repeats an earlier feature": 3}
    assert outcome.remarks[0].text == "2 features repeated, up to 3 times"


# -- sketches


def sketch(shapes: object, crs: str | None = None, **settings) -> Outcome:
    operation = operation_by_id("sketch")
    made = operation.Settings(shapes=shapes if isinstance(shapes, str) else json.dumps(shapes), **settings)
    outcome = operation.read(None, made, Context(step="area", crs=crs))[0]
    prove(outcome, operation.relation)
    assert operation.forecast(made, Context(step="area", crs=crs)).layers[0] == outcome.layers[0].facts()
    return outcome


SQUARE = {"type": "Polygon", "coordinates": [[[-27, 47], [-26, 47], [-26, 48], [-27, 48], [-27, 47]]]}


def test_a_sketch_is_a_layer_from_geojson() -> None:
    layer = sketch(SQUARE).layers[0]
    assert (layer.key, layer.crs, layer.kind, layer.table.to_pylist()) == ("area", "EPSG:4326", "area", [{"number": 1}])
    many = sketch(
        {
            "type": "FeatureCollection",
            "features": [
                {"type": "Feature", "geometry": SQUARE, "properties": {"name": "a", "n": 1}},
                {"type": "Feature", "geometry": SQUARE, "properties": {"name": None, "n": "two"}},
            ],
        }
    ).layers[0]
    assert many.table.to_pylist() == [{"name": "a", "n": "1"}, {"name": None, "n": "two"}]
    brought = sketch(SQUARE, crs="EPSG:32626")
    assert brought.layers[0].crs == "EPSG:32626" and "exact" in brought.remarks[0].text
    with pytest.raises(InputError, match="cannot be degrees, as EPSG:4326 says. Name the CRS"):
        sketch({"type": "Point", "coordinates": [500_000, 5_200_000]})


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("{", "this is no GeoJSON: "),
        ("[1]", "draws something"),
        ('{"type":"Polygon","coordinates":[]}', "draws nothing"),
        ('{"type":"FeatureCollection","features":[]}', "draws nothing"),
        ('{"type":"Point","coordinates":["a",1]}', "GeoJSON"),
        ('{"type":"Polygon","coordinates":[[[0,0],[1,1]]]}', "GeoJSON"),
        ('{"type":"Feature","geometry":null}', "nothing"),
    ],
)
def test_what_draws_nothing_is_told(text: str, says: str) -> None:
    workflow = Workflow()
    workflow.step("sketch", "area", shapes=text)
    assert says in workflow.rehearse().errors[0].text
