"""The view of earlier runs: told, compared on the map, opened as they were, run again; and what a second run reuses."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog

from eskret.desktop.ledger.ledger_model import TIME
from eskret.desktop.table.read_table import ReadTable
from tests.desktop.conftest import Hand


def click_row(table: ReadTable, row: int, modifier: Qt.KeyboardModifier = Qt.KeyboardModifier.NoModifier) -> None:
    place = table.visualRect(table.grid.index(row, 1)).center()
    QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, modifier, place)


def cells(table: ReadTable, key: str) -> list[str]:
    column = [c.key for c in table.columns].index(key)
    return [table.grid.index(r, column).data() or "" for r in range(table.grid.rowCount())]


@pytest.fixture
def hand(make_hand: Callable[..., Hand], demo: Path) -> Hand:
    made = make_hand(demo / "harbour.toml")
    made.settled()
    made.run()
    made.bench.session.set_value("limit", "2029")
    made.settled()
    made.run()
    made.click(made.bench.bar.runs)
    made.until(lambda: made.bench.views.runs.list.chosen() == [0])
    return made


def test_a_run_is_told_and_two_are_compared(hand: Hand) -> None:
    view = hand.bench.views.runs
    assert cells(view.list, "id") == ["2", "1"] and view.list.chosen() == [0]
    assert "Harbour limit: 2029" in view.facts.text() and "from the window" in view.facts.text()
    assert cells(view.told, "step")[0].startswith("Load") and len(cells(view.told, "step")) == 13
    hand.until(lambda: cells(view.outputs, "now")[0] == "as it was left")
    click_row(view.list, 1)
    hand.until(lambda: "changed since" in cells(view.outputs, "now"))
    click_row(view.list, 0, Qt.KeyboardModifier.ControlModifier)
    pane = view.compared
    hand.until(lambda: pane.isVisible() and pane.changes.layer is not None)
    assert "limit: 2031 → 2029" in pane.differs.text() and "The figures of 9 steps are the same" in pane.differs.text()
    assert "33 → 30" in cells(pane.steps, "out") and not view.open_button.isVisible()
    assert pane.key.currentText() == "lease" and pane.says.text().startswith("0 features added, 3 removed, 2 changed")
    assert pane.changes.buttons["removed"].text() == "Removed 3"
    hand.click(pane.changes.buttons["removed"])
    assert pane.changes.table.model_.rowCount() == 3
    pane.key.setFocus()
    hand.keys("End", pane.key)
    hand.until(lambda: pane.key.currentText() == "their shape" and "5 removed" in pane.says.text())
    same = cells(pane.outputs, "state").index("the same")
    click_row(pane.outputs, same)
    hand.until(lambda: "0 features added, 0 removed, 0 changed" in pane.says.text())


def test_runs_are_found_opened_run_again_and_forgotten(hand: Hand, monkeypatch: pytest.MonkeyPatch, demo: Path) -> None:
    view, session = hand.bench.views.runs, hand.bench.session
    hand.type("2031", view.search)
    hand.until(lambda: cells(view.list, "id") == ["1"])
    click_row(view.list, 0)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(demo / "told.html"), ""))
    hand.click(view.report_button)
    hand.until(lambda: (demo / "told.html").exists() and "<svg" in (demo / "told.html").read_text())
    hand.click(view.open_button)
    assert hand.bench.pages.page == "work" and "This is run 1 of" in hand.banner()
    assert session.value("limit") == "2031" and hand.row("inside")["out"] == "33" and not session.dirty
    hand.click_step("deliver")
    hand.until(lambda: hand.bench.viewer.table.model_.rowCount() == 30)  # as it was delivered then
    hand.keys("F3", hand.bench)
    click_row(view.list, 0)
    hand.click(view.again_button)
    hand.until(lambda: not session.running and session.last_run.get("seconds"))
    hand.until(lambda: hand.row("inside")["state"] == "balanced" and len(session.results) == 13)
    # what an earlier run made is reused; what was written over meanwhile is not
    index = hand.bench.ledger.model().index_of("inside")  # type: ignore[attr-defined]
    assert index.siblingAtColumn(TIME).data() == "reused" and "12 of 13 reused" in hand.bench.status.last.text()
    hand.keys("Ctrl+Alt+R", hand.bench)
    hand.until(lambda: not session.running and "reused" not in hand.bench.status.last.text())
    hand.keys("F3", hand.bench)
    view.search.clear()
    hand.until(lambda: len(cells(view.list, "id")) == 4)
    click_row(view.list, 0)
    hand.keys("Delete", view.list)
    hand.until(lambda: cells(view.list, "id") == ["3", "2", "1"])
    hand.type("nothing like it", view.search)
    hand.until(lambda: view.hint.isVisible() and view.hint.text() == "No run matches.")
    hand.keys("F3", hand.bench)
    assert hand.bench.pages.page == "work"
