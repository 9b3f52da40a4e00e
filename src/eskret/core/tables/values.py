"""One rule for values, wherever they are compared, grouped, joined or counted up.

What is no number (NaN) is no value, as if the field were empty; dividing by zero and the root of what is below zero come to
none. Infinity is a value and stays. -0.0 and 0.0 are one number. Decimals are added as decimals. The values themselves are not
changed by it: a field passes through as it came.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc


def no_numbers(column: pa.ChunkedArray) -> int:
    """How many values are no number (NaN)."""
    if not pa.types.is_floating(column.type):
        return 0
    return int(pc.sum(pc.is_nan(column)).as_py() or 0)


def settled(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """A column as it is compared and counted: empty where it is no number, and 0.0 for -0.0."""
    if not pa.types.is_floating(column.type):
        return column
    if no_numbers(column):
        column = pc.if_else(pc.is_nan(column), pa.scalar(None, column.type), column)
    # both zeros are equal to it, so that each becomes the plain one
    zero = pc.fill_null(pc.equal(column, pa.scalar(0.0, column.type)), False)
    return pc.if_else(zero, pa.scalar(0.0, column.type), column) if pc.any(zero).as_py() else column


def settled_table(table: pa.Table, names: Sequence[str]) -> pa.Table:
    """A table with some of its columns as they are compared and counted."""
    for name in names:
        column = table.column(name)
        if pa.types.is_floating(column.type):
            table = table.set_column(table.schema.get_field_index(name), table.schema.field(name), settled(column))
    return table


def count_no_numbers(table: pa.Table, names: Sequence[str]) -> dict[str, int]:
    """How many values of fields are no number; fields where none is are left out."""
    counts = {n: no_numbers(table.column(n)) for n in dict.fromkeys(names) if n in table.column_names}
    return {n: many for n, many in counts.items() if many}


def exact_sum(column: pa.ChunkedArray) -> Any:
    """The sum of what is there: whole for whole numbers, a decimal for decimals, else a number; 0 where nothing is."""
    found = pc.sum(settled(column)).as_py()
    return 0 if found is None else found


def is_number(kind: pa.DataType) -> bool:
    """Whether values of a type can be added up."""
    return bool(pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind))


def empties(column: pa.ChunkedArray) -> np.ndarray:
    """Where a column has no value (bool): null, or no number."""
    return np.asarray(settled(column).is_null())
