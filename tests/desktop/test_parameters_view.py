"""Parameters in the window: described in their view, asked for before a run, gone through in rounds; by clicks and keys."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QMessageBox

from eskret import write
from eskret.desktop.forms.asking_parameters import RunBox
from eskret.desktop.forms.parameter_properties import Properties
from eskret.formats import geopackage
from eskret.workflow.model.document import parse
from tests.conftest import points
from tests.desktop.conftest import Hand
from tests.workflow.test_parameters import TEXT


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    rows = {"name": ["a", "b", "c", None], "region": ["north", "north", "south", "south"], "n": [1, 2, 3, 4]}
    write(points(rows), tmp_path / "places.gpkg", "places")
    (tmp_path / "w.toml").write_text(TEXT)
    return tmp_path


def asked(hand: Hand) -> RunBox:
    found = [w for w in QApplication.topLevelWidgets() if isinstance(w, RunBox) and w.isVisible()]
    assert len(found) == 1
    return found[0]


def test_a_run_asks_for_its_values_and_checks_them_as_they_are_typed(make_hand: Callable[..., Hand], folder: Path) -> None:
    hand = make_hand(folder / "w.toml", asks=True)
    session = hand.bench.session
    hand.settled()
    hand.click(hand.bench.bar.run)
    box = asked(hand)
    assert not session.running
    blocks = box.form.blocks
    hand.until(lambda: box.form.ready)
    place = blocks["place"].editor.box
    assert place is not None and [place.itemText(n) for n in range(place.count())] == ["a", "b"]
    assert not blocks["by"].editor.isEnabled() and "Only when 'Widen' is yes" in blocks["by"].help.text()
    # another region has other places: the one chosen is none of them any more
    region = blocks["region"].editor.box
    assert region is not None
    region.setFocus()
    hand.keys("Down", region)
    hand.until(lambda: "not one of the choices" in blocks["place"].wrong.text())
    assert not box.run_button.isEnabled()
    place.setFocus()
    hand.keys("Down", place)
    hand.until(lambda: box.form.ready and box.run_button.isEnabled())
    # a parameter that another one enables
    flag, by = blocks["widen"].editor.flag, blocks["by"].editor.line
    assert flag is not None and by is not None
    flag.setFocus()
    hand.keys("Space", flag)
    assert blocks["by"].editor.isEnabled()
    hand.keys("Ctrl+A", by)
    hand.type("3 apples", by)
    assert "'apples' is no unit" in blocks["by"].wrong.text() and not box.run_button.isEnabled()
    hand.keys("Ctrl+A", by)
    hand.type("3 m", by)
    hand.until(lambda: box.form.ready)
    box.again.setFocus()
    hand.keys("Space", box.again)
    assert not box.again.isChecked()
    hand.keys("Return", by)
    hand.until(lambda: session.results and not session.running)
    assert session.values() == {"region": "south", "place": "c", "widen": True, "by": "3 m", "what": "all:places"}
    assert hand.row("saved")["state"] == "balanced" and (folder / "out" / "c.gpkg").exists()
    hand.run()  # and is not asked again


def test_chips_make_room_for_each_other(make_hand: Callable[..., Hand], folder: Path) -> None:
    hand = make_hand(folder / "w.toml")
    hand.settled()
    bar = hand.bench.bar
    hand.window.resize(900, 700)
    hand.until(lambda: bar.width() == 900)
    shown = [c for c in bar.chips.values() if c.isVisible()]
    assert 0 < len(shown) < 5 and bar.more.text() == f"{5 - len(shown)} more"
    hand.click(bar.more)
    assert len(asked(hand).form.blocks) == 5
    asked(hand).reject()


def test_a_parameter_is_made_and_described(make_hand: Callable[..., Hand], folder: Path) -> None:
    hand = make_hand(folder / "w.toml")
    bench, session = hand.bench, hand.bench.session
    hand.settled()
    hand.keys("F12", bench)
    view, form = bench.views.parameters, bench.views.parameters.properties
    hand.click(view.add_button)
    hand.type("size", form.called)
    hand.keys("Return", form.called)
    for _ in range(form.type.findText("number")):
        hand.keys("Down", form.type)
    form.type.activated.emit(form.type.currentIndex())
    hand.type("2", form.least)
    hand.keys("Return", form.least)
    assert "0 is less than 2" in form.wrong.text()  # its value comes first
    line = form.value.line if form.value is not None else None
    assert line is not None
    hand.keys("Ctrl+A", line)
    hand.type("5", line)
    hand.keys("Return", line)
    hand.keys("Ctrl+A", form.least)
    hand.type("2", form.least)
    hand.keys("Return", form.least)
    made = session.document.parameters[-1]
    assert (made.name, made.type, made.default, made.min) == ("size", "number", 5, 2) and not form.wrong.isVisible()
    # it counts only while another one does
    form.by.setCurrentIndex(form.by.findData("widen"))
    form.by.activated.emit(form.by.currentIndex())
    assert session.document.parameters[-1].to_table()["enabled_by"] == {"parameter": "widen", "is": [True]}
    assert not view.form.blocks["size"].editor.isEnabled()
    hand.click(view.up_button)
    assert [p.name for p in session.document.parameters][-2:] == ["size", "what"]
    # renamed, and followed
    view.list.setCurrentRow(1)
    assert form.used.text() == "chosen: where, saved: to"
    hand.keys("Ctrl+A", form.called)
    hand.type("spot", form.called)
    hand.keys("Return", form.called)
    assert session.document.step("saved").settings["to"] == "out/{spot}.gpkg"
    hand.click(view.remove_button)
    assert "spot" not in [p.name for p in session.document.parameters]
    for _ in range(3):
        hand.keys("Ctrl+Z", bench)
    assert "place" in [p.name for p in session.document.parameters]
    assert parse(session.document.to_text()) == session.document


def adding(hand: Hand) -> Properties:
    """A new parameter in hand, in the view of all of them."""
    hand.settled()
    hand.keys("F12", hand.bench)
    hand.click(hand.bench.views.parameters.add_button)
    hand.window.activateWindow()  # or nothing that is left would hear of it
    hand.until(hand.window.isActiveWindow)
    return hand.bench.views.parameters.properties


def test_choices_come_from_a_layer_or_a_list(make_hand: Callable[..., Hand], folder: Path) -> None:
    hand = make_hand(folder / "w.toml")
    view, form, session = hand.bench.views.parameters, adding(hand), hand.bench.session
    form.choice.setCurrentText("one that a layer has")
    form.choice.activated.emit(2)
    form.field.setCurrentIndex(form.field.findData("region"))
    form.field.activated.emit(form.field.currentIndex())
    found = session.document.parameters[-1].choices_from
    assert found is not None and (found.layer, found.field) == ("all:places", "region")
    box = view.form.blocks["wanted"].editor.box
    assert box is not None
    hand.until(lambda: box.count() == 2)
    form.choice.setCurrentText("one of a list")
    form.choice.activated.emit(1)
    hand.type("x, y", form.listed)
    hand.keys("Return", form.listed)
    made = session.document.parameters[-1]
    assert (made.choices, made.default, made.choices_from) == (("x", "y"), "x", None)


def test_rounds_are_filled_pasted_filled_down_and_run(
    make_hand: Callable[..., Hand], folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    hand = make_hand(folder / "w.toml")
    bench, session = hand.bench, hand.bench.session
    hand.settled()
    hand.keys("Ctrl+Shift+R", bench)
    view = bench.views.rounds
    hand.until(lambda: view.fill_box.count() == 4)
    view.fill_box.setCurrentIndex(2)
    view.fill_box.activated.emit(2)
    assert view.rows == [{"place": "a"}, {"place": "b"}]
    # two more from a sheet, from the cell in hand on; the grid makes room
    QGuiApplication.clipboard().setText("south\tc\nnorth\tz\n")
    view.grid.setCurrentIndex(view.model.index(2 - 1, 0))
    hand.keys("Ctrl+V", view.grid)
    assert view.rows == [{"place": "a"}, {"region": "south", "place": "c"}, {"region": "north", "place": "z"}]
    hand.click(view.rehearse_button)
    hand.until(lambda: "1 round cannot run" in view.says.text())
    assert view.model.index(2, 1).data() == "■ z"
    hand.keys("Ctrl+Z", view.grid)
    assert len(view.rows) == 2
    # one value into a column, from its first cell down
    view.grid.setCurrentIndex(view.model.index(0, 2))
    QTest.keyClick(view.grid, Qt.Key.Key_F2)
    editor = QApplication.focusWidget()
    assert editor is not None
    hand.type("yes", editor)
    hand.keys("Return", editor)
    hand.until(lambda: "widen" in view.rows[0])
    for row in (0, 1):
        view.grid.selectionModel().select(view.model.index(row, 2), view.grid.selectionModel().SelectionFlag.Select)
    hand.keys("Ctrl+D", view.grid)
    assert [r["widen"] for r in view.rows] == ["yes", "yes"]
    hand.click(view.run_button)
    hand.until(lambda: not session.running and "2 outputs saved" in view.says.text())
    assert [view.model.index(r, 5).data() for r in range(2)] == ["● balanced", "● balanced"]
    assert geopackage.layer_list(folder / "out" / "b.gpkg") == ["places"]
    view.grid.setCurrentIndex(view.model.index(1, 0))
    assert view.told.grid.index(1, 1).data().startswith("Keep") and view.told.grid.index(1, 4).data() == "3"
    # as a table, and back
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(folder / "r.csv"), ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(folder / "r.csv"), ""))
    hand.click(view.keep_button)
    assert (folder / "r.csv").read_text() == "place,widen\na,yes\nb,yes\n" and "--for-each r.csv" in view.says.text()
    view.grid.selectAll()
    hand.click(view.remove_button)
    assert view.rows == [] and not view.run_button.isEnabled()
    view.fill_box.setCurrentIndex(3)
    view.fill_box.activated.emit(3)
    assert len(view.rows) == 2
    view.grid.setCurrentIndex(view.model.index(1, 0))
    hand.click(view.look_button)
    assert session.values()["place"] == "b" and bench.pages.page == "work"


def test_a_failing_round_is_told_and_nothing_is_saved(make_hand: Callable[..., Hand], folder: Path) -> None:
    text = TEXT.replace(
        'id = "wide"\nuse = "buffer"\nfrom = "chosen"\ndistance = { parameter = "by" }',
        'id = "wide"\nuse = "check"\nfrom = "chosen"\nthat = "condition"\nwhere = "n < 2"',
    )
    (folder / "w.toml").write_text(text)
    hand = make_hand(folder / "w.toml")
    hand.settled()
    hand.keys("Ctrl+Shift+R", hand.bench)
    view = hand.bench.views.rounds
    hand.until(lambda: view.fill_box.count() == 4)
    view.fill_box.activated.emit(2)
    hand.click(view.run_button)
    hand.until(lambda: "Round 'b' failed" in view.says.text() and not hand.bench.session.running)
    assert not (folder / "out").exists() and view.model.index(1, 5).data() == "■ failed"
    hand.click(view.go_on)
    hand.click(view.run_button)
    hand.until(lambda: "1 of 2 rounds failed" in view.says.text())
    assert (folder / "out" / "a.gpkg").exists() and not (folder / "out" / "b.gpkg").exists()


def test_what_is_being_typed_of_a_parameter_stays_while_answers_come(make_hand: Callable[..., Hand], folder: Path) -> None:
    hand = make_hand(folder / "w.toml")
    form, session = adding(hand), hand.bench.session
    form.choice.setCurrentText("one of a list")
    form.choice.activated.emit(1)
    hand.settled()  # nothing is in the list yet, and it can still be made
    assert form.choice.currentText() == "one of a list" and form.listed.isVisible()
    for line, typed in ((form.listed, "x, y"), (form.label, "Which"), (form.by_values, "yes")):
        if line is form.by_values:
            form.by.setCurrentIndex(1)
            form.by.activated.emit(1)
            hand.settled()
            line.clear()
        hand.click(line)
        hand.type(typed, line)
        if line is form.label:
            form.help.setFocus()
            hand.type("why it is there", form.help)
            hand.keys("Tab", form.help)
            line.setFocus()
        session.rehearse()
        hand.settled()
        assert line.text() == typed
        hand.keys("Return", line)
    made = session.document.parameters[-1]
    assert (made.choices, made.label, made.help) == (("x", "y"), "Which", "why it is there")
    # another parameter in hand shows what is its own, and what was being typed stays with the one before
    name, first = made.name, session.document.parameters[0]
    form.help.clear()
    hand.type("typed at the last instant", form.help)
    form.show_parameter(first.name)
    assert form.help.toPlainText() == first.help
    form._pause.timeout.emit()
    told = {p.name: p.help for p in session.document.parameters}
    assert told[name] == "typed at the last instant" and told[first.name] == first.help
    form.show_parameter(name)
    form.label.setFocus()
    hand.type("of the one before", form.label)
    form.show_parameter(session.document.parameters[0].name)
    assert form.label.text() == session.document.parameters[0].label


@pytest.mark.parametrize("leaves", [False, True])
def test_what_is_half_typed_counts_for_what_is_done_next(
    make_hand: Callable[..., Hand], folder: Path, leaves: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    def answer(box: QMessageBox) -> int:
        next(b for b in box.buttons() if b.text() == "Save").click()
        return 0

    monkeypatch.setattr(QMessageBox, "exec", answer)
    hand = make_hand(folder / "w.toml")
    form = adding(hand)
    for line, text in ((form.help, "why it is there"), (form.label, "Which")):
        hand.click(line)
        hand.type(text, line)
    hand.click(form.help)
    hand.keys("Ctrl+End", form.help)
    hand.type(" and more", form.help)
    if leaves:
        assert hand.window.close()
    else:
        hand.keys("Ctrl+S", form.help)
        assert QApplication.focusWidget() is form.help and not hand.bench.session.dirty  # the cursor stays where it was
    made = parse((folder / "w.toml").read_text()).parameters[-1]
    assert (made.label, made.help) == ("Which", "why it is there and more")
