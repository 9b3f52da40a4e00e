"""Rehearsing and running: what is foretold comes, everything balances, and nothing is half done."""

from __future__ import annotations

import json
import os
import sqlite3
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyogrio
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret import Workflow, read, use, write
from eskret.api import from_geopandas, to_geopandas
from eskret.core.accounts.account import Relation
from eskret.core.layer import Layer
from eskret.errors import AccountError, EskretError, RehearsalError, SettingError
from eskret.formats import geopackage
from eskret.operations.base import Context, Outcome
from eskret.operations.choose.keep import NOT_MET, UNKNOWN, Keep
from eskret.workflow.model import edits
from eskret.workflow.run.engine import Run
from eskret.workflow.run.step import prove
from tests.conftest import points, squares


def state_of(folder: Path) -> dict[str, bytes]:
    """Every file below a folder, to see that nothing changed."""
    return {p.relative_to(folder).as_posix(): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


# -- operations


@given(st.lists(st.sampled_from(["Pile 1", "Buoy", None, ""]), max_size=30), st.integers(0, 3))
def test_keep_balances_for_any_rows(texts: list[str | None], seed: int) -> None:
    layer = points({"desc": pa.array(texts, pa.string()), "tonnes": pa.array([i * seed for i in range(len(texts))])})
    outcome = Keep().run(layer, Keep.Settings(where="desc LIKE 'Pile%'"), Context(totals=("tonnes",)))
    prove(outcome, Keep.relation)
    account = outcome.inputs[0]
    assert dict(account.set_aside.counts()).get(UNKNOWN, 0) == texts.count(None)
    assert dict(account.set_aside.counts()).get(NOT_MET, 0) == texts.count("Buoy") + texts.count("")
    assert outcome.layers[0].table.column("desc").to_pylist() == [t for t in texts if t == "Pile 1"]


def test_keep_proves_its_area_where_it_entered_and_where_it_leaves() -> None:
    layer = squares(10)
    outcome = Keep().run(layer, Keep.Settings(where="kind = 'a'"), Context())
    control = outcome.outputs[0].controls[0]
    assert (control.name, control.unit, control.agrees) == ("area", "ha", True)
    assert outcome.outputs[0].totals[0] == ("area", pytest.approx(0.05), "ha")
    broken = replace(outcome, outputs=(replace(outcome.outputs[0], controls=(replace(control, found=0.2),)),))
    with pytest.raises(AccountError, match="the area should be 0.05 ha and is 0.2"):
        prove(broken, Keep.relation)


def test_a_lineage_that_disagrees_is_never_passed_on() -> None:
    outcome = Keep().run(squares(10), Keep.Settings(where="kind = 'a'"), Context())
    with pytest.raises(AccountError):
        prove(replace(outcome, lineage=np.arange(4)), Relation.KEPT)
    with pytest.raises(AccountError):
        prove(Outcome(outcome.layers, outcome.inputs, (replace(outcome.outputs[0], rows=4),), None), Relation.NEW)


def test_an_operation_called_straight_on_a_layer() -> None:
    result = use("keep")(squares(4), where="id >= $least", values={"least": 2})
    assert result.layer.table.column("id").to_pylist() == [2, 3] and result.inputs[0].used == 2
    with pytest.raises(SettingError, match="Did you mean 'where'?"):
        use("keep")(squares(4), were="true")
    with pytest.raises(RehearsalError, match="there is no field 'nothing'"):
        use("keep")(squares(4), where="nothing = 1")
    with pytest.raises(EskretError, match="does not work on layers alone"):
        use("save")(squares(4), to="x.gpkg")


# -- rehearsal


def test_a_rehearsal_foretells_and_writes_nothing(project: Path) -> None:
    before = state_of(project.parent)
    found = Workflow.read(project).rehearse()
    assert not found.errors and state_of(project.parent) == before
    assert {x.key: x.count for x in found.steps["recordings"].leaving}["marks_waypoints"] == 3
    assert [(o.path.name, o.layer, o.action, o.features) for o in found.outputs] == [
        ("survey.gpkg", "pile_marks_waypoints", "write", 3),
        ("survey.gpkg", "pile_marks_tracks", "write", 1),
        ("marks_waypoints.geojson", "", "write", 3),
    ]
    assert found.steps["chosen"].leaving[0].certainty == "at most"


@pytest.mark.parametrize(
    ("old", "new", "step", "says"),
    [
        ("desc LIKE", "dsc LIKE", "chosen", "there is no field 'dsc'. Did you mean 'desc'?"),
        ("$kind", "$kint", "chosen", "there is no parameter $kint"),
        ("where =", "wher =", "chosen", "Did you mean 'where'?"),
        ('use = "keep"', 'use = "kep"', "chosen", "there is no operation 'kep'"),
        ("field/*.gpx", "field/*.shp", "recordings", "no readable file matches 'field/*.shp'"),
        ('from = "chosen"', 'from = "chosn"', "web", "takes from 'chosn', and there is no such step"),
        ("*_waypoints", "*_waypoint", "chosen", "names no layer that is there"),
        ("survey.gpkg", "survey.xyz", "archive", "files ending in '.xyz' cannot be written"),
        ("{layer}.geojson", "{nope}.geojson", "web", "'{nope}' stands for nothing here"),
        ('"EPSG:32626"', '"EPSG:0"', "", "not a coordinate system that is known"),
        ("{kind}_{layer}", "{kind} ", "archive", ""),
        ('files = ["field/*.gpx"]', 'files = ["field/*.gpx"]\ncrs = "EPSG:77"', "recordings", "CRS where none is declared"),
        ('files = ["field/*.gpx"]', 'files = ["field/*.gpx"]\nparts = ["wings"]', "recordings", "Parts of a recording"),
    ],
)
def test_mistakes_are_found_before_anything_is_read(project: Path, old: str, new: str, step: str, says: str) -> None:
    project.write_text(project.read_text().replace(old, new, 1))
    before = state_of(project.parent)
    workflow = Workflow.read(project)
    found = workflow.rehearse()
    if not says:
        assert not found.errors  # names that come out equal are numbered, not refused
        assert [o.layer for o in found.outputs[:2]] == ["pile", "pile_2"]
        return
    assert any(says in f.text and f.step == step for f in found.errors), found.errors
    with pytest.raises(RehearsalError):
        workflow.run()
    assert state_of(project.parent) == before


def test_errors_further_down_are_not_told_twice(project: Path) -> None:
    project.write_text(project.read_text().replace("field/*.gpx", "field/*.shp"))
    found = Workflow.read(project).rehearse()
    assert len(found.errors) == 1 and not found.steps["web"].known


def test_several_layers_cannot_share_one_geojson(project: Path) -> None:
    project.write_text(project.read_text().replace("out/survey.gpkg", "out/survey.geojson"))
    assert any("2 layers cannot go into one GeoJSON file" in f.text for f in Workflow.read(project).rehearse().errors)


def test_two_steps_cannot_save_the_same(project: Path) -> None:
    text = project.read_text()
    project.write_text(text + text[text.index('[[steps]]\nid = "web"') :].replace('"web"', '"again"'))
    assert any("two steps save the same file" in f.text for f in Workflow.read(project).rehearse().errors)


# -- running


def test_a_run_balances_and_does_what_was_foretold(project: Path) -> None:
    workflow = Workflow.read(project)
    result = workflow.run()
    assert result.state == "look", result.error  # one point has no valid place
    told = {s["id"]: s for s in result.to_json()["steps"]}
    assert told["recordings"]["inputs"][0] == {
        "setting": "files",
        "layer": "marks_waypoints",
        "rows": 4,
        "used": 3,
        "altered": [],
        "set_aside": [{"reason": "has no valid latitude and longitude", "count": 1}],
    }
    assert told["chosen"]["inputs"][0]["set_aside"] == [{"reason": NOT_MET, "count": 1}, {"reason": UNKNOWN, "count": 1}]
    assert [(e.name, e.rows) for e in geopackage.entries(project.parent / "out" / "survey.gpkg")] == [
        ("pile_marks_waypoints", 1),
        ("pile_marks_tracks", 1),
    ]
    frame = pyogrio.read_dataframe(project.parent / "out" / "marks_waypoints.geojson")
    assert frame["name"].tolist() == ["A1"]
    # GPS degrees came back out after a way through UTM
    assert frame.geometry[0].x == pytest.approx(-27.2, abs=1e-7) and frame.geometry[0].y == pytest.approx(47.1, abs=1e-7)
    assert all(len(o.sha256) == 64 for o in result.outputs)
    assert not list(project.parent.rglob(".*"))


def test_another_word_by_one_parameter_and_what_is_left_over_is_told(project: Path) -> None:
    workflow = Workflow.read(project)
    workflow.run()
    result = workflow.run(kind="Buoy")
    names = [e.name for e in geopackage.entries(project.parent / "out" / "survey.gpkg")]
    assert "buoy_marks_waypoints" in names and "pile_marks_waypoints" in names
    assert any("pile_marks_waypoints" in r.text and "left over" in r.text for r in result.remarks)
    third = workflow.run(kind="Buoy")
    assert third.state == "look"
    assert [e.name for e in geopackage.entries(project.parent / "out" / "survey.gpkg")].count("buoy_marks_waypoints") == 1


def test_what_others_wrote_or_changed_is_never_replaced_unasked(project: Path) -> None:
    workflow = Workflow.read(project)
    target = project.parent / "out" / "marks_waypoints.geojson"
    target.parent.mkdir()
    target.write_text("mine")
    assert any("this workflow did not write it" in f.text for f in workflow.rehearse().errors)
    assert workflow.run(if_exists="replace").state == "look"
    target.write_text(target.read_text().replace("Pile", "Piles"))
    assert any("was changed since this workflow wrote it" in f.text for f in workflow.rehearse().errors)
    target.unlink()
    container = project.parent / "out" / "survey.gpkg"
    db = sqlite3.connect(container)
    for (trigger,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger'").fetchall():
        db.execute(f"DROP TRIGGER {trigger}")
    db.execute("UPDATE pile_marks_tracks SET name = 'other'")
    db.commit()
    db.close()
    errors = [f.text for f in workflow.rehearse().errors]
    assert len(errors) == 1 and "layer 'pile_marks_tracks' is there already and was changed" in errors[0]


def test_records_hold_on_another_machine(project: Path, tmp_path: Path) -> None:
    Workflow.read(project).run()
    moved = tmp_path / "elsewhere"
    project.parent.joinpath("out").rename(project.parent / "out")
    import shutil

    shutil.copytree(project.parent, moved, ignore=shutil.ignore_patterns("elsewhere"))
    for path in (moved / "out").iterdir():
        os.utime(path, (1, 1))  # a copy has other times
    assert not Workflow.read(moved / project.name).rehearse().errors


@pytest.mark.parametrize(
    ("policy", "files", "layers"),
    [("number", ["marks_waypoints.geojson", "marks_waypoints_2.geojson"], 2), ("skip", ["marks_waypoints.geojson"], 1)],
)
def test_number_and_skip(project: Path, policy: str, files: list[str], layers: int) -> None:
    workflow = Workflow.read(project)
    workflow.run()
    result = workflow.run(if_exists=policy)
    out = project.parent / "out"
    assert sorted(p.name for p in out.glob("*.geojson")) == files
    assert sum(e.name.startswith("pile_marks_tracks") for e in geopackage.entries(out / "survey.gpkg")) == layers
    if policy == "skip":
        aside = result.steps[-1].inputs[0].set_aside.counts()
        assert aside == [("was not saved: it is there already", 1)] and result.outputs == ()


def test_values_cannot_climb_out_of_the_folder(project: Path) -> None:
    project.write_text(project.read_text().replace("out/{layer}.geojson", "out/{kind}.geojson").replace("= $kind ||", "= ''||"))
    workflow = Workflow.read(project)
    for kind, name in (("../../x", "x"), ("CON", "con_"), ("a" * 300, "a" * 60), ("a/b\\c:d", "a_b_c_d")):
        planned = [o.path for o in workflow.rehearse(kind=kind).outputs if o.path.suffix == ".geojson"]
        assert planned == [project.parent / "out" / f"{name}.geojson"]


def test_a_failure_at_the_last_step_leaves_every_output_as_it_was(project: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    workflow = Workflow.read(project)
    workflow.run()
    before = state_of(project.parent)

    def fail(*args: object, **options: object) -> None:
        raise OSError(28, "No space left on device", "out")

    monkeypatch.setattr("eskret.formats.geojson.write", fail)
    result = workflow.run(kind="Buoy")
    assert result.state == "failed" and "the disk is full" in result.error
    assert state_of(project.parent) == before


def test_a_fault_of_an_operation_is_told_with_its_place(project: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(Keep, "run", lambda *a: 1 / 0)
    result = Workflow.read(project).run()
    assert result.state == "failed"
    assert "step 'chosen'" in result.error and "ZeroDivisionError" in result.error and "please report it" in result.error
    assert not (project.parent / "out").exists()


@pytest.mark.parametrize("at", ["recordings", "chosen", "archive", "web"])
def test_stop_at_every_step(project: Path, at: str) -> None:
    workflow = Workflow.read(project)
    workflow.run()
    before = state_of(project.parent)
    run: Run

    def stop(event: dict) -> None:
        if event["event"] == "step_started" and event["step"] == at:
            run.stop()

    run = Run(workflow.document, {"kind": "Buoy"}, workflow=project, on_event=stop)
    result = run.execute()
    assert result.state == "stopped" and "nothing was written" in result.error
    assert state_of(project.parent) == before


def test_switched_off_steps_pass_on_or_write_nothing(project: Path) -> None:
    text = project.read_text().replace("where = ", "off = true\nwhere = ").replace('from = "chosen"', 'off = true\nfrom = "chosen"')
    project.write_text(text)
    result = Workflow.read(project).run()
    assert [(o.layer, o.features) for o in result.outputs] == [("pile_marks_waypoints", 3), ("pile_marks_tracks", 1)]


def test_recordings_together(demo: Path) -> None:
    workflow = Workflow(crs="EPSG:32626")
    workflow.path = demo / "w.toml"
    boats = workflow.load("boats", files=["field/2031-09/boat-*.gpx"], together=True)
    workflow.keep("a", boats["track_points"], where="file = 'boat-a'")
    result = workflow.run()
    assert [(layer.key, len(layer)) for layer in result.layers["boats"]] == [
        ("tracks", 3),
        ("track_points", 1454),
        ("routes", 1),
        ("route_points", 3),
    ]
    assert [(i.layer, i.rows) for i in result.steps[0].inputs if "track_points" in i.layer] == [
        ("boat_a_track_points", 802),
        ("boat_b_track_points", 652),
    ]
    assert len(result.layers["a"][0]) == 802
    forecast = workflow.rehearse().steps["boats"].leaving
    assert {(f.key, f.count) for f in forecast} == {(x.key, len(x)) for x in result.layers["boats"]}


def test_an_unreadable_file_stops_or_is_left_out_as_chosen(project: Path) -> None:
    (project.parent / "field" / "bad.gpx").write_text("<gpx>")
    workflow = Workflow.read(project)
    assert any("bad.gpx: it is not well-formed" in f.text for f in workflow.rehearse().errors)
    project.write_text(project.read_text().replace('gpx"]', 'gpx"]\nif_unreadable = "go on"', 1))
    result = Workflow.read(project).run()
    assert result.state == "look" and any("bad.gpx was left out" in r.text for r in result.steps[0].remarks)


def test_a_missing_crs_is_asked_for_and_never_guessed(tmp_path: Path) -> None:
    frame = to_geopandas(squares(3))
    frame.set_crs(None, allow_override=True).to_file(tmp_path / "bare.shp")
    workflow = Workflow(crs="EPSG:32626")
    workflow.path = tmp_path / "w.toml"
    workflow.load("bare", files=["bare.shp"])
    assert "no coordinate system is declared" in workflow.rehearse().errors[0].text
    told = Workflow(crs="EPSG:32626")
    told.path = tmp_path / "w.toml"
    told.load("bare", files=["bare.shp"], crs="EPSG:32626")
    assert told.run().state == "balanced"


# -- the public functions


def test_read_write_and_frames(tmp_path: Path) -> None:
    layer = squares(5)
    write(layer, tmp_path / "a.gpkg", "beds")
    write(layer, tmp_path / "a.geojson")
    for bad in ("a.gpkg", "a.geojson"):
        with pytest.raises(EskretError, match="is there already"):
            write(layer, tmp_path / bad, "BEDS")
    back = read(tmp_path / "a.gpkg")
    assert back.geometry is not None and layer.geometry is not None
    assert shapely.equals_identical(back.geometry, layer.geometry).all()
    frame = to_geopandas(back)
    frame["id"] = frame["id"] + 1
    again = from_geopandas(frame, "beds")
    assert again.crs == "EPSG:32626" and again.table.column("id").to_pylist() == [1, 2, 3, 4, 5]
    assert str(again.table.schema.field("id").type) == "int64"
    write(squares(1), tmp_path / "a.gpkg", "more")
    with pytest.raises(EskretError, match="Name one of beds, more"):
        read(tmp_path / "a.gpkg")
    plain = Layer("t", pa.table({"a": [1]}))
    assert list(to_geopandas(plain)["a"]) == [1]


def test_a_workflow_built_in_python_is_the_file(tmp_path: Path) -> None:
    workflow = Workflow(title="T")
    tolerance = workflow.parameter("where", type="text", default="true")
    marks = workflow.load("marks", files=["*.gpx"])
    workflow.keep("some", [marks["a*"], marks], where=tolerance, heading="H", note="N", layer={"a": {"where": "false"}})
    workflow.write(tmp_path / "t.toml")
    again = Workflow.read(tmp_path / "t.toml")
    assert again.document == workflow.document
    assert again.steps[1].source == ("marks:a*", "marks") and again.steps[1].settings == {"where": {"parameter": "where"}}
    with pytest.raises(AttributeError, match="operations are"):
        workflow.fly("x")
    with pytest.raises(EskretError, match="there is a step 'marks' already"):
        workflow.load("marks", files=["a.gpx"])
    assert json.loads(json.dumps(again.rehearse().to_json()))["state"] == "errors"


def test_stop_during_the_rehearsal_is_a_stop_too(project: Path) -> None:
    run = Run(Workflow.read(project).document, workflow=project)
    run.stop()
    result = run.execute()
    assert result.state == "stopped" and result.error == "Stopped; nothing was written."


# -- gathering many things at once


def test_files_of_many_formats_come_in_by_one_step(tmp_path: Path, marks_file: Path) -> None:
    """Nine layers of a folder: per-file rows, one CRS, a table beside them, one unreadable file told or stopping."""
    home = marks_file.parent
    write(squares(3, key="beds"), home / "beds.gpkg")
    to_geopandas(squares(2, key="b")).to_file(home / "web.geojson", driver="GeoJSON")
    (home / "codes.csv").write_text("code,n\n007,1\n")
    (home / "broken.gpkg").write_text("not a database")
    (home / "binary.csv").write_bytes(b"a,b\n\x00\x01")
    workflow = Workflow(crs="EPSG:32626")
    workflow.load("all", files=[str(home)], if_unreadable="go on", zone="Atlantic/Azores")
    workflow.path = tmp_path / "w.toml"
    forecast = workflow.rehearse()
    assert any("Will go on without broken.gpkg" in f.text for f in forecast.findings)
    result = workflow.run()
    assert not result.error, result.error
    layers = {layer.key: layer for layer in result.layers["all"]}
    assert set(layers) == {
        "beds",
        "web",
        "codes",
        "marks_waypoints",
        "marks_routes",
        "marks_route_points",
        "marks_tracks",
        "marks_track_points",
    }
    assert {x.crs for x in layers.values()} == {"EPSG:32626", None} and layers["codes"].table.column("code").to_pylist() == ["007"]
    assert {o.layer: o.rows for o in result.steps[0].outputs} == {k: len(x) for k, x in layers.items()}
    assert [f.schema() for f in forecast.steps["all"].leaving] == [layers[f.key].table.schema for f in forecast.steps["all"].leaving]
    left_out = {r.text.split()[0] for r in result.steps[0].remarks if "was left out" in r.text}
    assert left_out == {"broken.gpkg", "binary.csv"} and result.state == "look"
    days = layers["marks_waypoints"].table.column("day").to_pylist()
    assert [str(d) for d in days[:2]] == ["2031-09-03", "2031-09-03"] and days[2] is None
    workflow.document = edits.replace_step(workflow.document, "all", workflow.steps[0].with_setting("if_unreadable", "stop"))
    assert "broken.gpkg" in workflow.rehearse().errors[0].text
    assert "no time zone is called so" in _errors(workflow, 0, zone="Mars/Olympus")


def _errors(workflow: Workflow, number: int, **settings: object) -> str:
    step = workflow.steps[number]
    for name, value in settings.items():
        step = step.with_setting(name, value)
    workflow.document = edits.replace_step(workflow.document, step.id, step)
    return workflow.rehearse().errors[0].text


def test_files_that_are_alike_and_differ_in_fields_are_told(tmp_path: Path) -> None:
    for name, body in (("a", "id,depth\n1,2\n"), ("b", "id,depth\n1,2\n"), ("c", "id,depth,note\n1,2,x\n")):
        (tmp_path / f"{name}.csv").write_text(body)
    workflow = Workflow()
    workflow.load("all", files=[str(tmp_path / "*.csv")])
    assert [f.text for f in workflow.rehearse().findings] == ["Files that are alike differ in fields: c has note besides."]


def test_a_layer_is_saved_in_another_crs_and_as_csv(tmp_path: Path) -> None:
    write(points({"n": [1, 2]}, key="marks"), tmp_path / "in.gpkg")
    workflow = Workflow()
    workflow.load("in", files=["in.gpkg"])
    workflow.save("deg", "in", to="out.gpkg", crs="EPSG:4326")
    workflow.save("csv", "in", to="{layer}.csv", crs="EPSG:4326", measures=["area_ha"])
    workflow.write(tmp_path / "w.toml")
    result = workflow.run()
    assert result.state == "balanced" and read(tmp_path / "out.gpkg").crs == "EPSG:4326"
    # 500,000 m east is the central meridian of zone 26: 27 degrees west (EPSG Guidance Note 7-2)
    table = read(tmp_path / "marks.csv").table
    assert table.column_names == ["n", "x", "y"] and table.column("x")[0].as_py() == pytest.approx(-27)
    assert {o.crs for o in result.outputs} == {"EPSG:4326"} and "not a coordinate system" in _errors(workflow, 1, crs="EPSG:1")
