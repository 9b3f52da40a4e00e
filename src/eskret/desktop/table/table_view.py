"""The table widget."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QItemSelection, QItemSelectionModel, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QTableView, QWidget

from eskret.desktop.table.layer_model import REASON, TableModel
from eskret.desktop.theme.style import NARROW, font

_SAMPLE = 60


MOST_RANGES = 1_000
"""More ranges than this are not kept by Qt's own selection, whose time grows with their square."""


class _Marking(QStyledItemDelegate):
    """Paints rows that are chosen but not kept in the selection as if they were."""

    def initStyleOption(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        super().initStyleOption(option, index)
        table = self.parent()
        assert isinstance(table, FeatureTable)
        if len(table.marked) and table.marked[index.row()]:
            option.state |= QStyle.StateFlag.State_Selected


class FeatureTable(QTableView):
    """Rows of a layer. Choosing rows is told; a click on a column's head sorts by it."""

    rows_chosen = Signal(object)  # positions in the table (int64)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Table of features")
        self.model_ = TableModel(self)
        self.setModel(self.model_)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setEditTriggers(QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setShowGrid(False)
        self.setAlternatingRowColors(True)
        self.setWordWrap(False)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(23)
        self.verticalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self.horizontalHeader().setHighlightSections(False)
        self.horizontalHeader().setMinimumSectionSize(40)
        self.setSortingEnabled(True)
        self.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        self.horizontalHeader().setSortIndicatorClearable(True)
        self.model_.modelReset.connect(self._fit_columns)
        self.selectionModel().selectionChanged.connect(self._changed)
        # of the table's own choice its head would ask every row, at every painting, whether all of a column is chosen
        self.horizontalHeader().setSelectionModel(QItemSelectionModel(self.model_, self))
        self._quiet = False
        self.marked = np.empty(0, bool)  # by line, where too many are chosen for the selection
        self.setItemDelegate(_Marking(self))
        for reordered in (self.model_.modelReset, self.model_.layoutChanged):
            reordered.connect(self._unmark)

    def _unmark(self) -> None:
        self.marked = np.empty(0, bool)

    def _fit_columns(self) -> None:
        """Widths from the heads and the first rows."""
        head, body = QFontMetrics(font(12, family=NARROW)), QFontMetrics(font())
        lines = min(_SAMPLE, self.model_.rowCount())
        for column in range(self.model_.columnCount()):
            longest = head.horizontalAdvance(self.model_.titles[column]) + 30
            for line in range(lines):
                text = str(self.model_.data(self.model_.index(line, column)) or "")
                longest = max(longest, body.horizontalAdvance(text[:60]) + 28)
            self.setColumnWidth(column, min(longest, 210 if self.model_.titles[column] == REASON else 240))
        self.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)

    def _changed(self, _new: QItemSelection, _old: QItemSelection) -> None:
        if self._quiet:
            return
        self._unmark()
        chosen = self.selectionModel().selection()
        marked = np.zeros(self.model_.rowCount(), bool)
        for n in range(chosen.count()):
            marked[chosen.at(n).top() : chosen.at(n).bottom() + 1] = True
        self.rows_chosen.emit(self.model_.positions(np.flatnonzero(marked)))

    def choose(self, rows: np.ndarray) -> None:
        """Choose these rows of the table (int64) without telling, and show the first; none for an empty array."""
        self._quiet = True
        try:
            lines = self.model_.lines_of(rows)
            chosen = QItemSelection()
            last = self.model_.columnCount() - 1
            # neighbours go in as one range: a hundred thousand rows are a few of them
            breaks = np.flatnonzero(np.diff(lines) > 1)
            firsts = lines[np.append(0, breaks + 1)] if len(lines) else lines
            lasts = lines[np.append(breaks, -1)] if len(lines) else lines
            self._unmark()
            if len(firsts) > MOST_RANGES:
                self.marked = np.zeros(self.model_.rowCount(), bool)
                self.marked[lines] = True
                firsts = firsts[:0]
            for first_line, last_line in zip(firsts.tolist(), lasts.tolist(), strict=False):
                chosen.select(self.model_.index(first_line, 0), self.model_.index(last_line, last))
            self.selectionModel().select(chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect)
            if len(lines):
                first = self.model_.index(int(lines[0]), 0)
                self.selectionModel().setCurrentIndex(first, QItemSelectionModel.SelectionFlag.NoUpdate)
                self.scrollTo(first)
            self.viewport().update()
        finally:
            self._quiet = False
