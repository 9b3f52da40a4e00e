"""Rows of a stored layer as a Qt model: nothing is copied, a cell is read when it is painted."""

from __future__ import annotations

import datetime as dt

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPersistentModelIndex, Qt, QTimer, Signal
from PySide6.QtGui import QFont

from eskret.core.layer import type_word
from eskret.core.tables.keys import as_values
from eskret.desktop.state.background import Background
from eskret.desktop.theme.style import font, theme
from eskret.workflow.cache.stored import StoredAside

Index = QModelIndex | QPersistentModelIndex
NULL, EMPTY = "no value", "empty text"
ROW, REASON = "Row", "Reason"


class TableModel(QAbstractTableModel):
    """A table, or the rows of it given (int64), in an order; with a reason for each where rows were set aside."""

    sorted_ = Signal()
    edited = Signal(int, str, object)  # row in the table, field, new value
    refused = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._table = pa.table({})
        self._rows: np.ndarray | None = None
        self._reasons: StoredAside | None = None
        self._order: np.ndarray | None = None
        self._background = Background(self)
        self._asked = 0
        self.titles: list[str] = []
        self.overlay: dict[tuple[int, str], object] = {}
        """Cells changed by hand and not yet run: new values by row and field."""

    def show_table(self, table: pa.Table | None, rows: np.ndarray | None = None, reasons: StoredAside | None = None) -> None:
        """Show a table from its first row.

        Parameters
        ----------
        rows : positions in the table; None for all.
        reasons : what to say of each of ``rows``.
        """
        self.beginResetModel()
        self._table = table if table is not None else pa.table({})
        self._rows, self._reasons, self._order = rows, reasons, None
        self.overlay = {}
        self._asked += 1
        self.titles = [ROW, *([REASON] if reasons is not None else []), *self._table.column_names] if table is not None else []
        self.endResetModel()

    @property
    def table(self) -> pa.Table:
        return self._table

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        if parent.isValid():
            return 0
        return self._table.num_rows if self._rows is None else len(self._rows)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.titles)

    def position(self, line: int) -> int:
        """The row in the table that stands in a line."""
        at = line if self._order is None else int(self._order[line])
        return at if self._rows is None else int(self._rows[at])

    def positions(self, lines: np.ndarray) -> np.ndarray:
        """The rows in the table that stand in these lines (int64)."""
        at = lines if self._order is None else self._order[lines]
        return np.asarray(at if self._rows is None else self._rows[at], np.int64)

    def lines_of(self, positions: np.ndarray) -> np.ndarray:
        """The lines in which rows of the table stand (int64, ascending); those that are not shown are left out."""
        if not len(positions):
            return np.empty(0, np.int64)
        wanted = np.zeros(self._table.num_rows, bool)
        wanted[positions] = True
        return np.flatnonzero(wanted[self.positions(np.arange(self.rowCount()))])

    def _field(self, column: int) -> int:
        return column - (2 if self._reasons is not None else 1)

    def value(self, line: int, column: int) -> object:
        """A cell's value as Python has it."""
        position = self.position(line)
        if column == 0:
            return position + 1
        if self._reasons is not None and column == 1:
            at = line if self._order is None else int(self._order[line])
            return self._reasons.text(int(at))
        name = self._table.column_names[self._field(column)]
        if (position, name) in self.overlay:
            return self.overlay[position, name]
        return self._table.column(self._field(column))[position].as_py()

    def flags(self, index: Index) -> Qt.ItemFlag:
        """Cells of fields can be changed; the row's number and the reason cannot."""
        flags = super().flags(index)
        editable = index.isValid() and self._field(index.column()) >= 0
        return flags | Qt.ItemFlag.ItemIsEditable if editable else flags

    def setData(self, index: Index, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        """Tell that a cell was changed; the table itself stays as it is."""
        if role != Qt.ItemDataRole.EditRole or not index.isValid():
            return False
        field = self._table.schema.field(self._field(index.column()))
        text = str(value)
        new = as_values([text], field.type)[0].as_py() if text.strip() or pa.types.is_string(field.type) else None
        if text == "":
            new = None
        elif new is None:
            self.refused.emit(f"'{field.name}' is a {type_word(field.type)} and cannot hold '{text}'.")
            return False
        if new != self.value(index.row(), index.column()):
            # later: what comes of it can take this table away while its cell is still being left
            row = self.position(index.row())
            QTimer.singleShot(0, self, lambda: self.edited.emit(row, field.name, new))
        return True

    def data(self, index: Index, role: int = 0) -> object:
        if not index.isValid():
            return None
        column = index.column()
        if role == Qt.ItemDataRole.TextAlignmentRole:
            right = column == 0 or (self._field(column) >= 0 and self._numeric(column))
            return (Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft) | Qt.AlignmentFlag.AlignVCenter
        if role not in (
            Qt.ItemDataRole.DisplayRole,
            Qt.ItemDataRole.ForegroundRole,
            Qt.ItemDataRole.FontRole,
            Qt.ItemDataRole.ToolTipRole,
            Qt.ItemDataRole.EditRole,
        ):
            return None
        value = self.value(index.row(), column)
        if role == Qt.ItemDataRole.EditRole:
            return "" if value is None else str(value)
        missing = value is None or value == ""
        if role == Qt.ItemDataRole.DisplayRole:
            return show(value)
        if role == Qt.ItemDataRole.ToolTipRole:
            if self._changed(index):
                return f"It was {show(self._table.column(self._field(column))[self.position(index.row())].as_py())}"
            return show(value) if isinstance(value, str) and len(value) > 24 else None
        if role == Qt.ItemDataRole.FontRole:
            if self._changed(index):
                return font(13, QFont.Weight.Bold)
            if missing:
                italic = font(12)
                italic.setItalic(True)
                return italic
            return None
        if missing or column == 0:
            return theme.colour("faint")
        if self._reasons is not None and column == 1:
            return theme.colour("look" if self._reasons.units else "bad")
        return None

    def _changed(self, index: Index) -> bool:
        """Whether a cell shows a change that no run has made yet."""
        if not self.overlay or self._field(index.column()) < 0:
            return False
        return (self.position(index.row()), self._table.column_names[self._field(index.column())]) in self.overlay

    def _numeric(self, column: int) -> bool:
        kind = self._table.schema.field(self._field(column)).type
        return bool(pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind))

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:
        if orientation != Qt.Orientation.Horizontal or section >= len(self.titles):
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return self.titles[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            right = section == 0 or (self._field(section) >= 0 and self._numeric(section))
            return (Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft) | Qt.AlignmentFlag.AlignVCenter
        if role == Qt.ItemDataRole.ToolTipRole and self._field(section) >= 0:
            return type_word(self._table.schema.field(self._field(section)).type)
        return None

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        """Sort by a column, nulls last; the lines change when it is done."""
        if column < 0 or column >= len(self.titles) or not self.rowCount():
            return
        down = order == Qt.SortOrder.DescendingOrder
        self._asked += 1
        asked = self._asked
        self._background.run(lambda: self._sorted(column, down), lambda order: self._take_order(asked, order))

    def close_down(self) -> None:
        """Let no sorting outlive the window."""
        self._background.close()

    def _sorted(self, column: int, down: bool) -> np.ndarray:
        if column == 0:
            order = np.arange(self.rowCount())
            return order[::-1] if down else order
        if self._reasons is not None and column == 1:
            codes = np.asarray(self._reasons.codes).astype(np.int64)
            amounts = self._reasons.amounts if self._reasons.amounts is not None else np.zeros(len(codes))
            sign = -1 if down else 1
            return np.lexsort((np.nan_to_num(sign * amounts), sign * codes))
        values = self._table.column(self._field(column))
        if self._rows is not None:
            values = values.take(pa.array(self._rows))
        if pa.types.is_boolean(values.type):
            values = values.cast(pa.int8())
        if pa.types.is_nested(values.type):
            values = pa.chunked_array([pa.array([None if v is None else str(v) for v in values.to_pylist()])])
        by = "descending" if down else "ascending"
        return np.asarray(pc.sort_indices(values, sort_keys=[("", by, "at_end")]))

    def _take_order(self, asked: int, order: np.ndarray) -> None:
        if asked != self._asked or len(order) != self.rowCount():
            return
        self.layoutAboutToBeChanged.emit()
        self._order = order
        self.layoutChanged.emit()
        self.sorted_.emit()


def show(value: object) -> str:
    """A value as a person reads it; what is not there is said in words."""
    if value is None:
        return NULL
    if value == "":
        return EMPTY
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:,.6g}" if abs(value) < 1e6 else f"{value:,.1f}"
    if isinstance(value, dt.datetime):
        text = value.strftime("%Y-%m-%d %H:%M:%S")
        return f"{text} UTC" if value.tzinfo else text
    if isinstance(value, bytes):
        return f"{len(value):,} bytes"
    return str(value)
