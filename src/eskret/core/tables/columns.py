"""Tables with other columns."""

from __future__ import annotations

from collections.abc import Mapping

import pyarrow as pa


def with_columns(table: pa.Table, columns: Mapping[str, pa.Array | pa.ChunkedArray], at_end: bool = False) -> pa.Table:
    """The table with these columns, each in the place of the one of its name, else, or all of them, ``at_end``."""
    if at_end:
        table = table.drop_columns([n for n in columns if n in table.column_names])
    for name, column in columns.items():
        at = table.schema.get_field_index(name)
        table = table.append_column(name, column) if at < 0 else table.set_column(at, name, column)
    return table
