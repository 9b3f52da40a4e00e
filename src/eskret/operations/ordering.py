"""Fields that put rows in order, and fields that hold times."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc


def order_figures(column: pa.ChunkedArray | None) -> np.ndarray | None:
    """A figure for each row that puts it in the order of the field's values (float64); None without a field."""
    if column is None:
        return None
    ranked = pc.rank(column.combine_chunks(), sort_keys="ascending", tiebreaker="dense")
    return np.asarray(ranked).astype(np.float64)


def seconds_of(column: pa.ChunkedArray | None) -> np.ndarray | None:
    """Times as seconds (float64, NaN where empty); None where the field holds no times."""
    if column is None or not pa.types.is_timestamp(column.type):
        return None
    plain = column.cast(pa.timestamp("us", column.type.tz), safe=False).cast(pa.int64())
    out = np.asarray(plain.fill_null(0)).astype(np.float64) / 1e6
    out[np.asarray(plain.is_null())] = np.nan
    return out
