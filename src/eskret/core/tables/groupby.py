"""Rows that hold the same values in some fields."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.tables.values import empties, settled, settled_table


@dataclass(frozen=True)
class Groups:
    """Rows by group.

    ``of`` is the group of each row (int64, -1 for a row in none), ``count`` how many there are, ``first`` the first row
    of each. Groups stand in the order of their values, empty ones last.
    """

    of: np.ndarray
    first: np.ndarray

    @property
    def count(self) -> int:
        return len(self.first)

    @cached_property
    def order(self) -> np.ndarray:
        """The rows, group after group, each in the order of the layer; rows in no group are left out."""
        order = np.argsort(self.of, kind="stable")
        return order[int((self.of < 0).sum()) :]

    @cached_property
    def starts(self) -> np.ndarray:
        """Where each group begins in ``order`` (count + 1)."""
        return np.concatenate([[0], np.cumsum(self.sizes)])

    @cached_property
    def sizes(self) -> np.ndarray:
        """How many rows each group has."""
        return np.bincount(self.of[self.of >= 0], minlength=self.count).astype(np.int64)

    def rows(self, group: int) -> np.ndarray:
        """The rows of a group, in order."""
        return self.order[self.starts[group] : self.starts[group + 1]]


def codes_of(column: pa.ChunkedArray) -> np.ndarray:
    """A number for each row (int64), equal where the values are; empty values are equal to each other, and so are those
    that are no number."""
    if pa.types.is_nested(column.type):
        column = pa.chunked_array([pa.array([repr(v) for v in column.to_pylist()])])
    column = settled(column)
    coded = pc.dictionary_encode(column, null_encoding="encode").combine_chunks()
    if isinstance(coded, pa.ChunkedArray):
        coded = coded.chunk(0)
    return np.asarray(coded.indices).astype(np.int64)


def group_codes(codes: Sequence[np.ndarray], rows: int) -> Groups:
    """Rows that have the same codes throughout, groups in the order of their first row; all in one where there are none."""
    if not rows:
        return Groups(np.empty(0, np.int64), np.empty(0, np.int64))
    group = codes[0] if len(codes) else np.zeros(rows, np.int64)
    for more in codes[1:]:
        _, group = np.unique(group * (int(more.max()) + 1) + more, return_inverse=True)
    _, first, group = np.unique(group, return_index=True, return_inverse=True)
    by_row = np.argsort(first)
    place = np.empty(len(first), np.int64)
    place[by_row] = np.arange(len(first))
    return Groups(place[group], first[by_row])


def group_rows(table: pa.Table, fields: Sequence[str], without_empty: bool = False) -> Groups:
    """Rows of a table that hold the same values in some fields; all of them in one group where none is named.

    Parameters
    ----------
    without_empty : rows in which one of the fields is empty are in no group.
    """
    found = group_codes([codes_of(table.column(f)) for f in fields], table.num_rows)
    if not fields or not found.count:
        return found
    heads = settled_table(table.select(list(fields)).take(pa.array(found.first)), fields)
    sortable = pa.table([_sortable(c) for c in heads.columns], names=[str(n) for n in range(len(fields))])
    order = np.asarray(pc.sort_indices(sortable, [(n, "ascending") for n in sortable.column_names])).astype(np.int64)
    place = np.empty(found.count, np.int64)
    place[order] = np.arange(found.count)
    of, first = place[found.of], found.first[order]
    if without_empty:
        empty = np.zeros(table.num_rows, bool)
        for field in fields:
            empty |= empties(table.column(field))
        gone = empty[first]
        of = np.where(empty, -1, (np.cumsum(~gone) - 1)[of])
        first = first[~gone]
    return Groups(of, first)


def _sortable(column: pa.ChunkedArray) -> pa.ChunkedArray:
    if pa.types.is_nested(column.type) or pa.types.is_boolean(column.type):
        return pa.chunked_array([pa.array([None if v is None else repr(v) for v in column.to_pylist()], pa.string())])
    return column
