"""When two features are the same, and what tells them apart: both ways of asking must agree, whatever a service writes.

RFC 7946 leaves a writer free in where a ring begins and which way it runs; RFC 3339 in the zone of a time.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta, timezone
from typing import Any

import numpy as np
import orjson
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.layer import Layer
from eskret.services import difference, identity, likeness

VALUES = st.none() | st.booleans() | st.integers(-(10**6), 10**6) | st.floats(-1e6, 1e6) | st.text(max_size=6)
PROPERTIES = st.dictionaries(st.sampled_from("abcd"), VALUES, max_size=4)
PLACES = st.tuples(st.integers(-1790, 1790), st.integers(-890, 890))


def feature(properties: dict[str, Any], place: tuple[int, int] | None) -> dict[str, Any]:
    shape = None if place is None else {"type": "Point", "coordinates": [place[0] / 10, place[1] / 10]}
    return {"type": "Feature", "id": "x", "geometry": shape, "properties": properties}


@given(PROPERTIES, PROPERTIES, st.none() | PLACES, st.none() | PLACES)
def test_what_is_the_same_has_the_same_text_and_nothing_else_has(
    mine: dict[str, Any], theirs: dict[str, Any], here: tuple[int, int] | None, there: tuple[int, int] | None
) -> None:
    a, b = feature(mine, here), feature(theirs, there)
    texts = [t.partition(identity.SEPARATOR)[0] for t in identity.content_texts([a, b], 7)]
    assert likeness.same(a, b, 7) == (texts[0] == texts[1])
    assert likeness.same(a, a, 7) and likeness.same(a, b, 7) == likeness.same(b, a, 7)


@given(PROPERTIES, PLACES)
def test_what_a_service_may_write_otherwise_does_not_count(properties: dict[str, Any], place: tuple[int, int]) -> None:
    a = feature(properties, place)
    b = orjson.loads(orjson.dumps(a))
    b |= {"id": 7, "links": [], "bbox": [0, 0, 1, 1]}
    b["properties"] = {**{n: float(v) if type(v) is int else v for n, v in b["properties"].items() if v is not None}, "z": None}
    b["geometry"]["coordinates"] = [v + 2e-8 for v in b["geometry"]["coordinates"]]
    assert likeness.same(a, b, 7)
    b["geometry"]["coordinates"][0] += 1e-6
    assert not likeness.same(a, b, 7)


@given(st.integers(0, 5), st.booleans(), st.floats(-12, 12))
def test_rings_may_begin_elsewhere_and_times_be_of_another_zone(turn: int, back: bool, hours: float) -> None:
    ring = [[0, 0], [5, 0], [5, 3], [3, 4], [1, 4], [0, 2]]
    other = ring[turn:] + ring[:turn]
    if back:
        other = other[::-1]
    moment = datetime(2031, 9, 3, 6, 40, 1, tzinfo=UTC)
    zone = timezone(timedelta(minutes=round(hours * 60)))
    a, b = (
        {"type": "Feature", "geometry": {"type": "Polygon", "coordinates": [[*r, r[0]]]}, "properties": {"seen": t}}
        for r, t in ((ring, "2031-09-03T06:40:01Z"), (other, moment.astimezone(zone).isoformat()))
    )
    assert likeness.same(a, b, 7)
    assert identity.content_texts([a, b], 7)[0][:32] == identity.content_texts([a, b], 7)[1][:32]
    b["properties"]["seen"] = "2031-09-03T06:40:02Z"
    assert not likeness.same(a, b, 7)


@pytest.mark.parametrize(
    ("a", "b", "same"),
    [
        (1, 1.0, True),
        (1, True, False),
        (0, False, False),
        ("1", 1, False),
        ("2031-01-02", "2031-01-02T00:00:00Z", False),
        ("2031-13-02", "2031-13-02", True),
        (0.1 + 0.2, 0.3, True),
        (None, "", False),
        ([1], [1], True),
        ([1], [2], False),
        ("2031-01-02T00:00:00", "2031-01-02T00:00:00+00:00", True),
        ("a", "A", False),
    ],
)
def test_values(a: Any, b: Any, same: bool) -> None:
    assert likeness.same_value(a, b) is same and likeness.same_value(b, a) is same


def test_only_ones_own_fields_count_where_that_is_said() -> None:
    a, b = feature({"bed": "A", "by": "us"}, (1, 1)), feature({"bed": "A", "by": "them", "at": 7}, (1, 1))
    assert not likeness.same(a, b, 7) and likeness.same(a, b, 7, frozenset(["bed"]))
    assert not likeness.same(a, b, 7, frozenset(["bed", "at"])) and likeness.same(None, None, 7) and not likeness.same(a, None, 7)


@given(st.lists(PROPERTIES, max_size=8), st.lists(PROPERTIES, max_size=8))
def test_those_just_alike_are_numbered_on(first: list[dict[str, Any]], then: list[dict[str, Any]]) -> None:
    known = identity.content_texts([feature(p, (1, 1)) for p in first], 7)
    more = identity.content_texts([feature(p, (1, 1)) for p in then], 7, after=identity.counts(known))
    assert len({*known, *more}) == len(known) + len(more)
    assert sum(identity.counts([*known, *more]).values()) == len(first) + len(then)
    for text in more:
        digest, number = text.partition(identity.SEPARATOR)[0], identity.number_of(text)
        assert number == 1 or f"{digest}{identity.SEPARATOR}{number - 1}" in {*known, *more}


@given(st.lists(st.none() | st.integers(0, 99) | st.floats(0, 99) | st.sampled_from([" A ", "A", "", " "]), max_size=12))
def test_keys_are_read_alike_from_tables_and_from_features(values: list[Any]) -> None:
    """A key is the same text whether it comes from a column or from JSON."""
    for kind in (int, float, str):
        held = [v if type(v) is kind else None for v in values]
        types = {int: pa.int64(), float: pa.float64(), str: pa.string()}
        table = pa.table({"k": pa.array(held, types[kind])})  # type: ignore[index]
        texts = identity.key_texts(table, ["k"]).to_pylist()
        assert texts == [identity.key_of(feature({"k": v}, None), ["k"]) for v in held]


def test_keys_of_several_fields() -> None:
    table = pa.table({"a": ["x", "x", None], "n": [1, 2, 3]})
    assert identity.key_texts(table, ["a", "n"]).to_pylist() == ["x · 1", "x · 2", None]
    assert identity.key_of(feature({"a": "x", "n": 2}, None), ["a", "n"]) == "x · 2"


KEYS = st.dictionaries(
    st.sampled_from("ABCDEFGH"), st.tuples(PLACES, st.none() | st.integers(0, 9), st.none() | st.text(max_size=3)), max_size=8
)
Rows = dict[str, tuple[tuple[int, int], int | None, str | None]]


def as_layer(rows: Rows) -> Layer:
    table = pa.table(
        {
            "key": pa.array(rows, pa.string()),
            "n": pa.array([r[1] for r in rows.values()], pa.int64()),
            "t": pa.array([r[2] for r in rows.values()], pa.string()),
        }
    )
    shapes = np.array([shapely.Point(x / 10, y / 10) for (x, y), _, _ in rows.values()] + [None], object)[:-1]
    return Layer("l", table, shapes, "OGC:CRS84")


def as_features(rows: Rows) -> list[dict[str, Any]]:
    return [feature({"key": k, "n": n, "t": t}, place) for k, (place, n, t) in rows.items()]


@given(KEYS, KEYS, st.booleans())
def test_a_difference_is_what_two_dictionaries_differ_in(old: Rows, new: Rows, remove: bool) -> None:
    d = difference.take(as_layer(new), difference.published(as_features(old)), mode="update", key=["key"], remove=remove)
    names = list(new)
    assert {names[n] for n in d.found.added} == new.keys() - old.keys()
    assert {names[n] for n in d.found.changed} == {k for k in new.keys() & old.keys() if new[k] != old[k]}
    assert {list(old)[n] for n in d.found.removed} == (old.keys() - new.keys() if remove else set())
    assert d.same == len(new) - len(d.found.added) - len(d.found.changed)
    state = {k: dict(f["properties"], at=f["geometry"]["coordinates"]) for k, f in zip(old, as_features(old), strict=True)}
    for key, change in d.entries:  # carried out one by one, they make of the old what the new is
        if change.wanted is None:
            del state[key]
        else:
            state[key] = dict(change.wanted["properties"], at=change.wanted["geometry"]["coordinates"])
    wanted = {k: dict(f["properties"], at=f["geometry"]["coordinates"]) for k, f in zip(new, as_features(new), strict=True)}
    assert state == (wanted if remove else {**{k: v for k, v in state.items() if k not in new}, **wanted})


@pytest.mark.parametrize(("held", "most", "found"), [([0.5, 1.25], 7, 4), ([0.123456], 7, 6), ([0.12345678], 7, 7), ([], 7, 7)])
def test_what_a_service_rounds_away_is_no_change(held: list[float], most: int, found: int) -> None:
    shapes = np.array([shapely.Point(v, 1) for v in held] + [None], object)[:-1]
    assert difference.decimals_held(shapes, most) == found


def test_shapes_come_of_their_coordinates_at_once_or_one_by_one() -> None:
    rng = np.random.default_rng(3)
    rings = [shapely.Polygon(rng.random((5, 2)), [rng.random((4, 2))] if n % 2 else None) for n in range(9)]
    kinds = [
        rings,
        [shapely.Point(*p) for p in rng.random((7, 2))],
        [shapely.Point(1, 2, 3)],
        [*rings, shapely.Point(1, 1)],
        [shapely.MultiPolygon(rings[:1])],
        [shapely.LineString(rng.random((3, 2)))],
    ]
    for shapes in kinds:
        told = [orjson.loads(shapely.to_geojson(s)) for s in shapes]
        assert all(a.equals_exact(b, 0) and a.has_z == b.has_z for a, b in zip(difference.shapes_of(told), shapes, strict=True))
    odd = [None, {"type": "Polygon", "coordinates": []}, {"type": "Point", "coordinates": ["x"]}, {"type": "Nothing"}]
    assert [s is None for s in difference.shapes_of(odd)] == [True, False, True, True]
