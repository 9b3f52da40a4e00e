"""One rule for values in every operation: no number is no value, infinity stays, -0.0 is 0.0, decimals stay decimals.

The reference is Python's own arithmetic (``math.fsum``, ``decimal``) over the values that are there; null logic is ISO 9075's.
"""

from __future__ import annotations

import math
from decimal import Decimal
from pathlib import Path

import geopandas as gpd
import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from typer.testing import CliRunner

from eskret.cli import app
from eskret.core.accounts.account import ControlTotal
from tests.exact import ARITHMETIC, NULLS, close, same
from tests.operations.helpers import aside, do, layer_of, refused, rows, said, square, table_of

NAN, INF = float("nan"), float("inf")
VALUES = [1.5, NAN, None, INF, 2.5]


def layer(**fields):
    count = len(next(iter(fields.values())))
    return layer_of([square(2000 * n, 0) for n in range(count)], **fields)


@pytest.mark.parametrize(
    ("use", "settings", "field"),
    [
        ("summarise", {"by": ["g"]}, "total"),
        ("dissolve", {"by": ["g"]}, "total"),
        ("gather_parts", {"by": ["g"]}, "total"),
        ("summarise", {}, "total"),
    ],
)
def test_a_sum_leaves_out_what_is_no_number_and_says_so(use: str, settings: dict, field: str) -> None:
    given_ = layer(g=["a"] * 5, v=pa.array(VALUES))
    outcome = do(use, given_, figures={field: "sum v", "many": "count v", "most": "max v"}, **settings)
    assert rows(outcome, field, "many", "most") == [(INF, 3, INF)]
    assert "1 value of 'v' is no number and counted as empty" in said(outcome)
    assert any(r.look for r in outcome.remarks)
    plain = do(use, layer(g=["a"] * 3, v=pa.array([1.5, NAN, 2.5])), figures={field: "sum v", "mid": "mean v"}, **settings)
    assert rows(plain, field, "mid") == [(4.0, 2.0)]


def test_pivots_counts_and_joins_leave_it_out_too() -> None:
    given_ = layer(g=["a", "a", "b"], c=["x", "y", "x"], v=pa.array([1.0, NAN, 3.0]))
    pivot = do("pivot", given_, by=["g"], columns="c", cell="sum v")
    assert rows(pivot, "x", "y") == [(1.0, None), (3.0, None)] and "no number" in said(pivot)
    areas = layer_of([square(-500, -500, 9000)], name=["all"])
    inside = do("count_in_areas", areas, other=given_, field="many", figures={"v": "sum v"})
    assert rows(inside, "many", "v") == [(3, 4.0)] and "no number" in said(inside)
    table = table_of(k=pa.array([1.0, 2.0, NAN]), v=pa.array([NAN, 5.0, 7.0]))
    joined = do("join_table", layer(k=pa.array([1.0, 2.0, NAN])), table=table, key="k")
    assert rows(joined, "v")[1:] == [5.0, None] and math.isnan(rows(joined, "v")[0])
    assert "no number" in said(joined) and "no key" in " ".join(a.what for a in joined.inputs[0].altered).replace("empty", "no key")


def test_minus_nothing_is_nothing() -> None:
    given_ = layer(k=pa.array([0.0, -0.0, 1.0]), v=[1, 2, 3])
    assert rows(do("summarise", given_, by=["k"], figures={"v": "sum v"}), "k", "v") == [(0.0, 3), (1.0, 3)]
    assert math.copysign(1, rows(do("summarise", given_, by=["k"], figures={"v": "sum v"}), "k")[0]) == 1
    assert len(do("drop_repeats", given_, fields=["k"]).layers[0]) == 2
    table = table_of(k=pa.array([-0.0, 1.0]), name=["zero", "one"])
    assert rows(do("join_table", given_, table=table, key="k"), "name") == ["zero", "zero", "one"]
    assert do("check", given_, that="unique", fields=["k"], otherwise="look").remarks[0].look


def test_decimals_are_added_as_decimals_and_the_control_sees_the_last_digit() -> None:
    cents = [Decimal("90071992547409930.01"), Decimal("0.02"), Decimal("-0.01")]
    given_ = layer(g=["a", "a", "b"], c=["x", "x", "y"], v=pa.array(cents, pa.decimal128(20, 2)))
    outcome = do("summarise", given_, by=["g"], figures={"v": "sum v"})
    assert rows(outcome, "v") == [Decimal("90071992547409930.03"), Decimal("-0.01")]
    control = outcome.outputs[0].controls[0]
    assert control.expected == sum(cents) and control.agrees
    assert not ControlTotal("sum", "", control.expected, control.expected + Decimal("0.01")).agrees
    assert not ControlTotal("sum", "", 2**60, 2**60 + 1).agrees
    assert ControlTotal("sum", "", INF, INF).agrees and not ControlTotal("sum", "", INF, 1.0).agrees
    doubled = do("compute", given_, field="w", value="v * 2")
    assert rows(doubled, "w")[0] == 2 * cents[0]
    assert rows(do("compute", layer(n=[3]), field="w", value="n * 0.5"), "w") == [1.5]
    pivot = do("pivot", given_, by=["g"], columns="c", cell="sum v")
    assert rows(pivot, "x")[0] == Decimal("90071992547409930.03")


@given(st.lists(st.one_of(st.none(), st.floats(-1e9, 1e9), st.just(NAN), st.just(-0.0)), min_size=1, max_size=12))
def test_figures_are_those_of_the_values_that_are_there(values: list[float | None]) -> None:
    there = [v for v in values if v is not None and not math.isnan(v)]
    outcome = do(
        "summarise",
        table_of(v=pa.array(values, pa.float64())),
        figures={"sum": "sum v", "many": "count v", "least": "min v", "different": "distinct v"},
    )
    total, many, least, different = rows(outcome, "sum", "many", "least", "different")[0]
    same("summarise", ARITHMETIC, (many, different, least), (len(there), len(set(there)), min(there) if there else None))
    assert (total is None) == (not there)
    if there:
        close("summarise", f"{ARITHMETIC}, sums", total, math.fsum(there), abs_=1e-6)


CASES = [
    ("v > 1", [0, 3, 4]),
    ("NOT v > 1", []),
    ("v IS NULL", [1, 2]),
    ("v IS NOT NULL", [0, 3, 4]),
    ("v = v", [0, 3, 4]),
    ("1 / (v - 1.5) > 0", [3, 4]),
    ("1 / (v - 1.5) IS NULL", [0, 1, 2]),
    ("sqrt(-v) > 0 OR v = 2.5", [4]),
    ("v % 0 IS NULL", [0, 1, 2, 3, 4]),
    ("v BETWEEN 1 AND 3", [0, 4]),
    ("v IN (1.5, 2.5)", [0, 4]),
]


@pytest.mark.parametrize(("where", "expected"), CASES)
def test_one_rule_in_keep_flag_check_and_compute(where: str, expected: list[int]) -> None:
    given_ = layer(n=range(5), v=pa.array(VALUES))
    if where == "1 / (v - 1.5) > 0":
        expected = [4]  # one divided by what has no end is nothing
    kept = do("keep", given_, where=where)
    same("keep", NULLS, rows(kept, "n"), expected)
    assert "no number" in said(kept)
    flagged = do("flag", given_, where=where, field="held")
    same("flag", NULLS, [n for n, held in rows(flagged, "n", "held") if held], expected)
    assert "no number" in said(flagged)
    checked = do("check", given_, that="condition", where=where, otherwise="look")
    altered = checked.inputs[0].altered
    same("check", NULLS, sorted(set(range(5)) - set(altered[0].rows.tolist() if altered else [])), expected)
    computed = do("compute", given_, field="held", value=where)
    same("compute", NULLS, [n for n, held in rows(computed, "n", "held") if held], expected)


def test_dividing_by_nothing_comes_to_none_and_infinity_stays() -> None:
    given_ = layer(a=pa.array([1.0, 1.0, INF, NAN]), b=[0, 2, 2, 2])
    outcome = do("compute", given_, field="c", value="a / b")
    assert rows(outcome, "c") == [None, 0.5, INF, None]
    assert "1 row came to no number" in said(outcome) and "1 value of 'a' is no number" in said(outcome)
    for value, expected in (("7 // b", 3), ("7 % b", 1), ("mod(7, b)", 1), ("divide(7, b)", 3), ("fmod(7, b)", 1.0)):
        assert rows(do("compute", given_, field="c", value=value), "c") == [None, *[expected] * 3], value


def test_a_file_with_no_numbers_is_kept_from_as_a_frame_is(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Through the command: what a GeoParquet holds as NaN, a frame holds as null, and both are found alike."""
    monkeypatch.chdir(tmp_path)
    frame = gpd.GeoDataFrame(
        {"n": range(4), "pop": [2e6, np.nan, 5.0, np.inf]}, geometry=[shapely.Point(i, 0) for i in range(4)], crs="EPSG:32631"
    )
    frame.to_parquet("towns.parquet")
    import pyarrow.parquet as pq

    table = pq.read_table("towns.parquet")
    at = table.schema.get_field_index("pop")
    with_nan = table.set_column(at, "pop", pa.array([2e6, NAN, 5.0, INF]))
    pq.write_table(with_nan.replace_schema_metadata(table.schema.metadata), "nan.parquet")
    for name in ("towns", "nan"):
        for where, many in (("pop > 1000000", 2), ("pop IS NULL", 1), ("NOT pop > 1000000", 1)):
            out = f"{name}_{many}_{len(where)}.geojson"
            found = CliRunner().invoke(app, ["do", "keep", f"{name}.parquet", "-o", out, "--where", where])
            assert found.exit_code == 0, found.output
            assert len(gpd.read_file(out)) == many
            assert ("no number" in found.output) == (name == "nan"), found.output
    assert "there is no field" in refused("keep", layer(n=[1]), where="m = 1") and aside(do("keep", layer(n=[1]), where="n = 2"))
