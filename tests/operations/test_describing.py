"""Flags with their share, corrections remembered by key, tallies."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.accounts.account import Relation
from eskret.core.layer import Layer
from eskret.errors import InputError
from eskret.operations import operation_by_id
from eskret.operations.base import Context
from eskret.operations.sentences import share
from eskret.workflow.run.step import prove
from tests.conftest import points, squares
from tests.operations.test_choosing import AREA, run


def test_a_percentage_is_of_all_features_counted() -> None:
    """Facts of the trade (common practice): 74 of 108 is 68.5 %."""
    layer = points({"kind": ["tower"] * 74 + ["other"] * 34})
    outcome = run("flag", layer, where="kind = 'tower'")
    assert outcome.remarks[0].text == "it holds for 74 of 108, 68.5 %"
    assert outcome.layers[0].table.column("flag").to_pylist() == [True] * 74 + [False] * 34
    assert share(0, 0) == "0 of 0" and share(1, 3) == "1 of 3, 33.3 %"


def test_those_that_belong_to_none_are_left() -> None:
    """48, 23 and 23 of 158 leave 64 that belong to none (common practice): the values written say so."""
    layer = points({"n": list(range(158))})
    for value, begin, end in (("a", 0, 48), ("b", 48, 71), ("c", 71, 94)):
        layer = run("flag", layer, field="zone", where=f"n >= {begin} AND n < {end}", value=value).layers[0]
    counted = run_tally([layer], by=["zone"]).layers[0].table.to_pylist()
    assert {r["zone"]: r["features"] for r in counted} == {"a": 48, "b": 23, "c": 23, None: 64}
    assert sum(r["share"] for r in counted) == pytest.approx(100, abs=0.02)


def test_flag_by_place_by_both_and_what_cannot_be_told() -> None:
    layer = squares(6)
    assert run("flag", layer, AREA, relation="within").layers[0].table.column("flag").to_pylist() == [True] * 3 + [False] * 3
    both = run("flag", layer, AREA, relation="within", where="kind = 'b'")
    assert both.layers[0].table.column("flag").to_pylist() == [False, True, False, False, False, False]
    unknown = points({"depth": pa.array([5.0, None, 15.0])})
    outcome = run("flag", unknown, where="depth > 10", field="deep")
    assert outcome.layers[0].table.column("deep").to_pylist() == [False, False, True]
    assert any("1 could not be told" in r.text and r.look for r in outcome.remarks)


cells = st.one_of(st.none(), st.integers(-5, 5))


@given(st.lists(st.tuples(st.integers(0, 9), cells), max_size=20))
def test_rows_outside_are_left_as_they_were(rows: list[tuple[int, int | None]]) -> None:
    layer = points({"n": pa.array([n for n, _ in rows], pa.int64()), "mark": pa.array([m for _, m in rows], pa.int64())})
    outcome = run("flag", layer, field="MARK", where="n > 4", value="7")
    assert outcome.layers[0].table.column("mark").to_pylist() == [7 if n > 4 else m for n, m in rows]
    assert outcome.layers[0].table.column("mark").type == pa.int64()


@pytest.mark.parametrize(
    ("settings", "says"),
    [
        ({"field": "n", "where": "n > 1"}, "says no yes or no"),
        ({"field": "n", "where": "n > 1", "value": "deep"}, "cannot hold 'deep'"),
        ({"where": "m > 1"}, "there is no field 'm'"),
    ],
)
def test_what_cannot_be_flagged_is_told(settings: dict, says: str) -> None:
    operation = operation_by_id("flag")
    found = operation.forecast(points({"n": [1, 2]}).facts(), operation.Settings(**settings), Context()).findings
    assert [f.level for f in found] == ["error"] and says in found[0].text
    with pytest.raises(ValueError, match="write a condition, or name a layer"):
        operation.Settings()


# -- corrections


BEDS = {"bed": ["B-1", "B-2", "B-3"], "bottom": ["sannd", None, "mud"], "tonnes": [1, 2, None]}


def correct(layer: Layer, *changes: dict, key: str = "bed"):
    return run("correct", layer, key=key, changes=list(changes))


def test_cells_are_corrected_and_told_as_altered() -> None:
    outcome = correct(
        points(BEDS),
        {"key": "B-1", "field": "bottom", "old": "sannd", "new": "sand"},
        {"key": "B-2", "field": "bottom", "new": "mud"},
        {"key": "B-3", "field": "tonnes", "new": "4"},
        {"key": "B-1", "field": "tonnes", "old": 1},
    )
    table = outcome.layers[0].table
    assert table.column("bottom").to_pylist() == ["sand", "mud", "mud"] and table.column("tonnes").to_pylist() == [None, 2, 4]
    assert [(a.what, a.rows.tolist()) for a in outcome.inputs[0].altered] == [("bottom corrected", [0, 1]), ("tonnes corrected", [0, 2])]
    assert outcome.remarks == () and table.schema == points(BEDS).table.schema


def test_what_somebody_else_changed_or_took_out_is_left_and_told() -> None:
    outcome = correct(
        points(BEDS),
        {"key": "B-3", "field": "bottom", "old": "silt", "new": "gravel"},
        {"key": "B-9", "field": "bottom", "new": "sand"},
        {"key": "B-1", "field": "bottom", "old": "x", "new": "sannd"},
    )
    assert outcome.layers[0].table.column("bottom").to_pylist() == BEDS["bottom"]
    assert [r.text for r in outcome.remarks] == [
        "bottom of B-3 is 'mud', no longer 'silt'; it was left as it is",
        "B-9 is no longer found; its bottom was not corrected",
    ]


def test_a_key_that_is_none_and_a_value_that_cannot_be() -> None:
    with pytest.raises(InputError, match="empty or repeated values, so it is no key"):
        correct(points({"bed": ["a", "a"], "n": [1, 2]}), {"key": "a", "field": "n", "new": 3})
    operation = operation_by_id("correct")
    made = operation.Settings(
        key="bed", changes=[{"key": "B-1", "field": "tonnes", "new": "many"}, {"key": "B-1", "field": "depth", "new": 1}]
    )
    texts = [f.text for f in operation.forecast(points(BEDS).facts(), made, Context()).findings]
    assert "there is no field 'depth'" in texts[0] and "'tonnes' is a whole number and cannot hold 'many'" in texts[1]


# -- tallies


def run_tally(entering: list[Layer], **settings):
    operation = operation_by_id("tally")
    made = operation.Settings(**settings)
    outcome = operation.run(entering, made, Context(step="count"))
    prove(outcome, operation.relation)
    forecast = operation.forecast([x.facts() for x in entering], made, Context(step="count"))
    assert forecast.layers[0].schema() == outcome.layers[0].table.schema
    assert sum(i.rows for i in outcome.inputs) == sum(r["features"] for r in outcome.layers[0].table.to_pylist())
    return outcome


def test_a_tally_counts_kinds_nulls_and_what_is_invalid() -> None:
    bow = shapely.Polygon([(0, 0), (2, 2), (2, 0), (0, 2)])
    shapes = [
        shapely.Point(0, 0),
        shapely.MultiPoint([[0, 0], [1, 1]]),
        shapely.LineString([(0, 0), (1, 1)]),
        shapely.box(0, 0, 1, 1),
        bow,
        None,
        shapely.Point(),
        shapely.GeometryCollection([shapely.Point(0, 0), bow]),
    ]
    mixed = Layer("mixed", pa.table({"n": list(range(8))}), np.array(shapes, object), "EPSG:32626")
    outcome = run_tally([mixed, Layer("plain", pa.table({"n": [1, 2]}))])
    first, second = outcome.layers[0].table.to_pylist()
    assert first == {
        "layer": "mixed",
        "features": 8,
        "points": 3,
        "lines": 1,
        "areas": 2,
        "collections": 1,
        "without_geometry": 1,
        "empty": 1,
        "invalid": 2,
        "share": 80.0,
    }
    assert second["features"] == 2 and second["points"] == second["without_geometry"] == 0 and second["share"] == 20
    assert [r.text for r in outcome.remarks] == ["10 features in 2 layers", "without geometry: 1 of 10, 10.0 %", "invalid: 2 of 10, 20.0 %"]
    assert operation_by_id("tally").relation is Relation.REPORT


@given(st.lists(st.lists(st.sampled_from(["a", "b", None]), max_size=12), min_size=1, max_size=4))
def test_shares_are_of_the_whole(layers: list[list[str | None]]) -> None:
    made = [points({"kind": pa.array(kinds, pa.string())}, key=f"l{n}") for n, kinds in enumerate(layers)]
    rows = run_tally(made, by=["kind"]).layers[0].table.to_pylist()
    whole = sum(map(len, layers))
    assert [(r["layer"], r["kind"], r["features"]) for r in rows] == [
        (f"l{n}", kind, kinds.count(kind)) for n, kinds in enumerate(layers) for kind in ("a", "b", None) if kind in kinds
    ]
    assert all(r["share"] == pytest.approx(100 * r["features"] / whole, abs=0.0051) for r in rows)


def test_a_pattern_picks_the_layers_and_one_that_lacks_the_field_counts_as_empty() -> None:
    layers = [replace(squares(3), key="lease_a"), points({"x": [1]}, key="lease_b"), points({"x": [1]}, key="marks")]
    rows = run_tally(layers[:2], layers=["lease_*"], by=["kind"]).layers[0].table.to_pylist()
    assert [(r["layer"], r["kind"], r["features"]) for r in rows] == [("lease_a", "a", 2), ("lease_a", "b", 1), ("lease_b", None, 1)]
    operation = operation_by_id("tally")
    for settings, says in (({"layers": ["x*"]}, "No layer is called x*"), ({"by": ["depth"]}, "No layer has a field 'depth'")):
        assert says in operation.forecast([x.facts() for x in layers], operation.Settings(**settings), Context()).findings[0].text
