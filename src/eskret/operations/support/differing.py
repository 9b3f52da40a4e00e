"""Differences as a layer: added and changed features as they are now, removed ones as they were, and what changed."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.layer import Field, Layer
from eskret.core.naming import number_collisions
from eskret.core.style.ramps import value_colours
from eskret.core.style.style import VALUES, Style
from eskret.core.tables.diff import ADDED, CHANGED, REMOVED, Difference
from eskret.operations.support.pairing import taken


def difference_style() -> Style:
    """Differences are drawn by their kind."""
    return Style(VALUES, field="change", colours=dict(zip((ADDED, CHANGED, REMOVED), value_colours(), strict=False)))


def fields_for(names: list[str]) -> list[Field]:
    """The fields that come before those of the layer, which has these."""
    wanted = [("change", pa.string()), ("changed_fields", pa.string()), ("moved_m", pa.float64()), ("was", pa.string())]
    free = number_collisions([n for n, _ in wanted], taken=names)
    return [Field(n, t) for n, (_, t) in zip(free, wanted, strict=True)]


def rows_of(found: Difference) -> tuple[np.ndarray, np.ndarray]:
    """For every difference its row in the new layer and in the old one, -1 where it has none."""
    new = np.concatenate([found.added, found.changed, np.full(len(found.removed), -1)]).astype(np.int64)
    old = np.concatenate([np.full(len(found.added), -1), found.was, found.removed]).astype(np.int64)
    return new, old


def layer_of(layer: Layer, before: pa.Table, before_shapes: np.ndarray | None, found: Difference, moved: np.ndarray) -> Layer:
    """The differences as a layer.

    Parameters
    ----------
    layer : as it is now.
    before, before_shapes : as it was, in the layer's CRS.
    moved : how far each changed shape is from what it was, in metres.
    """
    new_rows, old_rows = rows_of(found)
    what = [ADDED] * len(found.added) + [CHANGED] * len(found.changed) + [REMOVED] * len(found.removed)
    far = np.concatenate([np.full(len(found.added), np.nan), moved, np.full(len(found.removed), np.nan)])
    none, gone = [""] * len(found.added), [""] * len(found.removed)
    columns: list[pa.Array | pa.ChunkedArray] = [
        pa.array(what, pa.string()),
        pa.array([*none, *(", ".join(c) for c in found.fields), *gone], pa.string()),
        pa.array(far, pa.float64(), mask=np.isnan(far) | (far == 0)),
        pa.array([*none, *found.earlier, *gone], pa.string()),
    ]
    names = [f.name for f in fields_for(layer.table.column_names)]
    for name in layer.table.column_names:
        now = taken(layer.table.column(name), new_rows)
        if name in before.column_names:
            then = taken(before.column(name), np.where(new_rows < 0, old_rows, -1))
            now = _either(now, then, new_rows >= 0)
        columns.append(now)
        names.append(name)
    shapes = None
    if layer.geometry is not None:
        shapes = np.full(len(new_rows), None, object)
        shapes[new_rows >= 0] = layer.geometry[new_rows[new_rows >= 0]]
        if before_shapes is not None:
            shapes[new_rows < 0] = before_shapes[old_rows[new_rows < 0]]
    return layer.with_geometry(shapes, layer.kind, table=pa.table(columns, names=names), ids=None)


def _either(now: pa.ChunkedArray, then: pa.ChunkedArray, choose: np.ndarray) -> pa.ChunkedArray:
    if then.type != now.type:
        try:
            then = then.cast(now.type)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            then = pa.chunked_array([pa.nulls(len(then), now.type)])
    return pc.if_else(pa.array(choose), now, then)
