"""Ranks against SQL's window functions (ISO/IEC 9075-2, as DuckDB has them) and pandas' means of ties; classes against pandas' bins."""

from __future__ import annotations

from typing import Any

import duckdb
import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.errors import AccountError
from eskret.operations.describe import classify as classifying
from eskret.operations.describe import rank as ranking
from tests.operations.helpers import do, refused, rows, said, table_of

VALUE = st.one_of(st.none(), st.integers(-3, 3), st.just(float("nan")))
VALUES = st.lists(st.tuples(st.sampled_from("ab"), VALUE), min_size=1, max_size=25)


@given(given_=VALUES, first=st.sampled_from(["greatest", "least"]))
def test_ranks_are_those_of_sql(given_: list[tuple[str, Any]], first: str) -> None:
    group, value = [g for g, _ in given_], pa.array([v for _, v in given_], pa.float64())
    layer = table_of("t", n=pa.array(range(len(group))), g=pa.array(group), v=value)
    frame = layer.table.to_pandas()  # noqa: F841  (the database finds it by its name)
    way = "DESC" if first == "greatest" else "ASC"
    over = f"OVER (PARTITION BY g ORDER BY v {way} NULLS LAST)"
    asked = f"SELECT n, rank() {over}, dense_rank() {over}, v IS NULL OR isnan(v) FROM frame ORDER BY n"
    expected = duckdb.sql(asked).fetchall()
    skip, following, middle = (
        rows(do("rank", layer, by="v", within=["g"], first=first, ties=ties), "rank") for ties in ("skip", "next", "middle")
    )
    assert skip == [None if none else r for _, r, _, none in expected]
    assert following == [None if none else d for _, _, d, none in expected]
    series = pd.Series([v for _, v in given_], dtype=float)
    theirs = series.groupby(group).rank(method="average", ascending=first == "least")
    assert middle == [None if np.isnan(v) else v for v in theirs]


def test_texts_yes_and_no_and_days_are_ranked_too() -> None:
    layer = table_of("t", word=pa.array(["mud", None, "sand", "gravel"]), yes=pa.array([True, False, None, True]))
    assert rows(do("rank", layer, by="word", first="least"), "rank") == [2, None, 3, 1]
    outcome = do("rank", layer, by="yes", field="place")
    assert rows(outcome, "place") == [1, 3, None, 1]
    assert "2 share their rank with others" in said(outcome) and "1 without a value in 'yes' has no rank" in said(outcome)


def test_a_rank_that_is_not_in_the_order_of_the_values_is_not_balanced(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(ranking.np, "lexsort", lambda keys: np.arange(len(keys[0])))
    with pytest.raises(AccountError, match="ranks against the order"):
        do("rank", table_of("t", v=pa.array([1, 3, 2])), by="v")


@given(
    values=st.lists(st.one_of(st.none(), st.floats(-50, 50), st.integers(-5, 5).map(float)), min_size=1, max_size=30),
    limits=st.lists(st.integers(-5, 5), min_size=1, max_size=4, unique=True).map(sorted),
)
def test_classes_by_own_limits_are_those_of_pandas(values: list[float | None], limits: list[int]) -> None:
    layer = table_of("t", v=pa.array(values, pa.float64()))
    found = rows(do("classify", layer, by="v", limits=", ".join(map(str, limits))), "class")
    series = pd.Series([np.nan if v is None else v for v in values], dtype=float)
    theirs = pd.cut(series, [-np.inf, *limits, np.inf], right=True, labels=False)
    assert found == [None if np.isnan(t) else int(t) + 1 for t in theirs]


def test_found_limits_are_told_so_that_they_can_be_used_again() -> None:
    layer = table_of("t", v=pa.array([1.0, 2, 2.5, 7, 8, 20.25, None]))
    outcome = do("classify", layer, by="v", method="natural", count=3)
    (told,) = [r.text for r in outcome.remarks if r.text.startswith("limits found")]
    again = do("classify", layer, by="v", limits=told.removeprefix("limits found: ").replace(" and ", ", "))
    assert rows(outcome, "class") == rows(again, "class") == [1, 1, 1, 2, 2, 3, None]
    assert "1 without a value in 'v' has no class" in said(outcome)


def test_classes_are_written_as_ranges_or_names() -> None:
    layer = table_of("t", v=pa.array([3, 5, 6, 40]))
    assert rows(do("classify", layer, by="v", limits="5, 20", write="range"), "class") == ["up to 5", "up to 5", "5 to 20", "above 20"]
    given_ = {"limits": "5 20", "write": "names", "names": ["small", "middle", "large"]}
    assert rows(do("classify", layer, by="v", **given_), "class") == ["small", "small", "middle", "large"]
    assert "there are 3 classes and 2 names" in refused("classify", layer, by="v", limits="5,20", write="names", names=["a", "b"])
    assert "are no limits" in refused("classify", layer, by="v", limits="20, 5") and "are wanted" in refused("classify", layer, by="v")
    assert "holds no numbers" in refused("classify", table_of("t", v=pa.array(["x"])), by="v", limits="1")


def test_a_value_in_another_class_than_its_own_is_not_balanced(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(classifying, "class_of", lambda values, limits: np.zeros(len(values), np.int16))
    with pytest.raises(AccountError, match="beyond the limits"):
        do("classify", table_of("t", v=pa.array([1, 30])), by="v", limits="5")
