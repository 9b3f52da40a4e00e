"""Marks, shares, running numbers, names of measured fields and the tally, against pandas."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret import EskretError, Layer, use
from eskret.operations.base import Context
from eskret.operations.registry import operation_by_id
from eskret.operations.settings import validate
from eskret.workflow.faces.ledger import totals_text
from tests.conftest import points, squares
from tests.operations.helpers import do, layer_of, said, square

KINDS = ["a", "b", None, "a", "c", "b"]
FOUND = {"kind": KINDS, "size": [5, 1, 7, None, 2, 9], "mark": ["x", "", None, "y", "z", "x"]}


@pytest.mark.parametrize("others", ["leave", "other value", "empty"])
@pytest.mark.parametrize("field", ["mark", "new"])
def test_a_mark_where_it_holds_and_what_becomes_of_the_others(field: str, others: str) -> None:
    given_ = {"others": others, "other_value": "low"} if others == "other value" else {"others": others}
    made = use("flag")(points(FOUND), where="size > 4", field=field, value="high", **given_)
    before = pd.DataFrame(FOUND)
    old = before["mark"] if field == "mark" else pd.Series([None] * 6, dtype=object)
    high, untold = before["size"] > 4, before["size"].isna()
    rest = old if others == "leave" else pd.Series([{"other value": "low", "empty": None}[others]] * 6, dtype=object)
    expected = old.where(untold, rest.mask(high, "high"))
    found = made.layer.table.column(field).to_pylist()
    assert found == [None if pd.isna(x) else x for x in expected]
    assert any("1 could not be told" in r.text for r in made.remarks)
    share = next(t for t in made.outputs[0].totals if t[2] == "%")
    assert share == (field, pytest.approx(100 * 3 / 6), "%")
    assert totals_text([dict(zip(("name", "value", "unit"), share, strict=True))]) == f"{field} 50.00 %"


@pytest.mark.parametrize(
    ("settings", "says"),
    [
        ({"others": "empty"}, "say what to write where it holds"),
        ({"value": "x", "others": "other value"}, "say which other value"),
        ({"value": "x", "others": "other value", "other_value": "many", "field": "size"}, "cannot hold 'x'"),
        ({"value": "1", "others": "other value", "other_value": "many", "field": "size"}, "cannot hold 'many'"),
    ],
)
def test_marks_that_cannot_be(settings: dict[str, Any], says: str) -> None:
    with pytest.raises(EskretError, match=says):
        use("flag")(points(FOUND), where="size > 4", **settings)


def test_a_share_is_held_to_limits() -> None:
    layer = points(FOUND)
    assert use("check")(layer, that="share", where="size > 4", least_share=50).layer.key == layer.key
    with pytest.raises(EskretError, match=r"holds for 3 of 6, 50.0 % \(1 could not be told, .*\), 60 to 100 % are wanted"):
        use("check")(layer, that="share", where="size > 4", least_share=60)
    with pytest.raises(EskretError, match=r"0 to 40 % are wanted"):
        use("check")(layer, that="share", where="size > 4", most_share=40)
    with pytest.raises(EskretError, match="no features to take a share of"):
        use("check")(layer.take(np.empty(0, np.int64)), that="share", where="size > 4")


rows = st.lists(st.tuples(st.sampled_from(["a", "b", "", None]), st.one_of(st.none(), st.integers(-3, 3))), max_size=30)


@given(rows, st.booleans(), st.booleans(), st.integers(-5, 5), st.integers(-3, 3))
def test_running_numbers_are_those_of_pandas(
    found: list[tuple[str | None, int | None]], within: bool, down: bool, start: int, increment: int
) -> None:
    values = {"group": pa.array([g for g, _ in found], pa.string()), "size": pa.array([n for _, n in found], pa.int64())}
    layer = Layer("rows", pa.table(values))
    made = use("number")(
        layer, within=["group"] if within else [], order=["size down" if down else "size"], start=start, increment=increment
    ).layer
    table = pd.DataFrame({"group": [g for g, _ in found], "size": pd.array([n for _, n in found], dtype="Float64")})
    ordered = table.sort_values("size", ascending=not down, kind="stable", na_position="last")
    place = ordered.groupby("group", dropna=False).cumcount() if within else pd.Series(range(len(table)), ordered.index)
    expected = start + increment * place.reindex(table.index)
    assert made.table.column("number").to_pylist() == [int(x) for x in expected]
    assert made.table.drop_columns(["number"]).equals(layer.table)


def test_a_measured_field_is_called_as_wanted() -> None:
    made = use("measure")(squares(2), what=["area", "perimeter"], called={"area": "Größe (ha)"}).layer
    assert made.table.column_names == ["id", "kind", "Größe (ha)", "perimeter_m"]
    assert made.table.column("Größe (ha)").to_pylist() == pytest.approx([0.01, 0.01])
    again = use("measure")(made, what=["area"], called={"area": "größe (HA)"}).layer
    assert again.table.column_names == ["id", "kind", "perimeter_m", "Größe (ha)"]
    for called, says in (
        ({"size": "x"}, "'size' is no measure"),
        ({"length": "x"}, "'length', which is not measured"),
        ({"area": "perimeter_M"}, "two measures would go into one field"),
    ):
        with pytest.raises(EskretError, match=says):
            use("measure")(squares(2), what=["area", "perimeter"], called=called)


def test_the_tally_tells_what_a_layer_is_and_leaves_kinds_out() -> None:
    tally = operation_by_id("tally")
    table = Layer("lists", pa.table({"name": ["x", "y"]}), name="Lists", origin="in/a.csv")
    beds = Layer("beds", pa.table({"name": ["x", None]}), shapely.points([0, 1], [0, 0]), "EPSG:32626", "Beds 2031", "in/b.gpkg")
    settings = validate(tally.Settings, {"kinds": ["point"], "about": ["name", "file", "kind", "crs"], "by": ["name"]})
    (made,) = tally.run([table, beds], settings, Context()).layers  # type: ignore[attr-defined]
    told = made.table.to_pylist()
    assert [r["name_2"] for r in told] == ["x", None] and {r["share"] for r in told} == {50.0}
    assert {(r["layer"], r["name"], r["file"], r["kind"], r["crs"]) for r in told} == {
        ("beds", "Beds 2031", "in/b.gpkg", "point", "EPSG:32626")
    }
    refused = tally.forecast([table.facts()], settings, Context()).findings  # type: ignore[attr-defined]
    assert "is of kind point. There are lists (table)" in refused[0].text


def test_areas_that_share_a_name_are_counted_without_those_that_have_none() -> None:

    areas = layer_of([square(n * 10, 0) for n in range(5)], name=["A", "", None, "A", "B"], key="areas")
    features = layer_of([shapely.Point(shapely.centroid(square(n * 10, 0))) for n in range(5)])
    outcome = do("split_by_area", features, areas=areas, name_field="name")
    assert "2 areas share 1 name and are put together: A" in said(outcome) and "2 areas have no name" in said(outcome)
