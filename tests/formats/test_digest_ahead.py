"""A layer put into a GeoPackage by columns is what statements write, and the digest taken of its rows on their way is theirs."""

from __future__ import annotations

import datetime as dt
import re
import sqlite3
from contextlib import closing
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from eskret.core.layer import Layer
from eskret.formats import geopackage
from eskret.formats.geopackage import bulk, digest
from eskret.formats.geopackage.digest_ahead import DigestAhead
from tests.length import examples

KINDS = {
    "whole": (pa.int64(), st.integers(-(2**63), 2**63 - 1)),
    "small": (pa.int16(), st.integers(-(2**15), 2**15 - 1)),
    "number": (pa.float64(), st.floats(allow_nan=True, allow_infinity=True)),
    "short": (pa.float32(), st.floats(width=32)),
    "text": (pa.string(), st.text(st.characters(exclude_categories=["Cs"]), max_size=20)),
    "flag": (pa.bool_(), st.booleans()),
    "day": (pa.date32(), st.dates(dt.date(1, 1, 1), dt.date(9999, 12, 31))),
    "time": (pa.timestamp("us", "UTC"), st.datetimes(dt.datetime(1900, 1, 1), dt.datetime(2100, 1, 1), timezones=st.just(dt.UTC))),
    "bytes": (pa.binary(), st.binary(max_size=9)),
    "hour": (pa.time64("us"), st.times()),
    "list": (pa.list_(pa.int64()), st.lists(st.integers(0, 9), max_size=3)),
    "exact": (pa.decimal128(9, 2), st.decimals(-(10**6), 10**6, places=2)),
}
SHAPES = {
    "points": st.builds(shapely.Point, st.floats(-1e7, 1e7), st.floats(-1e7, 1e7)),
    "lines": st.builds(lambda x, y: shapely.LineString([(x, y), (x + 3, y), (x + 3, y + 2)]), st.floats(-1e7, 1e7), st.floats(-1e7, 1e7)),
    "areas": st.builds(
        lambda x, y: shapely.box(x, y, x + 5, y + 5).difference(shapely.box(x + 1, y + 1, x + 2, y + 2)), *[st.floats(0, 9e6)] * 2
    ),
    "parts": st.builds(lambda x: shapely.MultiPoint([(x, 1), (x, 2)]), st.floats(-1e7, 1e7)),
    "heights": st.builds(lambda x, z: shapely.LineString([(x, 1, z), (x, 2, 3)]), st.floats(-1e7, 1e7), st.floats(-1e3, 1e3)),
    "measures": st.sampled_from([*shapely.from_wkt(["LINESTRING M (0 0 1, 1 1 2)", "LINESTRING (0 0, 1 1)"])]),
    "nothing in it": st.sampled_from([shapely.Polygon(), shapely.box(0, 0, 1, 1)]),
}
WHERE = "data_type, min_x, min_y, max_x, max_y, srs_id"


@settings(max_examples=examples(90), deadline=None)
@given(st.data())
def test_it_is_that_of_the_file_and_of_what_statements_write(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    rows = data.draw(st.integers(1, 30))
    names = data.draw(st.lists(st.sampled_from(list(KINDS)), min_size=1, unique=True))
    columns = {n: pa.array(data.draw(st.lists(st.none() | KINDS[n][1], min_size=rows, max_size=rows)), KINDS[n][0]) for n in names}
    shape = data.draw(st.sampled_from([None, *SHAPES, "some none"]))
    one = SHAPES["points"] | st.none() if shape == "some none" else SHAPES.get(str(shape))
    shapes = None if one is None else np.array([*data.draw(st.lists(one, min_size=rows, max_size=rows)), None], object)[:-1]
    path = tmp_path_factory.mktemp("d") / "a.gpkg"
    with geopackage.writing(path):
        pass
    layer = Layer("a", pa.table(columns), shapes, None if shapes is None else "EPSG:32626")
    large = bulk.write_large(path, layer, "a")
    with geopackage.writing(path) as container:
        large.finish(container)
        container.add(layer, "b")
    assert large.digest is not None and {large.digest} == {digest.layer_digest(path, n) for n in "ab"}
    with closing(sqlite3.connect(path)) as db:
        assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        made = [re.sub('"[ab]"', "", db.execute("SELECT sql FROM sqlite_master WHERE name = ?", (n,)).fetchone()[0]) for n in "ab"]
        said = [db.execute(f"SELECT {WHERE} FROM gpkg_contents WHERE table_name = ?", (n,)).fetchone() for n in "ab"]
        assert made[0] == made[1] and said[0] == said[1]
        drawn = [db.execute("SELECT z, m FROM gpkg_geometry_columns WHERE table_name = ?", (n,)).fetchone() for n in "ab"]
        has = [] if shapes is None else [f(shapes[~shapely.is_missing(shapes)]) for f in (shapely.has_z, shapely.has_m)]
        if shape in ("heights", "measures", "areas"):
            assert drawn[0] == tuple(0 if not any(h) else 1 if all(h) else 2 for h in has)
        assert drawn[0] == drawn[1]
        trees = [[*db.execute(f"SELECT * FROM rtree_{n}_geom ORDER BY id")] for n in "ab"] if shapes is not None else []
        assert trees[:1] == trees[1:] and (not trees or db.execute("SELECT rtreecheck('rtree_a_geom')").fetchone() == ("ok",))


def test_it_is_not_believed_where_the_file_disagrees(tmp_path: Path) -> None:
    """A row changed, one more, another type: then the rows are read."""
    many = 3 * digest.BLOCK + 100
    table = pa.table({"n": pa.array(range(many)), "name": [f"bed {i}" for i in range(many)]})
    layer = Layer("a", table, shapely.points(np.random.default_rng(1).uniform(5e5, 6e5, (many, 2))), "EPSG:32626")

    def written(name: str) -> Path:
        path = tmp_path / f"{name}.gpkg"
        with geopackage.writing(path):
            pass
        assert bulk.write_large(path, layer, "a").digest == digest.layer_digest(path, "a")
        return path

    def ahead(path: Path) -> str | None:
        binary = pa.array(shapely.to_wkb(layer.geometry, byte_order=1, flavor="iso").tolist(), pa.binary())
        given = table.append_column("geom", binary)
        one = DigestAhead(given.schema, "geom", many)
        for batch in given.to_batches(max_chunksize=1_000):
            one.take(batch)
        return one.confirmed(path, "a")

    assert ahead(written("same")) == digest.layer_digest(tmp_path / "same.gpkg", "a")
    for name, change in {
        "value": "UPDATE a SET name = 'another' WHERE fid = 4097",
        "more": "INSERT INTO a (n, name) VALUES (1, 'x')",
        "fewer": "DELETE FROM a WHERE fid = 77",
        "number": f"UPDATE a SET fid = {many + 9} WHERE fid = 5",
    }.items():
        path = written(name)
        with sqlite3.connect(path) as db:
            for (trigger,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'a'").fetchall():
                db.execute(f'DROP TRIGGER "{trigger}"')
            db.execute(change)
        assert ahead(path) is None, name


def test_numbers_that_a_database_holds_otherwise(tmp_path: Path) -> None:
    """No zero has a sign there; whole numbers in a field of numbers are kept as such, and are numbers again when they are read."""
    values = [-0.0, 0.0, 3.0, -(2.0**53), 2.0**60, 1e300, float("inf"), float("nan"), 5e-324, None]
    with geopackage.writing(tmp_path / "a.gpkg"):
        pass
    found = bulk.write_large(tmp_path / "a.gpkg", Layer("a", pa.table({"v": pa.array(values, pa.float64())})), "a").digest
    assert found is not None and found == digest.layer_digest(tmp_path / "a.gpkg", "a")


def test_a_text_with_nothing_in_its_midst_is_whole(tmp_path: Path) -> None:
    with geopackage.writing(tmp_path / "a.gpkg"):
        pass
    found = bulk.write_large(tmp_path / "a.gpkg", Layer("a", pa.table({"t": ["a\0b", "c"]})), "a").digest
    assert found is not None and found == digest.layer_digest(tmp_path / "a.gpkg", "a")
