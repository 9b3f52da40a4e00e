"""What can be done in the window and by which key, in one table: the workflow menu, the keys and their states come from it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu

from eskret.desktop.panes.viewer import ALTERED, ASIDE, ENTERING, LEAVING
from eskret.desktop.theme.style import theme
from eskret.desktop.views.parts import finish_typing

if TYPE_CHECKING:
    from eskret.desktop.frame.workbench import Workbench


@dataclass(frozen=True)
class Act:
    """Something that can be done.

    ``group`` is the part of the workflow menu that it stands in, from the top; None for what has only a key. ``wording`` gives
    the text as it is now and ``possible`` whether it can be done, where these change.
    """

    name: str
    text: str
    keys: str
    do: Callable[[], object]
    group: int | None = None
    wording: Callable[[], str] | None = None
    possible: Callable[[], bool] | None = None


RECENT = "recent"
"""The name under which the table says where the files opened lately stand in the menu."""


def acts_of(bench: Workbench) -> Sequence[Act]:
    """Everything, in the order of the menu; then what has only a key."""
    session, files, boxes, viewer, pages = bench.session, bench.files, bench.boxes, bench.viewer, bench.pages

    def turn(name: str) -> Callable[[], None]:
        """Open a view, or close it where it is open."""
        return lambda: pages.open_view(name, pages.page != name)

    def words(there: Callable[[], object], elsewhere: Callable[[], object]) -> Callable[[], object]:
        """Keys that mean the word lists while these are open."""
        return lambda: there() if pages.page == "words" else elsewhere()

    def with_word(text: str, word: Callable[[], str]) -> Callable[[], str]:
        return lambda: f"{text}: {word()}" if word() else text

    undo, redo = with_word("Undo", lambda: session.undo_word), with_word("Redo", lambda: session.redo_word)
    fields = viewer.fields_button

    def following() -> str:
        return "Do not update the figures after every edit" if session.keeps_current else "Update the figures after every edit"

    return (
        Act("new", "New in a folder …", "Ctrl+N", files.new_in_folder, 0),
        Act("open", "Open …", "Ctrl+O", files.open_dialog, 0),
        Act(RECENT, "Opened lately", "", lambda: None, 0),
        Act("demo", "Open the demo", "", files.open_demo, 0),
        Act("save", "Save", "Ctrl+S", words(lambda: bench.views.words.save(), files.save), 1),
        Act("save_as", "Save under another name …", "Ctrl+Shift+S", files.save_as, 1),
        Act("save_script", "Save as a Python script …", "", files.save_script, 1),
        Act("script", "As Python, beside the ledger", "Ctrl+P", lambda: bench.show_script(not bench.side.shows("script")), 1),
        Act("console", "Python pane", "Ctrl+Shift+P", lambda: bench.show_console(not bench.side.shows("console")), 1),
        Act("pack", "Pack to hand over …", "", boxes.pack, 1),
        Act("unpack", "Unpack what was handed over …", "", files.unpack_dialog, 1),
        Act("report", "Save the report of the last run …", "", bench.saving.save_report, 1, possible=bench.has_report),
        Act("undo", "Undo", "Ctrl+Z", words(lambda: bench.views.words.undo(), bench.undo_last), 2, undo, bench.can_undo),
        Act("redo", "Redo", "Ctrl+Shift+Z", session.redo, 2, redo, lambda: bool(session.redo_word)),
        Act("heads", "Title and coordinate system …", "", boxes.edit_heads, 3),
        Act("parameters", "Parameters …", "F12", turn("parameters"), 3),
        Act("add_parameter", "Add a parameter …", "", bench.add_parameter, 3),
        Act("code", "Operations of your own …", "", boxes.show_code, 3),
        Act("new_operation", "New operation …", "", boxes.new_operation, 3),
        Act("run_anew", "Run everything anew", "Ctrl+Alt+R", bench.run_fresh, 3),
        Act("update", "Update the figures", "Ctrl+U", bench.update_figures, 3, possible=lambda: not session.running),
        Act("follow", "Update the figures after every edit", "", bench.switch_following, 3, following),
        Act("layers", "Layer by layer …", "Ctrl+L", lambda: bench.show_layers(pages.page != "layers"), 3),
        Act("rounds", "Run in rounds …", "Ctrl+Shift+R", turn("rounds"), 3),
        Act("theme", "Dark theme", "", bench.switch_theme, 4, lambda: "Light theme" if theme.palette.name == "dark" else "Dark theme"),
        Act("handbook", "Handbook in the browser", "Shift+F1", boxes.show_handbook, 4),
        Act("keys", "Keys", "F1", boxes.show_keys, 4),
        Act("close", "Close the window", "Ctrl+Q", bench.close_asked.emit, 4),
        Act("rehearse", "Rehearse", "Ctrl+E", session.rehearse),
        Act("run", "Run", "Ctrl+R", bench.run),
        Act("stop", "Stop", "Ctrl+.", session.stop),
        Act("entering", "Entering", "Alt+1", partial(viewer.choose_view, ENTERING)),
        Act("leaving", "Leaving", "Alt+2", partial(viewer.choose_view, LEAVING)),
        Act("aside", "Set aside", "Alt+3", partial(viewer.choose_view, ASIDE)),
        Act("altered", "Altered", "Alt+4", partial(viewer.choose_view, ALTERED)),
        Act("pick", "Keep what is chosen", "Ctrl+K", partial(bench.edit_by_hand, "pick")),
        Act("keep", "Keep it by a condition", "Ctrl+Shift+K", partial(bench.edit_by_hand, "keep")),
        Act("isolate", "Isolate what is chosen", "Ctrl+I", partial(bench.edit_by_hand, "isolate")),
        Act("invert", "Invert what is chosen", "Ctrl+Shift+I", viewer.invert),
        Act("fields", "Fields of the layer", "F4", lambda: viewer.toggle_fields(not fields.isChecked())),
        Act("on_map", "On the map", "F5", viewer.said_button.click),
        Act("settings_larger", "Settings larger", "Shift+F6", bench.form_full.click),
        Act("map_larger", "Map larger", "F6", viewer.map_full.click),
        Act("table_larger", "Table larger", "F7", viewer.table_full.click),
        Act("runs", "Runs", "F3", turn("runs")),
        Act("words", "Word lists", "F10", turn("words")),
        Act("publish", "Publish", "F11", turn("publish")),
        Act("map_alone", "Map alone", "F8", bench.map_alone),
        Act("sources", "Sources", "F9", bench.fold_sources),
        Act("to_sources", "Go to sources", "Ctrl+1", bench.sources.tree.setFocus),
        Act("to_ledger", "Go to the ledger", "Ctrl+2", bench.ledger.setFocus),
        Act("to_settings", "Go to the settings", "Ctrl+3", bench.focus_form),
        Act("to_map", "Go to the map", "Ctrl+4", viewer.canvas.setFocus),
        Act("to_table", "Go to the table", "Ctrl+5", viewer.table.setFocus),
    )


def _do(act: Act, _: bool = False) -> None:
    finish_typing()
    act.do()


class Actions:
    """The table as the library's actions, put into the window and its menu."""

    def __init__(self, bench: Workbench, menu: QMenu) -> None:
        self._bench = bench
        self._made: list[tuple[Act, QAction]] = []
        group = 0
        for act in acts_of(bench):
            if act.group is not None and act.group != group:
                menu.addSeparator()
                group = act.group
            if act.name == RECENT:
                self._recent = menu.addMenu(act.text)
                continue
            action = QAction(act.text, bench)
            if act.keys:
                action.setShortcut(QKeySequence(act.keys))
            action.triggered.connect(partial(_do, act))
            bench.addAction(action)
            if act.group is not None:
                menu.addAction(action)
            self._made.append((act, action))
        menu.aboutToShow.connect(self.refresh_menu)

    def refresh(self) -> None:
        """What can be done now."""
        for act, action in self._made:
            if act.possible is not None:
                action.setEnabled(act.possible())

    def refresh_menu(self) -> None:
        """What the menu says now."""
        self.refresh()
        for act, action in self._made:
            if act.wording is not None:
                action.setText(act.wording())
        self._recent.clear()
        for path in self._bench.files.recent():
            self._recent.addAction(path, partial(self._bench.files.open_path, Path(path)))
        self._recent.setEnabled(bool(self._bench.files.recent()))
