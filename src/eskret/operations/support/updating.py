"""Bring a layer that is there up to date with another: rows appended, or told apart by a key and replaced."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import Remark
from eskret.core.layer import GeometryKind, Layer
from eskret.core.tables.diff import difference
from eskret.core.tables.rows import remaining
from eskret.errors import DeliveryError


@dataclass(frozen=True)
class Updated:
    """The layer as it becomes, and what that means, by positions (int64).

    ``added`` in the new layer, ``changed`` in the new one with ``was`` in the old; ``same`` in the new one; ``unkeyed`` in the
    new one cannot be told apart. ``aligned`` is the new layer in the old one's fields.
    """

    layer: Layer
    aligned: Layer
    added: np.ndarray
    changed: np.ndarray
    was: np.ndarray
    same: np.ndarray
    unkeyed: np.ndarray
    remarks: tuple[Remark, ...] = ()


def update(old: Layer, new: Layer, key: Sequence[str], widen: bool = False) -> Updated:
    """The old layer with the new one's rows: appended without a key; with one, those that are there replaced.

    Parameters
    ----------
    old : as it is in the file; both in one CRS.
    widen : whole numbers that are there may become numbers, where the new ones have decimals.

    Raises
    ------
    DeliveryError : a field cannot be brought to the type that the old layer has, or the kinds of shapes differ.
    """
    if old.kind is not new.kind and len(old) and len(new) and GeometryKind.MIXED not in (old.kind, new.kind):
        raise DeliveryError(f"it draws {new.kind}s, and the layer that is there {old.kind}s", place=new.key, way_out="Choose another layer")
    aligned, wider, remarks = _aligned(old, new, widen)
    none = np.empty(0, np.int64)
    if not key:
        added = np.arange(len(new), dtype=np.int64)
        return Updated(_joined(wider, aligned, added), aligned, added, none, none, none, none, remarks)
    fields = [n for n in wider.table.column_names if n not in key and n in new.table.column_names]
    found = difference(aligned.table, aligned.geometry, wider.table, wider.geometry, key=key, fields=fields)
    same = remaining(len(new), np.concatenate([found.added, found.changed, found.unkeyed]))
    table, geometry = wider.table, wider.geometry
    if len(found.changed):
        order = np.arange(len(wider))
        order[found.was] = len(wider) + found.changed
        both = pa.concat_tables([table, aligned.table])
        # what only the old layer has stays with the rows that are replaced
        columns = [
            (both if n in new.table.column_names else table)
            .column(n)
            .take(pa.array(order if n in new.table.column_names else np.arange(len(wider)), pa.int64()))
            for n in table.column_names
        ]
        table = pa.table(columns, names=table.column_names)
        if geometry is not None and aligned.geometry is not None:
            geometry = geometry.copy()
            geometry[found.was] = aligned.geometry[found.changed]
    whole = wider.with_geometry(geometry, wider.kind, table=table, ids=None)
    return Updated(_joined(whole, aligned, found.added), aligned, found.added, found.changed, found.was, same, found.unkeyed, remarks)


def _aligned(old: Layer, new: Layer, widen: bool) -> tuple[Layer, Layer, tuple[Remark, ...]]:
    """The new layer in the old one's fields, and the old one with fields that only the new one has, empty."""
    remarks = []
    more = [n for n in new.table.column_names if n not in old.table.column_names]
    table = old.table
    for name in more:
        table = table.append_column(name, pa.nulls(len(old), new.table.schema.field(name).type))
    if more:
        remarks.append(
            Remark(f"the layer that is there gets the field{'s' if len(more) > 1 else ''} {', '.join(more)}", new.key, look=True)
        )
    for name in table.column_names if widen else ():
        kinds = (table.schema.field(name).type, new.table.schema.field(name).type if name in new.table.column_names else None)
        if kinds[1] is not None and pa.types.is_integer(kinds[0]) and pa.types.is_floating(kinds[1]):
            at = table.column_names.index(name)
            table = table.set_column(at, name, table.column(name).cast(pa.float64()))
    columns = []
    for field in table.schema:
        if field.name not in new.table.column_names:
            columns.append(pa.nulls(len(new), field.type))
            continue
        column = new.table.column(field.name)
        if column.type != field.type:
            try:
                column = column.cast(field.type)
            except (pa.ArrowInvalid, pa.ArrowNotImplementedError) as error:
                raise DeliveryError(
                    f"'{field.name}' cannot be brought to the type that it has there ({field.type})",
                    place=new.key,
                    way_out="Change its type with Arrange fields first",
                ) from error
        columns.append(column)
    aligned = new.with_table(pa.table(columns, names=table.column_names)) if columns else new
    return aligned, old.with_table(table) if table is not old.table else old, tuple(remarks)


def _joined(old: Layer, aligned: Layer, added: np.ndarray) -> Layer:
    if not len(added):
        return old
    rows = aligned.take(added)
    table = pa.concat_tables([old.table, rows.table])
    geometry = None
    if old.geometry is not None and rows.geometry is not None:
        geometry = np.concatenate([old.geometry, rows.geometry])
    return old.with_geometry(geometry, old.kind, table=table, ids=None)
