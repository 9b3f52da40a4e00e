"""Columns of Python values whose types nobody declared."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import pyarrow as pa


def from_objects(rows: Sequence[Mapping[str, object]]) -> pa.Table:
    """A table of objects with fields: a field has the type of its values, or is text where they have several.

    A field that some objects lack is empty there; one that is always empty is text; what is nested stays so.
    """
    names = list(dict.fromkeys(n for row in rows for n in row))
    return pa.table({name: _column([row.get(name) for row in rows]) for name in names})


def _column(values: Sequence[object]) -> pa.Array:
    try:
        column = pa.array(values)
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        column = pa.array([None if v is None else str(v) for v in values], pa.string())
    return column.cast(pa.string()) if pa.types.is_null(column.type) else column
