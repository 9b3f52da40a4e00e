"""What operations that keep some rows of a layer and set the others aside have in common."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eskret.core.account import ControlTotal, InputAccount, OutputAccount, Remark, SetAside
from eskret.core.layer import Layer
from eskret.core.totals import totals_of
from eskret.operations.base import Context, Outcome


def kept_outcome(
    layer: Layer, kept: np.ndarray, aside: Sequence[tuple[str, np.ndarray]], context: Context,
    remarks: Sequence[Remark] = (), others: Sequence[InputAccount] = (), nothing: str = "nothing meets the condition",
) -> Outcome:  # fmt: skip
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
    controls = _controls(layer, settled.rows, totals, context)
    account = InputAccount("from", layer.key, len(layer), settled)
    return Outcome(
        (out,), (account, *others), (OutputAccount(layer.key, len(out), totals, controls),), kept, tuple(said)
    )  # fmt: skip


def _controls(
    layer: Layer, aside: np.ndarray, kept: tuple[tuple[str, float, str], ...], context: Context
) -> tuple[ControlTotal, ...]:
    """What was kept and what was set aside, each summed on its own, must make what entered."""
    whole = totals_of(layer, context.totals)
    rest = totals_of(layer.take(aside), context.totals)
    return tuple(
        ControlTotal(name, unit, value, part[1] + other[1])
        for (name, value, unit), part, other in zip(whole, kept, rest, strict=True)
    )


def share(part: int, whole: int) -> str:
    """``74 of 108, 68.5 %``: a percentage is of all features, counted."""
    return f"{part:,} of {whole:,}, {100 * part / whole:.1f} %" if whole else "0 of 0"
