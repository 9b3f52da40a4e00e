"""The table widget."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QItemSelection, Qt, Signal
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QWidget

from eskret.desktop.table.model import REASON, TableModel
from eskret.desktop.theme.style import NARROW, font

_SAMPLE = 60


class FeatureTable(QTableView):
    """Rows of a layer. Choosing rows is told; a click on a column's head sorts by it."""

    rows_chosen = Signal(object)  # positions in the table (int64)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Table of features")
        self.model_ = TableModel(self)
        self.setModel(self.model_)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
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
        self._quiet = False

    def _fit_columns(self) -> None:
        """Widths from the heads and the first rows."""
        head, body = QFontMetrics(font(12, family=NARROW)), QFontMetrics(font())
        lines = min(_SAMPLE, self.model_.rowCount())
        for column in range(self.model_.columnCount()):
            longest = head.horizontalAdvance(self.model_.titles[column]) + 30
            for line in range(lines):
                text = str(self.model_.data(self.model_.index(line, column)) or "")
                longest = max(longest, body.horizontalAdvance(text[:60]) + 28)
            self.setColumnWidth(column, min(longest, 150 if self.model_.titles[column] == REASON else 240))
        self.horizontalHeader().setSortIndicator(-1, Qt.SortOrder.AscendingOrder)

    def _changed(self, _new: QItemSelection, _old: QItemSelection) -> None:
        if self._quiet:
            return
        lines = [i.row() for i in self.selectionModel().selectedRows()]
        self.rows_chosen.emit(np.array([self.model_.position(n) for n in lines], np.int64))

    def choose(self, position: int) -> None:
        """Choose one row of the table without telling, and show it; none for -1."""
        self._quiet = True
        try:
            line = self.model_.line_of(position) if position >= 0 else -1
            if line < 0:
                self.clearSelection()
            else:
                self.selectRow(line)
                self.scrollTo(self.model_.index(line, 0))
        finally:
            self._quiet = False
