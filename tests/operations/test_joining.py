"""Joins with leftovers on both sides, word lists, computed fields: nothing is matched, lost or changed in silence."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from geographiclib.geodesic import Geodesic
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.accounts.account import Relation
from eskret.core.tables.matching import diagnose
from eskret.core.wordlist import WordEntry, draft, suggested
from eskret.errors import InputError
from eskret.formats.wordlist_file import read_list, write_list
from tests.operations.helpers import E, N, aside, do, layer_of, refused, rows, said, square, table_of


def altered(outcome) -> dict[str, int]:
    return {a.what: len(a) for a in outcome.inputs[0].altered}


def test_two_lists_of_nearly_the_same_countries_leave_something_on_either_side() -> None:
    """Facts of the trade (common practice): 217 rows against 219 join with leftovers on both sides, and both are counted."""
    left = layer_of([square(0, 0)] * 217, code=[f"C{i:03d}" for i in range(217)])
    right = table_of(code=[f"C{i:03d}" for i in range(4, 223)], people=list(range(219)))
    outcome = do("join_table", left, table=right, key="code")
    assert altered(outcome) == {"no row of the table has its key": 4} and aside(outcome, 1) == {"no feature has its key": 6}
    assert rows(outcome, "people")[:6] == [None] * 4 + [0, 1] and "213 features found their row" in said(outcome)
    control = outcome.outputs[0].controls[0]
    assert control.name == "sum of people in the table" and control.expected == sum(range(219))
    dropped = do("join_table", left, table=right, key="code", without="aside")
    assert aside(dropped) == {"no row of the table has its key": 4} and len(dropped.layers[0]) == 213


def test_keys_that_a_person_would_take_for_the_same_are_found_and_offered() -> None:
    left = layer_of([square(0, 0)] * 5, bed=["007", " 12", "a 1", "B2", None])
    right = table_of(bed=["7", "12", "A  1", "b2"], t=[1, 2, 3, 4])
    found = diagnose(left.table.column("bed"), right.table.column("bed"))
    assert (found.found, found.repaired, set(found.repairs)) == (0, 4, {"blanks", "case", "zeros"})
    outcome = do("join_table", left, table=right, key="bed", alike=list(found.repairs))
    assert rows(outcome, "bed", "t") == [("007", 1), (" 12", 2), ("a 1", 3), ("B2", 4), (None, None)]
    assert altered(outcome) == {"its key is empty": 1}
    numbers = table_of(bed=[7, 12], t=[1, 2])
    assert "different types" in refused("join_table", left, table=numbers, key="bed")
    mixed = do("join_table", left, table=numbers, key="bed", alike=["types", "blanks", "zeros"])
    assert rows(mixed, "t")[:2] == [1, 2]


@pytest.mark.parametrize(
    ("several", "expected"),
    [
        ("first", [(1, 5, "x"), (2, 9, "z")]),
        ("list", [(1, "5, 6", "x, y"), (2, "9", "z")]),
        ("sum", [(1, 11, "x, y"), (2, 9, "z")]),
        ("repeat", [(1, 5, "x"), (1, 6, "y"), (2, 9, "z")]),
    ],
)
def test_several_rows_with_one_key(several: str, expected: list) -> None:
    right = table_of(n=[1, 2, 1], landed=[5, 9, 6], who=["x", "z", "y"])
    outcome = do("join_table", layer_of([square(0, 0)] * 2, n=[1, 2]), table=right, key="n", several=several)
    assert rows(outcome, "n", "landed", "who") == expected
    assert aside(outcome, 1) == ({"another row with its key came first": 1} if several == "first" else {})
    assert outcome.relation is (Relation.MULTIPLIED if several == "repeat" else Relation.ONE_FOR_ONE)
    assert "1 key stands in several rows" in said(outcome)


keys = st.lists(st.one_of(st.none(), st.integers(0, 6)), max_size=25)


@given(keys, keys, st.sampled_from(["first", "list", "sum", "repeat"]), st.sampled_from(["keep", "aside"]))
def test_both_sides_of_a_join_are_accounted_for(left: list, right: list, several: str, without: str) -> None:
    outcome = do(
        "join_table",
        table_of(k=pa.array(left, pa.int64())),
        several=several,
        without=without,
        key="k",
        table=table_of(k=pa.array(right, pa.int64()), v=pa.array(range(len(right)), pa.int64())),
    )
    known = {k for k in right if k is not None}
    kept = [k for k in left if without == "keep" or k in known]
    times = [max(1, right.count(k)) if k in known and several == "repeat" else 1 for k in kept]
    assert rows(outcome, "k") == [k for k, n in zip(kept, times, strict=True) for _ in range(n)]
    theirs = outcome.inputs[1]
    taken = [k for k in right if k in set(left) - {None}]
    assert theirs.used == (len(set(taken)) if several == "first" else len(taken))


def test_joined_by_place_counted_and_nearest() -> None:
    districts = layer_of([square(0, 0), square(1000, 0)], key="d", name=["West", "East"], tonnes=[3, 4])
    beds = layer_of([square(100, 100, 100), square(900, 100, 400), square(5000, 0, 10), None])
    first = do("join_by_place", beds, other=districts, fields=["name"])
    assert rows(first, "name") == ["West", "West", None, None] and "1 feature found several" in said(first)
    most = do("join_by_place", beds, other=districts, relation="most", fields=["name"])
    assert rows(most, "name") == ["West", "East", None, None]
    total = do("join_by_place", beds, other=districts, several="sum")
    assert rows(total, "name", "tonnes")[1] == ("West, East", 7)
    each = do("join_by_place", beds, other=districts, several="repeat", without="aside", fields=["name"])
    assert rows(each, "n", "name") == [(0, "West"), (1, "West"), (1, "East")]
    assert aside(each) == {"nothing of the other layer lies there": 1, "has no geometry": 1}
    points = layer_of([shapely.Point(E + x, N + 50) for x in (10, 20, 1500, 9000)], key="p", kg=[1, 2, 3, 4])
    counted = do("count_in_areas", districts, other=points, figures={"kg": "sum kg", "all": "list kg"})
    assert rows(counted, "count", "kg", "all") == [(2, 3, "1, 2"), (1, 3, "3")] and aside(counted, 1) == {"lies in no area": 1}
    near = do("nearest", points, other=districts, fields=["name"], unit="km")
    assert rows(near, "name", "distance_km")[2:] == [("East", 0.0), ("East", 7.0)]
    limited = do("nearest", points, other=districts, fields=["name"], within="1 km", without="aside")
    assert rows(limited, "kg") == [1, 2, 3] and aside(limited) == {"nothing of the other layer is near enough": 1}


def test_nearest_on_the_globe_is_in_metres() -> None:
    a, b = (layer_of([shapely.Point(-26.2, 46.9)], "EPSG:4326"), layer_of([shapely.Point(-26.1, 46.95)], "EPSG:4326", "x"))
    found = rows(do("nearest", a, other=b), "distance_m")[0]
    assert found == pytest.approx(Geodesic.WGS84.Inverse(46.9, -26.2, 46.95, -26.1)["s12"], rel=1e-6)


def test_summaries_order_columns_and_fields() -> None:
    layer = layer_of([square(0, 0)] * 5, kind=["a", "b", "a", None, "b"], t=[1.5, 2, None, 4, 5], d=["x", "x", "y", "x", "y"])
    total = do("summarise", layer, by=["kind"], figures={"t": "sum t", "n": "count", "mid": "median t", "s": "sd t", "last": "last d"})
    assert rows(total, "kind", "t", "n", "mid", "last") == [("a", 1.5, 2, 1.5, "y"), ("b", 7.0, 2, 3.5, "y"), (None, 4.0, 1, 4.0, "x")]
    assert rows(total, "s") == [None, pytest.approx(np.std([2, 5], ddof=1)), None] and total.layers[0].geometry is None
    assert rows(do("sort", layer, by=["kind", "t down"]), "kind", "t") == [("a", 1.5), ("a", None), ("b", 5), ("b", 2), (None, 4)]
    wide = do("pivot", layer, by=["kind"], columns="d", cell="sum t")
    assert rows(wide, "kind", "x", "y") == [("a", 1.5, None), ("b", 2.0, 5.0), (None, 4.0, None)]
    assert wide.outputs[0].controls[0].expected == 12.5
    changed = do("arrange_fields", layer, keep=["t", "kind"], rename={"kind": "sort"}, types={"t": "whole"}, titles={"t": "Tonnes"})
    assert changed.layers[0].table.column_names == ["t", "sort"] and rows(changed, "t") == [2, 2, None, 4, 5]
    assert "1 value were rounded" in said(changed) and changed.layers[0].titles == {"t": "Tonnes"}
    lost = do("arrange_fields", layer, types={"kind": "number"}, drop=["d"])
    assert rows(lost, "kind") == [None] * 5 and "'kind': 4 values cannot be number, such as 'a' and 'b'" in said(lost)


def test_a_sum_that_no_whole_number_can_hold_is_refused() -> None:
    with pytest.raises(Exception, match="larger than a whole number can be"):
        do("summarise", table_of(n=[2**62, 2**62, 2**62]), figures={"n": "sum n"})


def test_computed_fields_divide_as_an_analyst_expects_and_say_which_rows_fail() -> None:
    layer = table_of(a=["7", "x", None, "9"], n=[7, 8, 0, 2])
    outcome = do("compute", layer, field="half", value="n / 2")
    assert rows(outcome, "half") == [3.5, 4.0, 0.0, 1.0]
    assert rows(do("compute", layer, field="n", value="n // 2", type="whole"), "n") == [3, 4, 0, 1]
    failing = do("compute", layer, field="b", value="CAST(a AS INTEGER) + n")
    assert rows(failing, "b") == [14, None, None, 11]
    assert "1 row could not be worked out" in said(failing) and failing.inputs[0].altered[0].rows.tolist() == [1]
    assert rows(do("compute", layer, field="z", value="1 / n"), "z")[2] is None
    assert "there is no field 'm'" in refused("compute", layer, field="b", value="m + 1")
    assert "cannot be read as one" in refused("compute", table_of(a=["x"]), field="b", value="CAST('x' AS INTEGER)")


SPELLINGS = [
    ("Sand", 40),
    ("Mud", 30),
    ("sand", 9),
    ("Sandy ", 3),
    ("gravel (coarse)", 4),
    ("Gravel coarse", 2),
    ("Røck", 2),
    ("Rock", 9),
    ("Bed 12", 5),
    ("Bed 13", 5),
]


def test_near_spellings_are_grouped_and_numbers_are_not() -> None:
    ordered = sorted(SPELLINGS, key=lambda s: -s[1])
    words = suggested(ordered)
    assert words["sand"] == "Sand" and words["Røck"] == "Rock" and words["Gravel coarse"] == "gravel (coarse)"
    assert words["Bed 12"] == "Bed 12" and words["Bed 13"] == "Bed 13" and words["Mud"] == "Mud"
    column = pa.chunked_array([pa.array([s for s, n in SPELLINGS for _ in range(n)])])
    earlier = [WordEntry("bottom", "Sand", 1, "Sand", "SAND"), WordEntry("bottom", "Kelp", 7, "Kelp", "Weed")]
    entries = {e.spelling: e for e in draft({"bottom": column}, earlier)}
    assert entries["Sand"].word == "SAND" and entries["sand"].suggestion == "SAND", "decisions are kept and used for what is like them"
    assert entries["Kelp"].count == 0 and entries["Kelp"].use == "Weed" and entries["Mud"].word == ""


def test_a_word_list_goes_to_a_file_and_into_several_fields(tmp_path: Path) -> None:
    layer = layer_of([square(0, 0)] * 4, bottom=["Sand", "sand", "Mudd", None], under=["Mud", "Mud", "Sand", "Sand"])
    drafted = do("draft_words", [layer], fields=["bottom", "under"])
    table = drafted.layers[0].table
    assert table.column_names == ["field", "spelling", "count", "suggestion", "word"] and len(table) == 6
    entries = [WordEntry(**{k: v or "" for k, v in r.items() if k != "count"}, count=r["count"]) for r in table.to_pylist()]
    entries = [e for e in entries if e.spelling != "Mudd"]
    write_list(tmp_path / "words.csv", entries)
    assert read_list(tmp_path / "words.csv") == entries
    outcome = do("apply_words", layer, tmp_path, words="words.csv", fields=["bottom", "under"])
    assert rows(outcome, "bottom_tidy")[:3] == ["Sand", "Sand", "Mudd"] and rows(outcome, "bottom")[1] == "sand"
    assert "'bottom': 1 value not in the list, such as Mudd (1)" in said(outcome)
    over = do("apply_words", layer, tmp_path, words="words.csv", fields=["bottom"], ending="")
    assert rows(over, "bottom") == ["Sand", "Sand", "Mudd", None]
    (tmp_path / "bad.csv").write_text("a,b,c\n1,2,3\n")
    with pytest.raises(InputError, match="no column 'field', and not just two"):
        read_list(tmp_path / "bad.csv")


def test_letters_changed_about_and_what_is_short_for_a_word() -> None:
    found = [
        ("Road", 40),
        ("Harbour Road", 30),
        ("Rd", 20),
        ("Raod", 2),
        ("Harbour Rd", 2),
        ("Hbr Road", 1),
        ("Harbuor Road", 1),
        ("Bed", 9),
        ("Bd", 1),
        ("Bud", 9),
        ("Plot 12", 3),
        ("Plt 13", 1),
        ("Ro", 1),
    ]
    words = suggested(found)
    assert words["Raod"] == words["Rd"] == "Road"
    assert words["Harbour Rd"] == words["Hbr Road"] == words["Harbuor Road"] == "Harbour Road"
    assert words["Bd"] == "Bd", "short for two words, and so for none"
    assert words["Plt 13"] == "Plt 13" and words["Ro"] == "Ro" and words["Bud"] == "Bud"


def test_thousands_of_spellings_with_letters_changed_about_come_to_their_words() -> None:
    chance = random.Random(1)
    letters = ["".join(chance.choices("abcdefghijklmnop", k=chance.randint(5, 14))) for _ in range(4_000)]
    found = [(w, 4_000 - n) for n, w in enumerate(dict.fromkeys(letters))]
    wrong = {w[:2] + w[3] + w[2] + w[4:]: w for w, _ in found[:1_000] if w[2] != w[3]}
    words = suggested([*found, *((w, 1) for w in wrong if w not in dict(found))])
    right = sum(words[w] == words[of] for w, of in wrong.items())
    assert right > 0.95 * len(wrong)


def test_empty_texts_and_features_without_a_value_are_settled_too(tmp_path: Path) -> None:
    layer = layer_of([square(0, 0)] * 6, bottom=["Sand", "", None, "n/a", " ", "Sand"])
    table = do("draft_words", [layer], fields=["bottom"]).layers[0].table
    drafted = {r["spelling"]: r for r in table.to_pylist()}
    assert set(drafted) == {"Sand", "", "n/a", " ", "(no value)"} and drafted["(no value)"]["count"] == 1
    entries = [WordEntry("bottom", s, r["count"], r["suggestion"]) for s, r in drafted.items()]
    write_list(tmp_path / "words.csv", entries)
    before = do("apply_words", layer, tmp_path, words="words.csv", fields=["bottom"], ending="")
    assert rows(before, "bottom") == ["Sand", "", None, "n/a", " ", "Sand"]  # nothing is settled
    settled = {"n/a": "(empty)", "": "unknown", "(no value)": "never asked"}
    write_list(tmp_path / "words.csv", [replace(e, word=settled.get(e.spelling, "")) for e in entries])
    after = do("apply_words", layer, tmp_path, words="words.csv", fields=["bottom"], ending="")
    assert rows(after, "bottom") == ["Sand", "unknown", "never asked", None, " ", "Sand"]
    assert "1 of them emptied" in said(after)


@pytest.mark.parametrize(
    ("text", "encoding"), [("mudd,Mud\nsand,Sand\n", "utf-8"), ("mudd;Mud\nRøck;Røck\n", "cp1252"), ("mudd\tMud\nsand\tSand\n", "utf-16")]
)
def test_somebodys_list_of_two_columns_is_taken_as_it_is(tmp_path: Path, text: str, encoding: str) -> None:
    (tmp_path / "theirs.csv").write_bytes(text.encode(encoding))
    layer = layer_of([square(0, 0)] * 2, bottom=["mudd", "Mud"], under=["x", "mudd"])
    outcome = do("apply_words", layer, tmp_path, words="theirs.csv", fields=["bottom", "under"])
    assert rows(outcome, "bottom_tidy") == ["Mud", "Mud"] and rows(outcome, "under_tidy") == ["x", "Mud"]
    assert all(e.field == "" for e in read_list(tmp_path / "theirs.csv"))


def test_points_become_lines_and_their_pace() -> None:
    begun = datetime(2031, 9, 3, 6, tzinfo=UTC)
    minutes = [0, 2, 1, 30, 31, 31, 5, 7]
    layer = layer_of(
        [*(shapely.Point(E + 100 * m, N) for m in minutes[:6]), shapely.Point(E, N), None],
        boat=["a"] * 6 + ["b", "b"],
        time=[begun + timedelta(minutes=m) for m in minutes],
    )
    outcome = do("connect_points", layer, by=["boat"], order="time", gap_time="10 min")
    assert rows(outcome, "boat", "points") == [("a", 3), ("a", 3)] and rows(outcome, "start")[0] == begun
    assert shapely.length(outcome.layers[0].geometry).tolist() == [200, 100]
    assert aside(outcome) == {"has no geometry": 1, "stands alone: a line wants two points, an area three": 1}
    assert outcome.into.tolist() == [0, 0, 0, 1, 1, 1, -1, -1]
    pace = do("pace", layer, time="time", by=["boat"])
    assert sorted(rows(pace, "leg_m")) == [0, 100, 100, 100, 2800] and sorted(rows(pace, "leg_s")) == [0, 60, 60, 60, 1680]
    speeds = [s for s in rows(pace, "speed_kmh") if s is not None]
    assert speeds == pytest.approx([6, 6, 6, 6]) and "a: 3.10 km in 31 min 00 s, 6.0 km/h" in said(pace)
    assert "1 point at the same time as the one before" in said(pace)
    points = do("pace", layer, time="time", by=["boat"], draw="points", unit="kn", pause="10 km/h")
    assert len(points.layers[0]) == 8 and rows(points, "pause").count(True) == 4
    area = do("connect_points", layer_of([shapely.Point(E, N), shapely.Point(E + 9, N), shapely.Point(E + 9, N + 9)]), by=[], shape="area")
    assert area.layers[0].geometry[0].area == 40.5


def test_legs_on_the_globe_follow_the_ellipsoid() -> None:
    layer = layer_of(
        [shapely.Point(-26, 47), shapely.Point(-25, 47.5)], "EPSG:4326", time=[datetime(2031, 1, 1, h, tzinfo=UTC) for h in (0, 1)]
    )
    metres = Geodesic.WGS84.Inverse(47, -26, 47.5, -25)["s12"]
    assert rows(do("pace", layer, time="time", by=[], unit="kn"), "leg_m", "speed_kn")[0] == pytest.approx(
        (metres, metres / 1852), rel=1e-9
    )
