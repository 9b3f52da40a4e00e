"""A table to be read: rows of words and figures, one or several chosen."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from PySide6.QtCore import QItemSelectionModel, Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QWidget

from eskret.desktop.table.grid_model import Cell, Column, GridModel


class ReadTable(QTableView):
    """Shows rows of these columns; ``chosen_changed`` says that others are chosen."""

    chosen_changed = Signal()

    def __init__(self, name: str, columns: Sequence[Column], parent: QWidget | None = None, several: bool = False) -> None:
        super().__init__(parent)
        self.setAccessibleName(name)
        self.columns = tuple(columns)
        self.grid = GridModel(self)
        self.setModel(self.grid)
        mode = QAbstractItemView.SelectionMode
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(mode.ExtendedSelection if several else mode.SingleSelection)
        self.setShowGrid(False)
        self.setAlternatingRowColors(True)
        self.setWordWrap(False)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(25)
        self.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self.horizontalHeader().setHighlightSections(False)
        self.horizontalHeader().setStretchLastSection(True)
        self.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.grid.modelReset.connect(self._size)
        self.show_rows([])
        self.selectionModel().selectionChanged.connect(lambda *_: self.chosen_changed.emit())

    def show_rows(self, rows: Sequence[Mapping[str, str]], *, colours: Mapping[Cell, str] | None = None) -> None:
        """Show these rows."""
        self.grid.show(self.columns, rows, colours=colours)

    def chosen(self) -> list[int]:
        """The rows that are chosen, in order."""
        return sorted(i.row() for i in self.selectionModel().selectedRows())

    def choose(self, rows: Sequence[int]) -> None:
        """Choose these rows, and bring the first into view."""
        chosen = self.selectionModel()
        chosen.clearSelection()
        flags = QItemSelectionModel.SelectionFlag
        for row in rows:
            chosen.select(self.grid.index(row, 0), flags.Select | flags.Rows)
        if rows:
            chosen.setCurrentIndex(self.grid.index(rows[0], 0), flags.NoUpdate)
            self.scrollTo(self.grid.index(rows[0], 0))

    def _size(self) -> None:
        for number, column in enumerate(self.columns):
            self.setColumnWidth(number, column.width)
