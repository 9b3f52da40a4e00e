"""Hand a workflow over: what goes along, and the file; and take one that was handed over: where to, and what it still needs."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QFileDialog, QGridLayout, QLabel, QLineEdit, QWidget

from eskret.core.words import pluralise
from eskret.desktop.state.session import Session
from eskret.desktop.table.grid_model import Column
from eskret.desktop.table.read_table import ReadTable
from eskret.desktop.views.heads import Box
from eskret.desktop.views.parts import push_button
from eskret.desktop.views.picture import ask_file
from eskret.errors import EskretError
from eskret.workflow.handover.pack import Missing, missing_in

_PIECES = (
    Column("name", "File", False, width=330),
    Column("role", "What it is", False, width=130),
    Column("size", "Size", False, right=True, width=90),
)
_ROLES = {"workflow": "workflow", "code": "own operation", "input": "read by it"}


class PackBox(Box):
    """Lists what belongs to the workflow; asks where the pack is to stand."""

    packed = Signal(str)  # a sentence

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__("Pack to hand over", "Pack …", parent)
        self._session = session
        self.setMinimumWidth(600)
        self.says = QLabel("Looking for what belongs to it …")
        self.says.setWordWrap(True)
        self.says.setObjectName("faint")
        self.pieces = ReadTable("What goes along", _PIECES)
        self.pieces.setMinimumHeight(230)
        self.along = QCheckBox("With the files that it reads")
        self.along.setChecked(True)
        self.along.toggled.connect(lambda _: self._show())
        for widget in (self.says, self.pieces, self.along):
            self.column.addWidget(widget)
        self.finish()
        self.ok.setEnabled(False)
        self._found: dict[str, Any] = {}
        request = {"workflow": str(session.path), "values": dict(session.state.values)}
        session.ask("pack_pieces", self._take, self, **request)

    def _take(self, event: Mapping[str, object]) -> None:
        if event["event"] != "done":
            self.says.hide()
            self.say_wrong(str(event["text"]))
            return
        self._found = dict(event)
        self.ok.setEnabled(True)
        self._show()

    def _show(self) -> None:
        pieces = self._found.get("pieces", [])
        rows, colours = [], {}
        for n, piece in enumerate(pieces):
            left = piece["role"] == "input" and not self.along.isChecked()
            role = "stays behind" if left else _ROLES[piece["role"]]
            rows.append({"name": piece["name"], "role": role, "size": _size(piece["size"])})
            if left:
                colours[n, "name"] = colours[n, "role"] = colours[n, "size"] = "faint"
        self.pieces.show_rows(rows, colours=colours)
        inputs = [p for p in pieces if p["role"] == "input"]
        self.along.setText(f"With the {pluralise(len(inputs), 'file')} that it reads, {_size(sum(p['size'] for p in inputs))}")
        self.along.setEnabled(bool(inputs))
        text = "Paths stay relative, so that it runs at once wherever it is unpacked."
        if inputs and not self.along.isChecked():
            text = "What it reads is listed in the pack, and asked for by name where it is unpacked."
        self.says.setText(text)
        problems = self._found.get("problems", [])
        if problems:
            self.say_wrong("Not found: " + "; ".join(problems))

    def take(self) -> None:
        workflow = self._session.path
        assert workflow is not None
        path = ask_file(self, "Save the pack", workflow.with_suffix(".zip"), "Packs (*.zip)")
        if path is None:
            return
        path = path if path.suffix else path.with_suffix(".zip")
        self.ok.setEnabled(False)
        self.says.setText("Packing …")

        def done(event: Mapping[str, Any]) -> None:
            if event["event"] != "done":
                self.ok.setEnabled(True)
                self.say_wrong(str(event["text"]))
                return
            self.packed.emit(f"Packed as {path}, {_size(event['size'])}.")
            self.accept()

        self._session.ask(
            "pack",
            done,
            self,
            "Packing …",
            workflow=str(workflow),
            values=dict(self._session.state.values),
            path=str(path),
            inputs=self.along.isChecked(),
        )


class UnpackBox(Box):
    """Asks for the folder, and for each input that the pack has not."""

    unpacked = Signal(str, str)  # the workflow's file, and what there is to say

    def __init__(self, session: Session, pack: Path, parent: QWidget) -> None:
        super().__init__(f"Unpack {pack.name}", "Unpack and open", parent)
        self._session, self._pack = session, pack
        self.setMinimumWidth(620)
        self.add_line("folder", "Into the folder", str(pack.with_suffix("")), "It is created if it does not exist.")
        self.missing: list[Missing] = []
        self.files: dict[str, QLineEdit] = {}
        try:
            self.missing = missing_in(pack)
        except EskretError as error:
            self.say_wrong(error.sentence())
            self.ok.setEnabled(False)
        if self.missing:
            self._ask_for()
        self.over = QCheckBox("Replace files that are there and are others")
        self.column.addSpacing(6)
        self.column.addWidget(self.over)
        self.finish()

    def _ask_for(self) -> None:
        told = QLabel(
            f"{pluralise(len(self.missing), 'file')} that it reads did not come along. Say where they are, or leave it for later."
        )
        told.setWordWrap(True)
        self.column.addSpacing(8)
        self.column.addWidget(told)
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        for row, one in enumerate(self.missing):
            name = QLabel(one.name)
            name.setToolTip(one.sentence())
            line = QLineEdit()
            line.setAccessibleName(f"File to use for {one.name}")
            line.setPlaceholderText(", ".join(one.layers[:3]) or "a file")
            find = push_button("Find …", f"Choose the file that is {one.name}", partial(self._find, one.name))
            self.files[one.name] = line
            for at, widget in enumerate((name, line, find)):
                grid.addWidget(widget, row, at)
        grid.setColumnStretch(1, 1)
        self.column.addLayout(grid)

    def _find(self, name: str) -> None:
        path, _ = QFileDialog.getOpenFileName(self, f"The file that is {name}", str(self._pack.parent), "All files (*)")
        if path:
            self.files[name].setText(path)

    def take(self) -> None:
        folder = self.lines["folder"].text().strip()
        if not folder:
            self.say_wrong("Choose a folder.")
            return
        given = {n: line.text().strip() for n, line in self.files.items() if line.text().strip()}
        self.ok.setEnabled(False)

        def done(event: Mapping[str, Any]) -> None:
            self.ok.setEnabled(True)
            if event["event"] != "done":
                self.say_wrong(str(event["text"]))
                return
            said = [f"{n}." for n in event["notes"]] + [f"Still missing: {m}." for m in event["missing"]]
            self.unpacked.emit(event["workflow"], " ".join(said))
            self.accept()

        self._session.ask("unpack", done, self, path=str(self._pack), folder=folder, given=given, over=self.over.isChecked())


def _size(size: int) -> str:
    return f"{size / 1e6:,.1f} MB" if size >= 100_000 else f"{max(size, 100) / 1000:,.1f} kB"
