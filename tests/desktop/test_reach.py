"""Within everybody's reach: keys alone, names for those who listen, 200 %, and what a pointer shows in passing."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QSettings, Qt
from PySide6.QtGui import QAccessible
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFrame, QListView, QScrollArea, QWidget

from eskret.desktop.frame.key_list import KEYS
from eskret.desktop.state import text_size
from eskret.desktop.window import Window
from tests.desktop.conftest import Hand


def test_every_place_is_reached_by_a_key_and_left_by_tab(hand: Hand) -> None:
    bench = hand.bench
    hand.click_step("chosen")
    places: dict[str, QWidget] = {
        "Ctrl+1": bench.sources.tree,
        "Ctrl+2": bench.ledger,
        "Ctrl+4": bench.viewer.canvas,
        "Ctrl+5": bench.viewer.table,
    }
    for keys, widget in places.items():
        hand.keys(keys, bench)
        assert QApplication.focusWidget() is widget, keys
    hand.keys("Ctrl+3", bench)
    first = QApplication.focusWidget()
    assert first is bench.form.blocks["from"].editor.target()
    QTest.keyClick(first, Qt.Key.Key_Tab)
    assert QApplication.focusWidget() is bench.form.blocks["where"].editor.target()
    QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)  # no trap: a text of several lines lets Tab go on
    assert QApplication.focusWidget() is not bench.form.blocks["where"].editor.target()


def test_a_step_is_added_moved_and_run_by_keys_alone(hand: Hand, project: Path) -> None:
    bench = hand.bench
    hand.keys("Ctrl+2", bench)
    hand.keys("Home", bench.ledger)
    assert bench.session.selected == "recordings"
    hand.keys("Down", bench.ledger)
    hand.keys("Insert", bench.ledger)
    hand.type("keep", bench.finder.line)
    hand.keys("Return", bench.finder.line)
    assert hand.steps()[2] == "keep" and bench.session.document.step("keep").source == ("chosen",)
    assert QApplication.focusWidget() is bench.form.blocks["where"].editor.target()
    hand.type("true", QApplication.focusWidget())
    hand.until(lambda: bench.session.step().settings.get("where") == "true")
    hand.keys("Ctrl+2", bench)
    hand.keys("Alt+Up", bench.ledger)
    assert hand.steps()[1] == "keep"
    hand.keys("Alt+Down", bench.ledger)
    hand.keys("F2", bench.ledger)
    name = QApplication.focusWidget()
    assert name is bench.form.blocks["step.id"].editor.target()
    hand.keys("Ctrl+A", name)
    hand.type("all of them", name)
    hand.keys("Return", name)
    assert hand.steps()[2] == "all_of_them" and bench.session.selected == "all_of_them"
    hand.keys("Ctrl+R", bench)
    hand.until(lambda: bench.session.last_run and not bench.session.running)
    assert hand.row("all_of_them")["out"] == "1"
    hand.keys("Ctrl+2", bench)
    hand.keys("Delete", bench.ledger)
    assert "all_of_them" not in hand.steps()
    hand.keys("Ctrl+S", bench)
    assert not bench.session.dirty and "all_of_them" not in project.read_text()


def test_a_name_that_is_taken_is_refused_at_the_field(hand: Hand) -> None:
    hand.click_step("chosen")
    before = hand.bench.session.document
    target = hand.bench.form.blocks["step.id"].editor.target()
    hand.bench.form.focus_field("step.id")
    hand.keys("Ctrl+A", target)
    hand.type("web", target)
    hand.keys("Return", target)
    assert "There is a step 'web'" in hand.bench.form.blocks["step.id"].wrong.text().replace("there", "There")
    assert hand.bench.session.document == before


def test_all_that_keys_come_to_has_a_name_and_a_role_for_those_who_listen(hand: Hand) -> None:
    """As the toolkit hands it to a screen reader, in every view, and with all of the form open."""
    bench = hand.bench
    hand.click_step("archive")
    for view in ("words", "publish", "parameters", "rounds", "runs", "layers"):
        getattr(bench.views, view)
    hand.click(bench.form.more)
    hand.click(bench.form.about)
    nameless, roles = [], set()
    for widget in hand.window.findChildren(QWidget):
        inner = widget.objectName() == "qt_spinbox_lineedit" or (
            isinstance(widget, QListView) and isinstance(widget.parentWidget(), QFrame)
        )
        if not widget.focusPolicy() & Qt.FocusPolicy.TabFocus or (inner and widget.parentWidget().parentWidget() is not bench):
            continue  # what is within a box with a name of its own goes by that
        told = QAccessible.queryAccessibleInterface(widget)
        roles.add(told.role())
        if not told.text(QAccessible.Text.Name) or told.role() == QAccessible.Role.NoRole:
            nameless.append(f"{type(widget).__name__} in {type(widget.parentWidget()).__name__}")
    assert nameless == [] and len(roles) > 8
    scrolls = [w for w in hand.window.findChildren(QScrollArea) if w.focusPolicy() & Qt.FocusPolicy.TabFocus]
    assert scrolls == []  # what only holds others is none of the places that Tab comes to


def test_the_window_fits_its_screen_and_small_ones(make_hand: Callable[..., Hand], project: Path) -> None:
    hand = make_hand(project, follows=True)
    hand.until(lambda: hand.bench.viewer.switch.isVisible())
    room = hand.window.screen().availableGeometry()
    fresh = Window(QSettings(str(project.parent / "fresh.ini"), QSettings.Format.IniFormat))
    assert fresh.width() <= room.width() and fresh.height() <= room.height()
    fresh.close()
    hand.window.resize(960, 540)
    bench = hand.bench
    hand.until(lambda: bench.bar.rehearse.width() == bench.bar.rehearse.sizeHint().width())  # laid out
    for widget in (bench.bar.run, bench.bar.rehearse, bench.viewer.buttons["aside"], bench.viewer.table_full, bench.add_button):
        left = widget.mapTo(hand.window, QPoint(0, 0)).x()
        assert left >= 0 and left + widget.width() <= 960, widget
        assert widget.width() >= widget.minimumSizeHint().width()  # nothing of it is cut off


def test_a_pointer_marks_what_it_passes_and_escape_lets_go(hand: Hand) -> None:
    hand.run()
    hand.click_step("chosen")
    hand.keys("Alt+1", hand.bench)
    canvas = hand.bench.viewer.canvas
    hand.until(canvas.idle)
    seen: list[int] = []
    canvas.hovered.connect(seen.append)
    place = canvas.view.to_screen(np.asarray(canvas.scene.items[0].shapes.xy[2:3]))[0]
    at = QPoint(*(int(v) for v in place))
    for spot in (at + QPoint(60, 40), at, QPoint(canvas.width() // 2, 3)):
        QTest.mouseMove(canvas, spot)
        QTest.qWait(30)
    assert seen[-2:] == [2, -1]
    hand.click(canvas, at)
    assert hand.bench.viewer.card.isVisible()
    hand.keys("Esc", canvas)
    assert not hand.bench.viewer.card.isVisible() and canvas.chosen.tolist() == []


@pytest.mark.parametrize("factor", ["1.5", "2"])
def test_at_larger_scales_everything_keeps_its_place(project: Path, tmp_path: Path, factor: str) -> None:
    code = """
import sys
from pathlib import Path
from PySide6.QtCore import QSettings, Qt
from PySide6.QtTest import QTest
from eskret.desktop.frame.key_list import KEYS
from eskret.desktop.app import make_application
app = make_application()
from eskret.desktop.window import Window
window = Window(QSettings(sys.argv[2], QSettings.Format.IniFormat))
window.resize(1280, 800)
window.show()
bench = window.furnish(Path(sys.argv[1]))
window.resize(1280, 800)
QTest.qWait(200)
picture = window.grab()
print(picture.width(), picture.height(), picture.devicePixelRatio())
texts = [bench.bar.rehearse, bench.bar.run, bench.add_button, bench.step_strip.remove, *bench.bar.chips.values()]
print(all(w.width() >= w.fontMetrics().horizontalAdvance(w.text()) for w in texts))
bench.session._saved = bench.session.document
window.close()
"""
    done = subprocess.run(
        [sys.executable, "-c", code, str(project), str(tmp_path / "x.ini")],
        capture_output=True,
        text=True,
        env={**os.environ, "QT_SCALE_FACTOR": factor, "QT_QPA_PLATFORM": "offscreen"},
    )
    assert done.returncode == 0, done.stderr
    size, fits = done.stdout.splitlines()
    assert size == f"{int(1280 * float(factor))} {int(800 * float(factor))} {float(factor)}" and fits == "True"


def test_every_key_that_the_list_tells_of_does_something_and_every_key_is_told_of(hand: Hand) -> None:
    """The table of actions and what F1 shows say the same."""
    bound = {a.shortcut().toString() for a in hand.bench.actions() if not a.shortcut().isEmpty()}
    assert len(bound) == len([a for a in hand.bench.actions() if not a.shortcut().isEmpty()]), "a key means two things"
    told = set()
    for keys, _ in KEYS:
        row = re.match(r"(\S+?)(\d) (?:to|\.\.\.) \S+?(\d)$", keys)
        told |= {f"{row[1]}{n}" for n in range(int(row[2]), int(row[3]) + 1)} if row else set(keys.split(", "))
    of_lists = {"Insert", "Delete", "Alt+Up", "Alt+Down", "F2", "Space", "Enter", "Ctrl+A", "Arrow keys", "+", "-", "0", "Esc"}
    of_the_map = {"B", "L", "M", "Shift+M"}
    assert told - bound - of_lists - of_the_map == set()
    assert bound - told == {"Ctrl+Shift+S", "Ctrl+Q", "F1", "Shift+F1"}  # these stand in the menu, where it is looked for


def test_a_page_is_turned_to_by_its_name_and_back(hand: Hand) -> None:
    pages, bar = hand.bench.pages, hand.bench.bar
    for key, name in (("F10", "words"), ("F11", "publish"), ("F12", "parameters"), ("F3", "runs"), ("Ctrl+Shift+R", "rounds")):
        hand.keys(key, hand.bench)
        assert pages.page == name
        assert [b.isChecked() for b in (bar.words, bar.publish, bar.runs)] == [name == n for n in ("words", "publish", "runs")]
        hand.keys(key, hand.bench)
        assert pages.page == "work" and hand.bench.ledger.hasFocus()
    pages.turn_to("start")
    hand.keys("F10", hand.bench)
    assert pages.page == "start"  # no workflow is open, so there are no lists of words either


@pytest.mark.parametrize(("says", "factor"), [("1.25", "1.25"), ("1.0", None), ("9", "3"), ("what?", None), (None, None)])
def test_text_is_as_large_as_the_desktop_asks(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, says: str | None, factor: str | None
) -> None:
    """On Wayland, where the toolkit does not hear of it; and not where somebody has said otherwise, or nobody answers."""
    tool = tmp_path / "gsettings"
    if says is not None:
        tool.write_text(f"#!/bin/sh\n[ \"$3\" = text-scaling-factor ] && echo '{says}'\n")
        tool.chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:/usr/bin:/bin" if says is not None else str(tmp_path))
    there = {"WAYLAND_DISPLAY": "wayland-0"}
    text_size.follow_desktop(there)
    assert there.get("QT_SCALE_FACTOR") == factor
    for other in ({}, {**there, "QT_SCALE_FACTOR": "2"}, {"WAYLAND_DISPLAY": "wayland-0", "QT_QPA_PLATFORM": "offscreen"}):
        before = dict(other)
        assert text_size.follow_desktop(other) == 1.0 and other == before
