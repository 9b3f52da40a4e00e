"""Saving in every format: what comes back is what was saved, read by other programs' readers; what a format cannot hold is foretold.

Readers: GDAL through pyogrio, pyarrow, python-calamine, gpxpy, plain sqlite3. Sources beside the checks: GPX 1.1, OGC 12-007r2 (KML),
GeoParquet 1.1, GeoPackage 1.4 (metadata and R-tree extensions), the shapefile's technical description (from memory).
"""

from __future__ import annotations

import csv
import datetime as dt
import json
import sqlite3
import time
import xml.etree.ElementTree as ET
from pathlib import Path
from typing import Any

import gpxpy
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pyogrio
import pytest
import python_calamine
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from eskret import Workflow, read, to_geopandas
from eskret.core.layer import Field, Layer
from eskret.errors import DeliveryError
from eskret.formats import fitting, geopackage
from eskret.formats.fitting import Bounds, Choices, fit, forecast_fit, short_names
from eskret.formats.geopackage import digest, triggers
from eskret.formats.known import SHAPEFILE
from eskret.formats.known import WRITTEN as TARGETS
from eskret.workflow.outputs import file_backups
from tests.conftest import points, squares
from tests.test_cli import call

UTC = dt.UTC
MOMENTS = [dt.datetime(2031, 9, 3, 6, 40, 1, tzinfo=UTC), None, dt.datetime(1999, 12, 31, 23, 59, tzinfo=UTC)]
VALUES = {
    "name": ["Skerry", 'a "b" & <c>', None],
    "whole": [1, None, -5],
    "number": [1.5, None, -0.25],
    "flag": [True, None, False],
    "day": [dt.date(2031, 9, 3), None, dt.date(1999, 12, 31)],
    "moment": pa.array(MOMENTS, pa.timestamp("ms", "UTC")),
}


def workflow(home: Path, layer: Layer, **settings_: Any) -> Workflow:
    """Load a layer from a GeoPackage and save it."""
    source = home / "in" / "source.gpkg"
    source.parent.mkdir(exist_ok=True)
    source.unlink(missing_ok=True)
    with geopackage.writing(source) as container:
        container.add(layer, layer.key)
    path = home / "save.toml"
    if not path.exists():
        path.write_text("eskret = 1\n")
    made = Workflow.read(path)
    made = Workflow.read(path) if made is None else made
    loaded = made.load("in", files=[str(source)])
    made.save("out", loaded, **settings_)
    return made


def saved(home: Path, layer: Layer, to: str, **more: Any) -> Any:
    result = workflow(home, layer, to=to, **more).run()
    assert result.state in ("balanced", "look"), result.error
    return result


@pytest.mark.parametrize("ending", sorted(TARGETS))
def test_every_format_gives_back_what_it_got(tmp_path: Path, ending: str) -> None:
    layer = points(VALUES, key="marks")
    result = saved(tmp_path, layer, f"out/marks{ending}")
    path = tmp_path / "out" / f"marks{ending}"
    assert result.outputs[0].features == 3 and result.outputs[0].path == path
    names = {".gpx": "waypoints"}
    back = read(path, names.get(ending))
    assert len(back) == 3
    rows = {r["name"]: r for r in ({k.lower(): v for k, v in r.items()} for r in back.table.to_pylist())}
    held = rows["Skerry"]
    assert set(rows) - {"", None} == {"Skerry", 'a "b" & <c>'}
    if ending not in (".csv", ".xlsx"):
        shapes = back.geometry
        assert shapes is not None
        if back.crs != "EPSG:32626":
            assert shapely.get_x(shapes) == pytest.approx(-27, abs=1e-3)
        else:
            assert sorted(shapely.get_x(shapes)) == sorted(shapely.get_x(layer.geometry))
    if ending not in (".gpx",):
        assert float(held["number"]) == 1.5 and int(held["whole"]) == 1
        assert str(held["day"]).startswith("2031-09-03") and "06:40:01" in str(held["moment"])


def test_a_shapefile_is_made_to_fit_and_says_how(tmp_path: Path) -> None:
    """The technical description of dBASE tables, from memory: 10 bytes a name, 254 a text, no times."""
    table = {
        "bottom_type_1": ["x" * 300, "ø" * 200, ""],
        "bottom_type_2": ["a", "b", "c"],
        "moment": VALUES["moment"],
        "flag": [True, False, None],
        "huge": [10**18, 1, None],
        "tall": [[1, 2], None, []],
    }
    layer = points(table, key="marks")
    made = workflow(tmp_path, layer, to="marks.shp", times="split")
    told = " | ".join(f.text for f in made.rehearse().findings)
    assert "'bottom_type_1' to 'bottom_typ'" in told and "'bottom_type_2' to 'bottom_t_2'" in told
    assert "'moment' becomes a date and a text of the hour in UTC" in told and "'flag' is yes or no and becomes 1 or 0" in told
    result = made.run()
    said = " | ".join(r.text for s in result.steps for r in s.remarks)
    assert "'bottom_type_1': 2 texts were cut at 254 bytes" in said and "1 empty text becomes no value" in said
    assert "'huge' has numbers of more than 18 digits and becomes text" in said and result.state == "look"
    frame = pyogrio.read_dataframe(tmp_path / "marks.shp")
    assert list(frame.columns)[:6] == ["bottom_typ", "bottom_t_2", "moment_d", "moment_t", "flag", "huge"]
    assert frame["bottom_typ"].str.len()[0] == 254 and frame["bottom_typ"][1] == "ø" * 127
    assert frame["moment_t"][0] == "06:40:01" and str(frame["moment_d"][0])[:10] == "2031-09-03" and frame["huge"][0] == str(10**18)
    with (tmp_path / "marks.fields.csv").open() as stream:
        listed = {r["name_in_file"]: r["name"] for r in csv.DictReader(stream)}
    assert listed["bottom_t_2"] == "bottom_type_2" and listed["moment_d"] == "moment"
    assert read(tmp_path / "marks.shp").table.column_names[:2] == ["bottom_type_1", "bottom_type_2"]  # the list is read back
    stopped = workflow(tmp_path, layer, to="again.shp", long_texts="stop").run()
    assert "has 2 texts of more than 254 bytes" in stopped.error and not (tmp_path / "again.shp").exists()


def test_members_of_a_shapefile_are_replaced_together(tmp_path: Path) -> None:
    saved(tmp_path, squares(3), "a.shp")
    (tmp_path / "a.qix").write_text("an index of the old shapes")
    result = saved(tmp_path, squares(5), "a.shp")
    assert result.outputs[0].features == 5 and not (tmp_path / "a.qix").exists()
    assert sorted(p.name for p in tmp_path.glob("a.*")) == ["a.cpg", "a.dbf", "a.prj", "a.shp", "a.shx"]
    (tmp_path / "a.dbf").write_bytes((tmp_path / "a.dbf").read_bytes()[:-1] + b" ")
    mixed = Layer("m", pa.table({"n": [1, 2]}), np.array([shapely.Point(1, 1), shapely.box(0, 0, 1, 1)], object), "EPSG:32626")
    failed = workflow(tmp_path, mixed, to="b.shp").run()
    assert "shapes of several kinds" in failed.error and not (tmp_path / "b.shp").exists()


def test_a_recording_is_one(tmp_path: Path) -> None:
    """GPX 1.1, read by gpxpy: waypoints, then tracks, WGS 84, heights from the shapes, what has no element in extensions."""
    time = pa.array([dt.datetime(2031, 9, 3, tzinfo=UTC), None], pa.timestamp("ms", "UTC"))
    marks = points({"name": ["A", "B"], "sym": ["pile", None], "depth": [1.5, None], "time": time}, key="marks")
    west, east = ([(500_000, 5_200_000, 7.5), (500_100, 5_200_000, 8)], [(500_200, 5_200_000, 1), (500_300, 5_200_100, 2)])
    line = shapely.MultiLineString([west, east])
    source = tmp_path / "in.gpkg"
    with geopackage.writing(source) as container:
        container.add(marks, "marks")
        container.add(Layer("runs", pa.table({"name": ["Run <1>"]}), np.array([line, None], object)[:1], "EPSG:32626"), "runs")
    made = Workflow()
    made.save("out", made.load("in", files=[str(source)]), to=str(tmp_path / "out.gpx"), title="Survey & more")
    result = made.run()
    assert [o.features for o in result.outputs] == [2, 1]
    told = gpxpy.parse((tmp_path / "out.gpx").read_text())
    assert told.name == "Survey & more" and [w.name for w in told.waypoints] == ["A", "B"]
    assert told.waypoints[0].time == dt.datetime(2031, 9, 3, tzinfo=UTC) and told.waypoints[0].symbol == "pile"
    assert told.waypoints[0].extensions[0].text == "1.5" and told.waypoints[0].longitude == pytest.approx(-27, abs=1e-6)
    assert told.tracks[0].name == "Run <1>" and [len(s.points) for s in told.tracks[0].segments] == [2, 2]
    assert told.tracks[0].segments[0].points[0].elevation == 7.5
    assert "holds lines and points" in workflow(tmp_path, squares(1), to="x.gpx").rehearse().errors[0].text


def test_a_globe_gets_folders_with_typed_fields(tmp_path: Path) -> None:
    saved(tmp_path, squares(3, key="beds"), "beds.kml", title="Beds", name="lease {layer}")
    root = ET.parse(tmp_path / "beds.kml").getroot()
    at = {"k": "http://www.opengis.net/kml/2.2"}
    assert root.find("k:Document/k:name", at).text == "Beds"  # type: ignore[union-attr]
    assert [f.text for f in root.findall(".//k:Folder/k:name", at)] == ["lease_beds"]
    assert {f.get("name"): f.get("type") for f in root.findall(".//k:SimpleField", at)} == {"id": "int", "kind": "string"}
    ring = root.find(".//k:outerBoundaryIs//k:coordinates", at).text.split()  # type: ignore[union-attr]
    assert ring[0] == ring[-1] and len(ring) == 5


def test_a_workbook_has_a_sheet_a_layer_and_runs_nothing(tmp_path: Path) -> None:
    texts = ["=1+1", "http://x.example", "x" * 40_000]
    tricky = points({"text": texts, "whole": [2**60, 1, None]}, key="a_very_long_name_for_one_sheet_alone")
    source = tmp_path / "in.gpkg"
    with geopackage.writing(source) as container:
        container.add(tricky, tricky.key)
        container.add(points(VALUES, key="marks"), "marks")
    made = Workflow()
    made.save("out", made.load("in", files=[str(source)]), to=str(tmp_path / "out.xlsx"))
    result = made.run()
    assert [o.features for o in result.outputs] == [3, 3]
    book = python_calamine.CalamineWorkbook.from_path(tmp_path / "out.xlsx")
    assert book.sheet_names[0] == "a_very_long_name_for_one_sheet" and book.sheet_names[1] == "marks"
    rows = book.get_sheet_by_name(book.sheet_names[0]).to_python()
    assert rows[1][0] == "=1+1" and rows[1][1] == str(2**60) and len(rows[3][0]) == 32_767
    assert book.get_sheet_by_name("marks").to_python()[1][3:6] == [True, dt.date(2031, 9, 3), dt.datetime(2031, 9, 3, 6, 40, 1)]


def test_parquet_says_where_it_is(tmp_path: Path) -> None:
    """GeoParquet 1.1: the metadata of the file."""
    saved(tmp_path, squares(4, key="beds"), "beds.parquet", licence="CC0")
    meta = pq.read_schema(tmp_path / "beds.parquet").metadata
    geo = json.loads(meta[b"geo"])
    column = geo["columns"][geo["primary_column"]]
    assert geo["version"] == "1.1.0" and column["encoding"] == "WKB" and column["geometry_types"] == ["Polygon"]
    assert column["crs"]["id"] == {"authority": "EPSG", "code": 32626} and column["bbox"] == [500_000, 5_200_000, 500_040, 5_200_010]
    assert meta[b"licence"] == b"CC0" and column["covering"]["bbox"]["xmin"] == ["bbox", "xmin"]


def test_words_fields_titles_and_what_has_no_place(tmp_path: Path) -> None:
    layer = points({"depth_m": [1.5], "bed": ["A"], "note": ["x"]}, key="marks").titled({"depth_m": "Depth in metres"})
    more = {"title": "Marks", "description": "Survey marks", "licence": "CC BY 4.0"}
    saved(tmp_path, layer, "web.geojson", fields=["bed", "depth_m"], titled=True, decimals=4, **more)
    found = json.loads((tmp_path / "web.geojson").read_text())
    assert (found["title"], found["license"]) == ("Marks", "CC BY 4.0")
    assert found["features"][0]["properties"] == {"bed": "A", "Depth in metres": 1.5}
    saved(tmp_path, layer, "a.gpkg", titles={"bed": "Lease"}, **more)
    with sqlite3.connect(tmp_path / "a.gpkg") as db:
        wanted = "FROM gpkg_metadata m JOIN gpkg_metadata_reference r ON r.md_file_id = m.id"
        text, scope = db.execute(f"SELECT m.metadata, r.reference_scope {wanted}").fetchone()
        assert "<dc:rights>CC BY 4.0</dc:rights>" in text and scope == "table"
        assert db.execute("PRAGMA integrity_check").fetchone() == ("ok",) and not db.execute("PRAGMA foreign_key_check").fetchall()
    told = [f.text for f in workflow(tmp_path, layer, to="a.shp", licence="x", fields=["nowhere"]).rehearse().findings]
    assert "A shapefile has no place for 'Licence'." in told and any("there is no field 'nowhere' to save" in t for t in told)


def test_a_style_and_an_index_page_stand_beside(tmp_path: Path) -> None:
    made = workflow(tmp_path, squares(6, key="beds"), to="web/{layer}.geojson", sld=True, index=True, title="Beds & marks", licence="CC0")
    path = tmp_path / "save.toml"
    made.write(path)
    said = '  [steps.style.beds]\n  by = "values"\n  field = "kind"\n  colours = { a = "#112233", b = "#445566" }\n\n[[steps]]\nid = "out"'
    path.write_text(path.read_text().replace('[[steps]]\nid = "out"', said))
    for _ in range(2):  # a second time it is this workflow's own
        assert call("run", path)[0] == 0
    sld = (tmp_path / "web" / "beds.sld").read_text()
    assert sld.count("<se:Rule>") >= 2 and "<ogc:Literal>a</ogc:Literal>" in sld
    page = (tmp_path / "web" / "index.html").read_text()
    assert '<a href="beds.geojson">beds.geojson</a>' in page and "Beds &amp; marks" in page and "Licence: CC0" in page and ">6<" in page
    (tmp_path / "web" / "index.html").write_text("mine")
    code, _, err = call("run", path)
    assert code == 2 and "index.html" in err


def test_several_files_are_saved_by_one_step_and_nothing_counts_twice(tmp_path: Path) -> None:
    made = workflow(
        tmp_path, squares(6, key="beds"), to="out/all.gpkg", also=["web/{layer}.geojson", "web/{layer}.shp"], sld=True, index=True
    )
    path = tmp_path / "save.toml"
    made.write(path)
    planned = [p.path.name for p in Workflow.read(path).rehearse().outputs]
    assert planned == ["all.gpkg", "beds.geojson", "beds.shp"]
    for _ in range(2):  # the second time all of it is this workflow's own, and nothing is left over
        result = Workflow.read(path).run()
        assert result.state == "balanced" and not result.remarks, [r.text for r in result.remarks]
    step = result.steps[-1]
    assert [(i.setting, i.rows) for i in step.inputs] == [("from", 6), ("also", 6)] and [o.rows for o in step.outputs] == [6]
    assert [(o.path.name, o.features) for o in result.outputs] == [("all.gpkg", 6), ("beds.geojson", 6), ("beds.shp", 6)]
    page = (tmp_path / "web" / "index.html").read_text()
    assert "beds.geojson" in page and "beds.shp" in page and "all.gpkg" not in page
    (tmp_path / "web" / "beds.dbf").write_bytes(b"somebody's own")
    found = Workflow.read(path).rehearse()
    assert any("beds.dbf" in f.text and "was changed since" in f.text for f in found.errors)


def test_what_is_left_over_is_told_once_with_all_that_belongs_to_it(tmp_path: Path) -> None:
    made = workflow(tmp_path, squares(2, key="beds"), to="{layer}.shp", name="old_{layer}", sld=True)
    path = tmp_path / "save.toml"
    made.write(path)
    Workflow.read(path).run()
    path.write_text(path.read_text().replace("old_{layer}", "new_{layer}"))
    result = Workflow.read(path).run()
    assert [r.text for r in result.remarks] == ["old_beds.shp is left over from an earlier run and stays as it is"]


KINDS = [".gpkg", ".geojson", ".shp", ".fgb", ".parquet", ".csv"]


@pytest.mark.parametrize("ending", KINDS)
def test_rows_are_appended_and_brought_up_to_date_and_taken_back(tmp_path: Path, ending: str) -> None:
    first = points({"bed": ["A", "B", "C"], "depth": [1.0, 2.0, 3.0]}, key="marks")
    saved(tmp_path, first, f"marks{ending}")
    path = tmp_path / f"marks{ending}"
    time.sleep(0.05)  # written a while ago, as files of others are: then times alone must tell
    before, content = path.read_bytes(), digest.layer_digest(path, "marks") if ending == ".gpkg" else ""
    more = points({"bed": ["B", "D"], "depth": [2.5, 4.0]}, key="marks")
    result = saved(tmp_path, more, f"marks{ending}", if_exists="update", key=["bed"])
    account = result.steps[-1]
    assert account.inputs[0].rows == 2 and account.outputs[0].rows == 2
    assert any("1 added to" in r.text and "1 changed" in r.text for r in account.remarks)
    rows = read(path).table.select(["bed", "depth"]).to_pylist()
    assert sorted((r["bed"], float(r["depth"])) for r in rows) == [("A", 1), ("B", 2.5), ("C", 3), ("D", 4)]
    saved(tmp_path, more, f"marks{ending}", if_exists="append")
    assert len(read(path)) == 6
    code, out, _ = call("undo", path)
    assert code == 0 and "as it was" in out and len(read(path)) == 4
    assert call("undo", path)[0] == 0
    if ending == ".gpkg":  # others may have written into it meanwhile: it is the layer that is as it was
        assert digest.layer_digest(path, "marks") == content
    else:
        assert path.read_bytes() == before
    assert call("undo", path)[0] == 2
    saved(tmp_path, more, f"marks{ending}", if_exists="append")
    if ending == ".gpkg":
        with sqlite3.connect(path) as db:
            triggers.know_shapes(db)
            db.execute("UPDATE marks SET depth = 9 WHERE bed = 'D'")
    else:
        with path.open("ab") as stream:
            stream.write(b"\n")
    code, _, err = call("undo", path)
    assert code == 1 and "changed since" in err and len(file_backups.changes(path)) == 1


def test_a_change_in_a_geopackage_leaves_all_else_as_it_is(tmp_path: Path) -> None:
    """Numbers of features, other tables, triggers and the index (SQLite's own check of it)."""
    path = tmp_path / "a.gpkg"
    frame = to_geopandas(squares(50))
    pyogrio.write_dataframe(frame, path, layer="beds", layer_options={"FID": "number"}, use_arrow=True)
    with sqlite3.connect(path) as db:
        db.execute("CREATE TABLE mine (x)")
        db.execute("INSERT INTO mine VALUES (7)")
    new = squares(52)
    new = new.with_table(new.table.set_column(1, "kind", pa.array(["changed" if n == 3 else "ab"[n % 2] for n in range(52)])))
    result = saved(tmp_path, new, "a.gpkg", name="beds", if_exists="update", key=["id"])
    assert [(r["reason"], r["count"]) for r in result.steps[-1].inputs[0].to_json()["set_aside"]] == [("is there as it is", 49)]
    with sqlite3.connect(path) as db:
        assert db.execute("SELECT x FROM mine").fetchall() == [(7,)]
        assert db.execute("SELECT number, kind FROM beds WHERE id = 3").fetchall() == [(4, "changed")]
        assert db.execute("SELECT count(*) FROM beds").fetchone() == (52,)
        assert db.execute("SELECT rtreecheck('rtree_beds_geom')").fetchone() == ("ok",)
        assert db.execute("SELECT count(*) FROM rtree_beds_geom").fetchone() == (52,)
        assert db.execute("SELECT max_x FROM gpkg_contents").fetchone() == (500_520,)
        assert db.execute("SELECT feature_count FROM gpkg_ogr_contents").fetchone() == (52,)
    assert pyogrio.read_info(path, layer="beds")["features"] == 52
    # what was appended to is not this workflow's to replace
    assert "this workflow did not write it" in workflow(tmp_path, new, to="a.gpkg", name="beds").rehearse().errors[0].text


def test_what_cannot_be_brought_together_is_said(tmp_path: Path) -> None:
    saved(tmp_path, points({"bed": ["A"], "depth": [1]}, key="marks"), "marks.gpkg")
    wrong = workflow(tmp_path, points({"bed": ["A"], "depth": ["deep"]}, key="marks"), to="marks.gpkg", if_exists="append").run()
    assert "'depth' cannot be brought to the type that it has there" in wrong.error
    wrong = workflow(tmp_path, squares(1, key="marks"), to="marks.gpkg", if_exists="append").run()
    assert "it draws areas, and the layer that is there points" in wrong.error
    for settings_, says in (({"if_exists": "update"}, "name a key"), ({"if_exists": "append", "to": "a.kml"}, "cannot be appended to")):
        found = workflow(tmp_path, points({"bed": ["A"]}), **{"to": "b.gpkg", **settings_}).rehearse()
        assert any(says in f.text for f in found.errors)


NAMES = st.lists(st.text(min_size=1, max_size=20), min_size=1, max_size=12, unique_by=str.casefold)


@given(NAMES, st.integers(4, 12))
def test_short_names_fit_and_differ(names: list[str], limit: int) -> None:
    short = short_names(names, limit)
    assert all(0 < len(s.encode()) <= limit for s in short) and len({s.casefold() for s in short}) == len(names)
    kept_ = [s for s, n in zip(short, names, strict=True) if len(n.encode()) <= limit and n.isascii() and n == n.rstrip()]
    assert len(kept_) == 0 or set(kept_) <= set(short)


@settings(suppress_health_check=[HealthCheck.too_slow])
@given(
    st.sampled_from(
        [
            pa.bool_(),
            pa.int64(),
            pa.float64(),
            pa.string(),
            pa.date32(),
            pa.timestamp("us", "UTC"),
            pa.timestamp("ms"),
            pa.time64("us"),
            pa.binary(),
            pa.list_(pa.int64()),
        ]
    ),
    st.builds(Choices, st.sampled_from(["text", "split"]), st.just("cut")),
    st.booleans(),
    st.booleans(),
    st.booleans(),
    st.integers(0, 8),
)
def test_what_is_foretold_of_a_field_is_what_becomes_of_it(
    kind: pa.DataType, choices: Choices, times: bool, dates: bool, flags: bool, name_bytes: int
) -> None:
    bounds = Bounds("x", name_bytes=name_bytes, text_bytes=20, times=times, dates=dates, flags=flags, whole_digits=18)
    table = pa.table({"a_rather_long_name": pa.nulls(3, kind), "other": ["a", None, "b"]})
    layer = Layer("x", table)
    told = forecast_fit(layer.fields, bounds, choices)
    made = fit(layer, bounds, choices)
    before, after = [f.type for f in layer.fields], made.layer.table.schema.types
    same = before == after or (kind == pa.timestamp("us", "UTC") and times)
    assert same or told, (before, after)
    shortened = any("names are shortened" in t for t in told)
    halves = choices.times == "split" and pa.types.is_timestamp(kind) and not times
    assert made.renamed == (shortened or halves)


def test_bounds_of_a_format_stop_what_cannot_be_held() -> None:
    wide = Layer("wide", pa.table({f"f{n}": [1] for n in range(300)}))
    with pytest.raises(DeliveryError, match="300 fields, and a shapefile holds 255"):
        fit(wide, SHAPEFILE.bounds, Choices())  # type: ignore[arg-type]
    assert any("300 fields" in t for t in forecast_fit(wide.fields, SHAPEFILE.bounds, Choices()))  # type: ignore[arg-type]
    with pytest.raises(DeliveryError, match="3 rows, and x holds 2"):
        fit(Layer("l", pa.table({"n": [1, 2, 3]})), Bounds("x", most_rows=2), Choices())
    assert fitting.forecast_fit([Field("n", pa.int64())], Bounds("x"), Choices()) == []
