"""Form, finder, sources, boxes and bars: each by what a person sees and does."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QMessageBox, QPushButton

from eskret.desktop.forms.setting_editors import ChoiceEditor, ChoicesEditor, FilesEditor, FlagEditor, PatternsEditor
from eskret.desktop.sources.panel import Role
from eskret.operations import all_operations
from eskret.operations.settings import setting_info
from eskret.workflow.model.document import Step
from tests.conftest import WORKFLOW
from tests.desktop.conftest import Hand


def box(kind: str) -> object:
    return next(w for w in QApplication.topLevelWidgets() if type(w).__name__ == kind and w.isVisible())


# -- the form


def test_every_operation_has_its_form(hand: Hand) -> None:
    for operation in all_operations().values():
        hand.bench.session.add_step(Step(f"new_{operation.id}", operation.id))
        blocks, rare = hand.bench.form.blocks, [n for n, i in setting_info(operation.Settings).items() if i.rare]
        assert not set(blocks) & {*rare, "step.note"}
        assert blocks["step.note"].isHidden() is False and not blocks["step.note"].isVisible()
        shown = [n for n, i in setting_info(operation.Settings).items() if i.kind != "layers"]
        expected = {*shown, "step.each", "step.id", "step.heading", "step.note", "step.result"}
        assert set(blocks) == expected | ({"from"} if operation.has_input else set())
        for name in shown:
            assert blocks[name].editor.target().accessibleName() or isinstance(blocks[name].editor, FlagEditor | ChoicesEditor)


def test_help_stands_below_the_field_in_focus(hand: Hand) -> None:
    hand.click_step("archive")
    blocks = hand.bench.form.blocks
    for name in ("to", "name", "if_exists"):
        hand.bench.form.focus_field(name)
        hand.until(lambda n=name: blocks[n].help.isVisible())
        assert [n for n, b in blocks.items() if b.help.isVisible()] == [name]


def test_the_operations_help_opens(hand: Hand) -> None:
    hand.click_step("chosen")
    opener = next(b for b in hand.bench.form.findChildren(QPushButton) if b.text() == "How to use it")
    told = opener.parentWidget().findChild(type(hand.bench.form.blocks["where"].help))
    assert not told.isVisible()
    hand.click(opener)
    assert told.isVisible()


def test_each_kind_of_editor_settles_what_is_chosen(hand: Hand) -> None:
    bench, session = hand.bench, hand.bench.session
    hand.click_step("recordings")
    blocks = bench.form.blocks
    files, layers, parts, together, bad = (blocks[n].editor for n in ("files", "layers", "parts", "together", "if_unreadable"))
    assert isinstance(files, FilesEditor) and files.value() == ["field/*.gpx"]
    hand.fill("layers", "a*, b")
    assert isinstance(layers, PatternsEditor) and session.step().settings["layers"] == ["a*", "b"]
    hand.fill("layers", "*")
    assert "layers" not in session.step().settings, "what equals the default need not stand in the file"
    assert isinstance(parts, ChoicesEditor)
    hand.click(parts.boxes["routes"], QPoint(8, parts.boxes["routes"].height() // 2))
    assert session.step().settings["parts"] == ["waypoints", "route_points", "tracks", "track_points"]
    assert isinstance(together, FlagEditor)
    hand.click(together.box, QPoint(8, together.box.height() // 2))
    assert session.step().settings["together"] is True
    assert isinstance(bad, ChoiceEditor)
    bad.box.setFocus()
    hand.keys("Down", bad.box)
    hand.keys("Return", bad.box)
    hand.until(lambda: session.step().settings.get("if_unreadable") == "go on")
    hand.settled()
    leaving = session.forecast.steps["recordings"].leaving
    assert {x.key for x in leaving} == {"waypoints", "route_points", "tracks", "track_points"}


def test_files_are_chosen_relative_to_the_folder(hand: Hand, project: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    hand.click_step("recordings")
    editor = hand.bench.form.blocks["files"].editor
    inside, outside = project.parent / "field" / "marks.gpx", Path("/elsewhere/x.gpx")
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *a, **k: ([str(inside), str(outside)], ""))
    hand.click(next(b for b in editor.findChildren(QPushButton) if b.text().startswith("Files")))
    files = hand.bench.session.step().settings["files"]
    assert files == ["field/*.gpx", "field/marks.gpx", "/elsewhere/x.gpx"]
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(project.parent / "new" / "x.gpkg"), ""))
    hand.click_step("archive")
    target = hand.bench.form.blocks["to"].editor
    hand.click(target.findChild(QPushButton))
    assert hand.bench.session.step().settings["to"] == "new/x.gpkg"


def test_settings_that_are_seldom_needed_stand_behind_the_others(hand: Hand) -> None:
    form = hand.bench.form
    hand.click_step("web")
    assert "title" not in form.blocks and form.more.text().startswith("More settings (1")
    hand.click(form.more)
    assert form.blocks["title"].isVisible() and form.more.text() == "Fewer settings"
    hand.fill("title", "Marks")
    hand.click_step("archive")  # such a step shows them, too, until they are folded away
    assert form.blocks["title"].isVisible()
    hand.click(form.more)
    assert not form.blocks["title"].isVisible()
    hand.click_step("web")  # what was said stands among the others
    assert form.blocks["title"].isVisible() and not form.blocks["description"].isVisible()
    form.focus_field("step.note")  # wherever it is, a field can be gone to
    assert QApplication.focusWidget() is form.blocks["step.note"].editor.target() and form.blocks["step.note"].isVisible()


def test_a_wide_form_has_two_columns(hand: Hand) -> None:
    hand.click_step("web")
    form = hand.bench.form
    narrow = [form.blocks[n].mapTo(form, QPoint(0, 0)).x() for n in ("to", "name", "if_exists")]
    assert len(set(narrow)) == 1
    hand.keys("Shift+F6", hand.bench)
    hand.until(lambda: form.width() > 700)
    wide = {form.blocks[n].mapTo(form, QPoint(0, 0)).x() for n in ("to", "name", "if_exists")}
    assert len(wide) == 2 and not hand.bench.viewer.map_pane.isVisible()
    hand.keys("Shift+F6", hand.bench)
    assert hand.bench.viewer.map_pane.isVisible()


def test_settings_of_one_format_show_only_with_it(hand: Hand) -> None:
    hand.click_step("archive")
    hand.click(hand.bench.form.more)
    assert not hand.bench.form.blocks["decimals"].isVisible()
    hand.click_step("web")
    assert hand.bench.form.blocks["decimals"].isVisible()
    hand.fill("decimals", "3")
    assert hand.bench.session.step().settings["decimals"] == 3
    hand.fill("to", "out/{layer}.gpkg")
    assert not hand.bench.form.blocks["decimals"].isVisible()


def test_what_is_being_typed_is_not_overwritten_by_what_happens_meanwhile(hand: Hand) -> None:
    hand.click_step("chosen")
    hand.bench.form.focus_field("where")
    text = hand.bench.form.blocks["where"].editor.text
    hand.keys("Ctrl+A", text)
    hand.type("desc LIKE 'P", text)
    hand.bench.session.figures_changed.emit()  # a rehearsal came back, a step finished
    assert text.toPlainText() == "desc LIKE 'P"
    hand.type("ile%'", text)
    hand.until(lambda: hand.bench.session.step().settings["where"] == "desc LIKE 'Pile%'")


def test_names_are_completed(hand: Hand) -> None:
    hand.click_step("chosen")
    hand.settled()
    hand.bench.form.focus_field("where")
    text = hand.bench.form.blocks["where"].editor.text
    hand.keys("Ctrl+A", text)
    hand.type("des", text)
    assert text.completer_.popup().isVisible() and text.completer_.currentCompletion() == "desc"
    hand.keys("Return", text.completer_.popup())
    assert text.toPlainText() == "desc"
    hand.type(" LIKE $k", text)
    assert text.completer_.currentCompletion() == "$kind"
    hand.keys("Return", text.completer_.popup())
    assert text.toPlainText() == "desc LIKE $kind"


def test_a_query_offers_layers_and_its_mistakes_are_marked(hand: Hand) -> None:
    session = hand.bench.session
    session.add_step(Step("asked", "sql", ("recordings",)))
    hand.settled()
    hand.bench.form.focus_field("query")
    text = hand.bench.form.blocks["query"].editor.text
    (layer, *_) = [x.key for x in session.forecast.steps["asked"].entering]
    hand.type("SEL", text)
    assert text.completer_.currentCompletion() == "SELECT"
    hand.keys("Return", text.completer_.popup())
    hand.type(f" count(*) AS n FROM {layer[:-1]}", text)
    assert text.completer_.currentCompletion() == layer
    hand.keys("Return", text.completer_.popup())
    hand.bench.form.blocks["step.id"].editor.setFocus()
    hand.until(lambda: not session.findings("asked") or all(f.level != "error" for f in session.findings("asked")))
    assert session.forecast.steps["asked"].leaving[0].fields == (("n", "whole number"),)
    hand.type("x", text)
    hand.bench.form.blocks["step.id"].editor.setFocus()
    hand.until(lambda: any("no layer that enters" in f.text for f in session.findings("asked")))
    colours = hand.bench.form.blocks["query"].editor.colours
    hand.until(lambda: colours.mistake)
    start, length = colours.mistake
    assert text.toPlainText()[start : start + length] == f"{layer}x"


def test_sources_can_enter_a_step_and_are_loaded_by_one_edit(hand: Hand, project: Path) -> None:
    session = hand.bench.session
    session.add_step(Step("extra", "keep", (), {"where": "true"}), 0)
    hand.until(lambda: session.seen_sources.get(str(project.parent / "field" / "marks.gpx")))
    hand.fill("step.note", "x")
    session.change_step(session.document.step("recordings").with_setting("files", ["other/*.gpx"]), "other files")
    session.select("extra")
    entering = hand.bench.form.blocks["from"].editor
    hand.click(entering.button)
    action = next(a for a in entering.menu.actions() if "marks.gpx · tracks" in a.text())
    hand.click(entering.menu, entering.menu.actionGeometry(action).center())
    assert session.document.step("extra").source == ("marks",)
    assert session.document.steps[0] == Step("marks", "load", (), {"files": ["field/marks.gpx"], "parts": ["tracks"]})
    hand.keys("Ctrl+Z", hand.bench)
    assert session.document.step("extra").source == () and "marks" not in hand.steps()


def test_ticking_a_layer_takes_the_place_of_the_whole_step(hand: Hand) -> None:
    hand.click_step("web")
    hand.settled()
    entering = hand.bench.form.blocks["from"].editor
    hand.until(lambda: len(hand.bench.session.forecast.steps["recordings"].leaving) > 1)

    def tick(words: str) -> None:
        hand.click(entering.button)
        action = next(a for a in entering.menu.actions() if words in a.text())
        hand.click(entering.menu, entering.menu.actionGeometry(action).center())

    tick("marks_tracks")
    assert hand.bench.session.step().source == ("chosen", "recordings:marks_tracks")
    tick("recordings: all")
    assert hand.bench.session.step().source == ("chosen", "recordings")
    tick("chosen: all")
    assert hand.bench.session.step().source == ("recordings",)


# -- the finder


def test_the_finder_is_worked_by_keys(hand: Hand) -> None:
    finder = hand.bench.finder
    hand.keys("Insert", hand.bench.ledger)
    assert finder.isVisible() and finder.model.index(0, 0).data() == "Keep"  # what can use layers comes first
    hand.keys("Down", finder.line)
    hand.keys("Down", finder.line)
    assert finder.list.currentIndex().data() == "Pick"
    hand.keys("Up", finder.line)
    hand.type("xyzzy", finder.line)
    assert finder.nothing.isVisible() and not finder.list.isVisible()
    hand.keys("Return", finder.line)
    assert finder.isVisible()
    hand.keys("Esc", finder.line)
    assert not finder.isVisible() and len(hand.steps()) == 4


# -- the sources


def test_files_that_come_and_go_are_seen(hand: Hand, project: Path) -> None:
    hand.source("field", "marks.gpx", "waypoints")
    (project.parent / "field" / "more.geojson").write_text('{"type":"Point","coordinates":[1,2]}')
    hand.source("field", "more.geojson")
    hand.until(lambda: "1 point" in hand.source("field", "more.geojson").data(Role)["figures"])
    assert hand.source("field", "more.geojson").data(Role)["kind"] == "point"
    (project.parent / "field" / "bad.gpx").write_text("<gpx")
    hand.until(lambda: hand.source("field", "bad.gpx").data(Role).get("problem"))
    bad = hand.source("field", "bad.gpx")
    assert bad.data(Role)["figures"] == "unreadable" and "not well-formed" in bad.data(Qt.ItemDataRole.ToolTipRole)
    (project.parent / "field" / "bad.gpx").unlink()
    hand.until(lambda: all(r.text != "bad.gpx" for r in hand.bench.sources.model.rows()))


def test_what_this_workflow_saved_stands_apart(hand: Hand) -> None:
    hand.run()
    hand.until(lambda: any(r.text == "survey.gpkg" for r in hand.bench.sources.model.rows()))
    texts = [r.text for r in hand.bench.sources.model.rows() if r.above is None]
    assert texts == ["field", "Saved by this workflow", "out"]
    hand.click_source("out", "survey.gpkg", "pile_marks_tracks")
    hand.until(lambda: hand.bench.viewer.subject.source)
    assert hand.bench.viewer.table_count.text() == "1 row"
    hand.click_step("chosen")  # and back to a step
    assert hand.bench.viewer.subject.source is None and not hand.bench.sources.chosen_source()


def test_an_empty_folder_says_what_to_put_there(make_hand: Callable[..., Hand], tmp_path: Path) -> None:
    (tmp_path / "void").mkdir()
    hand = make_hand(tmp_path / "void")
    hand.until(lambda: hand.bench.sources.hint.isVisible() and hand.bench.sources.settled)
    hand.until(lambda: "No readable files" in hand.bench.sources.hint.text())
    assert "Choose a source at the left" in hand.bench.viewer.canvas.scene.hint
    assert not hand.bench.bar.run.isEnabled() and hand.bench.add_button.isEnabled()


def test_files_dropped_on_the_window_become_a_step(hand: Hand, project: Path) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(project.parent / "field" / "marks.gpx"))])
    where = QPointF(300, 300)
    arguments = (Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    enter = QDragEnterEvent(where.toPoint(), *arguments)
    hand.bench.dragEnterEvent(enter)
    assert enter.isAccepted()
    hand.bench.dropEvent(QDropEvent(where, *arguments))
    assert hand.bench.session.step().settings == {"files": ["field/marks.gpx"]}
    data.setUrls([QUrl.fromLocalFile(str(project))])
    hand.bench.session._saved = hand.bench.session.document
    hand.bench.dropEvent(QDropEvent(where, *arguments))
    assert hand.bench.session.document.to_text() == WORKFLOW


# -- boxes and bars


def test_boxes_refuse_what_cannot_be(hand: Hand) -> None:
    hand.bench.add_parameter()
    view = hand.bench.views.parameters.properties
    hand.keys("Ctrl+A", view.called)
    hand.type("kind", view.called)
    hand.keys("Return", view.called)
    assert "there is a parameter 'kind' already" in view.wrong.text()
    hand.keys("Ctrl+Z", hand.bench)
    hand.bench.show_keys()
    keys = box("KeysBox")
    assert keys.isVisible()
    keys.close()


def test_a_number_is_checked_as_it_is_given(make_hand: Callable[..., Hand], project: Path) -> None:
    project.write_text(WORKFLOW.replace('type = "text"\ndefault = "Pile"', 'type = "number"\ndefault = 3\nmin = 0\nmax = 9'))
    hand = make_hand(project)
    hand.click(hand.bench.bar.chips["kind"])
    parameter = box("ParameterBox")
    for text, says in (("many", "'many' is not a number"), ("12", "12 is more than 9")):
        hand.keys("Ctrl+A", parameter.field.target())
        hand.type(text, parameter.field.target())
        hand.keys("Return", parameter.field.target())
        assert says in parameter.wrong.text() and parameter.isVisible()
    hand.keys("Ctrl+A", parameter.field.target())
    hand.type("7", parameter.field.target())
    hand.keys("Return", parameter.field.target())
    assert hand.bench.session.values() == {"kind": 7}


def test_choices_and_flags_have_their_own_fields(make_hand: Callable[..., Hand], project: Path) -> None:
    choice = WORKFLOW.replace('type = "text"\n', 'type = "choice"\nchoices = ["Pile", "Buoy"]\n').replace(
        "[[steps]]", '[parameters.sure]\ntype = "flag"\ndefault = false\n\n[[steps]]', 1
    )
    project.write_text(choice)
    hand = make_hand(project)
    hand.click(hand.bench.bar.chips["kind"])
    parameter = box("ParameterBox")
    parameter.field.select()
    hand.keys("Down", parameter.field.target())
    hand.click(parameter.use_button)
    hand.click(hand.bench.bar.chips["sure"])
    parameter = box("ParameterBox")
    hand.click(parameter.field.target(), QPoint(8, parameter.field.target().height() // 2))
    hand.click(parameter.use_button)
    assert hand.bench.session.values() == {"kind": "Buoy", "sure": True}


def test_unsaved_changes_are_asked_about(hand: Hand, project: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    hand.click_step("chosen")
    hand.keys("Space", hand.bench.ledger)
    assert hand.bench.session.dirty and hand.window.windowTitle().startswith("•")
    answers = {"Cancel": (False, False), "Save": (True, True)}
    for words, (leaves, saves) in answers.items():

        def answer(self: QMessageBox, words: str = words) -> int:
            button = next(b for b in self.buttons() if b.text() == words)
            button.click()
            return 0

        monkeypatch.setattr(QMessageBox, "exec", answer)
        assert hand.bench.files.may_leave() is leaves
        assert ("off = true" in project.read_text()) is saves
    assert not hand.bench.session.dirty


def test_saving_under_another_name_and_as_a_script(hand: Hand, project: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = project.parent / "copy"
    folder.mkdir()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(folder / "again"), ""))
    hand.keys("Ctrl+Shift+S", hand.bench)
    assert (folder / "again.toml").read_text() == WORKFLOW and hand.bench.session.folder == folder
    hand.settled()
    assert "no readable file matches 'field/*.gpx'" in hand.bench.session.forecast.errors[0].text
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(folder / "build.py"), ""))
    hand.bench.files.save_script()
    assert "workflow.keep(" in (folder / "build.py").read_text()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: ("/no/such/folder/x.toml", ""))
    hand.keys("Ctrl+Shift+S", hand.bench)
    assert "it cannot be saved" in hand.banner()


def test_the_banner_can_be_closed_and_an_allowance_given(
    make_hand: Callable[..., Hand], project: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "home"))
    project.write_text(WORKFLOW.replace("out/survey.gpkg", str(tmp_path.parent / f"{tmp_path.name}-far" / "survey.gpkg")))
    monkeypatch.undo()
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "home"))
    hand = make_hand(project)
    hand.settled()
    hand.keys("Ctrl+E", hand.bench)
    hand.until(lambda: "outside the workflow's own folder" in hand.banner())
    assert hand.bench.allow_button.isVisible()
    hand.click(hand.bench.allow_button)
    hand.until(lambda: "Ready to run" in hand.banner())
    assert not hand.bench.allow_button.isVisible()
    hand.click(next(b for b in hand.bench.banner.findChildren(type(hand.bench.up_button)) if b.text() == "Close"))
    assert hand.banner() == ""


def test_progress_is_shown_with_counts_and_time_left(hand: Hand) -> None:
    hand.bench._run_changed()
    hand.bench.session.progress.emit({"step": "recordings", "tasks": 1, "tasks_done": 0, "done": 50_000, "of": 200_000, "seconds": 2.0})
    assert hand.bench.progress_text.text() == "recordings: 50,000 of 200,000 features, about 6.0 s left"
    assert (hand.bench.progress.value(), hand.bench.progress.maximum()) == (50_000, 200_000)
    hand.bench.session.progress.emit({"step": "a", "tasks": 30, "tasks_done": 3, "done": 1, "of": 0, "seconds": 0.1})
    assert hand.bench.progress_text.text() == "a: 3 of 30 layers"


def test_the_ledger_tells_more_when_asked(hand: Hand) -> None:
    hand.run()
    model = hand.bench.ledger.model()
    tip = model.index_of("chosen").data(Qt.ItemDataRole.ToolTipRole)
    assert "1 feature set aside: does not meet the condition" in tip
    assert "without a valid place, in line 8" in model.index_of("recordings").data(Qt.ItemDataRole.ToolTipRole)
    QTest.mouseMove(hand.bench.ledger.viewport(), QPoint(100, 60))
    hand.click_step("chosen")
    assert "Left 1 layer: marks_waypoints; 1 feature." in hand.makes()
