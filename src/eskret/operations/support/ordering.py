"""Fields that put rows in order, and fields that hold times."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.layer import ChunkedLayer, Layer
from eskret.core.tables.values import settled
from eskret.operations.support import named_fields

_DOWN = " down"


def ordered_rows(table: pa.Table, rows: int, by: Sequence[str]) -> np.ndarray:
    """The positions of so many rows of a table (int64) in the order of their values: of the first field, then of the next. With
    ``down`` after its name a field's greatest come first. Empty values come last either way; equal rows keep their order."""
    order = np.arange(rows)
    for text in reversed(by):
        name, down = ordering_field(text, table.column_names)
        column = settled(table.column(name))
        if pa.types.is_nested(column.type) or pa.types.is_boolean(column.type):
            column = pa.chunked_array([pa.array([None if v is None else repr(v) for v in column.to_pylist()])])
        rank = np.asarray(pc.rank(column.combine_chunks(), tiebreaker="dense")).astype(np.int64)
        if down:
            rank = np.where(np.asarray(column.is_null()), rows + 1, -rank)
        order = order[np.argsort(rank[order], kind="stable")]
    return order


def ordering_fields(layer: Layer | ChunkedLayer, by: Sequence[str]) -> list[str]:
    """The fields that rows are put in order by, each once.

    Raises
    ------
    EskretError : one is not there.
    """
    names = layer.field_names
    found = list(dict.fromkeys(ordering_field(text, names)[0] for text in by))
    for name in found:
        if name not in names:
            raise named_fields.missing_field(layer, name)
    return found


def ordering_field(text: str, names: Sequence[str]) -> tuple[str, bool]:
    """A field and whether its greatest come first; a field that is really called so is taken for itself."""
    text = text.strip()
    if text in names or not text.lower().endswith(_DOWN):
        return text, False
    return text[: -len(_DOWN)].strip(), True


def order_figures(column: pa.ChunkedArray | None) -> np.ndarray | None:
    """A figure for each row that puts it in the order of the field's values (float64); None without a field."""
    if column is None:
        return None
    ranked = pc.rank(settled(column).combine_chunks(), sort_keys="ascending", tiebreaker="dense")
    return np.asarray(ranked).astype(np.float64)


def seconds_of(column: pa.ChunkedArray | None) -> np.ndarray | None:
    """Times as seconds (float64, NaN where empty); None where the field holds no times."""
    if column is None or not pa.types.is_timestamp(column.type):
        return None
    plain = column.cast(pa.timestamp("us", column.type.tz), safe=False).cast(pa.int64())
    out = np.asarray(plain.fill_null(0)).astype(np.float64) / 1e6
    out[np.asarray(plain.is_null())] = np.nan
    return out
