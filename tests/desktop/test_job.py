"""The whole job by mouse and keyboard alone: from a folder of recordings to saved, balanced results, and again."""

from __future__ import annotations

import json
import os
import signal
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog

from eskret import Workflow
from eskret.desktop.forms.condition import ConditionEditor
from eskret.desktop.table.layer_model import NULL
from eskret.formats import geopackage
from eskret.workflow.model import document as documents
from tests.desktop.conftest import Hand


def last_box(hand: Hand, kind: str) -> object:
    return next(w for w in QApplication.topLevelWidgets() if type(w).__name__ == kind and w.isVisible())


@pytest.mark.screen
def test_the_whole_job(make_hand: Callable[..., Hand], marks_file: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = marks_file.parent.parent
    hand = make_hand(folder)
    bench = hand.bench

    # look at the data first: a click on the waypoints shows them on the map and in the table
    hand.click_source("field", "marks.gpx", "waypoints")
    hand.until(lambda: bench.viewer.subject.source)
    assert bench.viewer.table_count.text() == "3 rows"
    hand.until(lambda: bench.viewer.canvas._image is not None)
    cells = [bench.viewer.table.model_.index(2, c).data() for c in range(4)]
    assert cells[:3] == ["3", "A3", NULL]

    # load the file: Enter in the sources
    hand.click_source("field", "marks.gpx")
    hand.keys("Return", bench.sources.tree)
    assert hand.steps() == ["marks"]
    hand.settled()
    assert hand.row("marks")["out"] == "12" and hand.row("marks")["state"] == ""

    # the workflow's CRS
    bench.boxes.edit_heads()
    box = last_box(hand, "HeadsBox")
    hand.keys("Ctrl+A", box.lines["title"])
    hand.type("Piles", box.lines["title"])
    hand.type("EPSG:1", box.lines["crs"])
    hand.click(box.ok)
    assert "not a coordinate system" in box.wrong.text()
    hand.keys("Ctrl+A", box.lines["crs"])
    hand.type("EPSG:32626", box.lines["crs"])
    hand.click(box.ok)
    assert bench.session.document.crs == "EPSG:32626"

    # a parameter, and a step that keeps what it says
    bench.add_parameter()
    properties = bench.views.parameters.properties
    hand.type("kind", properties.called)
    hand.keys("Return", properties.called)
    hand.type("Kind of mark", properties.label)
    hand.keys("Return", properties.label)
    hand.type("Pile", properties.value.line)
    hand.keys("Return", properties.value.line)
    assert [(p.name, p.label, p.default) for p in bench.session.document.parameters] == [("kind", "Kind of mark", "Pile")]
    bench.show_parameters(False)
    hand.keys("Insert", bench.ledger)
    assert bench.finder.isVisible()
    hand.type("only some", bench.finder.line)
    hand.keys("Return", bench.finder.line)
    assert hand.steps() == ["marks", "keep"]
    hand.settled()
    entering = bench.form.blocks["from"].editor
    hand.click(entering.button)
    waypoints = next(a for a in entering.menu.actions() if "marks_waypoints" in a.text())
    hand.click(entering.menu, entering.menu.actionGeometry(waypoints).center())
    hand.fill("where", "dsc LIKE $kind || '%'")
    hand.settled()
    assert hand.row("keep")["state"] == "cannot run"
    assert "there is no field 'dsc'. Did you mean 'desc'?" in bench.form.blocks["where"].wrong.text()
    hand.fill("where", "desc LIKE $kind || '%'")
    hand.settled()
    assert hand.row("keep")["state"] == "" and hand.row("keep")["in"] == "3"

    # save to a GeoPackage and to GeoJSON under good names
    for words, target in (("export", "out/survey.gpkg"), ("geojson", "out/{kind}_marks.geojson")):
        hand.click_step("keep")
        hand.click(bench.add_button)
        hand.type(words, bench.finder.line)
        hand.click(bench.finder.list.viewport(), bench.finder.list.visualRect(bench.finder.model.index(0, 0)).center())
        hand.fill("to", target)
    hand.click_step("save")
    hand.fill("name", "{kind} {layer}")
    hand.settled()
    hand.keys("Ctrl+E", bench)
    hand.until(lambda: "Ready to run: 2 outputs foretold" in hand.banner())
    assert not (folder / "out").exists()
    assert "layer Pile marks_waypoints" in hand.makes()

    # run it, and read what came, went and was set aside
    hand.run()
    assert hand.row("keep") == {
        "step": "Keep marks_waypoints where desc LIKE 'Pile' || '%'",
        "in": "3",
        "out": "1",
        "aside": "2",
        "state": "balanced",
    }
    assert hand.row("marks")["state"] == "look" and "1 to look at" in hand.banner()
    hand.click_step("keep")
    hand.keys("Alt+3", bench)
    assert bench.viewer.table_count.text() == "2 of 3 rows"
    reasons = {bench.viewer.table.model_.index(r, 1).data() for r in range(2)}
    assert reasons == {"does not meet the condition", "a field the condition asks for is empty"}
    assert [e.name for e in geopackage.entries(folder / "out" / "survey.gpkg")] == ["Pile marks_waypoints"]
    saved = json.loads((folder / "out" / "pile_marks.geojson").read_text())
    assert [f["properties"]["name"] for f in saved["features"]] == ["A1"]

    # again with another word: one parameter, at the top
    hand.click(bench.bar.chips["kind"])
    box = last_box(hand, "ParameterBox")
    hand.type("Buoy", box.field.target())
    hand.keys("Return", box.field.target())
    assert "Buoy" in bench.bar.chips["kind"].text()
    hand.run()
    assert hand.row("keep")["out"] == "1"
    assert (folder / "out" / "buoy_marks.geojson").exists()

    # save the workflow; on the command line it is the same
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(folder / "piles.toml"), ""))
    hand.keys("Ctrl+S", bench)
    assert not bench.session.dirty and documents.read(folder / "piles.toml") == bench.session.document
    assert Workflow.read(folder / "piles.toml").run(if_exists="replace").state == "look"


def test_every_edit_can_be_undone_and_done_again(hand: Hand) -> None:
    bench, session = hand.bench, hand.bench.session
    first = session.document
    hand.click_step("chosen")
    seen = [first]

    def edit(do: Callable[[], object]) -> None:
        do()
        assert session.document != seen[-1]
        seen.append(session.document)

    edit(lambda: hand.keys("Space", bench.ledger))  # switch off
    edit(lambda: hand.keys("Alt+Down", bench.ledger))  # move
    edit(lambda: hand.fill("step.heading", "One kind"))
    edit(lambda: hand.fill("step.note", "why"))
    edit(lambda: hand.fill("where", "true"))
    edit(lambda: hand.fill("step.id", "Piles only"))  # rename
    assert session.document.step("web").source == ("piles_only",)
    edit(lambda: hand.click(bench.up_button))
    hand.click_step("archive")
    edit(lambda: hand.keys("Delete", bench.ledger))
    assert hand.steps() == ["recordings", "piles_only", "web"]
    for document in reversed(seen[:-1]):
        hand.keys("Ctrl+Z", bench.ledger)
        assert session.document == document
    hand.keys("Ctrl+Z", bench.ledger)
    assert session.document == first and not session.dirty
    for document in seen[1:]:
        hand.keys("Ctrl+Shift+Z", bench.ledger)
        assert session.document == document


def test_values_are_undone_too_and_can_be_kept_in_the_file(hand: Hand) -> None:
    bench, session = hand.bench, hand.bench.session
    hand.click(bench.bar.chips["kind"])
    box = last_box(hand, "ParameterBox")
    hand.type("Stake", box.field.target())
    hand.click(box.use_button)
    assert session.values() == {"kind": "Stake"} and not session.dirty and "changed" in bench.bar.chips["kind"].text()
    hand.keys("Ctrl+Z", bench.ledger)
    assert session.values() == {"kind": "Pile"}
    hand.click(bench.bar.chips["kind"])
    box = last_box(hand, "ParameterBox")
    hand.type("Rock", box.field.target())
    hand.click(box.keep_button)
    assert session.dirty and session.document.parameters[0].default == "Rock"


def test_results_of_changed_steps_are_forgotten_and_others_stay(hand: Hand) -> None:
    hand.run()
    assert {hand.row(s)["state"] for s in hand.steps()} == {"look", "balanced"}
    hand.click_step("chosen")
    hand.fill("where", "true")
    assert hand.row("recordings")["state"] == "look"
    assert [hand.row(s)["state"] for s in ("chosen", "archive", "web")] == ["", "", ""]
    count = hand.bench.form.blocks["where"].editor
    assert isinstance(count, ConditionEditor)
    hand.until(lambda: count.count.text() == "Keeps 3 of 3 features, 100.0 %")


def test_a_failed_or_crashed_run_leaves_the_window_alive(hand: Hand, project: Path) -> None:
    session = hand.bench.session
    hand.settled()
    hand.click(hand.bench.bar.run)
    hand.until(lambda: session._runner.pid)
    os.kill(session._runner.pid, signal.SIGSEGV)  # type: ignore[arg-type]
    hand.until(lambda: not session.running)
    assert "crashed (SIGSEGV)" in hand.banner() and "unharmed" in hand.banner()
    hand.run()  # and the next run just works
    assert "Run finished" in hand.banner()
    (project.parent / "out" / "marks_waypoints.geojson").write_text("mine")
    hand.run()
    assert "this workflow did not write it" in hand.banner() or "was changed since" in hand.banner()
    assert hand.bench.session.selected == "web"


def test_stop_is_prompt_and_writes_nothing(hand: Hand, project: Path) -> None:
    hand.click_step("chosen")
    hand.fill("where", "list_sum(range(length(name) * 0 + 200000000)) > 0")
    hand.settled()
    hand.click(hand.bench.bar.run)
    hand.until(lambda: "chosen" in hand.bench.session.started)
    assert hand.row("chosen")["state"] == "running"
    assert hand.bench.bar.stop.isVisible() and not hand.bench.bar.run.isVisible()
    hand.click(hand.bench.bar.stop)
    hand.until(lambda: not hand.bench.session.running)
    assert "nothing was written" in hand.banner() and not list(project.parent.glob("out/*.g*"))


def test_map_and_table_choose_together(hand: Hand) -> None:
    hand.run()
    hand.click_step("chosen")
    hand.keys("Alt+1", hand.bench)
    viewer = hand.bench.viewer
    canvas = viewer.canvas
    hand.until(lambda: canvas._image is not None)
    shapes = canvas.scene.items[0].shapes
    place = canvas.view.to_screen(np.asarray(shapes.xy[1:2]))[0]
    hand.click(canvas, QPoint(*(int(v) for v in place)))
    assert [i.row() for i in viewer.table.selectionModel().selectedRows()] == [1]
    assert viewer.card.isVisible() and viewer.card.title.text() == "Row 2"
    table = viewer.table
    hand.click(table.viewport(), table.visualRect(viewer.table.model_.index(2, 1)).center())
    assert canvas.chosen.tolist() == [2]
    # a place where nothing is lets go
    hand.click(canvas, QPoint(canvas.width() // 2, canvas.height() - 4))
    assert canvas.chosen.tolist() == [] and not viewer.card.isVisible()


def test_map_pans_zooms_and_fits(hand: Hand) -> None:
    hand.run()
    hand.click_step("recordings")
    hand.bench.viewer.choose_layer("marks_tracks")
    canvas = hand.bench.viewer.canvas
    fitted = canvas.view
    middle = QPoint(canvas.width() // 2, canvas.height() // 2)
    ground = canvas.view.to_ground(50, 60)
    wheel = QWheelEvent(
        QPointF(50, 60),
        canvas.mapToGlobal(QPointF(50, 60)),
        QPoint(),
        QPoint(0, 240),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(canvas, wheel)
    assert canvas.view.scale > fitted.scale
    assert canvas.view.to_ground(50, 60) == pytest.approx(ground)  # what is under the pointer stays there
    before = canvas.view.to_ground(middle.x(), middle.y())
    QTest.mousePress(canvas, Qt.MouseButton.LeftButton, pos=middle)
    for step in range(1, 6):
        QTest.mouseMove(canvas, middle + QPoint(8 * step, 0))
    QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=middle + QPoint(40, 0))
    assert canvas.view.to_ground(middle.x() + 40, middle.y()) == pytest.approx(before)
    canvas.setFocus()
    hand.keys("0", canvas)
    assert canvas.view == fitted
    hand.keys("+", canvas)
    hand.keys("Right", canvas)
    assert canvas.view.scale == pytest.approx(fitted.scale * 1.5) and canvas.view.x > fitted.x
    QTest.mouseMove(canvas, middle)
    assert "E" in hand.bench.status.place.text() and "° N" in hand.bench.status.degrees.text()
    assert "UTM zone 26N · m" in hand.bench.status.crs.text() and hand.bench.status.scale.text().startswith("1 : ")


def test_panes_grow_and_fold(hand: Hand) -> None:
    bench = hand.bench
    hand.keys("F6", bench)
    assert bench.viewer.map_pane.isVisible() and not bench.form_pane.isVisible() and not bench.viewer.table_pane.isVisible()
    hand.keys("F7", bench)
    assert bench.viewer.table_pane.isVisible() and not bench.viewer.map_pane.isVisible()
    hand.keys("F7", bench)
    assert all(p.isVisible() for p in (bench.form_pane, bench.viewer.map_pane, bench.viewer.table_pane))
    hand.keys("F8", bench)
    assert not bench.ledger.isVisible() and not bench.sources.isVisible() and bench.viewer.map_pane.isVisible()
    hand.keys("F8", bench)
    hand.keys("F9", bench)
    assert not bench.sources.isVisible() and bench.ledger.isVisible()


def test_rows_open_into_layers(hand: Hand) -> None:
    hand.run()
    hand.click_step("recordings")
    hand.keys("Return", hand.bench.ledger)
    model = hand.bench.ledger.model()
    home = model.index_of("recordings")
    assert hand.bench.ledger.isExpanded(home) and model.rowCount(home) == 5
    texts = {model.index(r, 2, home).data(): model.index(r, 5, home).data() for r in range(5)}
    assert texts["marks_track_points"] == "5" and texts["marks_waypoints"] == "3"
    child = model.index(4, 2, home)
    ledger = hand.bench.ledger
    QTest.mouseClick(ledger.viewport(), Qt.MouseButton.LeftButton, pos=ledger.visualRect(child).center())
    assert hand.bench.viewer.key == child.data()


def test_a_click_beside_the_steps_lets_go_of_nothing(hand: Hand) -> None:
    hand.click_step("archive")
    hand.fill("step.heading", "Hand over")
    hand.settled()  # what the rehearsal says opens rows, and those below move
    view, model = hand.bench.ledger, hand.bench.ledger.model()
    heading = next(model.index(r, 2) for r in range(model.rowCount()) if model.index(r, 2).data() == "Hand over")
    for place in (lambda: view.visualRect(heading).center(), lambda: QPoint(300, view.viewport().height() - 4)):
        hand.click(view.viewport(), place())
        assert [model.node(i).step.id for i in view.selectionModel().selectedRows()] == ["archive"]


def test_files_that_cannot_be_opened_leave_what_is_open(hand: Hand, tmp_path: Path) -> None:
    bad = tmp_path / "bad.toml"
    bad.write_text("eskret = 9")
    before = hand.bench.session.document
    hand.bench.files.open_path(bad)
    assert "of version 9" in hand.banner() and hand.bench.session.document == before
    hand.bench.files.open_path(tmp_path / "gone.toml")
    assert "no such workflow file" in hand.banner()


def test_start_view_opens_recent_files_and_the_demo(
    make_hand: Callable[..., Hand], project: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    make_hand(project)
    monkeypatch.setattr("eskret.desktop.state.open_and_save.user_data_path", lambda *a, **k: tmp_path / "data")
    hand = make_hand()
    start = hand.bench.start
    hand.until(start.isVisible)
    assert not hand.bench.bar.run.isEnabled()
    link = start._recent.itemAt(0).widget()
    assert link.accessibleName().startswith("piles.toml") and link.accessibleName().endswith("not run yet")
    hand.click(link)
    assert hand.bench.session.document.title == "Piles" and not start.isVisible()
    hand.bench.pages.turn_to("start")
    hand.click(start.demo)
    assert "September" in hand.bench.session.document.title
    hand.click_source("register", "register.gpkg", "lease_beds")
    hand.until(lambda: hand.bench.viewer.table_count.text() == "412 rows")
    hand.click(hand.bench.viewer.load_button)
    assert hand.bench.session.step().settings == {"files": ["register/register.gpkg"], "layers": ["lease_beds"]}


def test_the_dark_theme_paints_everything(hand: Hand) -> None:
    from eskret.desktop.theme.style import theme

    hand.run()
    hand.click_step("chosen")
    hand.bench.switch_theme()
    try:
        assert theme.palette.name == "dark"
        picture = hand.window.grab().toImage()
        assert picture.pixelColor(30, 3).name().upper() == theme.palette.bar
        # straw stays the colour of the thing in hand
        colours = {picture.pixelColor(x, y).name().upper() for x in range(210, 240) for y in range(60, 380, 2)}
        assert theme.palette.hand in colours
    finally:
        hand.bench.switch_theme()
