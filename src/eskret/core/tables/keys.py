"""Find rows by the values of a key field."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.tables.values import settled


def as_values(values: Sequence[object], kind: pa.DataType) -> pa.Array:
    """Values as a file or a person gives them, in the type of a field; null for one that the type cannot have."""
    return pa.array([_fitted(v, kind) for v in values], kind)


def _fitted(value: object, kind: pa.DataType) -> object:
    if value is None:
        return None
    try:
        if pa.types.is_string(kind) or pa.types.is_large_string(kind):
            return value if isinstance(value, str) else str(value)
        if isinstance(value, str) and not pa.types.is_temporal(kind):
            value = value.strip()
        return pa.array([value]).cast(kind)[0].as_py()
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError, pa.ArrowTypeError, OverflowError):
        return None


def rows_of(column: pa.ChunkedArray, values: Sequence[object]) -> tuple[np.ndarray, np.ndarray]:
    """Which value each row has.

    Parameters
    ----------
    column : a field.
    values : those asked for; one that the field's type cannot have is in no row.

    Returns
    -------
    For each row the position among ``values`` (int64, -1 for none of them), and for each value how many rows have it.
    """
    wanted = settled(pa.chunked_array([as_values(values, column.type)])).combine_chunks()
    known = pc.is_valid(wanted)
    where = np.flatnonzero(np.asarray(known))
    found = pc.index_in(settled(column), value_set=wanted.filter(known))
    if isinstance(found, pa.ChunkedArray):
        found = found.combine_chunks()
    at = np.asarray(found.fill_null(-1)).astype(np.int64)
    if len(where):
        at = np.where(at >= 0, where[np.maximum(at, 0)], -1)
    counts = np.bincount(at[at >= 0], minlength=len(values))
    return at, counts


def is_unique(column: pa.ChunkedArray) -> bool:
    """Whether every row has a value of its own."""
    column = settled(column)
    return column.null_count == 0 and pc.count_distinct(column).as_py() == len(column)
