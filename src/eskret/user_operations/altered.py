"""What somebody's own operation did to the rows that it passed on: which cells hold something else, which shapes moved."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.accounts.account import Altered
from eskret.core.layer import Layer
from eskret.core.tables.values import empties

_MOST = 8


def changed(before: Layer, after: Sequence[Layer], lineage: np.ndarray) -> list[Altered]:
    """Fields with other values than the rows had that they came of, and shapes that are others; the fields with the most first.

    Parameters
    ----------
    lineage : for every row that leaves, of one layer after the other, the row it came of.
    """
    rows: dict[str, list[np.ndarray]] = {}
    begin = 0
    for layer in after:
        came = lineage[begin : begin + len(layer)]
        begin += len(layer)
        for name in layer.table.column_names:
            if name in before.table.column_names:
                other = _other(before.table.column(name).take(pa.array(came, pa.int64())), layer.table.column(name))
                rows.setdefault(name, []).append(came[other])
        if layer.has_geometry and before.has_geometry and len(came):
            moved = ~shapely.equals_exact(before.shapes(came), layer.shapes(np.arange(len(layer))), 0.0)
            both = shapely.is_missing(before.shapes(came)) & shapely.is_missing(layer.shapes(np.arange(len(layer))))
            rows.setdefault("", []).append(came[moved & ~both])
    found = {n: np.unique(np.concatenate(parts)) for n, parts in rows.items()}
    shapes = found.pop("", np.empty(0, np.int64))
    fields = sorted((n for n in found if len(found[n])), key=lambda n: -len(found[n]))
    out = [Altered(f"holds something else in '{n}'", found[n]) for n in fields[:_MOST]]
    if len(fields) > _MOST:
        rest = np.unique(np.concatenate([found[n] for n in fields[_MOST:]]))
        out.append(Altered(f"holds something else in {len(fields) - _MOST} more fields", rest))
    if len(shapes):
        out.append(Altered("has another shape", shapes))
    return out


def _other(a: pa.ChunkedArray, b: pa.ChunkedArray) -> np.ndarray:
    """Where two columns hold other values; two that are empty or no number are the same."""
    if pa.types.is_nested(a.type) or pa.types.is_nested(b.type):
        return np.array([str(x) != str(y) for x, y in zip(a.to_pylist(), b.to_pylist(), strict=True)], bool)
    if a.type != b.type:
        try:
            b = b.cast(a.type)
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            return np.array([str(x) != str(y) for x, y in zip(a.to_pylist(), b.to_pylist(), strict=True)], bool)
    empty_a, empty_b = empties(a), empties(b)
    differ = np.asarray(pc.fill_null(pc.not_equal(a, b), False)).astype(bool)
    return np.asarray(np.where(empty_a | empty_b, empty_a != empty_b, differ))
