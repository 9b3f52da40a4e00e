"""A first real job: lessons that lead through one, what an empty ledger says, and one search over everything."""

from __future__ import annotations

import configparser
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from eskret.demo.generate import LESSONS
from eskret.desktop.lessons import guide
from eskret.desktop.state import launcher
from eskret.desktop.theme.style import theme
from eskret.desktop.views import offered
from eskret.desktop.views.heads import KeysBox
from eskret.desktop.views.isolate import IsolateBox
from eskret.workflow.model import document as documents
from eskret.workflow.model.document import Step
from tests.desktop.conftest import Hand


@pytest.mark.parametrize("name", LESSONS)
def test_every_lesson_leads_from_nothing_to_its_own_workflow(demo: Path, name: str) -> None:
    lesson = documents.read(demo / name)
    now, done = guide.begin(lesson), 0
    while left := guide.tasks(lesson, now, demo):
        now = guide.done_for(left[0], lesson, now, demo)
        done += 1
        assert done <= guide.whole(lesson, demo)
        assert left[0] not in guide.tasks(lesson, now, demo)  # it is noticed that it was done
    known = [s for s in lesson.steps if not s.use.startswith("own:")]  # of the project's own code nobody knows the settings here
    for target in known:
        step = now.step(target.id)
        assert (step.use, step.source, dict(step.settings), step.each) == (target.use, target.source, dict(target.settings), target.each)


def test_all_lessons_are_offered_with_their_pictures() -> None:
    assert [lesson.file for lesson in offered.LESSONS] == list(LESSONS)
    assert all(lesson.picture.is_file() for lesson in offered.LESSONS)


def test_a_lesson_is_walked_and_notices_what_was_done(
    make_hand: Callable[..., Hand], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("eskret.desktop.state.open_and_save.user_data_path", lambda *a, **k: tmp_path / "data")
    hand = make_hand(None, follows=True)
    bench, session = hand.bench, hand.bench.session
    hand.click(bench.start.cards[0])
    strip, pointer = bench.lesson.strip, bench.lesson.pointer
    assert strip.isVisible() and "choose the folder field / 2031-09" in strip.text.text() and strip.count.text() == "0 of 12"
    # what it says is done by hand: the folder is chosen and loaded
    hand.click_source("field / 2031-09")
    hand.until(pointer.isVisible)
    assert pointer.geometry().intersects(bench.sources.tree.geometry())
    hand.keys("Return", bench.sources.tree)
    assert session.step().use == "load" and "type “Keep”" in strip.text.text()
    hand.keys("Insert", bench.ledger)
    hand.type("keep", bench.finder.line)
    hand.keys("Return", bench.finder.line)
    assert "let marks_waypoints enter it" in strip.text.text()
    hand.click(strip.do)
    assert session.document.step("keep").source[0].endswith(":marks_waypoints") and "set “Condition”" in strip.text.text()
    # another order is noticed as well: the condition may be any that says the same
    hand.fill("where", "desc   LIKE $kind || '%'")
    assert "type “Save”" in strip.text.text()
    while strip.do.isVisible():
        hand.click(strip.do)
    assert "Press Run" in strip.text.text()
    hand.run()
    hand.until(lambda: strip.text.text().startswith("Done"))
    assert hand.row("keep")["out"] == "61" and strip.count.text() == "12 of 12"
    # opening something else ends it
    session.new(tmp_path)
    assert not strip.isVisible() and not pointer.isVisible()


def test_what_comes_next_is_brought_into_view_until_somebody_looks_elsewhere(
    make_hand: Callable[..., Hand], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """In a small window, where sources are folded away, the form is longer than its room, and settings stand under More settings."""
    monkeypatch.setattr("eskret.desktop.state.open_and_save.user_data_path", lambda *a, **k: tmp_path / "data")
    hand = make_hand(None)
    hand.window.resize(1024, 700)
    bench = hand.bench
    hand.click(bench.start.cards[4])
    strip, pointer, bar = bench.lesson.strip, bench.lesson.pointer, bench.form.verticalScrollBar()
    seen = set()
    for _ in range(9):
        hand.until(lambda: bench.sources.settled and pointer.isVisible() and pointer.height() > 20)
        seen.add(bool(bar.value()))
        hand.click(strip.do)
    assert seen == {False, True}, "somewhere it had to be scrolled to"
    # whoever scrolls away is left alone
    while bench.lesson.task.kind != guide.SET:  # type: ignore[union-attr]
        hand.click(strip.do)
    hand.until(pointer.isVisible)
    away = bar.maximum() if bar.value() < bar.maximum() // 2 else 1
    bar.setValue(away)
    QTest.qWait(900)
    assert bar.value() == away


def test_a_lesson_on_publishing_begins_with_the_server_it_needs(demo: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    lesson = documents.read(demo / "publish.toml")
    monkeypatch.setattr(guide.practice, "running", lambda: [])
    task = guide.serving(lesson)
    assert task is not None and task.kind == guide.SERVE and "Start the practice server" in task.text
    assert guide.whole(lesson, demo) == len(guide.tasks(lesson, guide.begin(lesson), demo)) + 2
    monkeypatch.setattr(guide.practice, "running", lambda: [guide.practice.Running("http://127.0.0.1:8731", "t", 1)])
    assert guide.serving(lesson) is None and guide.server_wanted(documents.read(demo / "piles.toml")) == ""
    first = guide.tasks(lesson, guide.begin(lesson), demo)[0]
    assert "register / quarters / 2031-Q3.gpkg" in first.text


def test_one_search_finds_all_there_is(make_hand: Callable[..., Hand], demo: Path) -> None:
    hand = make_hand(demo / "district.toml")
    bench, session = hand.bench, hand.bench.session
    hand.settled()
    hand.until(lambda: bench.sources.settled)

    def find(words: str) -> list[tuple[str, str]]:
        hand.keys("Ctrl+Shift+Space", bench)
        hand.type(words, bench.anything.line)
        things = [bench.anything.model.index(n, 0).data(Qt.ItemDataRole.UserRole) for n in range(bench.anything.model.rowCount())]
        return [(thing.title, thing.kind) for thing in things]

    assert find("night") == [("Dark theme", "in the workflow menu")]
    hand.keys("Return", bench.anything.line)
    try:
        assert theme.palette.name == "dark" and not bench.anything.isVisible()
    finally:
        bench.switch_theme()
    assert ("3  Clip lease_beds to area", "Step") in find("clip beds")
    hand.keys("Return", bench.anything.line)
    assert session.selected == "inside" and bench.ledger.hasFocus()
    assert find("small pieces")[0] == ("Leave small pieces out", "Parameter")
    hand.keys("Escape", bench.anything.line)
    assert ("harbour_limit_2031", "Source") in find("harbour 2031")
    hand.keys("Return", bench.anything.line)
    hand.until(lambda: bench.viewer.subject.source is not None)
    assert {kind for _, kind in find("dissolve")} == {"Handbook"}
    hand.keys("Escape", bench.anything.line)
    # by a key of one's own choice, which must be free
    hand.keys("F1", bench)
    (box,) = hand.window.findChildren(KeysBox)
    box.editor.setFocus()
    QTest.keyClick(box.editor, Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
    hand.until(lambda: box.editor.keySequence().toString() == "Ctrl+R")
    hand.click(box.use)
    assert "Ctrl+R does something else" in box.says.text() and box.opens.text() == "Ctrl+Shift+Space"
    QTest.keyClick(box.editor, Qt.Key.Key_J, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    hand.until(lambda: box.editor.keySequence().toString() == "Ctrl+Shift+J")
    hand.click(box.use)
    assert box.says.text() == "" and box.opens.text() == "Ctrl+Shift+J"
    box.close()
    hand.keys("Ctrl+Shift+J", bench)
    assert bench.anything.isVisible()
    hand.keys("Escape", bench.anything.line)
    hand.keys("Ctrl+Shift+Space", bench)
    assert not bench.anything.isVisible()
    again = make_hand(demo / "district.toml")  # it is remembered
    again.keys("Ctrl+Shift+J", again.bench)
    assert again.bench.anything.isVisible()
    again.window.close()
    assert bench.actions_.choose_key("Ctrl+Shift+Space") == ""
    assert find("qwertz") == [] and bench.anything.nothing.isVisible()
    hand.keys("Escape", bench.anything.line)
    hand.keys("F3", bench)  # from another view it leads back to the ledger
    assert ("3  Clip lease_beds to area", "Step") in find("clip beds")
    hand.keys("Return", bench.anything.line)
    assert bench.pages.page == "work" and session.selected == "inside"


def test_what_there_is_to_say_of_a_step_stands_below_it(make_hand: Callable[..., Hand], demo: Path) -> None:
    hand = make_hand(demo / "returns.toml")
    hand.settled()
    hand.run()
    model, view = hand.bench.ledger.model(), hand.bench.ledger

    def notes(id: str) -> list[str]:
        return [n.note.text for n in model.nodes if n.kind == "note" and n.step.id == id]  # type: ignore[attr-defined]

    look = [s.id for s in hand.bench.session.document.steps if hand.row(s.id)["state"] == "look"]
    assert look and all(notes(id) for id in look)
    hand.click_step(hand.bench.session.document.steps[0].id)
    for id in [*look, look[0]]:  # the banner leads to one after the other
        hand.click(hand.bench.banner.show_step)
        assert hand.bench.session.selected == id
    fine = [s.id for s in hand.bench.session.document.steps if hand.row(s.id)["state"] == "balanced"]
    assert fine and not any(notes(id) for id in fine)  # what balances says it when it is asked
    aside = next(s.id for s in hand.bench.session.document.steps if hand.row(s.id)["aside"])
    hand.click_step(aside)
    if not notes(aside):
        hand.keys("Return", view)
    line = next(n for n in model.nodes if n.kind == "note" and n.step.id == aside and n.note.reason)  # type: ignore[attr-defined]
    rect = view.visualRect(model.index(line.position, 2))
    view.scrollTo(model.index(line.position, 2))
    rect = view.visualRect(model.index(line.position, 2))
    QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=rect.center())
    viewer = hand.bench.viewer
    assert viewer.view == "aside" and len(viewer.chosen) == int(line.note.text.split()[0].replace(",", ""))


def test_a_step_added_with_a_source_in_hand_takes_it(make_hand: Callable[..., Hand], demo: Path) -> None:
    for workflow in demo.glob("*.toml"):
        workflow.unlink()
    hand = make_hand(demo)
    bench, session = hand.bench, hand.bench.session
    hand.click_source("register", "register.gpkg", "lease_beds")
    hand.until(lambda: bench.viewer.subject.source is not None)
    hand.keys("Insert", bench.ledger)
    hand.type("buffer", bench.finder.line)
    hand.keys("Return", bench.finder.line)
    assert [(s.use, s.source) for s in session.document.steps] == [("load", ()), ("buffer", ("lease_beds",))]
    assert QApplication.focusWidget() is bench.form.blocks["distance"].editor.target()
    hand.settled()
    assert hand.row("buffer")["state"] == ""  # it does not shout before its first setting was left
    session.undo()
    assert session.document.steps == ()  # both came by one edit


def test_four_layers_of_a_container_and_a_folder_are_loaded_at_once(make_hand: Callable[..., Hand], demo: Path) -> None:
    for workflow in demo.glob("*.toml"):
        workflow.unlink()
    hand = make_hand(demo)
    tree, session = hand.bench.sources.tree, hand.bench.session
    control = Qt.KeyboardModifier.ControlModifier
    for name in ("districts", "lease_beds", "moorings"):
        index = hand.source("register", "register.gpkg", name)
        tree.scrollTo(index)
        modifier = Qt.KeyboardModifier.NoModifier if name == "districts" else control
        QTest.mouseClick(tree.viewport(), Qt.MouseButton.LeftButton, modifier, tree.visualRect(index).center())
    hand.keys("Return", tree)
    assert session.step().settings == {"files": ["register/register.gpkg"], "layers": ["districts", "lease_beds", "moorings"]}
    hand.click_source("field / 2031-09")
    hand.keys("Return", tree)
    assert session.step().settings == {"files": ["field/2031-09"]}


def test_what_was_set_aside_is_looked_at_by_its_reasons_and_taken_back_in(make_hand: Callable[..., Hand], project: Path) -> None:
    hand = make_hand(project)
    bench, session, viewer = hand.bench, hand.bench.session, hand.bench.viewer
    hand.run()
    hand.click_step("chosen")
    hand.keys("Alt+3", bench)
    bar = viewer.asidebar
    offered = [bar.box.itemText(n) for n in range(bar.box.count())]
    assert bar.isVisible() and offered[0] == f"all {len(viewer.some().rows)}" and len(offered) > 1  # type: ignore[union-attr]
    counts = [int(text.split(" · ")[0]) for text in offered[1:]]
    assert sum(counts) == int(hand.row("chosen")["aside"]) and counts == sorted(counts, reverse=True)
    bar.box.setCurrentIndex(1)
    bar.box.activated.emit(1)
    assert viewer.table.model_.rowCount() == counts[0] and len(viewer.shown_rows()) == counts[0]
    used = [s.id for s in session.document.steps if "chosen" in s.source]
    hand.click(bar.back)
    merged = session.selected
    assert [s.use for s in session.document.steps].count("merge") == 1 and session.document.step(merged).source == ("chosen", "back_in")
    assert used and all(merged in session.document.step(id).source for id in used)  # what follows takes all of them
    hand.settled()
    hand.run()
    assert int(hand.row(merged)["out"]) == int(hand.row("chosen")["out"]) + counts[0]
    session.undo()
    assert all("chosen" in session.document.step(id).source for id in used)


def test_what_was_set_aside_becomes_a_layer_of_its_own(make_hand: Callable[..., Hand], project: Path) -> None:
    hand = make_hand(project)
    hand.run()
    hand.click_step("chosen")
    hand.keys("Alt+3", hand.bench)
    hand.click(hand.bench.viewer.asidebar.save)
    (box,) = hand.window.findChildren(IsolateBox)
    hand.click(box.ok)
    steps = hand.bench.session.document.steps
    assert [s.use for s in steps if s.id not in ("recordings", "chosen", "archive", "web")] == ["pick", "save"]


def test_one_walks_through_what_was_set_aside_from_near(make_hand: Callable[..., Hand], demo: Path) -> None:
    hand = make_hand(demo / "harbour.toml")
    hand.settled()
    hand.run()
    hand.click_step("missed")
    hand.keys("Alt+3", hand.bench)
    viewer, canvas = hand.bench.viewer, hand.bench.viewer.canvas
    shown, seen = len(viewer.shown_rows()), []
    assert shown > 3
    for _ in range(3):
        hand.click(viewer.asidebar.next)
        seen.append(int(viewer.chosen[0]))
        x0, y0, x1, y1 = canvas.scene.pick.shapes.boxes[seen[-1]]  # type: ignore[union-attr]
        at = canvas.view.to_screen(np.array([[(x0 + x1) / 2, (y0 + y1) / 2]]))[0]
        assert abs(at[0] - canvas.width() / 2) < 2 and abs(at[1] - canvas.height() / 2) < 2
        assert max(x1 - x0, y1 - y0) * canvas.view.scale > 30  # large enough to be seen
    assert len(set(seen)) == 3 and viewer.table.model_.lines_of(np.array(seen)).tolist() == [0, 1, 2]
    hand.keys("Alt+Left", hand.bench)
    assert int(viewer.chosen[0]) == seen[1]


def test_layers_kept_on_the_map_are_looked_at_where_they_are(make_hand: Callable[..., Hand], demo: Path) -> None:
    hand = make_hand(demo / "harbour.toml")  # nothing was done yet, and the islands are kept in degrees
    canvas = hand.bench.viewer.canvas
    hand.until(lambda: canvas.scene.extent() is not None and canvas.idle())
    x0, y0, x1, y1 = canvas.view.box
    assert -28 < x0 < x1 < -24 and 46 < y0 < y1 < 49


def test_a_feature_is_followed_to_its_record_and_to_what_became_of_it(make_hand: Callable[..., Hand], demo: Path) -> None:
    hand = make_hand(demo / "harbour.toml")
    hand.settled()
    hand.run()
    viewer, session = hand.bench.viewer, hand.bench.session
    hand.click_step("by_licence")
    viewer.choose_rows(np.array([3]))
    hand.click(viewer.handbar.buttons["follow"])
    bar = viewer.waybar
    hand.until(bar.isVisible)
    assert "(asked for)" in bar.box.currentText() and "row 4 of lease_beds" in bar.box.currentText()
    hand.keys("Alt+PgUp", hand.bench)  # back to all the records it was put together of
    assert session.selected == "register" and viewer.key == "lease_beds"
    licences = viewer.current()[0].table.column("licence").take(viewer.chosen.tolist()).to_pylist()  # type: ignore[union-attr]
    assert len(licences) > 5 and len(set(licences)) == 1
    hand.keys("Alt+PgDown", hand.bench)
    hand.keys("Alt+PgDown", hand.bench)
    assert session.selected == "areas" and "changed: area_ha" in bar.box.currentText()
    # a record that was set aside ends at the step and the reason
    hand.click_step("inside")
    hand.keys("Alt+3", hand.bench)
    viewer.choose_layer("lease_beds")
    viewer.choose_view("aside")
    row = int(viewer.shown_rows()[0])
    viewer.choose_rows(np.array([row]))
    hand.keys("Ctrl+J", hand.bench)
    hand.until(lambda: any(s["by"] == "inside" for s in bar.stations))
    at = next(n for n, s in enumerate(bar.stations) if s["by"] == "inside")
    bar.box.setCurrentIndex(at)
    bar.box.activated.emit(at)
    assert viewer.view == "aside" and viewer.chosen.tolist() == [row] and session.selected == "inside"
    session.set_value("limit", "2029")
    assert not bar.isVisible()


def test_a_workflow_without_a_file_knows_its_own_outputs_and_goes_on_to(make_hand: Callable[..., Hand], demo: Path) -> None:
    for workflow in demo.glob("*.toml"):
        workflow.unlink()
    hand = make_hand(demo)
    session = hand.bench.session
    session.load_files([str(demo / "register" / "register.gpkg")])
    session.add_step(Step("out", "save", (session.selected,), {"to": "out/x.gpkg"}))
    hand.settled()
    for _ in range(2):
        hand.run()
        assert hand.row("out")["state"] == "balanced", hand.banner()
    assert not list(demo.glob("*.outputs.json"))
    hand.source("Saved by this workflow")
    session.save(demo / "mine.toml")
    hand.run()
    assert hand.row("out")["state"] == "balanced", hand.banner()
    # another one without a file does not own it
    session.new(demo)
    session.load_files([str(demo / "register" / "register.gpkg")])
    session.add_step(Step("out", "save", (session.selected,), {"to": "out/x.gpkg"}))
    hand.settled()
    assert any("this workflow did not write it" in f.text for f in session.forecast.errors)


def test_the_launcher_is_one_that_a_desktop_reads(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("shutil.which", lambda name: f"/opt/my tools/{name}")
    entry = configparser.ConfigParser(interpolation=None)
    entry.read_string(launcher.add(tmp_path).read_text())
    told = entry["Desktop Entry"]
    assert told["Exec"] == '"/opt/my tools/eskret" open %f' and told["Type"] == "Application"
    icons = list(tmp_path.rglob(f"{told['Icon']}.svg"))
    assert len(icons) == 1 and b"<svg" in icons[0].read_bytes()
