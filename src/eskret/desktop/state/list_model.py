"""Rows of a tree or a list as a model of plain objects.

Items of the library's own tree model are owned by it and by Python in turn; what was still in somebody's hand when the tree was
filled anew stayed for good, or was freed twice.
"""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QObject, QPersistentModelIndex, Qt

Role = Qt.ItemDataRole.UserRole
Index = QModelIndex | QPersistentModelIndex


@dataclass(eq=False)
class Row:
    """A row: its text, what it stands for, its tip, and the rows below it. One that is only a heading cannot be chosen."""

    text: str
    told: Any
    tip: str | Callable[[], str] = ""
    below: list[Row] = field(default_factory=list)
    heading: bool = False
    above: Row | None = None
    at: int = 0
    number: int = 0


class RowsModel(QAbstractItemModel):
    """A tree of rows in one column."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._tops: list[Row] = []
        self._rows: dict[int, Row] = {}
        self._last = 0

    def fill(self, tops: Sequence[Row]) -> None:
        """Show other rows."""
        self.beginResetModel()
        self._tops, self._rows = list(tops), {}
        self._take_in(self._tops, None)
        self.endResetModel()

    def put_below(self, row: Row, below: Sequence[Row]) -> None:
        """Give a row others below it, in place of those it has."""
        index = self.index_of(row)
        if row.below:
            self.beginRemoveRows(index, 0, len(row.below) - 1)
            for old in _all(row.below):
                self._rows.pop(old.number, None)
            row.below = []
            self.endRemoveRows()
        if below:
            self.beginInsertRows(index, 0, len(below) - 1)
            row.below = list(below)
            self._take_in(row.below, row)
            self.endInsertRows()

    def tell(self, row: Row) -> None:
        """Say that what a row stands for has changed."""
        index = self.index_of(row)
        self.dataChanged.emit(index, index)

    def rows(self) -> list[Row]:
        """All rows, each before those below it."""
        return list(_all(self._tops))

    def index_of(self, row: Row) -> QModelIndex:
        return self.createIndex(row.at, 0, row.number)

    def _take_in(self, rows: list[Row], above: Row | None) -> None:
        for at, row in enumerate(rows):
            self._last += 1  # never given twice: an index of before names nothing
            row.above, row.at, row.number = above, at, self._last
            self._rows[row.number] = row
            self._take_in(row.below, row)

    def _row(self, index: Index) -> Row | None:
        return self._rows.get(index.internalId()) if index.isValid() else None

    # -- Qt's questions

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        above = self._row(parent)
        below = above.below if above is not None else [] if parent.isValid() else self._tops
        return self.index_of(below[row]) if 0 <= row < len(below) and column == 0 else QModelIndex()

    def parent(self, index: Index) -> QModelIndex:  # type: ignore[override]
        row = self._row(index)
        return self.index_of(row.above) if row is not None and row.above is not None else QModelIndex()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        if not parent.isValid():
            return len(self._tops)
        row = self._row(parent)
        return len(row.below) if row is not None else 0

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 1

    def flags(self, index: Index) -> Qt.ItemFlag:
        row = self._row(index)
        if row is None:
            return Qt.ItemFlag.NoItemFlags
        return Qt.ItemFlag.ItemIsEnabled if row.heading else Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        row = self._row(index)
        if row is None:
            return None
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return row.text
        if role == Role:
            return row.told
        if role == Qt.ItemDataRole.ToolTipRole:
            return (row.tip() if callable(row.tip) else row.tip) or None
        return None


def _all(rows: Iterable[Row]) -> Generator[Row]:
    for row in rows:
        yield row
        yield from _all(row.below)
