"""A real window, driven by clicks and keys."""

from __future__ import annotations

from collections.abc import Callable, Generator
from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import QModelIndex, QPoint, QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QLineEdit, QWidget
from pytestqt.qtbot import QtBot

from eskret.desktop.frame.workbench import Workbench
from eskret.desktop.ledger.ledger_model import ASIDE, IN, OUT, STATE, STEP
from eskret.desktop.state import session
from eskret.desktop.theme import style
from eskret.desktop.views.parts import finish_typing
from eskret.desktop.window import Window

LONG = 40_000


class Hand:
    """What a person does with the window, and what they read in it."""

    def __init__(self, window: Window, qtbot: QtBot) -> None:
        self.window = window
        self.bot = qtbot
        assert window.workbench is not None
        self.bench: Workbench = window.workbench

    def until(self, condition: Callable[[], Any]) -> None:
        self.bot.waitUntil(lambda: bool(condition()), timeout=LONG)

    def keys(self, sequence: str, widget: QWidget | None = None) -> None:
        if widget is not None and widget.window() is self.window and QApplication.activePopupWidget() is None:
            # a shortcut needs the window to be the active one; without a window manager nobody makes it so again
            self.window.activateWindow()
            self.until(self.window.isActiveWindow)
        QTest.keySequence(widget or QApplication.focusWidget() or self.bench, sequence)

    def type(self, text: str, widget: QWidget | None = None) -> None:
        target = widget or QApplication.focusWidget()
        assert target is not None
        for number, line in enumerate(text.split("\n")):
            if number:
                QTest.keyClick(target, Qt.Key.Key_Return)
            QTest.keyClicks(target, line)

    def click(self, widget: QWidget, at: QPoint | None = None) -> None:
        QApplication.processEvents()  # nobody clicks on what is not laid out and painted yet
        QTest.mouseClick(widget, Qt.MouseButton.LeftButton, pos=at or QPoint())

    def row(self, id: str) -> dict[str, str]:
        """The figures of a step as the ledger shows them."""
        model = self.bench.ledger.model()
        index = model.index_of(id)  # type: ignore[attr-defined]
        assert index.isValid(), f"no step {id}"
        cells = {"step": STEP, "in": IN, "out": OUT, "aside": ASIDE, "state": STATE}
        return {name: index.siblingAtColumn(column).data() for name, column in cells.items()}

    def steps(self) -> list[str]:
        return [s.id for s in self.bench.session.document.steps]

    def click_step(self, id: str) -> None:
        view = self.bench.ledger
        index = view.model().index_of(id).siblingAtColumn(STEP)  # type: ignore[attr-defined]
        view.scrollTo(index)
        QTest.mouseClick(view.viewport(), Qt.MouseButton.LeftButton, pos=view.visualRect(index).center())

    def source(self, *path: str) -> QModelIndex:
        """A row of the sources by the texts on the way to it, once it is there."""

        def find() -> QModelIndex:
            model = self.bench.sources.model
            index = QModelIndex()
            for text in path:
                rows = [model.index(r, 0, index) for r in range(model.rowCount(index))]
                index = next((i for i in rows if i.data() == text), QModelIndex())
                if not index.isValid():
                    return QModelIndex()
            return index

        self.until(lambda: find().isValid())
        return find()

    def click_source(self, *path: str) -> None:
        tree = self.bench.sources.tree
        index = self.source(*path)
        tree.scrollTo(index)
        QTest.mouseClick(tree.viewport(), Qt.MouseButton.LeftButton, pos=tree.visualRect(index).center())

    def run(self) -> None:
        """Press Run and wait for its end."""
        self.click(self.bench.bar.run)
        assert self.bench.session.running
        self.until(lambda: not self.bench.session.running)

    def settled(self) -> None:
        """Wait until the last edit was rehearsed."""
        session = self.bench.session
        self.until(lambda: session._rehearse_job is None and not session._quiet.isActive())

    def fill(self, field: str, text: str) -> None:
        """Type into a field of the form, in place of what it holds, and leave it."""
        before = self.bench.session.document
        self.bench.form.focus_field(field)
        target = self.bench.form.blocks[field].editor.target()
        self.keys("Ctrl+A", target)
        self.type(text, target)
        if isinstance(target, QLineEdit):
            self.keys("Return", target)
        self.bench.ledger.setFocus()
        self.until(lambda: self.bench.session.document != before)

    def makes(self) -> str:
        """What the form says that the step in hand will make, or made."""
        said = self.bench.form.makes.findChild(QLabel)
        assert isinstance(said, QLabel)
        return said.text()

    def menu(self, begins: str) -> None:
        """Choose in the workflow menu, or in one of its parts, what begins with these words."""
        parts = [self.bench.bar.menu, *(a.menu() for a in self.bench.bar.menu.actions() if a.menu() is not None)]
        next(a for part in parts for a in part.actions() if a.text().startswith(begins)).trigger()  # type: ignore[attr-defined]

    def banner(self) -> str:
        return self.bench.banner_text.text() if self.bench.banner.isVisible() else ""


@pytest.fixture
def make_hand(
    qtbot: QtBot, tmp_path: Path, qapp: QApplication, monkeypatch: pytest.MonkeyPatch
) -> Generator[Callable[..., Hand], None, None]:
    # after an edit somebody may go on typing; nobody does here
    monkeypatch.setattr(session, "REHEARSE_AFTER", 60)
    if style.theme.palette.name != "light" or not qapp.styleSheet():
        style.install(qapp, "light")
    windows: list[Window] = []

    def make(path: Path | None = None, asks: bool = False, follows: bool | None = False) -> Hand:
        memory = QSettings(str(tmp_path / "window.ini"), QSettings.Format.IniFormat)
        if not asks:
            memory.setValue("ask_before_a_run", "no")
        if follows is not None:  # else as it was left
            memory.setValue("figures_follow_edits", "yes" if follows else "no")
        window = Window(memory)
        windows.append(window)
        window.resize(1280, 800)
        window.show()
        window.furnish(path)
        window.activateWindow()
        qtbot.waitExposed(window)
        return Hand(window, qtbot)

    yield make
    for window in windows:
        if window.workbench is not None:
            # nobody is there to answer what to do with unsaved changes, what is half typed among them
            finish_typing()
            window.workbench.session._saved = window.workbench.session.document
            if window.workbench.pages.made("words"):
                window.workbench.views.words._saved = window.workbench.views.words.entries
        window.close()


@pytest.fixture
def hand(make_hand: Callable[..., Hand], project: Path) -> Hand:
    """The window on the small project."""
    return make_hand(project)


@pytest.fixture(autouse=True)
def no_words_of_the_command(monkeypatch: pytest.MonkeyPatch) -> None:
    """A script of a workflow takes where to write from the command's words: those of the tests are none of its business."""
    monkeypatch.setattr("sys.argv", ["pytest"])
