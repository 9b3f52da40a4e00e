"""Sections, titles, measures and tidying up in a GeoPackage, read back by plain sqlite3 and by GDAL."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyogrio
import pytest
import shapely
from typer.testing import CliRunner

from eskret import Workflow, read, write
from eskret.cli import app
from eskret.errors import DeliveryError
from eskret.formats import geopackage, vector
from eskret.formats.geopackage import contents
from tests.conftest import points, squares


@pytest.fixture
def project(tmp_path: Path) -> Path:
    write(squares(4, key="beds"), tmp_path / "in.gpkg")
    write(points({"name": ["a", "b"]}, key="marks"), tmp_path / "in.gpkg")
    return tmp_path


def workflow(project: Path, **settings) -> Workflow:
    made = Workflow()
    made.load("all", files=["in.gpkg"])
    made.step("save", "out", "all", to="out.gpkg", **settings)
    made.write(project / "w.toml")
    return made


def sound(path: Path) -> sqlite3.Connection:
    db = sqlite3.connect(path)
    assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
    assert db.execute("PRAGMA foreign_key_check").fetchall() == []
    return db


def test_a_section_stands_in_the_standards_tables(project: Path) -> None:
    assert workflow(project, section="Field work").run().state == "balanced"
    db = sound(project / "out.gpkg")
    # OGC 12-128r19, annex F.8: tables, one reference for each record, the extension registered for both tables
    rows = db.execute(
        "SELECT r.reference_scope, r.table_name, m.md_scope, m.mime_type, m.metadata FROM gpkg_metadata_reference r "
        "JOIN gpkg_metadata m ON m.id = r.md_file_id ORDER BY m.id"
    ).fetchall()
    assert [(r[0], r[1], r[2], r[3]) for r in rows] == [
        ("table", "beds", "dataset", "application/json"),
        ("table", "marks", "dataset", "application/json"),
    ]
    assert json.loads(rows[0][4]) == {"section": "Field work", "crs": "EPSG:32626"}
    extensions = db.execute("SELECT table_name, extension_name, scope FROM gpkg_extensions").fetchall()
    assert ("gpkg_metadata", "gpkg_metadata", "read-write") in extensions
    assert ("gpkg_metadata_reference", "gpkg_metadata", "read-write") in extensions
    assert sorted(n for n, _ in pyogrio.list_layers(project / "out.gpkg")) == ["beds", "marks"]
    assert [(e.name, e.section) for e in geopackage.entries(project / "out.gpkg")] == [("beds", "Field work"), ("marks", "Field work")]


def test_a_section_has_one_crs_and_layers_are_brought_to_it(project: Path) -> None:
    workflow(project, section="Web", crs="EPSG:4326").run()
    made = workflow(project, section="Web", name="again_{layer}")
    forecast = made.rehearse()
    assert any("brought to WGS 84" in f.text for f in forecast.findings) and not forecast.errors
    result = made.run()
    assert result.state == "balanced" and any("brought to WGS 84" in r.text for s in result.steps for r in s.remarks)
    assert read(project / "out.gpkg", "again_beds").crs == "EPSG:4326"
    assert geopackage.sections_of(project / "out.gpkg")["Web"].layers == ("beds", "marks", "again_beds", "again_marks")
    wrong = workflow(project, section="Web", crs="EPSG:32626").rehearse()
    assert "a section has one CRS" in wrong.errors[0].text


def test_a_layer_that_is_replaced_leaves_nothing_behind(project: Path) -> None:
    made = workflow(project, section="A", titles={"id": "Number"})
    for _ in range(3):
        assert made.run().state == "balanced"
    db = sound(project / "out.gpkg")
    for table, count in (("gpkg_metadata", 2), ("gpkg_metadata_reference", 2), ("gpkg_data_columns", 1)):
        assert db.execute(f"SELECT count(*) FROM {table}").fetchone() == (count,), table


def test_titles_by_the_schema_extension_come_back(project: Path) -> None:
    workflow(project, titles={"id": "Number of the bed", "gone": "Nothing"}).run()
    db = sound(project / "out.gpkg")
    assert db.execute("SELECT table_name, column_name, title FROM gpkg_data_columns").fetchall() == [("beds", "id", "Number of the bed")]
    layer = read(project / "out.gpkg", "beds")
    assert layer.titles == {"id": "Number of the bed"} and layer.fields[0].title == "Number of the bed"
    write(layer, project / "copy.gpkg")
    assert read(project / "copy.gpkg").titles == layer.titles
    assert any("No layer has a field 'gone'" in f.text for f in workflow(project, titles={"gone": "x"}).rehearse().findings)


def test_measures_are_made_anew_on_every_save(project: Path) -> None:
    made = workflow(project, measures=["area_m2", "length_km"])
    forecast = made.rehearse().steps["out"].leaving
    assert [f.names()[-1] for f in forecast] == ["area_m2", "name"]
    made.run()
    first = read(project / "out.gpkg", "beds")
    assert first.table.column("area_m2").to_pylist() == [100] * 4
    write(squares(4, size=20, key="beds"), project / "larger.gpkg")
    (project / "larger.gpkg").replace(project / "in.gpkg")
    made.run()
    assert read(project / "out.gpkg", "beds").table.column("area_m2").to_pylist() == [400] * 4
    assert "names no measure" in workflow(project, measures=["area"]).rehearse().errors[0].text


def test_layers_are_renamed_removed_and_assigned_in_one_go(project: Path) -> None:
    path = project / "in.gpkg"
    with geopackage.writing(path) as container:
        container.add(squares(2, key="old"), "old")
    contents.change(path, rename={"beds": "marks", "marks": "beds"}, remove=["old"], section={"beds": "Points"})
    db = sound(path)
    assert [e.name for e in geopackage.entries(path)] == ["marks", "beds"]
    assert (len(read(path, "marks")), len(read(path, "beds"))) == (4, 2)
    assert geopackage.sections_of(path)["Points"].layers == ("marks",), "it was called so when the change began"
    assert [r[0] for r in db.execute("SELECT identifier FROM gpkg_contents ORDER BY rowid")] == ["marks", "beds"]
    # the spatial index went along, and GDAL can still write through its triggers
    box = (500_000, 5_200_000, 500_005, 5_200_010)
    assert len(pyogrio.read_dataframe(path, layer="marks", bbox=box)) == 1
    more = pyogrio.read_dataframe(path, layer="marks").iloc[:1].assign(geometry=[shapely.box(0, 0, 1, 1)])
    pyogrio.write_dataframe(more, path, layer="marks", append=True)
    assert len(pyogrio.read_dataframe(path, layer="marks", bbox=(0, 0, 2, 2))) == 1


def test_a_name_that_differs_only_in_case(project: Path) -> None:
    contents.change(project / "in.gpkg", rename={"beds": "Beds"})
    sound(project / "in.gpkg")
    assert [e.name for e in geopackage.entries(project / "in.gpkg")] == ["Beds", "marks"]


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"rename": {"gone": "x"}}, "there is no layer 'gone'. There are beds, marks"),
        ({"rename": {"beds": "marks"}}, "there is a layer 'marks' already"),
        ({"rename": {"beds": "gpkg_x"}}, "cannot be called"),
        ({"rename": {"beds": ""}}, "cannot be called ''"),
        ({"remove": ["gone"]}, "there is no layer 'gone'"),
        ({"remove": ["beds"], "rename": {"marks": "rtree_x"}}, "cannot be called"),
    ],
)
def test_a_change_that_cannot_be_changes_nothing(project: Path, change: dict, says: str) -> None:
    path = project / "in.gpkg"
    before = path.read_bytes()
    with pytest.raises(DeliveryError) as caught:
        contents.change(path, **change)
    assert says in caught.value.sentence() and "in.gpkg" in caught.value.sentence()
    assert path.read_bytes() == before and {p.name for p in project.iterdir()} == {"in.gpkg"}


def test_a_layer_of_another_crs_is_not_put_into_a_section(project: Path) -> None:
    path = project / "in.gpkg"
    write(points({"n": [1]}, crs="EPSG:4326", key="web"), path)
    contents.change(path, section={"beds": "Sea"})
    with pytest.raises(DeliveryError, match="is in EPSG:4326, and the section 'Sea' is in EPSG:32626"):
        contents.change(path, section={"web": "Sea"})
    contents.change(path, section={"beds": ""})
    assert geopackage.sections_of(path) == {}


def test_the_store_on_the_command_line(project: Path) -> None:
    path = str(project / "in.gpkg")
    done = CliRunner().invoke(app, ["store", path, "--rename", "beds=leases", "--section", "leases=Sea"])
    assert done.exit_code == 1 and "there is no layer 'leases'" in done.output
    done = CliRunner().invoke(app, ["store", path, "--rename", "beds=leases", "--section", "beds=Sea"])
    assert done.exit_code == 0 and done.output.splitlines() == ["Sea, EPSG:32626", "  leases  4", "In no section", "  marks  2"]
    told = json.loads(CliRunner().invoke(app, ["store", path, "--json"]).output)
    assert told["sections"] == [{"section": "Sea", "crs": "EPSG:32626", "layers": ["leases"]}]
    assert CliRunner().invoke(app, ["store", path, "--rename", "leases"]).exit_code != 0


def test_three_hundred_layers_in_one_transaction(tmp_path: Path) -> None:
    with geopackage.writing(tmp_path / "many.gpkg") as container:
        for n in range(300):
            container.add(points({"n": [n]}, key="p"), f"layer_{n}")
            container.put_in_section(f"layer_{n}", f"part {n % 3}", "EPSG:32626")
    sound(tmp_path / "many.gpkg")
    assert len(geopackage.entries(tmp_path / "many.gpkg")) == 300
    assert [len(s.layers) for s in geopackage.sections_of(tmp_path / "many.gpkg").values()] == [100, 100, 100]
    assert len(pyogrio.list_layers(tmp_path / "many.gpkg")) == 300


def test_a_file_that_another_library_made_is_tidied_with_its_counts_and_its_log(tmp_path: Path) -> None:
    """Its own count of rows follows a new name, somebody's trigger stays, and what stands in a write-ahead log is not lost."""
    path = tmp_path / "theirs.gpkg"
    layer = squares(5)
    assert layer.geometry is not None
    shapes = shapely.to_wkb(layer.geometry)
    pyogrio.raw.write(path, shapes, [np.arange(5)], np.array(["n"]), layer="beds", geometry_type="Polygon", crs="EPSG:32626")
    db = sqlite3.connect(path)
    db.execute("CREATE TABLE log (what TEXT)")
    db.execute("CREATE TRIGGER mine AFTER DELETE ON beds BEGIN INSERT INTO log VALUES ('gone'); END")
    db.execute("PRAGMA journal_mode = WAL").fetchall()
    db.execute("INSERT INTO log VALUES ('kept')")
    db.commit()
    contents.change(path, rename={"beds": "leases"})
    db.close()
    pyogrio.raw.write(
        path, shapes[:1], [np.arange(1)], np.array(["n"]), layer="leases", geometry_type="Polygon", crs="EPSG:32626", append=True
    )
    assert vector.facts(path, "leases", "leases").count == pyogrio.read_info(path, layer="leases")["features"] == 6
    db = sqlite3.connect(path)
    assert db.execute("SELECT what FROM log").fetchall() == [("kept",)]
    assert ("mine",) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall()
    db.execute("BEGIN IMMEDIATE")
    with pytest.raises(DeliveryError, match="another program holds this GeoPackage"):
        contents.change(path, rename={"leases": "beds"})
    db.close()


def test_a_layer_with_a_title_and_a_licence_keeps_its_section(project: Path) -> None:
    """Both stand in the same tables of the standard; what others noted there stays as well."""
    flow = Workflow(title="t")
    flow.path = project / "w.toml"
    loaded = flow.load("in", files=["in.gpkg"], layers=["beds"])
    flow.save("out", loaded, to="out.gpkg", section="Sea", title="Beds", licence="CC BY 4.0")
    for expected in (["Beds"], ["Beds anew"]):
        assert flow.run().state in ("balanced", "look")
        assert [(s.name, s.layers) for s in geopackage.sections_of(project / "out.gpkg").values()] == [("Sea", ("beds",))]
        with closing(sqlite3.connect(project / "out.gpkg")) as db:
            texts = [m for (m,) in db.execute("SELECT metadata FROM gpkg_metadata WHERE mime_type = 'text/xml'")]
        assert len(texts) == 1 and f"<dc:title>{expected[0]}</dc:title>" in texts[0]
        step = flow.document.steps[-1].with_setting("title", "Beds anew")
        flow.document = replace(flow.document, steps=(*flow.document.steps[:-1], step))
