"""Tables without anything drawn: groups and figures of them, against pandas; columns put in their places."""

from __future__ import annotations

import math

import numpy as np
import pandas
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.layer import Field
from eskret.core.measure.aggregates import STATISTICS, fields_of, parse_statistics, statistics_of
from eskret.core.tables.columns import with_columns
from eskret.core.tables.groupby import codes_of, group_codes, group_rows
from eskret.errors import SettingError

words = st.one_of(st.none(), st.sampled_from(["north", "south", "North", "", "Ø"]))
whole = st.one_of(st.none(), st.integers(-(10**9), 10**9))
number = st.one_of(st.none(), st.floats(-1e6, 1e6), st.sampled_from([0.0, -0.0]))
tables = st.lists(st.tuples(words, whole, number), max_size=25).map(
    lambda rows: pa.table(
        {
            "word": pa.array([r[0] for r in rows], pa.string()),
            "n": pa.array([r[1] for r in rows], pa.int64()),
            "x": pa.array([r[2] for r in rows], pa.float64()),
        }
    )
)


@given(tables, st.sampled_from([["word"], ["word", "n"], ["x"], []]))
def test_rows_are_in_one_group_where_their_values_are_the_same(table: pa.Table, by: list[str]) -> None:
    groups = group_rows(table, by)
    # -0.0 is 0.0 for everybody
    keys = [tuple(0.0 if v == 0 else v for v in row.values()) for row in table.select(by).to_pylist()] if by else [()] * table.num_rows
    assert groups.count == len(set(keys)) and len(groups.of) == table.num_rows
    for row, of in enumerate(groups.of.tolist()):
        assert keys[row] == keys[int(groups.first[of])]
    assert sorted(groups.order.tolist()) == list(range(table.num_rows))
    assert [groups.rows(g).tolist() for g in range(groups.count)] == [np.flatnonzero(groups.of == g).tolist() for g in range(groups.count)]
    assert groups.sizes.sum() == table.num_rows
    heads = [keys[int(f)] for f in groups.first]
    assert heads == sorted(heads, key=lambda key: tuple((v is None, v if v is not None else 0) for v in key)), "empty ones come last"


@given(tables)
def test_rows_with_an_empty_value_can_be_left_out(table: pa.Table) -> None:
    groups = group_rows(table, ["word", "n"], without_empty=True)
    empty = [r["word"] is None or r["n"] is None for r in table.to_pylist()]
    assert (groups.of < 0).tolist() == empty
    assert len(groups.order) == len(empty) - sum(empty) and groups.sizes.sum() == len(groups.order)


@given(tables)
def test_codes_are_equal_where_values_are(table: pa.Table) -> None:
    for name in table.column_names:
        values, codes = table.column(name).to_pylist(), codes_of(table.column(name)).tolist()
        for a in range(len(values)):
            for b in range(a):
                assert (codes[a] == codes[b]) == (values[a] == values[b])
    assert group_codes([], table.num_rows).count == min(table.num_rows, 1)


@given(tables)
def test_figures_are_those_of_pandas(table: pa.Table) -> None:
    groups = group_rows(table, ["word"])
    wanted = parse_statistics({f"{w}_{f}": f"{w} {f}" for w in STATISTICS for f in ("n", "x")} | {"rows": "count"}, table.column_names)
    found = dict(zip([s.name for s in wanted], statistics_of(table, groups, wanted), strict=True))
    frame = table.to_pandas(types_mapper={pa.int64(): pandas.Int64Dtype(), pa.float64(): pandas.Float64Dtype()}.get)
    frame["group"] = groups.of
    for group, part in frame.groupby("group"):
        assert found["rows"][group].as_py() == len(part)
        for field in ("n", "x"):
            values = part[field].dropna()
            expected = {
                "count": len(values),
                "distinct": values.nunique(),
                "min": values.min() if len(values) else None,
                "max": values.max() if len(values) else None,
                "mean": values.mean() if len(values) else None,
                "median": values.median() if len(values) else None,
                "sd": values.std() if len(values) > 1 else None,
            }
            for what, value in expected.items():
                got = found[f"{what}_{field}"][group].as_py()
                assert (got is None) == (value is None or value is pandas.NA), (what, field)
                assert got is None or math.isclose(float(got), float(value), rel_tol=1e-9, abs_tol=1e-6), (what, field)
            total = found[f"sum_{field}"][group].as_py()
            assert total is None or math.isclose(float(total), float(values.sum()), rel_tol=1e-9, abs_tol=1e-6)
            first, last = (part[field].iloc[n] for n in (0, -1))
            given_first, given_last = found[f"first_{field}"][group].as_py(), found[f"last_{field}"][group].as_py()
            assert first is pandas.NA or given_first == first
            assert last is pandas.NA or given_last == last


def test_what_is_no_figure_is_a_sentence_that_says_what_is() -> None:
    for text, says in (("total n", "is no figure"), ("sum", "is no figure"), ("sum m", "no field")):
        with pytest.raises(SettingError, match=says) as caught:
            parse_statistics({"a": text}, ["n", "Word"])
        assert caught.value.way_out
    (one,) = parse_statistics({"a": " MEAN  n "}, ["N"])
    assert (one.what, one.field) == ("mean", "N"), "capitals do not matter where one field is meant"
    with pytest.raises(SettingError, match="holds no numbers"):
        fields_of(parse_statistics({"a": "sum word"}), [Field("word", pa.string())])


def test_a_sum_that_no_whole_number_holds_stops_and_decimals_stay_decimals() -> None:
    table = pa.table({"n": pa.array([2**62, 2**62, 2**62]), "d": pa.array(["1.10", "2.20", "3.30"]).cast(pa.decimal128(6, 2))})
    groups = group_rows(table, [])
    with pytest.raises(SettingError, match="larger"):
        statistics_of(table, groups, parse_statistics({"a": "sum n"}))
    (found,) = statistics_of(table, groups, parse_statistics({"a": "sum d"}))
    assert str(found[0].as_py()) == "6.60" and pa.types.is_decimal(found.type)


def test_columns_come_into_the_place_of_their_name_or_to_the_end() -> None:
    table = pa.table({"a": [1], "b": [2], "c": [3]})
    assert with_columns(table, {"b": pa.array(["x"]), "d": pa.array([4])}).to_pydict() == {"a": [1], "b": ["x"], "c": [3], "d": [4]}
    assert with_columns(table, {"a": pa.array(["x"])}, at_end=True).column_names == ["b", "c", "a"]
    assert with_columns(table, {}) is table
