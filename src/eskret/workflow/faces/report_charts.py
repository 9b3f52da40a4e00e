"""Charts of a report: bars beside their figures, and how the values of a classed map are spread. Bars are plain HTML."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from html import escape
from typing import Any

import numpy as np

from eskret.core.layer import Layer
from eskret.core.words import format_quantity
from eskret.workflow.faces import ledger

MOST = 40
"""Bars in a chart."""
_BINS = 48
_WIDE, _HIGH = 720, 96


Row = tuple[str, Sequence[tuple[int, str]], str]
"""Of a chart: label, numbers with how each looks, and the figure in words."""


@dataclass(frozen=True)
class Bar:
    """One bar: parts as per cent of the whole width, each with how it looks, and the figure in words."""

    label: str
    parts: tuple[tuple[float, str], ...]
    text: str


@dataclass(frozen=True)
class Chart:
    """Bars under a title; ``more`` says how many were left out."""

    title: str
    bars: tuple[Bar, ...]
    more: int = 0


def _chart(title: str, rows: Sequence[Row]) -> Chart | None:
    """A chart of rows: label, numbers with how each looks, and the figure in words. None where there is nothing to compare."""
    most = max((sum(n for n, _ in numbers) for _, numbers, _ in rows), default=0)
    if len(rows) < 2 or not most:
        return None
    bars = [Bar(label, tuple((round(100 * n / most, 2), look) for n, look in numbers if n), text) for label, numbers, text in rows[:MOST]]
    return Chart(title, tuple(bars), len(rows) - len(bars))


def of_reasons(rows: Sequence[ledger.StepRow]) -> Chart | None:
    """What the steps set aside, for each reason; None where there are not two."""
    told: list[Row] = []
    for row in rows:
        counts: dict[str, int] = {}
        for reason, number in (one for child in row.children for one in child.reasons):
            counts[reason] = counts.get(reason, 0) + number
        told += [(f"{row.number} · {row.id}: {reason}", [(n, "aside")], f"{n:,}") for reason, n in counts.items()]
    return _chart("Set aside, and why", told)


def of_rounds(rounds: Sequence[Mapping[str, Any]]) -> Chart | None:
    """Features saved in each round."""
    return _chart("Features saved in each round", [(r["label"], [(r["saved"], "left")], f"{r['saved']:,}") for r in rounds])


def of_tally(layer: Layer) -> Chart | None:
    """What a tally counted, for each layer and value."""
    names = layer.table.column_names
    if "features" not in names:
        return None
    labels = [layer.table.column(n).to_pylist() for n in names[: names.index("features")]]
    told: list[Row] = []
    for values, number in zip(zip(*labels, strict=True), layer.table.column("features").to_pylist(), strict=True):
        told.append((" · ".join("no value" if v is None else str(v) for v in values), [(number or 0, "left")], f"{number or 0:,}"))
    return _chart(f"Counted by {layer.step or layer.key}", told)


def spread_of(values: np.ndarray, breaks: Sequence[float], colours: Sequence[str]) -> str:
    """How values are spread over their classes: columns of equal width in the colours of the classes, as SVG; empty for too few.

    Parameters
    ----------
    values : float64; NaN and infinite ones do not count.
    breaks : upper limits of all classes but the last, ascending.
    colours : one a class.
    """
    known = values[np.isfinite(values)]
    if len(known) < 2 or known.min() == known.max() or len(colours) != len(breaks) + 1:
        return ""
    low, high = float(known.min()), float(known.max())
    edges = np.linspace(low, high, _BINS + 1)
    of = np.searchsorted(np.asarray(breaks, float), known, side="left")
    bins = np.clip(np.searchsorted(edges, known, side="right") - 1, 0, _BINS - 1)
    counts = np.zeros((len(colours), _BINS), int)
    np.add.at(counts, (of, bins), 1)
    most = counts.sum(axis=0).max()
    wide = (_WIDE - 20) / _BINS
    parts = []
    for bin_ in range(_BINS):
        foot = float(_HIGH - 18)
        for klass, colour in enumerate(colours):
            number = int(counts[klass, bin_])
            if number:
                tall = max(number / most * (_HIGH - 30), 0.8)
                foot -= tall
                at = f'x="{10 + bin_ * wide:.1f}" y="{foot:.1f}" width="{wide - 1:.1f}" height="{tall:.1f}"'
                parts.append(f'<rect {at} fill="{colour}" stroke="#4A5B59" stroke-width=".4"/>')
    parts.append(f'<path d="M10 {_HIGH - 18}H{_WIDE - 10}" stroke="#1D2B2A"/>')
    told = ((10, "start", format_quantity(low)), (_WIDE - 10, "end", format_quantity(high)))
    for x, anchor, text in (*told, (_WIDE // 2, "middle", f"at most {int(most):,} in a column")):
        parts.append(f'<text x="{x}" y="{_HIGH - 4}" text-anchor="{anchor}" font-size="11" fill="#1D2B2A">{escape(text)}</text>')
    return f'<svg class="spread" viewBox="0 0 {_WIDE} {_HIGH}" role="img" aria-label="How the values are spread">{"".join(parts)}</svg>'
