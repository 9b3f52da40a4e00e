"""What a style makes of a layer's rows: the group of each, and what each group is called and coloured."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.style.classes import class_labels, class_of
from eskret.core.style.ramps import MANY, NO_VALUE, OTHERS, ramp_colours, value_colours
from eskret.core.style.style import CLASSES, ONE, Style


@dataclass(frozen=True, slots=True)
class LegendEntry:
    """One line of a legend. ``value`` is the value it stands for, as text; ``rest`` for those that share a colour."""

    text: str
    colour: str
    count: int
    value: str = ""
    rest: bool = False


@dataclass(frozen=True)
class Legend:
    """Entries, and for each row of the layer the number of its own (int16)."""

    entries: tuple[LegendEntry, ...] = ()
    of: np.ndarray | None = None

    def __bool__(self) -> bool:
        return bool(self.entries)


def numbers_of(column: pa.ChunkedArray) -> np.ndarray | None:
    """A field as float64, NaN for no value; None where it holds no numbers."""
    kind = column.type
    if pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return pc.fill_null(column.cast(pa.float64(), safe=False), float("nan")).to_numpy()
    return None


def texts_of(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """A field as text, as a style names its values; null and empty text are both ``""``."""
    if pa.types.is_nested(column.type) or pa.types.is_binary(column.type):
        plain = pa.chunked_array([pa.array([None if v is None else repr(v) for v in column.to_pylist()], pa.string())])
    elif pa.types.is_boolean(column.type):
        plain = pc.if_else(column, "yes", "no")
    else:
        plain = column.cast(pa.string())
    return pc.fill_null(plain, "")


def legend_of(style: Style, table: pa.Table, breaks: Sequence[float] = ()) -> Legend:
    """Put the rows of a table into the groups of a style.

    Parameters
    ----------
    breaks : the limits between classes, for a style by classes.

    Returns
    -------
    An empty legend where the style is of one colour, or the table does not have its field, or not as numbers.
    """
    if style.by == ONE or style.field not in table.column_names:
        return Legend()
    column = table.column(style.field)
    return _classes(style, column, breaks) if style.by == CLASSES else _values(style, column)


def _classes(style: Style, column: pa.ChunkedArray, breaks: Sequence[float]) -> Legend:
    values = numbers_of(column)
    if values is None:
        return Legend()
    of = class_of(values, breaks)
    known = values[np.isfinite(values)]
    low, high = (float(known.min()), float(known.max())) if len(known) else (0.0, 0.0)
    labels = class_labels(breaks, low, high)
    counts = np.bincount(of[of >= 0], minlength=len(labels))
    colours = ramp_colours(style.ramp, len(labels), style.turned)
    entries = [LegendEntry(t, c, int(n)) for t, c, n in zip(labels, colours, counts, strict=True)]
    return _with_none(entries, of, "no value")


def _with_none(entries: list[LegendEntry], of: np.ndarray, text: str) -> Legend:
    none = of < 0
    if none.any():
        of = np.where(none, len(entries), of)
        entries.append(LegendEntry(text, NO_VALUE, int(none.sum()), rest=True))
    return Legend(tuple(entries), of.astype(np.int16))


def _values(style: Style, column: pa.ChunkedArray) -> Legend:
    coded = texts_of(column).combine_chunks().dictionary_encode()
    there = coded.dictionary.to_pylist()
    codes = coded.indices.to_numpy()
    number = {value: n for n, value in enumerate(style.colours)}
    empty = "" in number
    beyond = len(number)
    turn = np.array([number.get(v, beyond if v or empty else -1) for v in there] or [0], np.int64)
    of = turn[codes]
    counts = np.bincount(of[of >= 0], minlength=beyond + 1)
    entries = [
        LegendEntry(value or "empty", colour, int(n), value) for (value, colour), n in zip(style.colours.items(), counts, strict=False)
    ]
    if counts[beyond]:
        others = sum(1 for v in there if v not in number and v)
        entries.append(LegendEntry(f"{others:,} other value{'s' if others != 1 else ''}", OTHERS, int(counts[beyond]), rest=True))
    return _with_none(entries, of, "empty")


def colours_for(column: pa.ChunkedArray, keep: dict[str, str] | None = None) -> dict[str, str]:
    """A colour for each value of a field, at most ``MANY``: the most frequent, in the order a person would list them.

    Parameters
    ----------
    keep : colours that values have already.
    """
    counted = pc.value_counts(texts_of(column).combine_chunks())
    pairs = [(v, n) for v, n in zip(counted.field("values").to_pylist(), counted.field("counts").to_pylist(), strict=True)]
    kept = dict(keep or {})
    new = sorted((v for v, _ in pairs if v and v not in kept), key=dict(pairs).__getitem__, reverse=True)
    room = max(0, MANY - len(kept))
    free = [c for c in value_colours() if c not in kept.values()]
    chosen = sorted(new[:room], key=_natural)
    return {**kept, **dict(zip(chosen, free, strict=False))}


def _natural(text: str) -> tuple[int, float, str]:
    try:
        return 0, float(text), text
    except ValueError:
        return 1, 0.0, text.casefold()
