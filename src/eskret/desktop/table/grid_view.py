"""The grid on screen, with the keys of a sheet: copy, paste, fill down, empty."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QHeaderView, QStyledItemDelegate, QStyleOptionViewItem, QTableView, QWidget

from eskret.desktop.table.grid_model import Cell, GridModel

Index = QModelIndex | QPersistentModelIndex


class _Choosing(QStyledItemDelegate):
    """Offers the choices of a column; a cell without any is typed into."""

    def __init__(self, model: GridModel, parent: QWidget) -> None:
        super().__init__(parent)
        self._model = model

    def createEditor(self, parent: QWidget, option: QStyleOptionViewItem, index: Index) -> QWidget:
        choices = self._model.columns[index.column()].choices
        if not choices:
            made = super().createEditor(parent, option, index)
            made.setStyleSheet("padding: 0 4px;")
            return made
        box = QComboBox(parent)
        box.setEditable(True)
        box.addItems(list(choices))
        box.activated.connect(lambda _: self._take(box))
        return box

    def _take(self, box: QComboBox) -> None:
        self.commitData.emit(box)
        self.closeEditor.emit(box, QStyledItemDelegate.EndEditHint.NoHint)

    def setEditorData(self, editor: QWidget, index: Index) -> None:
        if isinstance(editor, QComboBox):
            editor.setCurrentText(str(index.data(Qt.ItemDataRole.EditRole)))
        else:
            super().setEditorData(editor, index)

    def setModelData(self, editor: QWidget, model: Any, index: Index) -> None:
        if isinstance(editor, QComboBox):
            model.setData(index, editor.currentText())
        else:
            super().setModelData(editor, model, index)


class GridView(QTableView):
    """``row_changed`` tells which row is in hand."""

    row_changed = Signal(int)

    def __init__(self, model: GridModel, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName(name)
        self.grid = model
        self.setModel(model)
        self.setItemDelegate(_Choosing(model, self))
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectItems)
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked
            | QAbstractItemView.EditTrigger.AnyKeyPressed
            | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        self.setAlternatingRowColors(True)
        self.setWordWrap(False)
        self.setTabKeyNavigation(True)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.verticalHeader().setDefaultSectionSize(25)
        self.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self.verticalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.horizontalHeader().setHighlightSections(False)
        self.horizontalHeader().setStretchLastSection(True)
        model.modelReset.connect(self._size)
        self.selectionModel().currentRowChanged.connect(lambda now, _: self.row_changed.emit(now.row()))

    def _size(self) -> None:
        for number, column in enumerate(self.grid.columns):
            self.setColumnWidth(number, column.width)

    def chosen(self) -> list[QModelIndex]:
        """The cells chosen, row by row."""
        return sorted(self.selectedIndexes(), key=lambda i: (i.row(), i.column()))

    def chosen_rows(self) -> list[int]:
        return sorted({i.row() for i in self.selectedIndexes()})

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        elif event.matches(QKeySequence.StandardKey.Paste):
            self.paste()
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.empty()
        elif event.key() == Qt.Key.Key_D and event.modifiers() == Qt.KeyboardModifier.ControlModifier:
            self.fill_down()
        else:
            super().keyPressEvent(event)

    def copy(self) -> None:
        """Put the cells chosen on the clipboard, as a sheet takes them."""
        chosen = self.chosen()
        if not chosen:
            return
        columns = sorted({i.column() for i in chosen})
        texts = {(i.row(), i.column()): str(i.data(Qt.ItemDataRole.EditRole)) for i in chosen}
        lines = ["\t".join(texts.get((r, c), "") for c in columns) for r in self.chosen_rows()]
        QGuiApplication.clipboard().setText("\n".join(lines))

    def paste(self) -> None:
        """Put what a sheet copied here in from the cell in hand on; one value goes into all cells chosen."""
        text = QGuiApplication.clipboard().text()
        start = self.currentIndex()
        if not text or not self.grid.columns:
            return
        lines = [line.split("\t") for line in text.rstrip("\r\n").splitlines()]
        if len(lines) == 1 and len(lines[0]) == 1 and self.chosen():
            self._want([(self.grid.cell(i), lines[0][0]) for i in self.chosen()])
            return
        row, first = max(start.row(), 0), max(start.column(), 0)
        keys = [c.key for c in self.grid.columns[first:]]
        self._want([((row + r, k), value.strip()) for r, line in enumerate(lines) for k, value in zip(keys, line, strict=False)])

    def fill_down(self) -> None:
        """Copy the topmost of the cells chosen, column by column, into those below it."""
        wanted: list[tuple[Cell, str]] = []
        for column in sorted({i.column() for i in self.chosen()}):
            cells = [i for i in self.chosen() if i.column() == column]
            text = str(cells[0].data(Qt.ItemDataRole.EditRole))
            wanted += [(self.grid.cell(i), text) for i in cells[1:]]
        self._want(wanted)

    def empty(self) -> None:
        """Empty the cells chosen."""
        self._want([(self.grid.cell(i), "") for i in self.chosen()])

    def _want(self, cells: list[tuple[Cell, str]]) -> None:
        editable = {c.key for c in self.grid.columns if c.editable}
        kept = [(cell, text) for cell, text in cells if cell[1] in editable]
        if kept:
            self.grid.wanted.emit(kept)
