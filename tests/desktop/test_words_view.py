"""The word list as a view: several spellings settled at once, taken back, saved, and used by the next run."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from eskret.desktop.views.words import SPELLING, WORD
from eskret.formats.wordlist_file import read_list
from tests.desktop.conftest import Hand


def line_of(hand: Hand, spelling: str) -> int:
    model = hand.bench.views.words.model
    return next(r for r in range(model.rowCount()) if model.entries[model.shown[r]].spelling == spelling)


def test_spellings_are_settled_by_hand_and_used(hand: Hand, demo: Path) -> None:
    bench, session = hand.bench, hand.bench.session
    bench.files.open_path(demo / "returns.toml")
    hand.settled()
    hand.run()
    before = next(r["text"] for r in session.results["tidy"]["remarks"] if "not in the list" in r["text"])
    assert "93 values" in before
    hand.click(bench.bar.words)
    words = bench.views.words
    assert bench.pages.currentWidget() is words and words.isVisible() and words.model.rowCount() == 11
    hand.click(words.draft)
    assert words.model.rowCount() == 14 and "12 of 14 spellings settled" in words.says.text()

    # two spellings of one thing stand together; both chosen, one word typed, one key
    first = line_of(hand, "Gravel")
    words.table.selectRow(first)
    index = words.model.index(line_of(hand, "gravel (coarse)"), SPELLING)
    QTest.mouseClick(
        words.table.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, words.table.visualRect(index).center()
    )
    words.word.setFocus()
    QTest.keyClicks(words.word, "gravel")
    QTest.keyClick(words.word, Qt.Key.Key_Return)
    assert "14 of 14 spellings settled" in words.says.text() and words.dirty
    words.table.setFocus()
    hand.keys("Ctrl+Z", words.table)
    assert "12 of 14" in words.says.text()
    hand.click(words.suggest_button)
    assert words.model.data(words.model.index(line_of(hand, "gravel (coarse)"), WORD)) == "gravel (coarse)"

    # features without a value stand there too, settled to stay so; a button settles others to it
    words.table.selectRow(line_of(hand, "(no value)"))
    assert words.model.data(words.model.index(line_of(hand, "(no value)"), WORD)) == "(empty)"
    words.table.selectRow(line_of(hand, "Gravel"))
    hand.click(words.empty_button)
    assert words.model.data(words.model.index(line_of(hand, "Gravel"), WORD)) == "(empty)"

    # a cell typed into
    words.table.setFocus()
    words.model.setData(words.model.index(line_of(hand, "Gravel"), WORD), "gravel")
    words.model.setData(words.model.index(line_of(hand, "gravel (coarse)"), WORD), "gravel")
    hand.keys("Ctrl+S", words.table)
    assert not words.dirty and {e.word for e in read_list(demo / "words.csv") if "ravel" in e.spelling} == {"gravel"}
    hand.keys("Escape", words.table)
    assert bench.pages.page == "work"
    hand.settled()
    hand.run()
    assert not any("not in the list" in r["text"] for r in session.results["tidy"]["remarks"])
    view = session.view("by_bottom")
    assert view is not None and "gravel" in session.leaving_stored("by_bottom")[0].table.column_names


def test_the_view_opens_on_what_a_draft_found(make_hand: Callable[..., Hand], demo: Path) -> None:
    """No list is there yet: what was met stands there at once, saving makes the list, and the steps below find it."""
    (demo / "draft.toml").write_text(
        'eskret = 1\n[[steps]]\nid = "beds"\nuse = "load"\nfiles = ["register/register.gpkg"]\nlayers = ["lease_beds"]\n'
        '[[steps]]\nid = "met"\nuse = "draft_words"\nfrom = "beds"\nfields = ["bottom"]\n'
    )
    (demo / "words.csv").rename(demo / "other.csv")
    hand = make_hand(demo / "draft.toml", follows=True)
    session = hand.bench.session
    hand.until(lambda: "met" in session.results and not session.current.working)
    hand.keys("F10", hand.bench)
    words = hand.bench.views.words
    met = words.model.rowCount()
    assert met > 5 and words.dirty and words.lists.currentText() == "words.csv"
    hand.click(words.suggest_button)
    hand.keys("Ctrl+S", words.table)
    assert len(read_list(demo / "words.csv")) == met and all(e.word for e in read_list(demo / "words.csv"))
    assert session.document.step("met").settings["earlier"] == "words.csv"
    hand.keys("Escape", words.table)
    hand.click_step("met")
    hand.keys("Insert", hand.bench.ledger)
    hand.type("apply words")
    hand.keys("Return")
    step = session.step()
    assert step is not None and (step.use, step.settings["words"], step.settings["fields"]) == ("apply_words", "words.csv", ["bottom"])
