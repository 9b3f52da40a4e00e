"""The list of what lies on the map: the layer in hand and those kept beside it, the topmost first."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QMenu, QToolButton, QVBoxLayout, QWidget

from eskret.desktop.panes.scene_builder import Beside
from eskret.workflow.model.map_spec import OnMap

HAND = "hand"


class KeptList(QWidget):
    """Ticks say what is seen; the buttons below move and take off. Every change goes out as the whole list."""

    changed = Signal(list, str)  # OnMap of each kept layer from the topmost down; what was done
    add_asked = Signal(object)  # the menu to fill
    look_asked = Signal(object)  # OnMap: take it in hand

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.list = QListWidget()
        self.list.setAccessibleName("Layers on the map, the topmost first")
        self.list.itemChanged.connect(self._ticked)
        self.list.currentRowChanged.connect(lambda _: self._able())
        self.list.itemActivated.connect(self._activated)
        self.add = QToolButton()
        self.add.setText("Add")
        self.add.setObjectName("quiet")
        self.add.setToolTip("Keep another layer on the map, whichever step is in hand")
        self.add.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self.add)
        self.menu.aboutToShow.connect(lambda: self.add_asked.emit(self.menu))
        self.add.setMenu(self.menu)
        self.up = self._button("Up", "Move it over the one above (Ctrl+Up)", lambda: self._move(-1))
        self.down = self._button("Down", "Move it under the one below (Ctrl+Down)", lambda: self._move(1))
        self.off = self._button("Take off", "Keep it on the map no longer (Delete)", self._take_off)
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(2)
        for button in (self.add, self.up, self.down, self.off):
            row.addWidget(button)
        row.addStretch()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(self.list)
        column.addLayout(row)
        self._entries: list[OnMap | None] = []

    def _button(self, text: str, tip: str, do: Callable[[], None]) -> QToolButton:
        button = QToolButton()
        button.setObjectName("quiet")
        button.setText(text)
        button.setToolTip(tip)
        button.clicked.connect(lambda _=False: do())
        return button

    def show_layers(self, beside: Sequence[Beside], hand: str) -> None:
        """Show the kept layers and, between those over and those under it, the one in hand."""
        row = self.list.currentRow()
        self.list.blockSignals(True)
        self.list.clear()
        self._entries = []
        for layer in [b for b in beside if b.entry.over]:
            self._put(layer)
        if hand:
            item = QListWidgetItem(f"{hand} · in hand")
            face = item.font()
            face.setBold(True)
            item.setFont(face)
            item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable)
            self.list.addItem(item)
            self._entries.append(None)
        for layer in [b for b in beside if not b.entry.over]:
            self._put(layer)
        self.list.setFixedHeight(min(6, max(1, len(self._entries))) * 24 + 8)
        self.list.setCurrentRow(min(row, len(self._entries) - 1))
        self.list.blockSignals(False)
        self._able()

    def _put(self, layer: Beside) -> None:
        item = QListWidgetItem(f"{layer.title} ({layer.missing})" if layer.missing else layer.title)
        item.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable | Qt.ItemFlag.ItemIsUserCheckable)
        item.setCheckState(Qt.CheckState.Unchecked if layer.entry.off else Qt.CheckState.Checked)
        where = f"step {layer.entry.step}" if layer.entry.step else layer.entry.file
        item.setToolTip(layer.why or f"{layer.title}, from {where}")
        self.list.addItem(item)
        self._entries.append(layer.entry)

    def _able(self) -> None:
        row = self.list.currentRow()
        there = 0 <= row < len(self._entries)
        self.up.setEnabled(there and row > 0)
        self.down.setEnabled(there and row < len(self._entries) - 1)
        self.off.setEnabled(there and self._entries[row] is not None)

    def _tell(self, entries: list[OnMap | None], what: str) -> None:
        over = None in entries
        out = []
        for entry in entries:
            if entry is None:
                over = False
            else:
                out.append(replace(entry, over=over))
        self.changed.emit(out, what)

    def _ticked(self, item: QListWidgetItem) -> None:
        row = self.list.row(item)
        entry = self._entries[row]
        if entry is not None:
            off = item.checkState() != Qt.CheckState.Checked
            entries = [*self._entries[:row], replace(entry, off=off), *self._entries[row + 1 :]]
            self._tell(entries, "hide a layer" if off else "show a layer")

    def _move(self, by: int) -> None:
        row = self.list.currentRow()
        if 0 <= row + by < len(self._entries):
            entries = list(self._entries)
            entries.insert(row + by, entries.pop(row))
            self.list.blockSignals(True)
            self.list.setCurrentRow(row + by)
            self.list.blockSignals(False)
            self._tell(entries, "order layers on the map")

    def _take_off(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self._entries) and self._entries[row] is not None:
            self._tell([*self._entries[:row], *self._entries[row + 1 :]], "take a layer off the map")

    def _activated(self, item: QListWidgetItem) -> None:
        entry = self._entries[self.list.row(item)]
        if entry is not None:
            self.look_asked.emit(entry)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Delete:
            self._take_off()
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down) and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self._move(-1 if event.key() == Qt.Key.Key_Up else 1)
        else:
            super().keyPressEvent(event)
