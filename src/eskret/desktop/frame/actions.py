"""What can be done in the window and by which key, in one table: the workflow menu, the keys and their states come from it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSettings
from PySide6.QtGui import QAction, QKeySequence, QShortcut
from PySide6.QtWidgets import QMenu, QWidget

from eskret.desktop.frame.key_list import FOR_THE_SEARCH
from eskret.desktop.panes.viewer import ALTERED, ENTERING, LEAVING
from eskret.desktop.theme.style import theme
from eskret.desktop.views.parts import finish_typing

if TYPE_CHECKING:
    from eskret.desktop.frame.workbench import Workbench


@dataclass(frozen=True)
class Act:
    """Something that can be done.

    ``group`` is the part of the workflow menu that it stands in, by its title, empty for the top; None for what has only a key.
    ``wording`` gives the text as it is now and ``possible`` whether it can be done, where these change. ``also`` are everyday words
    for it, by which it is found.
    """

    name: str
    text: str
    keys: str
    do: Callable[[], object]
    group: str | None = None
    wording: Callable[[], str] | None = None
    possible: Callable[[], bool] | None = None
    also: str = ""


FIND = "find"
_KEY_OF_FIND = "key_of_find"
_APART = ("save", "undo", FIND, "close")
"""Before these a line is drawn in the menu."""
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

    def beside(pane: str) -> None:
        bench.show_beside(pane, not bench.side.shows(pane))

    def dark() -> str:
        return "Light theme" if theme.palette.name == "dark" else "Dark theme"

    def following() -> str:
        return "Do not update the figures after every edit" if session.keeps_current else "Update the figures after every edit"

    give, make, figures, show = "Hand over", "Workflow", "Figures", "Show"
    return (
        Act("new", "New in a folder …", "Ctrl+N", files.new_in_folder, "", also="begin empty start project"),
        Act("open", "Open …", "Ctrl+O", files.open_dialog, "", also="load workflow file"),
        Act(RECENT, "Recent", "", lambda: None, ""),
        Act("start", "Lessons and start page", "", bench.show_start, "", also="learn tutorial welcome home demo"),
        Act("save", "Save", "Ctrl+S", words(lambda: bench.views.words.save(), files.save), "", also="write keep"),
        Act("save_as", "Save under another name …", "Ctrl+Shift+S", files.save_as, "", also="copy"),
        Act("undo", "Undo", "Ctrl+Z", words(lambda: bench.views.words.undo(), bench.undo_last), "", undo, bench.can_undo, "back revert"),
        Act("redo", "Redo", "Ctrl+Shift+Z", session.redo, "", redo, lambda: bool(session.redo_word), "again"),
        Act(FIND, "Find anything …", FOR_THE_SEARCH, bench.find_anything, "", also="search command help"),
        Act("heads", "Title and coordinate system …", "", boxes.edit_heads, make, also="name crs projection summary author"),
        Act("parameters", "Parameters …", "F12", turn("parameters"), make, also="variables values"),
        Act("add_parameter", "Add a parameter …", "", bench.add_parameter, make, also="variable"),
        Act("layers", "Layer by layer …", "Ctrl+L", lambda: bench.show_layers(pages.page != "layers"), make, also="single layers names"),
        Act("code", "Operations of your own …", "", boxes.show_code, make, also="python code plugin trust"),
        Act("new_operation", "New operation …", "", boxes.new_operation, make, also="python code"),
        Act("update", "Update the figures", "Ctrl+U", bench.update_figures, figures, possible=lambda: not session.running, also="refresh"),
        Act("follow", "Update the figures after every edit", "", bench.switch_following, figures, following, also="live automatic"),
        Act("run_anew", "Run everything again", "Ctrl+Alt+R", bench.run_fresh, figures, also="force cache again"),
        Act("rounds", "Run in rounds …", "Ctrl+Shift+R", turn("rounds"), figures, also="batch loop each several"),
        Act("runs", "Runs", "F3", turn("runs"), figures, also="history earlier compare log"),
        Act("report", "Save the report of the last run …", "", bench.saving.save_report, give, None, bench.has_report, "html audit"),
        Act("pack", "Pack to hand over …", "", boxes.pack, give, also="zip share colleague export"),
        Act("unpack", "Unpack what was handed over …", "", files.unpack_dialog, give, also="zip import"),
        Act("save_script", "Save as a Python script …", "", files.save_script, give, also="export code"),
        Act("script", "As Python, beside the ledger", "Ctrl+P", partial(beside, "script"), show, also="code"),
        Act("console", "Python pane", "Ctrl+Shift+P", partial(beside, "console"), show, also="console"),
        Act("on_map", "On the map", "F5", viewer.said_button.click, show, also="style colours classes labels legend symbols layers"),
        Act("fields", "Fields of the layer", "F4", lambda: viewer.toggle_fields(not fields.isChecked()), show, also="columns statistics"),
        Act("settings_larger", "Settings larger", "Shift+F6", bench.form_full.click, show, also="maximise form"),
        Act("map_larger", "Map larger", "F6", viewer.map_full.click, show, also="maximise"),
        Act("table_larger", "Table larger", "F7", viewer.table_full.click, show, also="maximise attributes"),
        Act("map_alone", "Map alone", "F8", bench.map_alone, show, also="full screen"),
        Act("sources", "Sources", "F9", bench.fold_sources, show, also="files folder hide panel"),
        Act("theme", "Dark theme", "", bench.switch_theme, show, dark, also="light night colours"),
        Act("handbook", "Handbook in the browser", "Shift+F1", boxes.show_handbook, "Help", also="manual documentation"),
        Act("launcher", "Add to the desktop's applications", "", boxes.add_launcher, "Help", also="icon menu shortcut install"),
        Act("keys", "Keys", "F1", bench.show_keys, "Help", also="shortcuts keyboard"),
        Act("close", "Close the window", "Ctrl+Q", bench.close_asked.emit, "", also="quit exit"),
        Act("rehearse", "Rehearse", "Ctrl+E", session.rehearse, also="check validate dry"),
        Act("run", "Run", "Ctrl+R", bench.run, also="execute start go process"),
        Act("stop", "Stop", "Ctrl+.", session.stop, possible=lambda: session.running, also="cancel abort"),
        Act("add_step", "Add a step", "", bench.add_step, also="insert operation tool"),
        Act("entering", "Entering", "Alt+1", partial(viewer.choose_view, ENTERING), also="input"),
        Act("leaving", "Leaving", "Alt+2", partial(viewer.choose_view, LEAVING), also="output result"),
        Act("aside", "Set aside", "Alt+3", viewer.show_aside, also="rejected dropped missing excluded"),
        Act("altered", "Altered", "Alt+4", partial(viewer.choose_view, ALTERED), also="changed mended"),
        Act("next", "Next feature", "Alt+Right", partial(viewer.walk, 1), also="walk zoom go through"),
        Act("previous", "Previous feature", "Alt+Left", partial(viewer.walk, -1), also="walk zoom go back"),
        Act("follow_feature", "Follow what is chosen", "Ctrl+J", viewer.follow, also="trace lineage history where from way"),
        Act("station_on", "Next station on its way", "Alt+PgDown", partial(viewer.waybar.walk, 1), also="follow"),
        Act("station_back", "Station before on its way", "Alt+PgUp", partial(viewer.waybar.walk, -1), also="follow"),
        Act("pick", "Keep what is chosen", "Ctrl+K", partial(bench.edit_by_hand, "pick"), also="selection"),
        Act("keep", "Keep it by a condition", "Ctrl+Shift+K", partial(bench.edit_by_hand, "keep"), also="selection filter"),
        Act("isolate", "Isolate what is chosen", "Ctrl+I", partial(bench.edit_by_hand, "isolate"), also="selection extract"),
        Act("invert", "Invert what is chosen", "Ctrl+Shift+I", viewer.invert, also="selection"),
        Act("words", "Word lists", "F10", turn("words"), also="vocabulary spellings"),
        Act("publish", "Publish", "F11", turn("publish"), also="online service upload web"),
        Act("to_sources", "Go to sources", "Ctrl+1", bench.sources.tree.setFocus),
        Act("to_ledger", "Go to the ledger", "Ctrl+2", bench.ledger.setFocus),
        Act("to_settings", "Go to the settings", "Ctrl+3", bench.focus_form),
        Act("to_map", "Go to the map", "Ctrl+4", viewer.canvas.setFocus),
        Act("to_table", "Go to the table", "Ctrl+5", viewer.table.setFocus),
    )


def _do(act: Act, _: bool = False) -> None:
    finish_typing()
    act.do()


def chosen_key(memory: QSettings | None) -> str:
    """The keys that open the search over everything: those chosen, or the usual ones."""
    return str((memory.value(_KEY_OF_FIND, "") if memory is not None else "") or FOR_THE_SEARCH)


def keys_taken(window: QWidget, but: QAction) -> list[QKeySequence]:
    """All keys that do something in a window, but for those of one action."""
    of_actions = [keys for action in window.findChildren(QAction) if action is not but for keys in action.shortcuts()]
    return [*of_actions, *chain.from_iterable(QShortcut.keys(one) for one in window.findChildren(QShortcut))]


class Actions:
    """The table as the library's actions, put into the window and its menu."""

    def __init__(self, bench: Workbench, menu: QMenu) -> None:
        self._bench = bench
        self._made: list[tuple[Act, QAction]] = []
        parts: dict[str, QMenu] = {"": menu}
        for usual in acts_of(bench):
            act = replace(usual, keys=chosen_key(bench.session.memory)) if usual.name == FIND else usual
            if act.name == RECENT:
                self._recent = menu.addMenu(act.text)
                continue
            if act.group is not None and act.group not in parts:
                if len(parts) == 1:
                    menu.addSeparator()
                parts[act.group] = menu.addMenu(act.group)
            if act.name in _APART:
                menu.addSeparator()
            action = QAction(act.text, bench)
            if act.keys:
                action.setShortcut(QKeySequence(act.keys))
            action.triggered.connect(partial(_do, act))
            bench.addAction(action)
            if act.group is not None:
                parts[act.group].addAction(action)
            self._made.append((act, action))
        menu.aboutToShow.connect(self.refresh_menu)

    def choose_key(self, keys: str) -> str:
        """Have the search opened by other keys, now and later; what is wrong with them, empty where nothing is."""
        wanted = QKeySequence(keys)
        for place, (act, action) in enumerate(self._made):
            if act.name == FIND:
                if wanted.isEmpty():
                    return "Press the keys that are to open it."
                if wanted in keys_taken(self._bench.window(), action):
                    return f"{wanted.toString(QKeySequence.SequenceFormat.NativeText)} does something else already."
                if self._bench.session.memory is not None:
                    self._bench.session.memory.setValue(_KEY_OF_FIND, wanted.toString())
                action.setShortcut(wanted)
                self._made[place] = (replace(act, keys=wanted.toString()), action)
        return ""

    def can_be_done(self) -> list[Act]:
        """All that can be done now."""
        return [act for act, _ in self._made if act.possible is None or act.possible()]

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
