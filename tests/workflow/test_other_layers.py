"""Layers that settings name: they are threads of the ledger like those that enter, in every face of the workflow."""

from __future__ import annotations

from pathlib import Path

import pytest

from eskret import Workflow, read, write
from eskret.errors import DocumentError
from eskret.workflow.model import edits
from eskret.workflow.model.document import Step, parse
from eskret.workflow.model.references import dependents, order_of, sources_of
from eskret.workflow.run.engine import Run
from tests.conftest import points, squares

TEXT = """eskret = 1

[[steps]]
id = "near"
use = "keep_by_place"
from = "load:points"
to = "beds"

[[steps]]
id = "beds"
use = "keep"
from = "load:squares"
where = "id < 2"

[[steps]]
id = "load"
use = "load"
files = ["in.gpkg"]

[[steps]]
id = "save"
use = "save"
from = "near"
to = "out.gpkg"
"""


@pytest.fixture
def project(tmp_path: Path) -> Path:
    write(squares(6), tmp_path / "in.gpkg")
    write(points({"n": list(range(6))}), tmp_path / "in.gpkg")
    (tmp_path / "w.toml").write_text(TEXT)
    return tmp_path / "w.toml"


def test_a_step_comes_after_the_layers_that_its_settings_name(project: Path) -> None:
    document = parse(TEXT)
    assert order_of(document) == ["load", "beds", "near", "save"]
    assert [str(r) for r in sources_of(document.step("near"))] == ["load:points", "beds"]
    assert dependents(document, ["beds"]) == {"beds", "near", "save"}
    result = Workflow.read(project).run()
    assert result.state == "balanced" and len(read(project.parent / "out.gpkg")) == 3
    near = next(s for s in result.steps if s.id == "near")
    assert [(i.setting, i.layer, i.rows) for i in near.inputs] == [("from", "points", 6), ("to", "squares", 2)]


def test_a_layer_is_let_go_only_when_the_last_step_is_done_with_it(project: Path) -> None:
    """Without anybody who keeps results, what no step needs any more is forgotten; a setting's layer is needed too."""
    seen = []
    document = parse(TEXT)
    run = Run(document, workflow=project, on_event=lambda e: seen.append(e["event"]))
    assert run.execute().state == "balanced" and seen.count("step_finished") == 4


def test_a_loop_through_a_setting_is_found() -> None:
    with pytest.raises(DocumentError, match="the steps go in a loop"):
        order_of(parse(TEXT.replace('from = "load:squares"', 'from = "near"')))
    with pytest.raises(DocumentError, match="it takes from 'gone', and there is no such step"):
        order_of(parse(TEXT.replace('to = "beds"', 'to = "gone"')))


def test_references_in_settings_follow_a_rename_and_go_with_a_removal() -> None:
    document = edits.rename_step(parse(TEXT), "beds", "leases")
    assert document.step("near").settings["to"] == "leases"
    removed = edits.remove_step(document, "leases")
    assert "to" not in removed.step("near").settings and removed.step("near").source == ("load:points",)
    own = Step("x", "keep_by_place", ("load",), {"to": "beds"}, layer={"points": {"to": "beds:squares"}})
    both = edits.rename_step(edits.add_step(parse(TEXT), own), "beds", "b")
    assert both.step("x").settings["to"] == "b" and both.step("x").layer["points"]["to"] == "b:squares"


def test_settings_for_one_layer_can_name_another(project: Path) -> None:
    text = TEXT.replace('from = "load:points"\nto = "beds"', 'from = "load"\nto = "beds"')
    text = text.replace('[[steps]]\nid = "beds"', '  [steps.layer.points]\n  to = "load:squares"\n\n[[steps]]\nid = "beds"', 1)
    project.write_text(text)
    result = Workflow.read(project).run()
    near = next(s for s in result.steps if s.id == "near")
    assert {o.layer: o.rows for o in near.outputs} == {"points": 6, "squares": 3}


def test_an_earlier_error_leaves_nothing_to_foretell_from(project: Path) -> None:
    project.write_text(TEXT.replace("id < 2", "ide < 2"))
    found = Workflow.read(project).rehearse()
    assert [f.step for f in found.errors] == ["beds"] and not found.steps["near"].known


def test_the_script_names_the_step_itself(project: Path) -> None:
    ordered = parse(TEXT)
    steps = [ordered.step(i) for i in ("load", "beds", "near", "save")]
    workflow = Workflow()
    workflow.document = type(ordered)(steps=tuple(steps))
    script = workflow.script("w.toml")
    assert "near = workflow.keep_by_place('near', load['points'], to=beds)" in script
    built: dict = {}
    exec(script.replace("workflow.write", "str"), built)
    assert built["workflow"].document.to_text() == workflow.document.to_text()
