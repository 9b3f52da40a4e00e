"""A run in rounds as a view of its own: a grid of values, what became of each round, and the ledger of the one in hand."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QLabel, QSplitter, QVBoxLayout, QWidget

from eskret.core.files.atomic import write_whole
from eskret.core.words import duration, pluralise
from eskret.desktop.state.session import Session
from eskret.desktop.table.grid_model import Cell, Column, GridModel
from eskret.desktop.table.grid_view import GridView
from eskret.desktop.views.parts import View, in_row, push_button
from eskret.desktop.views.told import STATES, ToldTable
from eskret.errors import DocumentError, EskretError
from eskret.workflow.model.parameters import Parameter, value_words
from eskret.workflow.run.foreach import rows_in

Row = dict[str, str]
_STATE, _SAVED, _SAYS = " state", " saved", " says"


class RoundsView(View):
    """Rows are values of parameters; an empty cell has the value that stands in the bar at the top."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Rounds", parent)
        self.rows: list[Row] = []
        self._before: list[list[Row]] = []
        self._told: dict[int, dict[str, Any]] = {}
        self._foretold: list[dict[str, Any]] = []
        self._choices: dict[str, tuple[str, ...]] = {}
        self._document = session.document
        self.says = QLabel()
        self.says.setObjectName("faint")
        self.says.setWordWrap(True)
        self.fill_box = QComboBox()
        self.fill_box.setAccessibleName("Rows to fill in")
        self.fill_box.setMinimumWidth(210)
        self.fill_box.activated.connect(self._fill)
        self.add_button = push_button("Add a round", "A row with values of its own", self.add)
        self.remove_button = push_button("Remove", "Remove the selected rounds", self.remove)
        self.keep_button = push_button("Save as a table …", "For eskret run --for-each, and for next time", self.save_table)
        self.go_on = QCheckBox("Go on after a round that fails")
        self.go_on.setToolTip("Each round is saved by itself; without it, all are saved together, or none")
        self.rehearse_button = push_button("Rehearse", "Check all rounds; nothing is written", self.rehearse)
        self.run_button = push_button("Run all rounds", "Run them one after the other", self.run)
        self.run_button.setObjectName("primary")
        self.look_button = push_button("Use these values", "Back to the ledger with the values of this round", self.take)
        self.model = GridModel(self)
        self.model.wanted.connect(self._want)
        self.grid = GridView(self.model, "Rounds and their values")
        self.grid.row_changed.connect(lambda _: self._show_told())
        self.told = ToldTable()
        self.told_head = QLabel()
        self.told_head.setObjectName("faint")
        undo = QShortcut(QKeySequence("Ctrl+Z"), self)
        undo.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        undo.activated.connect(self.undo)
        self._build()
        session.changed.connect(self.refresh)
        session.rounds_told.connect(self._take_event)
        session.run_changed.connect(self._enable)

    def _build(self) -> None:
        head = in_row(self.title, self.says, None, self.go_on, self.rehearse_button, self.run_button, self.back)
        head.setStretchFactor(self.says, 1)
        tools = in_row(QLabel("Fill in"), self.fill_box, self.add_button, self.remove_button, None, self.keep_button)
        below = QWidget()
        lower = QVBoxLayout(below)
        lower.setContentsMargins(0, 8, 0, 0)
        lower.setSpacing(6)
        lower.addLayout(in_row(self.told_head, None, self.look_button))
        lower.addWidget(self.told, 1)
        split = QSplitter(Qt.Orientation.Vertical)
        split.setHandleWidth(1)
        split.addWidget(self.grid)
        split.addWidget(below)
        split.setSizes([330, 330])
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 10, 12, 10)
        column.setSpacing(9)
        column.addLayout(head)
        column.addLayout(tools)
        column.addWidget(split, 1)

    # -- what is shown

    def open_view(self) -> None:
        """Show the rounds; where there are none, those of the first parameter that has choices."""
        self.refresh()
        self._ask_choices()

    def refresh(self) -> None:
        """Show the document as it stands; rows of parameters that are gone lose their cells."""
        if not self.isVisible():
            return
        document = self._session.document
        if document != self._document:
            self._document = document
            self._told.clear()
            self._foretold = []
            names = {p.name for p in document.parameters}
            self.rows = [{k: v for k, v in r.items() if k in names} for r in self.rows]
        self._fill_box()
        self._show()

    def _parameters(self) -> Sequence[Parameter]:
        return self._session.document.parameters

    def _fill_box(self) -> None:
        words = [
            "choose …",
            *(f"every choice of {p.title}" for p in self._parameters() if self._choices.get(p.name)),
            "the rows of a table …",
        ]
        if [self.fill_box.itemText(n) for n in range(self.fill_box.count())] != words:
            self.fill_box.clear()
            self.fill_box.addItem(words[0], "")
            for parameter in self._parameters():
                if self._choices.get(parameter.name):
                    self.fill_box.addItem(f"every choice of {parameter.title}", parameter.name)
            self.fill_box.addItem(words[-1], None)

    def _show(self) -> None:
        columns = [Column(p.name, p.title, choices=self._choices.get(p.name, ()), width=150, tip=p.help) for p in self._parameters()]
        columns += [
            Column(_STATE, "State", False, width=110),
            Column(_SAVED, "Features saved", False, right=True, width=110),
            Column(_SAYS, "What it says", False, width=420),
        ]
        shown: list[Row] = []
        inherited: dict[Cell, str] = {}
        colours: dict[Cell, str] = {}
        problems = self._problems()
        for n, row in enumerate(self.rows):
            told = self._told.get(n, {})
            words, colour = STATES.get(told.get("state", ""), (told.get("words", ""), "faint"))
            saved = sum(o["features"] for o in told.get("outputs", ()))
            wrong = [text for (at, _), text in problems.items() if at == n]
            says = told.get("error", "") or (f"■ {wrong[0]}" if wrong else self._says_of(n))
            shown.append({**row, _STATE: words, _SAVED: f"{saved:,}" if told.get("outputs") else "", _SAYS: says})
            colours[n, _STATE] = colour
            if told.get("error") or says.startswith("■"):
                colours[n, _SAYS] = "bad"
            for p in self._parameters():
                if not row.get(p.name):
                    inherited[n, p.name] = value_words(self._session.value(p.name))
        self.model.show(columns, shown, inherited=inherited, problems=problems, colours=colours)
        self._enable()
        self._show_told()

    def _says_of(self, n: int) -> str:
        """What the rehearsal says of a round, beside what stands at a cell."""
        if n >= len(self._foretold) or n in self._told:
            return ""
        found = self._foretold[n]
        errors = [f["text"] for f in found["findings"] if f["level"] == "error" and not f["setting"].startswith("parameter.")]
        if errors:
            return f"■ {errors[0]}"
        count = len(found["outputs"])
        return f"will save {pluralise(count, 'output')}" if count else ""

    def _problems(self) -> dict[Cell, str]:
        """What is wrong with a cell: by the type of its parameter, or by the rehearsal."""
        out: dict[Cell, str] = {}
        for n, row in enumerate(self.rows):
            for p in self._parameters():
                if row.get(p.name):
                    try:
                        found = p.accept(row[p.name])
                        if self._choices.get(p.name):
                            p.accept_among(found, self._choices[p.name])
                    except DocumentError as error:
                        out[n, p.name] = error.sentence()
            for finding in self._foretold[n]["findings"] if n < len(self._foretold) else ():
                if finding["level"] == "error" and finding["setting"].startswith("parameter."):
                    out.setdefault((n, finding["setting"].removeprefix("parameter.")), finding["text"])
        return out

    def _show_told(self) -> None:
        row = self.grid.currentIndex().row()
        told = self._told.get(row)
        self.look_button.setEnabled(0 <= row < len(self.rows))
        if told is not None and told.get("steps"):
            self.told_head.setText(f"Ledger of round {row + 1}, {told['label']}")
            self.told.show_run(self._session.document, told)
        else:
            self.told_head.setText("The ledger of the round in hand stands here once it ran.")
            self.told.clear()

    def _enable(self) -> None:
        running = self._session.running
        self.run_button.setEnabled(bool(self.rows) and not running)
        self.rehearse_button.setEnabled(bool(self.rows) and not running)
        self.remove_button.setEnabled(bool(self.rows))
        self.keep_button.setEnabled(bool(self.rows))
        if not self.rows and not running:
            names = "Fill in every choice of a parameter or the rows of a table, paste from a sheet, or add rounds by hand."
            self.says.setText(names if self._parameters() else "A workflow without parameters has nothing to go through.")

    # -- rows

    def _change(self, rows: list[Row]) -> None:
        """Take other rows; the ones before can be had back."""
        if rows == self.rows:
            return
        self._before.append(self.rows)
        del self._before[:-100]
        self._become(rows)

    def _become(self, rows: list[Row]) -> None:
        self.rows = rows
        self._told.clear()
        self._foretold = []
        self.says.setText(f"{pluralise(len(rows), 'round')}. Empty cells have the value that stands above.")
        self._show()

    def undo(self) -> None:
        """Take the last change of the rows back."""
        if self._before:
            self._become(self._before.pop())

    def _want(self, cells: Sequence[tuple[Cell, str]]) -> None:
        rows = [dict(r) for r in self.rows]
        for (n, key), text in cells:
            while n >= len(rows):
                rows.append({})
            if text:
                rows[n][key] = text
            else:
                rows[n].pop(key, None)
        self._change(rows)

    def add(self) -> None:
        """Add a round."""
        self._change([*self.rows, {}])
        self.grid.setCurrentIndex(self.model.index(len(self.rows) - 1, 0))
        self.grid.setFocus()

    def remove(self) -> None:
        """Take the rounds chosen out."""
        gone = set(self.grid.chosen_rows())
        self._change([r for n, r in enumerate(self.rows) if n not in gone])

    def _fill(self, at: int) -> None:
        name = self.fill_box.itemData(at)
        self.fill_box.setCurrentIndex(0)
        if name:
            self._change([{name: value} for value in self._choices[name]])
        elif name is None:
            self.open_table()

    def open_table(self) -> None:
        """Take the rows of a table."""
        path, _ = QFileDialog.getOpenFileName(
            self, "A table whose columns are parameters", str(self._session.folder), "Tables (*.csv *.tsv *.xlsx);;All (*)"
        )
        if not path:
            return
        try:
            rows = rows_in(Path(path), {p.name: p for p in self._parameters()})
        except EskretError as error:
            self.says.setText(error.sentence())
            return
        self._change([{k: str(v) for k, v in row.items()} for row in rows])

    def save_table(self) -> None:
        """Write the rows as a table."""
        start = self._session.folder / "rounds.csv"
        path, _ = QFileDialog.getSaveFileName(self, "Save the rounds", str(start), "CSV (*.csv)")
        if not path:
            return
        names = [p.name for p in self._parameters() if any(r.get(p.name) for r in self.rows)]
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(names)
        writer.writerows([[r.get(n, "") for n in names] for r in self.rows])
        try:
            write_whole(Path(path), out.getvalue())
        except OSError as error:
            self.says.setText(f"{path}: it cannot be written ({error.strerror}).")
        else:
            self.says.setText(f"Saved. On the command line: eskret run {self._file()} --for-each {Path(path).name}")

    def _file(self) -> str:
        return self._session.path.name if self._session.path is not None else "FILE"

    def take(self) -> None:
        """Take the values of the round in hand into the ledger."""
        row = self.grid.currentIndex().row()
        if 0 <= row < len(self.rows):
            self._session.set_values(self.rows[row])
            self.closed.emit()

    # -- choices, rehearsing and running

    def _ask_choices(self) -> None:
        def take(event: Mapping[str, Any]) -> None:
            if event["event"] != "done":
                return
            self._choices = {n: tuple(map(str, o["choices"])) for n, o in event["offers"].items() if o["choices"]}
            self.refresh()

        session = self._session
        values = {n: v if isinstance(v, bool | int | float) else str(v) for n, v in session.values().items()}
        session.ask("offers", take, self, text=session.document.to_text(), values=values, folder=str(session.folder))

    def rehearse(self) -> None:
        """Check all rounds."""
        self.says.setText("Rehearsing …")

        def take(event: Mapping[str, Any]) -> None:
            if event["event"] != "done":
                self.says.setText(event["text"])
                return
            self._foretold = list(event["rounds"])
            wrong = sum(any(f["level"] == "error" for f in r["findings"]) for r in self._foretold)
            outputs = sum(len(r["outputs"]) for r in self._foretold)
            self.says.setText(
                f"{pluralise(wrong, 'round')} cannot run, marked below; nothing was written."
                if wrong
                else f"Ready to run: {pluralise(len(self._foretold), 'round')}, {pluralise(outputs, 'output')}, nothing written."
            )
            self._show()

        self._session.rehearse_rounds(self.rows, take, self)

    def run(self) -> None:
        """Run all rounds."""
        self._told.clear()
        self._foretold = []
        self._session.run_rounds(self.rows, self.go_on.isChecked())
        self.says.setText("Rehearsing …")
        self._show()

    def _take_event(self, event: Mapping[str, Any]) -> None:
        kind = event["event"]
        if kind == "round_rehearsed":
            self.says.setText(f"Rehearsing round {event['round'] + 1:,} of {event['of']:,} …")
        elif kind == "round_started":
            self._told[event["round"]] = {"words": "running …", "label": event["label"]}
            self.says.setText(f"Running round {event['round'] + 1:,} of {event['of']:,}: {event['label']} …")
            self._show()
        elif kind == "round_finished":
            self._told[event["round"]] = dict(event)
            self._show()
        elif kind == "rounds_finished":
            self._finished(event)
        elif kind in ("error", "crashed"):
            self._foretold = []
            self.says.setText(event["text"])
            if event.get("findings"):
                self.rehearse()

    def _finished(self, event: Mapping[str, Any]) -> None:
        for n, told in enumerate(event["rounds"]):
            self._told[n] = dict(told)
        words, _ = STATES.get(event["state"], (event["state"], ""))
        saved = f"{pluralise(len(event['outputs']), 'output')} saved" if event["outputs"] else "nothing was saved"
        self.says.setText(
            f"{words} in {duration(event['seconds'])}: {pluralise(len(event['rounds']), 'round')}, {saved}. {event['error']}".strip()
        )
        if event["error"] and not event["outputs"]:
            for told in self._told.values():
                told["outputs"] = []  # they were not kept
        self._show()
