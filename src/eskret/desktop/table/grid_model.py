"""The cells of a grid. The model changes nothing itself: it says what somebody wants, and is shown what came of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPersistentModelIndex, Qt, Signal

from eskret.desktop.theme.style import theme

Index = QModelIndex | QPersistentModelIndex
Cell = tuple[int, str]
"""A row and the key of a column."""


@dataclass(frozen=True)
class Column:
    """A column: what it is called, whether it is typed into, what it offers to choose from, how wide it wants to be."""

    key: str
    title: str
    editable: bool = True
    choices: tuple[str, ...] = ()
    right: bool = False
    width: int = 130
    tip: str = ""


class GridModel(QAbstractTableModel):
    """``wanted`` carries cells with the text that each should have; a row beyond the last asks for more rows."""

    wanted = Signal(list)  # [((row, key), text)]

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.columns: tuple[Column, ...] = ()
        self.rows: list[Mapping[str, str]] = []
        self.inherited: Mapping[Cell, str] = {}
        self.problems: Mapping[Cell, str] = {}
        self.colours: Mapping[Cell, str] = {}

    def show(
        self,
        columns: Sequence[Column],
        rows: Sequence[Mapping[str, str]],
        *,
        inherited: Mapping[Cell, str] | None = None,
        problems: Mapping[Cell, str] | None = None,
        colours: Mapping[Cell, str] | None = None,
    ) -> None:
        """Show these rows.

        Parameters
        ----------
        inherited : what stands in an empty cell because it is so elsewhere; shown faintly.
        problems : what is wrong with a cell.
        colours : names of colours of the theme for single cells.
        """
        same = tuple(columns) == self.columns and len(rows) == len(self.rows)
        if not same:
            self.beginResetModel()
        self.columns, self.rows = tuple(columns), list(rows)
        self.inherited, self.problems, self.colours = inherited or {}, problems or {}, colours or {}
        if not same:
            self.endResetModel()
        elif self.rows:
            self.dataChanged.emit(self.index(0, 0), self.index(len(self.rows) - 1, len(self.columns) - 1))

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.columns)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if orientation == Qt.Orientation.Vertical:
            return str(section + 1) if role == Qt.ItemDataRole.DisplayRole else None
        column = self.columns[section]
        if role == Qt.ItemDataRole.DisplayRole:
            return column.title
        if role == Qt.ItemDataRole.ToolTipRole:
            return column.tip or None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if column.right else Qt.AlignmentFlag.AlignLeft
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        return None

    def cell(self, index: Index) -> Cell:
        return index.row(), self.columns[index.column()].key

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        cell = self.cell(index)
        text = self.rows[cell[0]].get(cell[1], "")
        problem = self.problems.get(cell, "")
        if role == Qt.ItemDataRole.EditRole:
            return text
        if role == Qt.ItemDataRole.DisplayRole:
            shown = text or self.inherited.get(cell, "")
            return f"■ {shown}" if problem else shown
        if role == Qt.ItemDataRole.ToolTipRole:
            return problem or None
        if role == Qt.ItemDataRole.ForegroundRole:
            if problem:
                return theme.colour("bad")
            if cell in self.colours:
                return theme.colour(self.colours[cell])
            return theme.colour("faint") if not text else None
        if role == Qt.ItemDataRole.TextAlignmentRole and self.columns[index.column()].right:
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        usual = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return usual | Qt.ItemFlag.ItemIsEditable if self.columns[index.column()].editable else usual

    def setData(self, index: Index, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.EditRole or not self.columns[index.column()].editable:
            return False
        cell, text = self.cell(index), str(value)
        if text != self.rows[cell[0]].get(cell[1], ""):
            self.wanted.emit([(cell, text)])
        return True
