"""Fields as a GeoPackage has them: types as SQL declares them, values as SQLite and the standard want them."""

from __future__ import annotations

import json

import pyarrow as pa
import pyarrow.compute as pc

_TIME = "%Y-%m-%dT%H:%M:%SZ"


def sql_type(kind: pa.DataType) -> str:
    """The type of a column that holds such values."""
    if pa.types.is_boolean(kind):
        return "BOOLEAN"
    if pa.types.is_integer(kind):
        return "INTEGER"
    if pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return "DOUBLE"
    if pa.types.is_date(kind):
        return "DATE"
    if pa.types.is_timestamp(kind):
        return "DATETIME"
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind):
        return "BLOB"
    return "TEXT"


def stored_values(column: pa.ChunkedArray) -> list[object]:
    """Python values as SQLite and the standard want them."""
    kind = column.type
    if pa.types.is_timestamp(kind):
        utc = column.cast(pa.timestamp("ms", kind.tz), safe=False)
        return list(pc.strftime(utc.cast(pa.timestamp("ms", "UTC")), _TIME).to_pylist())
    if pa.types.is_date(kind) or pa.types.is_time(kind):
        return [None if v is None else v.isoformat() for v in column.to_pylist()]
    if pa.types.is_decimal(kind):
        return [None if v is None else float(v) for v in column.to_pylist()]
    if pa.types.is_nested(kind):
        return [None if v is None else json.dumps(v, ensure_ascii=False, default=str) for v in column.to_pylist()]
    if pa.types.is_uint64(kind):
        return list(column.cast(pa.int64()).to_pylist())
    if pa.types.is_boolean(kind):
        return list(column.cast(pa.int8()).to_pylist())
    if pa.types.is_floating(kind):
        # SQLite has no NaN: it would store null without a word
        return list(pc.if_else(pc.is_nan(column), None, column).to_pylist())
    return list(column.to_pylist())


def nearest(table: pa.Table) -> pa.Table:
    """The attributes in the types that the standard has: what it has not is stored as the nearest, as by plain SQL."""
    columns = []
    for column in table.columns:
        kind = column.type
        if pa.types.is_nested(kind) or pa.types.is_time(kind) or pa.types.is_decimal(kind):
            text = pa.types.is_nested(kind) or pa.types.is_time(kind)
            column = pa.chunked_array([pa.array(stored_values(column), pa.string() if text else pa.float64())])
        elif pa.types.is_timestamp(kind):
            column = column.cast(pa.timestamp("ms", kind.tz), safe=False).cast(pa.timestamp("ms", "UTC"))
        elif pa.types.is_date(kind):
            column = column.cast(pa.date32())
        elif pa.types.is_integer(kind):
            column = column.cast(pa.int64())
        elif pa.types.is_floating(kind):
            column = pc.if_else(pc.is_nan(column), None, column).cast(pa.float64())
        elif pa.types.is_large_string(kind):
            column = column.cast(pa.string())
        columns.append(column)
    return pa.table(columns, names=table.column_names)


def bound(column: pa.Array) -> pa.Array:
    """Values of one of the types that ``nearest`` gives as SQLite stores them: whole numbers, numbers, texts and bytes."""
    kind = column.type
    if pa.types.is_boolean(kind):
        return column.cast(pa.int8()).cast(pa.int64())
    if pa.types.is_date(kind):
        return pc.strftime(column, "%Y-%m-%d")
    if pa.types.is_timestamp(kind):
        return pc.strftime(column, _TIME)
    return column
