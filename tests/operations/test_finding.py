"""Everyday phrases of many trades find their operation; what is not done here is said so.

The phrases are made up, a third of them (by a checksum of the words) was not looked at while the words and weights were chosen.
"""

from __future__ import annotations

import csv
import zlib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import eskret.workflow  # noqa: F401  (a workflow as a step is found too)
from eskret.core.finding.index import Entry, Index
from eskret.core.finding.terms import said
from eskret.operations import all_operations
from eskret.operations.elsewhere import topics
from eskret.operations.finding import find, find_operations, index_of


def table(name: str) -> list[dict[str, str]]:
    with (Path(__file__).parent / name).open(newline="") as file:
        return list(csv.DictReader(file))


PHRASES, ELSEWHERE = table("phrases.csv"), table("elsewhere.csv")


def unseen(row: dict[str, str]) -> bool:
    return zlib.crc32(row["phrase"].encode()) % 3 == 0


def place(row: dict[str, str]) -> int:
    """How many operations come before the one that is meant."""
    meant = row["operation"].split("|")
    return next((n for n, o in enumerate(find_operations(row["phrase"])) if o.id in meant), 1_000)


@pytest.mark.parametrize("rows", [PHRASES, [r for r in PHRASES if unseen(r)]], ids=["all", "not looked at"])
def test_nine_of_ten_phrases_find_their_operation_first(rows: list[dict[str, str]]) -> None:
    places = [place(r) for r in rows]
    assert len(rows) > 80 and all(set(r["operation"].split("|")) <= set(all_operations()) for r in rows)
    late = [(r["phrase"], n) for r, n in zip(rows, places, strict=True) if n]
    assert sum(n == 0 for n in places) >= 0.9 * len(rows), late
    assert sum(n < 3 for n in places) >= 0.98 * len(rows), late
    assert set(all_operations()) == {o for r in PHRASES for o in r["operation"].split("|")}, "every operation is asked for"


def test_what_is_not_done_here_is_said_and_the_nearest_ways_offered() -> None:
    silent = [r["phrase"] for r in ELSEWHERE if not find(r["phrase"]).note.startswith("Eskret has nothing for ")]
    assert len(silent) <= len(ELSEWHERE) // 50, silent
    for row in ELSEWHERE:
        if row["offers"] and row["phrase"] not in silent:
            assert row["offers"] in [o.id for o in find(row["phrase"]).things], row["phrase"]
    assert not [r["phrase"] for r in PHRASES if find(r["phrase"]).note.startswith("Eskret has nothing")]
    assert {way for topic in topics() for way in topic.ways} <= set(all_operations())


@pytest.mark.parametrize(
    ("words", "first"), [("dissolve by postcode", "dissolve"), ("clip the contours", "clip"), ("only points above elevation 100", "keep")]
)
def test_a_thing_that_is_worked_on_is_not_taken_for_what_is_not_done(words: str, first: str) -> None:
    found = find(words)
    assert not found.note and found.things[0].id == first


@pytest.mark.parametrize(
    ("words", "with_layers", "first"),
    [
        ("gpx", False, "load"),
        ("only some", True, "keep"),
        ("filter", True, "keep"),
        ("export", True, "save"),
        ("geojson", True, "save"),
        ("geojson", False, "load"),
        ("json", False, "load"),
        ("write geopackage", True, "save"),
        ("", False, "load"),
        ("", True, "keep"),
        ("sav", True, "save"),
        ("bufer", True, "buffer"),
        ("disolve", None, "dissolve"),
        ("points to lines", True, "connect_points"),
        ("lines to points", True, "corner_points"),
        ("lines from areas", True, "outlines"),
        ("areas from lines", True, "enclose"),
    ],
)
def test_what_can_be_used_now_comes_first_and_the_direction_counts(words: str, with_layers: bool | None, first: str) -> None:
    assert find_operations(words, with_layers)[0].id == first


def test_words_that_fit_nothing_find_nothing_and_strange_ones_are_told() -> None:
    assert find_operations("xyzzy") == []
    assert "‘glorp’ or ‘xyzzy’" in find("glorp xyzzy buffer").note


@given(words=st.text(max_size=40))
def test_whatever_is_typed_is_answered(words: str) -> None:
    found = find(words)
    assert len(set(map(id, found.things))) == len(found.things)


def test_a_rare_word_weighs_more_than_a_common_one() -> None:
    index = Index([Entry("Common rare"), Entry("Common other"), Entry("Common more", also=("common rarity",)), Entry("Nothing")])
    assert index.ranked("common rare")[0][1] == 0
    assert said("convert KML into a shapefile").pairs == {("file format", "file format")}
    assert said("Areas → points").pairs == said("points from areas").pairs == {("=area", "=point")}


def test_what_is_found_by_is_learnt_once() -> None:
    find("step")
    before = index_of.cache_info().misses
    for end in range(1, 25):
        find("select features within 500"[:end])
    assert index_of.cache_info().misses == before
