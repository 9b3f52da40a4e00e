"""What the fields of a table hold: how many are empty, how many different values, the least and the greatest, a sample."""

from __future__ import annotations

from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.layer import type_word


@dataclass(frozen=True, slots=True)
class FieldProfile:
    """One field. ``least`` and ``greatest`` are None where its values have no order."""

    name: str
    word: str
    nulls: int
    distinct: int
    least: object
    greatest: object
    sample: tuple[object, ...]


def profile(table: pa.Table) -> list[FieldProfile]:
    """All fields of a table, in order."""
    return [_field(table.schema.field(n).name, column) for n, column in enumerate(table.columns)]


def _field(name: str, column: pa.ChunkedArray) -> FieldProfile:
    plain = _comparable(column)
    least = greatest = None
    if len(plain) > plain.null_count and not pa.types.is_boolean(plain.type):
        found = pc.min_max(plain).as_py()
        least, greatest = found["min"], found["max"]
    sample = tuple(v for v, _ in values_with_counts(plain, 3))
    return FieldProfile(name, type_word(column.type), column.null_count, pc.count_distinct(plain).as_py(), least, greatest, sample)


def _comparable(column: pa.ChunkedArray) -> pa.ChunkedArray:
    if pa.types.is_nested(column.type):
        return pa.chunked_array([pa.array([None if v is None else repr(v) for v in column.to_pylist()], pa.string())])
    return column


def values_with_counts(column: pa.ChunkedArray, most: int) -> list[tuple[object, int]]:
    """The most frequent values of a field with how many rows have each, at most ``most``; ties in the values' order."""
    counted = pc.value_counts(_comparable(column).drop_null())
    if not len(counted):
        return []
    table = pa.table({"value": counted.field("values"), "count": counted.field("counts")})
    ordered = table.sort_by([("count", "descending"), ("value", "ascending")]) if len(table) else table
    first = ordered.slice(0, most)
    return list(zip(first.column("value").to_pylist(), first.column("count").to_pylist(), strict=True))
