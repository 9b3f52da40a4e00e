"""Keys, profiles of fields, and the search for a coordinate system."""

from __future__ import annotations

import datetime as dt

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.crs_search import find
from eskret.core.tables.keys import as_values, is_unique, rows_of
from eskret.core.tables.profile import profile, values_with_counts


def test_values_are_fitted_to_the_field() -> None:
    assert as_values(["7", 8, " 9 ", "x", None, 1.5], pa.int64()).to_pylist() == [7, 8, 9, None, None, None]
    assert as_values([7, "007"], pa.string()).to_pylist() == ["7", "007"]
    assert as_values(["true", True], pa.bool_()).to_pylist() == [True, True]
    assert as_values(["2031-09-03", dt.date(2031, 9, 4), "soon"], pa.date32()).to_pylist() == [
        dt.date(2031, 9, 3),
        dt.date(2031, 9, 4),
        None,
    ]


@given(st.lists(st.one_of(st.none(), st.integers(0, 9)), max_size=30), st.lists(st.integers(0, 12), max_size=8, unique=True))
def test_rows_are_found_by_their_value(column: list[int | None], wanted: list[int]) -> None:
    at, counts = rows_of(pa.chunked_array([pa.array(column, pa.int64())]), wanted)
    assert [None if n < 0 else wanted[n] for n in at] == [v if v in wanted else None for v in column]
    assert counts.tolist() == [column.count(v) for v in wanted]


def test_values_that_cannot_be_are_in_no_row() -> None:
    at, counts = rows_of(pa.chunked_array([pa.array([1, 2, None], pa.int64())]), ["two", 2, None])
    assert at.tolist() == [-1, 1, -1] and counts.tolist() == [0, 1, 0]


def test_a_key_is_whole_and_different_everywhere() -> None:
    assert is_unique(pa.chunked_array([pa.array(["a", "b"])]))
    assert not is_unique(pa.chunked_array([pa.array(["a", "a"])])) and not is_unique(pa.chunked_array([pa.array(["a", None])]))


def test_a_profile_says_what_stands_there() -> None:
    table = pa.table(
        {
            "n": pa.array([3, 1, None, 3]),
            "t": pa.array(["b", "", None, "b"]),
            "f": pa.array([True, None, True, False]),
            "l": pa.array([[1], [1], None, [2]]),
            "e": pa.array([None] * 4, pa.string()),
        }
    )
    told = {p.name: (p.word, p.nulls, p.distinct, p.least, p.greatest, p.sample) for p in profile(table)}
    assert told["n"] == ("whole number", 1, 2, 1, 3, (3, 1))
    assert told["t"] == ("text", 1, 2, "", "b", ("b", ""))
    assert told["f"][:5] == ("yes/no", 1, 2, None, None) and told["l"][1:3] == (1, 2)
    assert told["e"] == ("text", 4, 0, None, None, ())
    assert profile(pa.table({"n": pa.array([], pa.int64())}))[0].distinct == 0


@given(st.lists(st.sampled_from("abcde"), max_size=60), st.integers(1, 6))
def test_values_come_with_their_counts_the_most_frequent_first(values: list[str], most: int) -> None:
    found = values_with_counts(pa.chunked_array([pa.array(values, pa.string())]), most)
    assert found == sorted(((v, values.count(v)) for v in set(values)), key=lambda p: (-p[1], p[0]))[:most]


@pytest.mark.parametrize(
    ("words", "first"),
    [
        ("32626", "EPSG:32626"),
        ("epsg:3857", "EPSG:3857"),
        ("wgs 84 utm zone 26n", "EPSG:32626"),
        ("4326", "EPSG:4326"),
        ("etrs89 laea", "EPSG:3035"),
    ],
)
def test_a_crs_is_found_by_code_and_name(words: str, first: str) -> None:
    assert find(words)[0].code == first


def test_a_crs_is_found_by_area_and_those_used_lately_come_first() -> None:
    found = find("azores central utm")
    assert found and all("Azores" in f"{k.name} {k.area}" or "Central" in k.area for k in found)
    lately = ["EPSG:3063", "EPSG:2189"]
    assert [k.code for k in find("azores utm 26n", lately)][:2] == lately
    assert [k.code for k in find("", lately)] == lately and find("no such place at all") == []
    facts = find("32626")[0].facts()
    assert facts.unit == "m" and facts.bounds == (-30.0, 0.0, -24.0, 84.0)  # the register's area of use
    assert np.isfinite(facts.bounds).all()
