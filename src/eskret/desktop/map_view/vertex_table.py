"""The corners of one feature as a table: part, number, coordinates, and the distance from the corner before."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QTableView, QWidget

from eskret.workflow.cache.stored import Shapes

Index = QModelIndex | QPersistentModelIndex
_HEADS = ("part", "corner", "x", "y", "from the last")


class CornersModel(QAbstractTableModel):
    """Rows are corners, in the order of the feature."""

    def __init__(self) -> None:
        super().__init__()
        self.xy = np.empty((0, 2))
        self._part = np.empty(0, np.int64)
        self._number = np.empty(0, np.int64)
        self._digits = 2

    @property
    def parts(self) -> int:
        """How many parts and rings the feature has."""
        return int(self._part[-1]) if len(self._part) else 0

    def show_feature(self, shapes: Shapes, row: int, degrees: bool) -> None:
        """Take the corners of a feature; the one that closes a ring is told too."""
        self.beginResetModel()
        pieces = [np.asarray(p) for p in shapes.pieces(row)]
        self.xy = np.concatenate(pieces) if pieces else np.empty((0, 2))
        self._part = np.repeat(np.arange(1, len(pieces) + 1), [len(p) for p in pieces])
        self._number = np.concatenate([np.arange(1, len(p) + 1) for p in pieces]) if pieces else np.empty(0, np.int64)
        self._digits = 7 if degrees else 3
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.xy)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(_HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return _HEADS[section]
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        row, column = index.row(), index.column()
        if column < 2:
            return f"{(self._part, self._number)[column][row]:,}"
        if column < 4:
            return f"{self.xy[row, column - 2]:.{self._digits}f}"
        if self._number[row] == 1:
            return ""
        return f"{np.hypot(*(self.xy[row] - self.xy[row - 1])):.{self._digits}f}"


class CornersTable(QTableView):
    """Shows the model; says which corner is in hand."""

    corner_chosen = Signal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model_ = CornersModel()
        self.setModel(self.model_)
        self.setAccessibleName("Corners of the feature")
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(22)
        self.setShowGrid(False)
        self.selectionModel().currentRowChanged.connect(lambda now, _: self.corner_chosen.emit(now.row()))

    def show_feature(self, shapes: Shapes, row: int, degrees: bool) -> None:
        """Show the corners of a feature."""
        self.model_.show_feature(shapes, row, degrees)
        self.resizeColumnsToContents()
        self.setColumnHidden(0, self.model_.parts < 2)
