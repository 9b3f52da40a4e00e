"""The runs of earlier as a view of their own: what each was given, made and left; two of them side by side."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QCheckBox, QLabel, QLineEdit, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from eskret.core.words import duration, moment, pluralise
from eskret.desktop.state.background import Background
from eskret.desktop.state.session import Session
from eskret.desktop.table.grid_model import Column
from eskret.desktop.table.read_table import ReadTable
from eskret.desktop.views.compared import ComparedPane
from eskret.desktop.views.parts import View, in_row, push_button
from eskret.desktop.views.published_list import state_words
from eskret.desktop.views.told import STATES, ToldTable
from eskret.errors import EskretError
from eskret.services.journal import pushes
from eskret.workflow.history.runs import Kept, Runs, Whole
from eskret.workflow.model.parameters import value_words

_LIST = (
    Column("id", "Run", False, right=True, width=42),
    Column("when", "When", False, width=128),
    Column("title", "Workflow", False, width=166),
    Column("version", "Version", False, right=True, width=52),
    Column("state", "State", False, width=86),
    Column("saved", "Saved", False, right=True, width=60),
)
_TOLD_SIZES, _COMPARED_SIZES = [548, 707], [366, 889]
_OUTPUTS = (
    Column("name", "Left behind", False, width=260),
    Column("features", "Features", False, right=True, width=80),
    Column("now", "Now", False, width=130),
    Column("digest", "Digest", False, width=140),
)
_NOW = {"same": ("as it was left", "good"), "changed": ("changed since", "look"), "gone": ("gone", "bad")}


class RunsView(View):
    """One run chosen is told, two are compared."""

    open_asked = Signal(object, bool)  # a Whole, and whether it is to be run at once
    report_asked = Signal(object)  # a Whole

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Runs", parent)
        self._runs = Runs()
        self._background = Background(self)
        self._asked = 0
        self._choose_last = False
        self.found: list[Kept] = []
        self._whole: Whole | None = None
        self.search = QLineEdit()
        self.search.setPlaceholderText("Words of a title, a value, an output, a message")
        self.search.setAccessibleName("Find runs")
        self.search.setClearButtonEnabled(True)
        self._typed = QTimer(self, singleShot=True, interval=150)
        self._typed.timeout.connect(self.refresh)
        self.search.textChanged.connect(lambda _: self._typed.start())
        self.mine = QCheckBox("Only of this workflow")
        self.mine.toggled.connect(lambda _: self.refresh())
        self.list = ReadTable("Runs", _LIST, several=True)
        self.list.chosen_changed.connect(self._chosen)
        self.facts = QLabel()
        self.facts.setWordWrap(True)
        self.facts.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.open_button = push_button("Open as it was", "The workflow, its values and its ledger, as of that run", self._open)
        self.again_button = push_button("Run it again", "The workflow as it was, with the values that it had", lambda: self._open(True))
        self.report_button = push_button("Report …", "The account of this run as one page", self._report)
        self.forget_button = push_button("Forget", "Remove the selected runs from this list; outputs stay", self._forget)
        self.told = ToldTable()
        self.outputs = ReadTable("What it left", _OUTPUTS)
        self.compared = ComparedPane(session, self._runs)
        self.hint = QLabel()
        self.hint.setObjectName("faint")
        self.hint.setWordWrap(True)
        self.hint.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._build()
        gone = QShortcut(QKeySequence("Delete"), self.list)
        gone.setContext(Qt.ShortcutContext.WidgetShortcut)
        gone.activated.connect(self._forget)
        session.run_changed.connect(self._run_changed)
        session.changed.connect(self._enable)

    def _build(self) -> None:
        head = in_row(self.title, self.search, self.mine, None, self.back)
        head.setStretchFactor(self.search, 1)
        below = self._below = QSplitter(Qt.Orientation.Vertical)
        below.setHandleWidth(1)
        below.addWidget(self.told)
        below.addWidget(self.outputs)
        below.setSizes([330, 170])
        self.pages = QStackedWidget()
        for page in (self.hint, below, self.compared):
            self.pages.addWidget(page)
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(12, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(self.facts)
        column.addLayout(in_row(self.open_button, self.again_button, self.report_button, self.forget_button, None))
        column.addWidget(self.pages, 1)
        split = self._split = QSplitter(Qt.Orientation.Horizontal)
        split.setHandleWidth(1)
        split.addWidget(self.list)
        split.addWidget(right)
        split.setSizes(_TOLD_SIZES)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(14, 10, 12, 10)
        whole.setSpacing(9)
        whole.addLayout(head)
        whole.addWidget(split, 1)

    # -- the list

    def open_view(self) -> None:
        """Show the runs; the last one is chosen where none is."""
        self._choose_last = True
        self.refresh()

    def refresh(self) -> None:
        """Look beside the window's thread for what is kept now, then show it: there can be thousands of runs."""
        if not self.isVisible():
            return
        self.mine.setEnabled(self._session.path is not None)
        words, only = self.search.text(), self._session.path if self.mine.isChecked() else None
        self._asked += 1
        number, runs = self._asked, self._runs
        self._background.run(lambda: (number, runs.find(words, only), runs.versions()), self._show)

    def _show(self, answer: tuple[int, list[Kept], dict[str, dict[str, int]]]) -> None:
        number, found, numbers = answer
        if number != self._asked:
            return  # something else was asked meanwhile
        before = {self.found[n].id for n in self.list.chosen() if n < len(self.found)}
        self.found = found
        rows, colours = [], {}
        for n, one in enumerate(self.found):
            words, colour = STATES.get(one.state, (one.state, "faint"))
            number = numbers.get(one.workflow, {}).get(one.version, 0) if one.workflow else 0
            title = one.title or one.file
            rows.append(
                {
                    "id": str(one.id),
                    "when": moment(one.started),
                    "title": f"{one.label} · {title}" if one.label else title,
                    "version": str(number or ""),
                    "state": words,
                    "saved": f"{one.features:,}" if one.features else "",
                }
            )
            colours[n, "state"] = colour
            colours[n, "id"] = colours[n, "version"] = "faint"
        self.list.blockSignals(True)
        self.list.show_rows(rows, colours=colours)
        self.list.choose([n for n, r in enumerate(self.found) if r.id in before])
        if self._choose_last and self.found and not self.list.chosen():
            self.list.choose([0])
        self._choose_last = False
        self.list.blockSignals(False)
        self._chosen()

    def _run_changed(self) -> None:
        if not self._session.running:
            self.refresh()
        self._enable()

    def _ids(self) -> list[int]:
        return sorted(self.found[n].id for n in self.list.chosen() if n < len(self.found))

    # -- what is chosen

    def _chosen(self) -> None:
        ids = self._ids()
        try:
            if len(ids) == 1:
                self._tell(self._runs.get(ids[0]))
            elif len(ids) == 2:
                self._whole = None
                earlier, later = self._runs.get(ids[0]), self._runs.get(ids[1])
                self.facts.setText(f"Run {ids[0]} and run {ids[1]} side by side.")
                self._turn_to(self.compared)
                self.compared.compare(earlier, later)
            else:
                self._say_nothing(len(ids))
        except EskretError as error:
            self._whole = None
            self.facts.setText(error.sentence())
        self._enable()

    def _turn_to(self, page: QWidget) -> None:
        """Show a page; two runs side by side want more room than one."""
        two = page is self.compared
        if two != (self.pages.currentWidget() is self.compared):
            self._split.setSizes(_COMPARED_SIZES if two else _TOLD_SIZES)
        self.pages.setCurrentWidget(page)
        for button in (self.open_button, self.again_button, self.report_button):
            button.setVisible(not two)

    def _say_nothing(self, chosen: int) -> None:
        self._whole = None
        self.facts.setText("")
        if not self.found:
            words = self.search.text() or self.mine.isChecked()
            text = "No run matches." if words else "Every run is listed here. There are none yet."
        else:
            text = "Choose a run to see what it made. Choose two of them, with Ctrl, to see what differs."
            if chosen > 2:
                text = f"{pluralise(chosen, 'run')} are chosen. Two can be compared."
        self.hint.setText(text)
        self._turn_to(self.hint)

    def _tell(self, whole: Whole) -> None:
        kept = whole.kept
        self._whole = whole
        head = f"Run {kept.id} of {kept.file}{', round ' + kept.label if kept.label else ''}, {moment(kept.started)}, from the {kept.how}"
        values = whole.told.get("values", {})
        named = {p.name: p.title for p in whole.document.parameters}
        given = "; ".join(f"{named.get(n, n)}: {value_words(v)}" for n, v in values.items())
        state, _ = STATES.get(kept.state, (kept.state, ""))
        text = f"{head}. {state} in {duration(kept.seconds)}."
        self.facts.setText("\n".join(t for t in (text, given, kept.error) if t))
        self.told.show_run(whole.document, whole.told)
        self._show_outputs(whole, [])
        self._turn_to(self._below)
        asked = kept.id

        def take(event: Mapping[str, Any]) -> None:
            if event["event"] == "done" and self._whole is not None and self._whole.kept.id == asked:
                self._show_outputs(whole, event["now"])

        told = [[o.path, o.layer, o.content or o.sha256] for o in whole.outputs]
        self._session.ask("outputs_now", take, self, outputs=told)

    def _show_outputs(self, whole: Whole, now: Sequence[str]) -> None:
        rows, colours = [], {}
        for n, one in enumerate(whole.outputs):
            words, colour = _NOW[now[n]] if n < len(now) else ("", "faint")
            rows.append(
                {
                    "name": one.name,
                    "features": f"{one.features:,}",
                    "now": words,
                    "digest": (one.content or one.sha256).rpartition(":")[2][:16],
                }
            )
            colours[n, "now"] = colour
            colours[n, "digest"] = "faint"
        states = {p.id: p.state for p in pushes()} if whole.told.get("pushes") else {}
        for one in whole.told.get("pushes", ()):
            changes = one["added"] + one["changed"] + one["removed"]
            state = states.get(one["push"], "")
            rows.append(
                {
                    "name": f"{one['dataset']} at {one['service'].split('//')[-1]}",
                    "features": f"{changes:,}",
                    "now": state_words(state) if state else "outdone by a later run",
                    "digest": "",
                }
            )
        self.outputs.show_rows(rows, colours=colours)

    def _enable(self) -> None:
        one, idle = self._whole is not None, not self._session.running
        self.open_button.setEnabled(one and idle)
        self.again_button.setEnabled(one and idle)
        self.report_button.setEnabled(one)
        self.forget_button.setEnabled(bool(self.list.chosen()))

    # -- what can be done

    def _open(self, run: bool = False) -> None:
        if self._whole is not None:
            self.open_asked.emit(self._whole, run)

    def _report(self) -> None:
        if self._whole is not None:
            self.report_asked.emit(self._whole)

    def _forget(self) -> None:
        try:
            self._runs.remove(self._ids())
        except EskretError as error:
            self.facts.setText(error.sentence())
        self.list.choose([])
        self.refresh()

    def close_down(self) -> None:
        """Let no work outlive the window."""
        self._background.close()
        self.compared.close_down()
