"""Layers that are appended to and brought up to date: what becomes of every row, and what a GeoPackage says of it afterwards."""

from __future__ import annotations

import sqlite3
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from eskret.core.layer import Layer
from eskret.core.layer.wkb import encoded, slices
from eskret.errors import DeliveryError
from eskret.formats import geopackage, sources
from eskret.formats.geopackage import digest, metadata, triggers
from eskret.formats.geopackage.in_place import CHANGE, GeoPackageInPlace, LayerChange, Seen, keep_rows
from eskret.formats.geopackage.shapes import geometry_blobs
from eskret.operations.support.updating import update
from tests.length import examples

Rows = dict[str, tuple[int, int, str | None]]
ROWS = st.dictionaries(
    st.sampled_from("ABCDEFGH"), st.tuples(st.integers(0, 9), st.integers(0, 9), st.none() | st.text("xyz", max_size=2)), max_size=8
)


def layer(rows: Rows, key: str = "l") -> Layer:
    table = pa.table({"key": pa.array(rows, pa.string()), "text": pa.array([r[2] for r in rows.values()], pa.string())})
    shapes = np.array([shapely.box(x, y, x + 1, y + 1) for x, y, _ in rows.values()] + [None], object)[:-1]
    return Layer(key, table, shapes, "EPSG:32626")


def rows_of(made: Layer) -> list[tuple[str, float, float, str | None]]:
    assert made.geometry is not None
    boxes = shapely.bounds(made.geometry).reshape(-1, 4)
    return [(r["key"], b[0], b[1], r["text"]) for r, b in zip(made.table.to_pylist(), boxes, strict=True)]


@given(ROWS, ROWS)
def test_brought_up_to_date_is_what_a_dictionary_becomes(old: Rows, new: Rows) -> None:
    done = update(layer(old), layer(new), ["key"])
    assert {r[0]: (int(r[1]), int(r[2]), r[3]) for r in rows_of(done.layer)} == {**old, **new}
    assert [r[0] for r in rows_of(done.layer)][: len(old)] == list(old)  # those that were there keep their place
    assert len(done.added) + len(done.changed) + len(done.same) == len(new) and not len(done.unkeyed)
    assert {list(new)[n] for n in done.changed} == {k for k in new if k in old and new[k] != old[k]}


@given(ROWS, ROWS)
def test_appended_is_one_behind_the_other(old: Rows, new: Rows) -> None:
    done = update(layer(old), layer(new), [])
    assert rows_of(done.layer) == [*rows_of(layer(old)), *rows_of(layer(new))] and len(done.added) == len(new)


@settings(max_examples=examples(25), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(ROWS, ROWS, st.booleans())
def test_a_geopackage_holds_the_same_and_is_sound(tmp_path: Path, old: Rows, new: Rows, keyed: bool) -> None:
    """Changed row by row where they are, against what ``update`` makes of both in memory; SQLite checks its index itself."""
    path = tmp_path / "a.gpkg"
    path.unlink(missing_ok=True)
    with geopackage.writing(path) as container:
        container.add(layer(old), "l")
    before = digest.layer_digest(path, "l")
    there = sources.read(path, "l", "l").layer
    done = update(there, layer(new), ["key"] if keyed else [])
    ids = there.ids if there.ids is not None else np.arange(1, len(there) + 1)
    rows = np.concatenate([done.added, done.changed]).astype(np.int64)
    staged = tmp_path / "staged.gpkg"
    staged.unlink(missing_ok=True)
    with geopackage.writing(staged) as container:
        container.add(done.aligned.take(rows), "l")
    change = LayerChange("l", CHANGE, before, rows=len(rows), added=len(done.added))
    keep_rows(staged, path, change, ids[done.was].tolist())
    forward = GeoPackageInPlace(path, staged, [change], Seen.of(path))
    forward.prepare()
    assert digest.layer_digest(staged, "l")  # what is staged can be read meanwhile
    assert not forward.complete()
    assert forward.recover().already == [path], "what was committed is not done twice"
    assert sorted(rows_of(sources.read(path, "l", "l").layer), key=str) == sorted(rows_of(done.layer), key=str)
    with sqlite3.connect(path) as db:
        assert db.execute("PRAGMA integrity_check").fetchone() == ("ok",) and not db.execute("PRAGMA foreign_key_check").fetchall()
        assert db.execute("SELECT rtreecheck('rtree_l_geom')").fetchone() == ("ok",)
        boxes = db.execute("SELECT t.fid, minx, miny FROM rtree_l_geom r JOIN l t ON t.fid = r.id ORDER BY t.fid").fetchall()
    assert len(boxes) == len(done.layer)
    assert sorted(b[1:] for b in boxes) == sorted((r[1], r[2]) for r in rows_of(done.layer))
    back = GeoPackageInPlace(path, staged, [replace(forward.changes[0], undo=True)])
    back.prepare()
    assert not back.complete()
    assert digest.layer_digest(path, "l") == before
    with sqlite3.connect(path) as db:
        assert db.execute("SELECT rtreecheck('rtree_l_geom')").fetchone() == ("ok",)


def test_fields_that_only_one_side_has() -> None:
    old = Layer("l", pa.table({"key": ["A", "B"], "only_there": [1, 2]}))
    new = Layer("l", pa.table({"key": ["B", "C"], "only_here": ["b", "c"]}))
    done = update(old, new, ["key"])
    assert done.layer.table.to_pylist() == [
        {"key": "A", "only_there": 1, "only_here": None},
        {"key": "B", "only_there": 2, "only_here": "b"},
        {"key": "C", "only_there": None, "only_here": "c"},
    ]
    assert [r.text for r in done.remarks] == ["the layer that is there gets the field only_here"]


def test_keys_that_are_empty_or_several_have_are_left_out() -> None:
    old = Layer("l", pa.table({"key": ["A", "A", "B"], "n": [1, 2, 3]}))
    new = Layer("l", pa.table({"key": ["A", None, "B", "C", "C"], "n": [9, 9, 9, 9, 9]}))
    done = update(old, new, ["key"])
    assert done.unkeyed.tolist() == [0, 1, 3, 4] and [r["n"] for r in done.layer.table.to_pylist()] == [1, 2, 9]


def test_types_are_kept_or_widened_only_where_that_may_be() -> None:
    whole, broken = Layer("l", pa.table({"n": [1]})), Layer("l", pa.table({"n": [1.5]}))
    with pytest.raises(DeliveryError, match="'n' cannot be brought to the type that it has there"):
        update(whole, broken, [])
    assert update(whole, broken, [], widen=True).layer.table.column("n").to_pylist() == [1.0, 1.5]
    assert update(broken, whole, []).layer.table.column("n").to_pylist() == [1.5, 1.0]


@given(st.lists(st.sampled_from(["box", "point", "empty", "none"]), min_size=1, max_size=6))
def test_the_functions_of_the_index_are_those_of_shapes(kinds: list[str]) -> None:
    made = {"box": shapely.box(1, 2, 4, 8), "point": shapely.Point(3, 5), "empty": shapely.Polygon(), "none": None}
    shapes = np.array([*(made[k] for k in kinds), None], object)[:-1]
    blobs = slices(geometry_blobs(shapes, encoded(shapes), shapely.bounds(shapes), 4326))
    for blob, shape in zip(blobs, shapes, strict=True):
        assert triggers._is_empty(blob) == (None if shape is None else int(shape.is_empty))
        if shape is not None and not shape.is_empty:
            west, south, east, north = shape.bounds
            assert triggers._sides(blob) == (west, east, south, north)


def test_what_is_said_of_a_layer_is_said_once(tmp_path: Path) -> None:
    """GeoPackage 1.4, annex on metadata: both tables are registered, and a layer refers to the latest text alone."""
    path = tmp_path / "a.gpkg"
    with geopackage.writing(path) as container:
        container.add(layer({"A": (1, 1, None)}), "l")
        metadata.put_about(container, "l", {"title": "First", "description": "only this"})
        metadata.put_about(container, "l", {"title": "A & B", "licence": "CC0"})
        metadata.put_about(container, "l", {"description": "a description alone stands in the contents"})
    with sqlite3.connect(path) as db:
        found = db.execute("SELECT metadata, mime_type, md_scope FROM gpkg_metadata").fetchall()
        assert len(found) == 1 and "<dc:title>A &amp; B</dc:title><dc:rights>CC0</dc:rights>" in found[0][0]
        assert db.execute("SELECT count(*) FROM gpkg_metadata_reference").fetchone() == (1,)
        named = db.execute("SELECT table_name FROM gpkg_extensions WHERE extension_name = 'gpkg_metadata' ORDER BY 1").fetchall()
        assert named == [("gpkg_metadata",), ("gpkg_metadata_reference",)] and not db.execute("PRAGMA foreign_key_check").fetchall()
