"""GeoPackage against OGC 12-128r19 (1.4), by plain sqlite3, and read back by GDAL."""

from __future__ import annotations

import datetime as dt
import sqlite3
import struct
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyogrio
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret import write
from eskret.core.layer import Layer
from eskret.errors import DeliveryError, InputError, StoppedError
from eskret.formats import geopackage, vector
from eskret.formats.geopackage import bulk, digest, digest_earlier, reader, rtree, sections
from tests.conftest import points, squares

ALL_TYPES = {
    "whole": pa.array([2**53 + 1, None, -7], pa.int64()),
    "number": pa.array([1.5, None, float("nan")]),
    "flag": pa.array([True, None, False]),
    "text": pa.array(["a 'quoted' \"text\"", None, ""]),
    "day": pa.array([dt.date(2031, 9, 3), None, dt.date(1, 1, 1)]),
    "moment": pa.array([dt.datetime(2031, 9, 3, 10, 0, 0, 250_000, dt.UTC), None, None], pa.timestamp("ms", "UTC")),
    "raw": pa.array([b"\x00\xff", None, b""]),
    "select": pa.array(["sql word", None, "x"]),
    'odd "name" 🦪': pa.array(["x", "y", None]),
    "fid": pa.array([10, 20, 30]),
    "geom": pa.array(["taken", None, "too"]),
}


@pytest.fixture
def written(tmp_path: Path) -> Path:
    path = tmp_path / "all.gpkg"
    with geopackage.writing(path) as container:
        container.add(points(ALL_TYPES), "marks", "Every type")
        container.add(squares(5000), "beds")
        container.add(Layer("t", pa.table({"a": [1, 2]})), "plain")
        container.add(squares(1).take(np.empty(0, np.int64)), "nothing")
    return path


def test_the_file_says_what_it_is(written: Path) -> None:
    raw = written.read_bytes()
    assert raw[:16] == b"SQLite format 3\x00"  # requirement 1
    assert raw[68:72] == b"GPKG" and struct.unpack(">I", raw[60:64])[0] == 10400  # requirement 2


def test_required_tables_and_rows(written: Path) -> None:
    db = sqlite3.connect(written)
    assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)]  # requirement 6
    assert db.execute("PRAGMA foreign_key_check").fetchall() == []  # requirement 7
    ids = {row[0] for row in db.execute("SELECT srs_id FROM gpkg_spatial_ref_sys")}
    assert {-1, 0, 4326, 32626} <= ids  # requirement 11
    contents = dict(db.execute("SELECT table_name, data_type FROM gpkg_contents"))
    assert contents == {"marks": "features", "beds": "features", "plain": "attributes", "nothing": "features"}
    stamps = [r[0] for r in db.execute("SELECT last_change FROM gpkg_contents")]
    assert all(dt.datetime.strptime(s, "%Y-%m-%dT%H:%M:%S.%fZ") for s in stamps)  # requirement 15
    rows = db.execute("SELECT table_name, geometry_type_name, srs_id, z, m FROM gpkg_geometry_columns").fetchall()
    assert sorted(rows) == [("beds", "POLYGON", 32626, 0, 0), ("marks", "POINT", 32626, 0, 0), ("nothing", "POLYGON", 32626, 0, 0)]
    key = [r for r in db.execute('PRAGMA table_info("marks")') if r[5]]
    assert len(key) == 1 and key[0][2] == "INTEGER" and key[0][1] not in ALL_TYPES  # requirement 29
    assert db.execute("SELECT count(*) FROM gpkg_extensions WHERE extension_name = 'gpkg_rtree_index'").fetchone() == (3,)
    db.close()


def test_geometry_headers(written: Path) -> None:
    db = sqlite3.connect(written)
    blob = db.execute("SELECT geom FROM beds WHERE id = 3").fetchone()[0]
    db.close()
    assert blob[:2] == b"GP" and blob[2] == 0  # requirement 19: magic, version 1
    flags, srs = blob[3], struct.unpack("<i", blob[4:8])[0]
    assert flags & 1 and (flags >> 1) & 7 == 1 and not flags >> 4 & 1 and srs == 32626  # little-endian, xy envelope
    box = struct.unpack("<4d", blob[8:40])
    square = shapely.from_wkb(blob[40:])
    assert (box[0], box[2], box[1], box[3]) == square.bounds


def test_the_rtree_is_sound_and_finds_what_is_there(written: Path) -> None:
    db = sqlite3.connect(written)
    for name in ("rtree_beds_geom", "rtree_nothing_geom"):
        assert db.execute(f"SELECT rtreecheck('{name}')").fetchone() == ("ok",)
    hits = db.execute("SELECT count(*) FROM rtree_beds_geom WHERE maxx >= 500995 AND minx <= 501025").fetchone()
    assert hits == (4,)
    names = {r[0] for r in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'beds'")}
    # annex F.3 of version 1.4
    kinds = ("insert", "update2", "update4", "update5", "update6", "update7", "delete")
    assert names == {f"rtree_beds_geom_{kind}" for kind in kinds}
    db.close()


boxes = st.lists(st.tuples(st.floats(-1e7, 1e7), st.floats(-1e7, 1e7), st.floats(0, 1e5), st.floats(0, 1e5)), max_size=400)


@given(boxes)
def test_a_packed_rtree_holds_any_boxes_and_can_be_changed(found: list[tuple[float, float, float, float]]) -> None:
    bounds = np.array([(x, y, x + w, y + h) for x, y, w, h in found]).reshape(-1, 4)
    db = sqlite3.connect(":memory:")
    db.execute("CREATE VIRTUAL TABLE t USING rtree(id, minx, maxx, miny, maxy)")
    rtree.fill(db, "t", np.arange(len(bounds)) + 1, rtree.rounded(bounds))
    assert db.execute("SELECT rtreecheck('t')").fetchone() == ("ok",)
    stored = {r[0]: r[1:] for r in db.execute("SELECT id, minx, maxx, miny, maxy FROM t")}
    assert len(stored) == len(bounds)
    for i, (x0, y0, x1, y1) in enumerate(bounds, 1):
        a, b, c, d = stored[i]
        assert a <= x0 and b >= x1 and c <= y0 and d >= y1
    for i in range(1, len(bounds) + 1, 2):
        db.execute("DELETE FROM t WHERE id = ?", (i,))
        db.execute("INSERT INTO t VALUES (?, 0, 1, 0, 1)", (i + 1000,))
    assert db.execute("SELECT rtreecheck('t')").fetchone() == ("ok",)
    db.close()


def test_gdal_reads_back_every_type_and_geometry(written: Path) -> None:
    original = points(ALL_TYPES)
    layer = vector.read(written, "marks", "marks").layer
    assert layer.crs == "EPSG:32626" and layer.geometry is not None and original.geometry is not None
    assert shapely.equals_identical(layer.geometry, original.geometry).all()
    for name, values in ALL_TYPES.items():
        found = layer.table.column(name).to_pylist()
        if name == "number":
            assert found[:2] == [1.5, None]  # SQLite has no NaN: it becomes null
        else:
            assert found == values.to_pylist(), name
    assert pyogrio.read_info(written, layer="beds")["features"] == 5000
    hits = pyogrio.read_dataframe(written, layer="beds", bbox=(500_995, 5_200_000, 501_025, 5_200_010))
    assert sorted(hits["id"]) == [99, 100, 101, 102]


def test_gdal_can_edit_what_was_written(written: Path) -> None:
    frame = pyogrio.read_dataframe(written, layer="beds").head(2)
    pyogrio.write_dataframe(frame, written, layer="beds", append=True)
    assert pyogrio.read_info(written, layer="beds")["features"] == 5002
    db = sqlite3.connect(written)
    assert db.execute("SELECT count(*) FROM rtree_beds_geom").fetchone() == (5002,)
    db.close()


def test_single_and_multiple_parts_become_multiple_and_z_is_declared(tmp_path: Path) -> None:
    path = tmp_path / "z.gpkg"
    parts = np.array([shapely.Point(1, 2, 3), shapely.MultiPoint([(4, 5, 6)]), None, shapely.Point()], dtype=object)
    mixed = np.array([shapely.Point(0, 0), shapely.box(0, 0, 1, 1)], dtype=object)
    with geopackage.writing(path) as container:
        container.add(Layer("a", pa.table({"n": [1, 2, 3, 4]}), parts, "EPSG:32626"), "parts")
        container.add(Layer("b", pa.table({"n": [1, 2]}), mixed, None), "mixed")
    db = sqlite3.connect(path)
    rows = {r[0]: r[1:] for r in db.execute("SELECT table_name, geometry_type_name, srs_id, z FROM gpkg_geometry_columns")}
    assert rows == {"parts": ("MULTIPOINT", 32626, 1), "mixed": ("GEOMETRY", -1, 0)}
    blobs = [r[0] for r in db.execute("SELECT geom FROM parts")]
    assert blobs[2] is None and blobs[3][3] >> 4 & 1  # null stays null; an empty one has its flag
    assert db.execute("SELECT count(*) FROM rtree_parts_geom").fetchone() == (2,)
    db.close()


def test_replacing_a_layer_leaves_the_others_alone(written: Path) -> None:
    before = digest.layer_digest(written, "marks")
    with geopackage.writing(written) as container:
        container.remove("beds")
        container.add(squares(7), "beds")
    assert [(e.name, e.rows) for e in geopackage.entries(written)] == [("marks", 3), ("plain", 2), ("nothing", 0), ("beds", 7)]
    assert digest.layer_digest(written, "marks") == before
    db = sqlite3.connect(written)
    assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
    assert db.execute("SELECT count(*) FROM gpkg_extensions WHERE table_name = 'beds'").fetchone() == (1,)
    db.close()


def test_an_error_half_way_leaves_the_file_as_it_was(written: Path) -> None:
    before = written.read_bytes()
    with pytest.raises(RuntimeError), geopackage.writing(written) as container:
        container.remove("beds")
        container.add(squares(7), "more")
        raise RuntimeError
    assert written.read_bytes() == before
    assert not list(written.parent.glob("*-journal"))


def test_another_program_holding_the_file_is_told(written: Path) -> None:
    other = sqlite3.connect(written, isolation_level=None)
    other.execute("BEGIN EXCLUSIVE")
    with pytest.raises(DeliveryError, match="another program holds this GeoPackage"), geopackage.writing(written):
        pass
    other.close()


def test_a_file_that_is_none_is_refused_and_left_alone(tmp_path: Path) -> None:
    path = tmp_path / "no.gpkg"
    path.write_text("not a database, by far")
    with pytest.raises(DeliveryError), geopackage.writing(path):
        pass
    with pytest.raises(InputError, match="no sound GeoPackage"):
        geopackage.entries(path)
    assert path.read_text() == "not a database, by far"


def test_a_digest_tells_every_change(written: Path) -> None:
    first = digest.layer_digest(written, "beds")
    db = sqlite3.connect(written)
    for (trigger,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'beds'").fetchall():
        db.execute(f"DROP TRIGGER {trigger}")
    db.execute("UPDATE beds SET kind = 'z' WHERE id = 4000")
    db.commit()
    db.close()
    assert digest.layer_digest(written, "beds") != first


@pytest.mark.parametrize("small", [True, False], ids=["read by plain SQL", "read by the library"])
def test_both_writers_and_both_readers_agree(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, small: bool) -> None:
    """A layer written by plain SQL and by columns holds the same, whichever way it is read."""
    monkeypatch.setattr(bulk, "LARGE", 0)
    monkeypatch.setattr(reader, "SMALL", 10**6 if small else -1)
    mixed = np.array([shapely.box(0, 0, 1, 1), shapely.MultiPolygon([shapely.box(2, 2, 3, 3)]), None], object)
    lists = {"list": pa.array([[1, 2], None, []]), "time": pa.array([dt.time(1, 2), None, dt.time(3)]), "n": pa.array([1, 2, 3])}
    layers = {
        "all": points(ALL_TYPES),
        "squares": squares(300),
        "mixed": Layer("m", pa.table({"n": [1, 2, 3]}), mixed, "EPSG:32626"),
        "nested": Layer("l", pa.table(lists), shapely.points([[0, 0], [1, 1], [2, 2]]), None),
        "plain": Layer("t", pa.table(ALL_TYPES)),
        "degrees": points({"n": [1]}, crs="EPSG:4326"),
        "none": squares(3).take(np.empty(0, np.int64)),
    }
    sql, library = tmp_path / "sql.gpkg", tmp_path / "columns.gpkg"
    with geopackage.writing(sql) as container:
        for name, layer in layers.items():
            container.add(layer, name)
    with geopackage.writing(library):
        pass
    for name, layer in layers.items():
        assert bulk.is_large(layer) and not bulk.is_large(Layer("t", pa.table({})))
        large = bulk.write_large(library, layer, name, "described")
        assert large.digest == digest.layer_digest(library, name), name
        with geopackage.writing(library) as container:
            large.finish(container)
    for path in (sql, library):
        db = sqlite3.connect(path)
        assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)] and not db.execute("PRAGMA foreign_key_check").fetchall()
    for name, layer in layers.items():
        a, b = (vector.read(path, name, name).layer for path in (sql, library))
        assert a.table.equals(b.table) and (a.crs, a.kind, a.has_geometry) == (b.crs, b.kind, b.has_geometry), name
        assert a.ids.tolist() == b.ids.tolist() == list(range(1, len(layer) + 1))
        if layer.has_geometry:
            assert shapely.equals_identical(a.geometry, b.geometry).sum() + shapely.is_missing(a.geometry).sum() == len(layer)
        facts = vector.facts(sql, name, name), vector.facts(library, name, name)
        first, second = ((f.schema(), f.count, f.kind, f.crs, f.extent) for f in facts)
        assert first == second and first[0] == a.table.schema
        assert digest_earlier.layer_digest(sql, name) == digest_earlier.layer_digest(library, name), name


def test_facts_and_rows_are_the_same_by_plain_sql_and_by_the_library(written: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    by_sql = {n: (vector.facts(written, n, n), vector.read(written, n, n).layer) for n in vector.layer_names(written)}
    monkeypatch.setattr(reader, "all_facts", lambda path: None)
    assert set(by_sql) == set(vector.layer_names(written))
    for name, (facts, layer) in by_sql.items():
        other = vector.read(written, name, name).layer
        assert facts == vector.facts(written, name, name) and layer.table.equals(other.table) and layer.kind == other.kind
        assert not layer.has_geometry or shapely.equals_identical(layer.geometry, other.geometry).all()


@pytest.mark.parametrize(
    "change",
    ["UPDATE beds SET id = 'text' WHERE id = 3", "ALTER TABLE beds ADD COLUMN odd GEOMETRY_OF_MINE", "UPDATE beds SET geom = x'0102'"],
)
def test_what_only_the_library_understands_is_left_to_it(written: Path, change: str) -> None:
    """SQLite lets a column hold what it does not declare: then the library says how that is read, or that it is not."""
    db = sqlite3.connect(written)
    for (trigger,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'beds'").fetchall():
        db.execute(f"DROP TRIGGER {trigger}")
    db.execute(change)
    db.commit()
    db.close()
    try:
        reading = vector.read(written, "beds", "beds")
    except InputError as error:
        assert "all.gpkg" in error.sentence()
    else:
        assert len(reading.layer) + sum(len(rows) for _, rows in reading.set_aside) == reading.found == 5000
        assert bool(reading.set_aside) == ("geom" in change), "a damaged shape is no row without a shape"


def test_stop_is_heard_while_a_large_layer_is_written(tmp_path: Path) -> None:
    def watch(done: int, of: int) -> None:
        raise StoppedError

    with geopackage.writing(tmp_path / "a.gpkg"):
        pass
    with pytest.raises(StoppedError):
        bulk.write_large(tmp_path / "a.gpkg", squares(50_000), "beds", watch=watch)


def test_the_index_of_many_layers_stays_current_too(tmp_path: Path) -> None:
    """Of many layers the triggers are written at once; they must fire like those created one by one."""
    path = tmp_path / "many.gpkg"
    with geopackage.writing(path) as container:
        for number in range(14):
            container.add(squares(3), f'layer "{number}"')
    db = sqlite3.connect(path)
    assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
    assert db.execute("SELECT count(*) FROM sqlite_master WHERE type = 'trigger'").fetchone() == (14 * 7,)
    db.close()
    shape = np.array([shapely.to_wkb(shapely.box(0, 0, 1, 1))], object)
    pyogrio.raw.write(
        path, shape, [np.array([9])], np.array(["id"]), layer='layer "13"', geometry_type="Polygon", crs="EPSG:32626", append=True
    )
    db = sqlite3.connect(path)
    assert db.execute('SELECT count(*) FROM "rtree_layer ""13""_geom"').fetchone() == (4,)
    db.close()
    with geopackage.writing(path) as container:
        container.remove('layer "13"')
    assert len(geopackage.layer_list(path)) == 13 and geopackage.holds_only(path, geopackage.layer_list(path))


def test_many_layers_leave_what_else_is_in_the_file_alone(written: Path) -> None:
    """While hundreds of layers are written, tables are taken out of the schema and put back: of this file's own layers, of
    somebody's view, index, trigger and plain table nothing may be missing after, and no page may be lost."""
    with sqlite3.connect(written) as db:
        db.execute("CREATE TABLE notes (id INTEGER PRIMARY KEY, text TEXT)")
        db.execute("INSERT INTO notes (text) VALUES ('kept')")
        db.execute("CREATE INDEX by_text ON notes (text)")
        db.execute("CREATE VIEW short AS SELECT text FROM notes")
        db.execute("CREATE TRIGGER told AFTER INSERT ON notes BEGIN UPDATE notes SET text = text || '!' WHERE id = new.id; END")
        before = set(db.execute("SELECT type, name, tbl_name, sql FROM sqlite_master").fetchall())
    there = {name: pyogrio.read_info(written, layer=name)["features"] for name, _ in pyogrio.list_layers(written)}
    layers = {f"piece_{n}": squares(2, size=10.0 + n, key=f"piece_{n}") for n in range(150)}
    with geopackage.writing(written) as file:
        for name, layer in layers.items():
            file.add(layer, name)
    with sqlite3.connect(written) as db:
        after = set(db.execute("SELECT type, name, tbl_name, sql FROM sqlite_master").fetchall())
        assert before <= after
        assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        assert db.execute("PRAGMA foreign_key_check").fetchall() == []
        roots = [r for (r,) in db.execute("SELECT rootpage FROM sqlite_master WHERE rootpage > 0")]
        assert len(roots) == len(set(roots)), "no two tables begin at one page"
        db.execute("INSERT INTO notes (text) VALUES ('new')")
        assert db.execute("SELECT text FROM short").fetchall() == [("kept",), ("new!",)]
        found = {name: db.execute(f'SELECT count(*) FROM "{name}"').fetchone()[0] for name, _ in pyogrio.list_layers(written)}
    assert found == {**there, **dict.fromkeys(layers, 2)}
    for name in ("piece_0", "piece_77", "piece_149"):
        box = pyogrio.read_bounds(written, layer=name)[1][:, 0]
        assert len(pyogrio.read_dataframe(written, layer=name, bbox=tuple(box))) >= 1
    # an error half way takes all of it back, the schema too
    with pytest.raises(DeliveryError), geopackage.writing(written) as file:
        for n in range(130):
            file.add(layers["piece_0"], f"more_{n}")
        file.add(layers["piece_0"], "piece_0")
    with sqlite3.connect(written) as db:
        assert set(db.execute("SELECT type, name, tbl_name, sql FROM sqlite_master").fetchall()) == after
        assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)]


def test_what_another_program_does_to_a_file_is_seen_at_once(tmp_path: Path) -> None:
    """A list of layers is kept for as long as the file is as it was: also of changes within a moment, of the same size, or beside it."""
    path = tmp_path / "a.gpkg"
    with geopackage.writing(path) as container:
        for name in ("aa", "bb"):
            container.add(Layer(name, pa.table({"n": [1]}), np.array([shapely.Point(1, 2)], object), "EPSG:32626"), name)
    assert geopackage.layer_list(path) == ["aa", "bb"] == geopackage.layer_list(path)
    for name in ("cc", "dd", "ee"):
        with closing(sqlite3.connect(path)) as other, other:
            other.execute("UPDATE gpkg_contents SET table_name = ? WHERE rowid = 2", (name,))
        assert geopackage.layer_list(path) == ["aa", name]
    with closing(sqlite3.connect(path)) as other:
        other.execute("PRAGMA journal_mode = WAL")
        with other:
            other.execute("UPDATE gpkg_contents SET table_name = 'ff' WHERE rowid = 2")
        assert geopackage.layer_list(path) == ["aa", "ff"]
        with other:
            other.execute("DELETE FROM gpkg_contents WHERE rowid = 2")
        assert geopackage.layer_list(path) == ["aa"]
    assert geopackage.layer_list(path) == ["aa"]


def test_layers_are_listed_as_they_were_at_one_moment(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Somebody else takes a layer out between two looks: it is no damage, and either all of it is seen or nothing."""
    path = tmp_path / "store.gpkg"
    for name in ("a", "b"):
        write(points({"n": [1]}, key=name), path)
    look = sections.sections
    tried: list[str] = []

    def meanwhile(db: sqlite3.Connection) -> Any:
        found = look(db)
        with sqlite3.connect(path, timeout=0) as other:
            try:
                other.execute("DROP TABLE a")
                tried.append("done")
            except sqlite3.OperationalError as error:
                tried.append(str(error))
        return found

    monkeypatch.setattr(sections, "sections", meanwhile)
    assert [e.name for e in geopackage.entries(path)] == ["a", "b"] and tried
