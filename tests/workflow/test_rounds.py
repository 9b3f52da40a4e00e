"""Doing it again: a step in rounds, a workflow in rounds, a workflow inside another; the accounts of each round."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st
from typer.testing import CliRunner

from eskret import Workflow, read, write
from eskret.cli import app
from eskret.core.layer import Layer
from eskret.errors import DocumentError, RehearsalError
from eskret.formats import geopackage
from eskret.workflow.model.iteration import ForEach, each_of, labelled, rounds_of
from eskret.workflow.run.foreach import ForEachRun, rows_for
from tests.conftest import points

PLACES = {"name": ["Pier", "Quay", "pier", None, "Rock"], "region": ["north", "north", "south", "south", "east"]}

DISTRICT = """eskret = 1
title = "One region"

[parameters.region]
type = "choice"
default = "north"
choices_from = { layer = "all:places", field = "region" }

[parameters.places]
type = "layer"
default = "all:places"

[[steps]]
id = "all"
use = "load"
files = ["places.gpkg"]

[[steps]]
id = "mine"
use = "keep"
from = "$places"
where = "region = $region"

[[steps]]
id = "named"
use = "check"
from = "mine"
that = "filled"
fields = ["name"]

[[steps]]
id = "saved"
use = "save"
from = "named"
to = "out/regions.gpkg"
name = "{region}"
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    write(points(PLACES), tmp_path / "places.gpkg", "places")
    (tmp_path / "one.toml").write_text(DISTRICT)
    return tmp_path


def workflow(folder: Path, each: dict[str, Any], **more: Any) -> Workflow:
    made = Workflow(title="Rounds")
    made.path = folder / "rounds.toml"
    all_ = made.load("all", files=["places.gpkg", "reaches.csv"])
    made.step("buffer", "wide", all_["places"], each=each, **more)
    return made


def test_a_step_once_a_row(folder: Path) -> None:
    (folder / "reaches.csv").write_text("reach,by\nnear,1 m\nfar,10 m\n")
    made = workflow(folder, {"rows": "all:reaches"}, distance={"parameter": "by"})
    foretold = made.rehearse().steps["wide"]
    result = made.run()
    keys = ["places_near", "places_far"]
    assert [f.key for f in foretold.leaving] == keys == [x.key for x in result.layers["wide"]]
    step = result.steps[1]
    assert [(i.layer, i.rows, i.used) for i in step.inputs] == [(k, 5, 5) for k in keys]
    near, far = (sum(g.area for g in x.geometry) for x in result.layers["wide"] if x.geometry is not None)
    assert far == pytest.approx(100 * near)


def test_a_round_that_fails_is_told_and_the_rest_goes_on(folder: Path) -> None:
    (folder / "reaches.csv").write_text("reach,by\nnear,1 m\nbad,1 apple\n")
    with pytest.raises(RehearsalError, match="'apple' is no unit"):
        workflow(folder, {"rows": "all:reaches"}, distance={"parameter": "by"}).run()
    made = workflow(folder, {"rows": "all:reaches", "go_on": True}, distance={"parameter": "by"})
    assert [f.level for f in made.rehearse().findings if "Round 'bad' will fail" in f.text] == ["look"]
    result = made.run()
    bad = next(i for i in result.steps[1].inputs if i.layer == "places_bad")
    assert result.state == "look" and bad.used == 0 and "its round failed" in bad.set_aside.reasons[0]
    assert [x.key for x in result.layers["wide"]] == ["places_near"]
    (folder / "reaches.csv").write_text("reach,by\nbad,1 apple\nworse,x\n")
    with pytest.raises(RehearsalError):
        made.run()


def test_once_a_layer_and_once_a_value(folder: Path) -> None:
    write(points({"name": ["x"], "region": ["west"]}), folder / "places.gpkg", "more")
    made = Workflow()
    made.path = folder / "w.toml"
    made.load("all", files=["places.gpkg"])
    made.step("keep", "those", "$one", where="true", each={"layers": "all:*", "as": "one"})
    made.step("keep", "each", "all:places", where="region = $r", each={"values": "all:places", "field": "region", "as": "r"})
    result = made.run()
    assert {x.key: len(x) for x in result.layers["those"]} == {"places_places": 5, "more_more": 1}
    assert {x.key: len(x) for x in result.layers["each"]} == {"places_east": 1, "places_north": 2, "places_south": 2}
    assert sum(i.rows for i in result.steps[2].inputs) == 15 and all(f.known for f in made.rehearse().steps.values())


def test_rounds_that_only_a_run_tells(folder: Path) -> None:
    made = Workflow()
    made.path = folder / "w.toml"
    made.load("all", files=["places.gpkg"])
    made.compute("long", "all", field="r", value="upper(region)")
    made.step("keep", "each", "all:places", where="upper(region) = $r", each={"values": "long", "field": "r"})
    made.save("saved", "each", to="out.gpkg")
    found = made.rehearse()
    assert not found.errors and not found.steps["each"].known
    assert "known only once 'long' was made" in " ".join(f.text for f in found.findings)
    assert made.run().state == "balanced" and len(geopackage.layer_list(folder / "out.gpkg")) == 3
    made.document = made.document.__class__(steps=(*made.document.steps[:2],))
    made.step("fetch", "got", service="http://{r}.example", dataset="x", each={"values": "long", "field": "r"})
    assert "nobody can allow it before" in made.rehearse().errors[0].text


@pytest.mark.parametrize(
    ("table", "says"),
    [
        ({}, "'each' must say layers, values or rows"),
        ({"rows": "a", "values": "b"}, "must say layers"),
        ("a", "must say"),
        ({"values": "a"}, "must name a field"),
        ({"layers": "a"}, "with 'as'"),
        ({"rows": "a", "as": "b"}, "knows no 'as'"),
        ({"values": "a", "field": "b c"}, "cannot be called in a setting"),
        ({"rows": 1}, "told by texts"),
    ],
)
def test_mistakes_in_rounds(table: Any, says: str) -> None:
    with pytest.raises(DocumentError, match=says):
        each_of(table, "w")


def test_rounds_of_nothing() -> None:
    made = {"a": [Layer("t", pa.table({"x": [None, None]}))]}
    for each, says in (
        (ForEach("rows", "b"), "names nothing"),
        (ForEach("values", "a", "x", "x"), "names nothing"),
        (ForEach("values", "a", "y", "y"), "t has no field 'y'"),
        (ForEach("layers", "b:*", name="n"), "nothing"),
    ):
        with pytest.raises(DocumentError, match=says):
            rounds_of(each, made)


@given(st.lists(st.fixed_dictionaries({"a": st.one_of(st.none(), st.text(max_size=6), st.integers())}), max_size=8))
def test_every_round_has_a_name_of_its_own(rows: list[dict[str, Any]]) -> None:
    rounds = labelled(rows)
    assert [r.values for r in rounds] == rows and len({r.label.casefold() for r in rounds}) == len(rows)
    assert all(r.label for r in rounds)


# -- a workflow inside another


def outer(folder: Path, **more: Any) -> Workflow:
    made = Workflow(title="Outer")
    made.path = folder / "outer.toml"
    made.load("mine", files=["places.gpkg"])
    made.step("workflow", "used", file="one.toml", **more)
    return made


def test_a_workflow_is_one_step_of_another(folder: Path) -> None:
    made = outer(folder, values={"region": "south"})
    # its own check stops it
    stopped = "step 'used': one.toml: step 'named': places: 1 feature empty in name (1). Nothing was written."
    assert made.run().error == stopped
    made = outer(folder, values={"region": "north"})
    foretold, result = made.rehearse(), made.run()
    assert result.state == "balanced" and [len(x) for x in result.layers["used"]] == [2]
    assert [f.key for f in foretold.steps["used"].leaving] == ["places"]
    assert not (folder / "out").exists()  # in memory: what it would save it gives
    assert any("3 set aside, does not meet the condition" in r.text for r in result.steps[1].remarks)


def test_its_layers_come_from_the_outer_one(folder: Path) -> None:
    write(points({"name": ["k"], "region": ["north"]}), folder / "places.gpkg", "more")
    text = DISTRICT.replace('use = "keep"', 'use = "keep"\nresult = true')
    (folder / "one.toml").write_text(text)
    made = outer(folder, layers={"places": "mine:more"})
    assert [(x.key, len(x)) for x in made.run().layers["used"]] == [("more", 1)]
    assert made.document.to_text() == Workflow.read(_written(made)).document.to_text()
    assert "layers={'places': mine[\"more\"]}" in made.script().replace("['more']", '["more"]')
    wrong = outer(folder, layers={"region": "mine:more"})
    assert "parameter 'Region' is no layer" in wrong.rehearse().errors[0].text
    assert "names no layer" in outer(folder, layers={"places": "mine:none"}).rehearse().errors[0].text


def _written(made: Workflow) -> Path:
    made.write()
    assert made.path is not None
    return made.path


def test_it_is_used_once_a_value(folder: Path) -> None:
    each = {"values": "mine:places", "field": "region", "as": "r"}
    made = outer(folder, values={"region": {"parameter": "r"}}, layers={"places": "mine:places"}, each=each)
    assert "round 'south'" in made.run().error
    made = outer(folder, values={"region": {"parameter": "r"}}, layers={"places": "mine:places"}, each={**each, "go_on": True})
    result = made.run()
    assert [(x.key, len(x)) for x in result.layers["used"]] == [("places_east", 1), ("places_north", 2)]
    assert result.state == "look" and any("round 'south' failed" in r.text for r in result.steps[1].remarks)
    found = made.rehearse().steps["used"].leaving
    assert [f.key for f in found] == ["places_east", "places_north", "places_south"]


def test_workflows_that_use_each_other_are_refused(folder: Path) -> None:
    outer(folder).write()
    (folder / "one.toml").write_text('eskret = 1\n[[steps]]\nid = "back"\nuse = "workflow"\nfile = "outer.toml"\n')
    found = Workflow.read(folder / "outer.toml").rehearse().errors
    assert "use each other in a loop: outer.toml to one.toml to outer.toml" in found[0].text
    assert "there is no such workflow file" in outer(folder.parent).rehearse().errors[-1].text


def test_the_parameters_of_the_inner_one_are_checked_in_the_rehearsal(folder: Path) -> None:
    for values, says in (({"region": "west"}, "is not one of the choices. It can be east, north, south"), ({"x": 1}, "no parameter 'x'")):
        found = outer(folder, values=values).rehearse().errors
        assert says in found[0].text and found[0].text.startswith("one.toml")


# -- a whole workflow in rounds


def test_all_rounds_are_saved_together_or_none(folder: Path) -> None:
    made = Workflow.read(folder / "one.toml")
    rows = rows_for(made.document, "region", {}, folder)
    assert rows == [{"region": "east"}, {"region": "north"}, {"region": "south"}]
    result = ForEachRun(made.document, rows, workflow=folder / "one.toml").execute()
    assert result.state == "failed" and result.unmet and not (folder / "out").exists() and not result.outputs
    assert "Round 'south' failed" in result.error
    result = ForEachRun(made.document, rows[:2], workflow=folder / "one.toml").execute()
    assert result.state == "balanced" and geopackage.layer_list(folder / "out/regions.gpkg") == ["east", "north"]
    assert all(o.sha256 for o in result.outputs) and json.loads(json.dumps(result.to_json()))["rounds"][1]["values"]["region"] == "north"


def test_each_round_by_itself(folder: Path) -> None:
    made = Workflow.read(folder / "one.toml")
    rows = [{"region": r} for r in ("north", "south", "nowhere", "east")]
    events: list[dict[str, Any]] = []
    result = ForEachRun(made.document, rows, workflow=folder / "one.toml", go_on=True, on_event=events.append).execute()
    assert [r.state for r in result.rounds] == ["balanced", "failed", "failed", "balanced"] and result.state == "failed"
    assert geopackage.layer_list(folder / "out/regions.gpkg") == ["north", "east"] and "2 of 4 rounds failed" in result.error
    assert [e["label"] for e in events if e["event"] == "round_started"] == ["north", "south", "nowhere", "east"]
    assert len(read(folder / "out/regions.gpkg", "north")) == 2


def test_rounds_that_write_the_same_output_are_found_before_anything_is_written(folder: Path) -> None:
    (folder / "one.toml").write_text(DISTRICT.replace('name = "{region}"', 'name = "same"'))
    made = Workflow.read(folder / "one.toml")
    with pytest.raises(RehearsalError, match="the rounds 'east' and 'north' save the same layer 'same'"):
        ForEachRun(made.document, [{"region": "east"}, {"region": "north"}], workflow=folder / "one.toml").execute()
    assert not (folder / "out").exists()


def test_stopped_between_rounds(folder: Path) -> None:
    made = Workflow.read(folder / "one.toml")
    run: ForEachRun

    def watch(event: dict[str, Any]) -> None:
        if event["event"] == "round_finished":
            run.stop()

    run = ForEachRun(made.document, [{"region": "east"}, {"region": "north"}], workflow=folder / "one.toml", on_event=watch)
    result = run.execute()
    assert result.state == "stopped" and not (folder / "out").exists()


def test_rounds_on_the_command_line(folder: Path) -> None:
    run = CliRunner().invoke
    (folder / "t.csv").write_text("region\neast\nnorth\n")
    (folder / "bad.csv").write_text("colour\nred\n")
    file = str(folder / "one.toml")
    found = run(app, ["run", file, "--for-each", "t.csv", "--report", str(folder / "r.html")])
    assert found.exit_code == 0 and "north" in found.output and "Saved" in found.output
    page = (folder / "r.html").read_text()
    assert '<h2 id="north">north</h2>' in page and page.count("Features saved") == 2
    found = run(app, ["run", file, "--for-each", "region=east,north", "--rehearse"])
    assert found.exit_code == 0 and "2 rounds ready to run" in found.output
    found = run(app, ["run", file, "--for-each", "region", "--go-on", "--json"])
    assert found.exit_code == 3 and [r["state"] for r in json.loads(found.stdout)["rounds"]] == ["balanced", "balanced", "failed"]
    for given_, says in (
        ("bad.csv", "its column 'colour' is no parameter"),
        ("nix", "neither a parameter nor a table"),
        ("places", "no choices to go through"),
        ("region=", "there are no rounds to run"),
    ):
        found = run(app, ["run", file, "--for-each", given_])
        assert found.exit_code == 2 and says in found.stderr
