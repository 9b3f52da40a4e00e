"""What operations that keep some rows of a layer and set the others aside have in common."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from eskret.core.account import ControlTotal, InputAccount, OutputAccount, Remark, SetAside
from eskret.core.layer import Layer
from eskret.core.totals import sizes_in_metres, totals_of
from eskret.core.values import exact_sum
from eskret.operations.base import Context, Outcome


def kept_outcome(
    layer: Layer,
    kept: np.ndarray,
    aside: Sequence[tuple[str, np.ndarray]],
    context: Context,
    remarks: Sequence[Remark] = (),
    others: Sequence[InputAccount] = (),
    nothing: str = "nothing meets the condition",
) -> Outcome:
    """The outcome of keeping the rows at ``kept`` (positions, ascending).

    Parameters
    ----------
    aside : reasons with the positions of the rows set aside for them; together with ``kept`` they are all rows.
    others : accounts of layers that settings name.
    nothing : what to say where no row is kept.
    """
    settled = SetAside.from_reasons(aside)
    out = layer.take(kept) if len(kept) != len(layer) else layer
    said = list(remarks)
    if not len(kept):
        said.append(Remark(nothing, layer.key, look=True))
    totals = totals_of(out, context.totals)
    controls = _controls(layer, kept, totals, context)
    account = InputAccount("from", layer.key, len(layer), settled)
    return Outcome((out,), (account, *others), (OutputAccount(layer.key, len(out), totals, controls),), kept, tuple(said))


def _controls(layer: Layer, kept: np.ndarray, totals: tuple[tuple[str, float, str], ...], context: Context) -> tuple[ControlTotal, ...]:
    """The layer that leaves is as large, and its fields sum up, as the rows that were to be kept do where they entered."""
    out = []
    for name, value, unit in totals:
        if unit:
            size = sizes_in_metres(layer)
            expected = float(np.nansum(size[kept])) / (1000.0 if unit == "km" else 10_000.0) if size is not None else value
        else:
            expected = float(exact_sum(layer.table.column(name).take(pa.array(kept))))
        out.append(ControlTotal(name, unit, expected, value))
    return tuple(out)


def share(part: int, whole: int) -> str:
    """``74 of 108, 68.5 %``: a percentage is of all features, counted."""
    return f"{part:,} of {whole:,}, {100 * part / whole:.1f} %" if whole else "0 of 0"
