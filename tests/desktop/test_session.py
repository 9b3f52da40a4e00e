"""The session without a window: what an edit keeps, what it forgets, what it says of a run."""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from pytestqt.qtbot import QtBot

from eskret.desktop.sources.scan import scan
from eskret.desktop.state.paths import relative
from eskret.desktop.state.session import Session
from eskret.errors import DocumentError
from eskret.workflow.model import document, edits
from eskret.workflow.model.document import Step
from tests.conftest import WORKFLOW

ALL = {"recordings", "chosen", "archive", "web"}


@pytest.fixture
def session(qtbot: QtBot, project: Path) -> Generator[Session, None, None]:
    session = Session()
    session.open(project)
    yield session
    session.close()


def pretend(session: Session) -> None:
    """Results as if a run had left them."""
    session.results = {
        id: {"id": id, "inputs": [], "outputs": [], "remarks": [], "state": "balanced", "seconds": 0.0, "error": "", "use": ""}
        for id in ALL
    }


EDITS: list[tuple[str, Any, set[str]]] = [
    ("a note", lambda d: edits.replace_step(d, "chosen", replace(d.step("chosen"), note="n")), ALL),
    ("a heading", lambda d: edits.replace_step(d, "chosen", replace(d.step("chosen"), heading="h")), ALL),
    ("the title", lambda d: replace(d, title="other"), ALL),
    ("a move", lambda d: edits.move_step(d, "web", -1), ALL),
    ("a setting", lambda d: edits.replace_step(d, "chosen", d.step("chosen").with_setting("where", "true")), {"recordings"}),
    ("the last step", lambda d: edits.replace_step(d, "web", d.step("web").with_setting("to", "x.geojson")), ALL - {"web"}),
    ("the first step", lambda d: edits.replace_step(d, "recordings", d.step("recordings").with_setting("parts", [])), set()),
    ("switching off", lambda d: edits.replace_step(d, "chosen", replace(d.step("chosen"), off=True)), {"recordings"}),
    ("the CRS", lambda d: replace(d, crs=""), set()),
    ("a default", lambda d: edits.set_parameter(d, "kind", default="Buoy"), {"recordings"}),
    ("a removal", lambda d: edits.remove_step(d, "web"), ALL - {"web"}),
    ("a step more", lambda d: edits.add_step(d, Step("more", "keep", ("chosen",))), ALL),
    ("a new name", lambda d: edits.rename_step(d, "archive", "store"), ALL - {"archive"}),
]


@pytest.mark.parametrize(("edit", "stay"), [e[1:] for e in EDITS], ids=[e[0] for e in EDITS])
def test_an_edit_forgets_what_it_makes_stale_and_no_more(session: Session, edit: Any, stay: set[str]) -> None:
    pretend(session)
    session.edit(edit(session.document), "edit")
    assert set(session.results) == stay
    session.undo()
    assert session.document == document.read(session.path)  # type: ignore[arg-type]


def test_an_edit_that_changes_nothing_is_none(session: Session) -> None:
    session.edit(session.document, "nothing")
    assert session.undo_word == "" and not session.dirty
    session.edit(replace(session.document, title="x"), "first")
    session.edit(replace(session.document, title="y"), "second")
    session.undo()
    assert (session.undo_word, session.redo_word) == ("first", "second")
    session.edit(replace(session.document, title="z"), "third")
    assert session.redo_word == "", "after another edit there is nothing to do again"
    session.redo()
    assert session.document.title == "z"


def test_the_step_in_hand_stays_or_gives_way_to_its_neighbour(session: Session) -> None:
    session.select("chosen")
    session.edit(edits.remove_step(session.document, "web"), "x")
    assert session.selected == "chosen"
    session.edit(edits.remove_step(session.document, "chosen"), "x")
    assert session.selected == "archive"
    for id in ("archive", "recordings"):
        session.edit(edits.remove_step(session.document, id), "x")
    assert session.selected == "" and session.step() is None
    session.undo()
    assert session.selected in {"recordings", ""}


def test_a_value_that_cannot_be_falls_back_to_the_default(session: Session) -> None:
    session.edit(edits.set_parameter(session.document, "kind", choices=("Pile", "Buoy")), "choices")
    session.set_value("kind", "Buoy")
    assert session.values() == {"kind": "Buoy"}
    session.edit(edits.set_parameter(session.document, "kind", choices=("Pile", "Rock")), "choices")
    assert session.values() == {"kind": "Pile"}
    session.set_value("kind", "Pile")
    assert session.state.values == {}, "a value that is the default again is none of its own"


def test_a_loaded_source_is_named_and_placed(session: Session, project: Path) -> None:
    gpkg = str(project.parent / "r" / "Big Register.gpkg")
    assert session.load_step(gpkg, "Lease Beds", 3) == (
        Step("lease_beds", "load", (), {"files": ["r/Big Register.gpkg"], "layers": ["Lease Beds"]}),
        1,
    )
    assert session.load_step(gpkg, "only", 1)[0] == Step("big_register", "load", (), {"files": ["r/Big Register.gpkg"]})
    outside = session.load_step("/elsewhere/a.gpx", "tracks", 2)[0]
    assert outside.settings == {"files": ["/elsewhere/a.gpx"], "parts": ["tracks"]} and outside.id == "a"
    assert relative(str(project), project.parent) == "piles.toml"


def test_saving_needs_a_file_once(qtbot: QtBot, tmp_path: Path) -> None:
    session = Session()
    try:
        session.new(tmp_path)
        with pytest.raises(DocumentError, match="has no file yet"):
            session.save()
        session.add_step(Step("a", "load", (), {"files": ["x.gpx"]}))
        assert session.dirty
        session.save(tmp_path / "w.toml")
        assert not session.dirty and document.read(tmp_path / "w.toml") == session.document
        session.edit(replace(session.document, title="again"), "title")
        session.save()
        assert document.read(tmp_path / "w.toml").title == "again"
    finally:
        session.close()


def test_rehearsal_follows_every_edit_without_being_asked(session: Session, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: bool(session.forecast.steps), timeout=40_000)
    assert not session.forecast.errors
    assert session.fields_entering("chosen")[:2] == [("name", "text"), ("desc", "text")]
    with qtbot.waitSignal(session.figures_changed, timeout=40_000):
        session.change_step(session.document.step("chosen").with_setting("where", "dsc = 1"), "break it")
    assert [f.setting for f in session.forecast.errors] == ["where"]


def test_runs_that_are_no_longer_shown_are_taken_away(session: Session, qtbot: QtBot) -> None:
    for _ in range(3):
        session.run()
        qtbot.waitUntil(lambda: not session.running, timeout=40_000)
    assert sorted(p.name for p in session._store.glob("run-*")) == ["run-2", "run-3"]
    found = scan(session.folder, session.path)
    assert session.last_run["state"] == "look" and dict(found.saved_layers) == {
        "out/marks_waypoints.geojson": (),
        "out/survey.gpkg": ("pile_marks_tracks", "pile_marks_waypoints"),
    }
    assert {f.name for f in found.saved} == {"survey.gpkg", "marks_waypoints.geojson"}
    assert not {f.path for f in found.saved} & {f.path for f in found.offered}
    home = session._store
    session.close()
    assert not home.exists()


def test_opening_another_file_forgets_the_first(session: Session, project: Path) -> None:
    pretend(session)
    session.set_value("kind", "Buoy")
    other = project.with_name("other.toml")
    other.write_text(WORKFLOW.replace('"Piles"', '"Other"'))
    session.open(other)
    assert session.document.title == "Other" and session.results == {} and session.values() == {"kind": "Pile"}
    assert session.undo_word == ""
    with pytest.raises(DocumentError):
        session.open(project.with_name("none.toml"))
    assert session.document.title == "Other"
