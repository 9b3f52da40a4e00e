"""Deliveries on their own: what happens to what is there, staging, rolling back, committing, leftovers."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest

from eskret.errors import DeliveryError
from eskret.formats import geopackage
from eskret.formats.geopackage import digest
from eskret.operations.base import Delivered, PlannedOutput
from eskret.workflow.outputs.records import FileRecord, Outputs, digest_file, outputs_path, record_of
from eskret.workflow.outputs.recovery import recover
from eskret.workflow.outputs.transaction import OutputTransaction
from tests.conftest import squares

ABSENT, OURS, CHANGED, FOREIGN = "absent", "ours", "changed", "foreign"


@pytest.fixture
def workflow(tmp_path: Path) -> Path:
    path = tmp_path / "w.toml"
    path.write_text("eskret = 1\n")
    return path


def prepare(workflow: Path, target: Path, situation: str) -> None:
    """Bring a target into a situation."""
    container = target.suffix == ".gpkg"
    if situation == ABSENT:
        return
    if container:
        with geopackage.writing(target) as out:
            out.add(squares(2), "beds")
            out.add(squares(1), "other")
        layers = {"beds": digest.layer_digest(target, "beds")}
    else:
        target.write_text("first")
        layers = {}
    if situation != FOREIGN:
        outputs = Outputs(workflow.parent, {target.name: record_of(target, layers)})
        outputs_path(workflow).write_text(json.dumps(outputs.to_json()))
    if situation == CHANGED:
        if container:
            with geopackage.writing(target) as out:
                out.remove("beds")
                out.add(squares(3), "beds")
        else:
            target.write_text("second")


# what each policy does in each situation; "stop" stands for an error
TABLE = {
    "own": {ABSENT: "write", OURS: "replace", CHANGED: "stop", FOREIGN: "stop"},
    "stop": {ABSENT: "write", OURS: "stop", CHANGED: "stop", FOREIGN: "stop"},
    "replace": {ABSENT: "write", OURS: "replace", CHANGED: "replace", FOREIGN: "replace"},
    "skip": {ABSENT: "write", OURS: "skip", CHANGED: "skip", FOREIGN: "skip"},
    "number": {ABSENT: "write", OURS: "write", CHANGED: "write", FOREIGN: "write"},
}


@pytest.mark.parametrize("situation", [ABSENT, OURS, CHANGED, FOREIGN])
@pytest.mark.parametrize("policy", TABLE)
@pytest.mark.parametrize("name", ["a.gpkg", "a.geojson"])
def test_what_happens_to_what_is_there(workflow: Path, name: str, policy: str, situation: str) -> None:
    target = workflow.parent / name
    prepare(workflow, target, situation)
    before = target.read_bytes() if target.exists() else None
    transaction = OutputTransaction(workflow, workflow.parent)
    layer = "beds" if name.endswith("gpkg") else ""
    expected = TABLE[policy][situation]
    if expected == "stop":
        with pytest.raises(DeliveryError, match="is there already"):
            transaction.resolve(target, [layer], policy)
    else:
        plan = transaction.resolve(target, [layer], policy)[0]
        assert plan.action == expected
        numbered = policy == "number" and situation != ABSENT
        assert plan.layer == ("beds_2" if numbered and layer else layer)
        assert plan.path.name == ("a_2.geojson" if numbered and not layer else name)
    assert (target.read_bytes() if target.exists() else None) == before, "settling writes nothing"


def test_another_layer_of_a_file_is_in_nobodys_way(workflow: Path) -> None:
    target = workflow.parent / "a.gpkg"
    prepare(workflow, target, FOREIGN)
    transaction = OutputTransaction(workflow, workflow.parent)
    assert transaction.resolve(target, ["new"], "own")[0].action == "write"
    with pytest.raises(DeliveryError, match="layer 'beds' is there already"):
        transaction.resolve(target, ["BEDS"], "own")  # the same but for case


def test_a_layer_that_others_left_alone_is_still_ours_in_a_changed_file(workflow: Path) -> None:
    target = workflow.parent / "a.gpkg"
    prepare(workflow, target, OURS)
    with geopackage.writing(target) as out:
        out.add(squares(1), "theirs")
    assert OutputTransaction(workflow, workflow.parent).resolve(target, ["beds"], "own")[0].action == "replace"


def test_two_of_the_same_in_one_run_are_refused(workflow: Path) -> None:
    transaction = OutputTransaction(workflow, workflow.parent)
    target = workflow.parent / "a.gpkg"
    transaction.resolve(target, ["beds"], "own")
    with pytest.raises(DeliveryError, match="two steps save the same layer 'BEDS'"):
        transaction.resolve(target, ["BEDS"], "own")


def test_places_that_cannot_be(workflow: Path) -> None:
    transaction = OutputTransaction(workflow, workflow.parent)
    (workflow.parent / "folder.gpkg").mkdir()
    with pytest.raises(DeliveryError, match="this is a folder"):
        transaction.resolve(workflow.parent / "folder.gpkg", ["a"], "own")
    with pytest.raises(DeliveryError, match="this is a file, not a folder"):
        transaction.resolve(workflow / "a.gpkg", ["a"], "own")


def test_rolling_back_leaves_nothing_behind(workflow: Path) -> None:
    transaction = OutputTransaction(workflow, workflow.parent)
    deep = workflow.parent / "a" / "b" / "x.geojson"
    staged = transaction.stage(deep)
    staged.write_text("half")
    assert staged.parent == deep.parent and staged.name.startswith(".eskret-")
    transaction.rollback()
    assert sorted(p.name for p in workflow.parent.iterdir()) == ["w.toml"]


def test_a_folder_that_was_there_stays_when_rolling_back(workflow: Path) -> None:
    (workflow.parent / "out").mkdir()
    transaction = OutputTransaction(workflow, workflow.parent)
    transaction.stage(workflow.parent / "out" / "x.geojson").write_text("half")
    transaction.rollback()
    assert list((workflow.parent / "out").iterdir()) == []


def test_committing_puts_all_in_place_and_remembers(workflow: Path, own_data: Path) -> None:
    transaction = OutputTransaction(workflow, workflow.parent)
    paths = [workflow.parent / "a.geojson", workflow.parent / "sub" / "b.geojson"]
    for n, path in enumerate(paths):
        transaction.stage(path).write_text(str(n))
    done = transaction.commit([Delivered(p, "", 1, None) for p in paths])
    assert [p.read_text() for p in paths] == ["0", "1"]
    assert [d.sha256 for d in done] == [digest_file(p) for p in paths]
    assert not list(own_data.glob("transactions/*")), "journal and lock are gone with the commit"
    again = OutputTransaction(workflow, workflow.parent)
    assert [again.resolve(p, [""], "own")[0].action for p in paths] == ["replace", "replace"]
    assert set(again.outputs.files) == {"a.geojson", "sub/b.geojson"}, "paths are kept from the folder"


def test_a_workflow_without_a_file_owns_nothing(tmp_path: Path) -> None:
    transaction = OutputTransaction(None, tmp_path)
    target = tmp_path / "a.geojson"
    transaction.stage(target).write_text("x")
    transaction.commit([Delivered(target, "", 1, None)])
    assert [p.name for p in tmp_path.iterdir()] == ["a.geojson"]
    with pytest.raises(DeliveryError, match="this workflow did not write it"):
        OutputTransaction(None, tmp_path).resolve(target, [""], "own")


def test_leftovers_are_what_earlier_runs_wrote_and_this_one_does_not(workflow: Path) -> None:
    target = workflow.parent / "a.gpkg"
    prepare(workflow, target, OURS)
    transaction = OutputTransaction(workflow, workflow.parent)
    (workflow.parent / "old.geojson").write_text("x")
    transaction.outputs.files["old.geojson"] = FileRecord("s", 1, 1)
    transaction.outputs.files["gone.geojson"] = FileRecord("s", 1, 1)
    assert transaction.leftovers([PlannedOutput(target, "new", "write")]) == [(target, "beds"), (workflow.parent / "old.geojson", "")]
    assert (
        transaction.leftovers([PlannedOutput(target, "beds", "write"), PlannedOutput(workflow.parent / "old.geojson", "", "write")]) == []
    )


@pytest.mark.parametrize("text", ["", "not json", "[]", '{"files": {"a": 1}}', '{"files": {"a": {"sha256": "x"}}}'])
def test_records_that_cannot_be_understood_own_nothing(workflow: Path, text: str) -> None:
    outputs_path(workflow).write_text(text)
    assert Outputs.beside(workflow, workflow.parent).files == {}


def test_what_cannot_be_renamed_behind_the_commit_point_is_told_and_completed_later(
    workflow: Path, monkeypatch: pytest.MonkeyPatch, own_data: Path
) -> None:
    old, new, last = (workflow.parent / n for n in ("old.geojson", "new.geojson", "last.geojson"))
    old.write_text("as it was")
    transaction = OutputTransaction(workflow, workflow.parent)
    for path in (old, new, last):
        transaction.stage(path).write_text("fresh")
    real = os.replace

    def refuse(source: str | Path, target: str | Path) -> None:
        if Path(target) == last:
            raise PermissionError(13, "Permission denied", str(target))
        real(source, target)

    with monkeypatch.context() as context:
        context.setattr(os, "replace", refuse)
        transaction.commit([Delivered(p, "", 1, None) for p in (old, new, last)])
    assert transaction.problems == [(last, "Permission denied")]
    assert old.read_text() == new.read_text() == "fresh" and not last.exists()
    assert "last.geojson" not in Outputs.beside(workflow, workflow.parent).files
    (found,) = recover(workflow.parent)
    assert found.completed == [last] and not found.left and "is done now: last.geojson" in found.sentences()[0]
    assert sorted(p.name for p in workflow.parent.iterdir()) == ["last.geojson", "new.geojson", "old.geojson", "w.outputs.json", "w.toml"]
    assert set(Outputs.beside(workflow, workflow.parent).files) == {"last.geojson", "new.geojson", "old.geojson"}
    assert not list(own_data.glob("transactions/*")) and recover(workflow.parent) == []
