"""Tidy up a GeoPackage: names, sections and what is to go, changed all at once or not at all."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHeaderView, QLabel, QTableWidget, QTableWidgetItem, QWidget

from eskret.desktop.state.session import Session
from eskret.desktop.views.heads import Box

_NAME, _SECTION, _ROWS, _GO = range(4)


class StoreBox(Box):
    """A row for each layer; names and sections can be typed, a tick takes a layer out."""

    changed = Signal()

    def __init__(self, session: Session, path: Path, parent: QWidget) -> None:
        super().__init__(f"Layers of {path.name}", "Change the file", parent)
        self._session, self._path = session, path
        self._before: list[tuple[str, str]] = []
        self.resize(560, 420)
        hint = QLabel("Type another name or section into its cell; layers of a section share one coordinate system.")
        hint.setObjectName("faint")
        hint.setWordWrap(True)
        self.table = QTableWidget(0, 4)
        self.table.setAccessibleName("Layers of the file")
        self.table.setHorizontalHeaderLabels(["Name", "Section", "Rows", "Take out"])
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(24)
        self.table.setShowGrid(False)
        self.table.setAlternatingRowColors(True)
        self.table.horizontalHeader().setSectionResizeMode(_NAME, QHeaderView.ResizeMode.Stretch)
        self.table.horizontalHeader().setSectionResizeMode(_SECTION, QHeaderView.ResizeMode.Stretch)
        self.column.addWidget(hint)
        self.column.addWidget(self.table, 1)
        self.finish()
        self.ok.setEnabled(False)
        session.ask("store", self._fill, self, path=str(path))

    def _fill(self, event: dict[str, Any]) -> None:
        if event["event"] != "done":
            self.say_wrong(str(event["text"]))
            return
        self._before = [(x["name"], x["section"]) for x in event["layers"]]
        self.table.setRowCount(len(self._before))
        for row, layer in enumerate(event["layers"]):
            for column, text in ((_NAME, layer["name"]), (_SECTION, layer["section"]), (_ROWS, f"{layer['rows']:,}"), (_GO, "")):
                item = QTableWidgetItem(text)
                if column == _ROWS:
                    item.setFlags(Qt.ItemFlag.ItemIsEnabled)
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                if column == _GO:
                    item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsUserCheckable)
                    item.setCheckState(Qt.CheckState.Unchecked)
                self.table.setItem(row, column, item)
        self.ok.setEnabled(True)

    def _text(self, row: int, column: int) -> str:
        item = self.table.item(row, column)
        return item.text().strip() if item is not None else ""

    def _goes(self, row: int) -> bool:
        item = self.table.item(row, _GO)
        return item is not None and item.checkState() == Qt.CheckState.Checked

    def take(self) -> None:
        rows = range(len(self._before))
        stay = [r for r in rows if not self._goes(r)]
        rename = {self._before[r][0]: self._text(r, _NAME) for r in stay if self._text(r, _NAME) != self._before[r][0]}
        section = {self._before[r][0]: self._text(r, _SECTION) for r in stay if self._text(r, _SECTION) != self._before[r][1]}
        remove = [self._before[r][0] for r in rows if self._goes(r)]
        if not (rename or section or remove):
            self.accept()
            return
        self.ok.setEnabled(False)
        self._session.ask("store", self._done, self, path=str(self._path), rename=rename, section=section, remove=remove)

    def _done(self, event: dict[str, object]) -> None:
        self.ok.setEnabled(True)
        if event["event"] != "done":
            self.say_wrong(str(event["text"]))
            return
        self.changed.emit()
        self.accept()
