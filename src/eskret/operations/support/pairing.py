"""Features of another layer that go with each feature: which, and what of them is taken."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import InputAccount, SetAside
from eskret.core.layer import Field, Layer, LayerFacts
from eskret.core.measure.aggregates import Statistic, fields_of, statistics_of
from eskret.core.naming import number_collisions
from eskret.core.tables.groupby import Groups
from eskret.core.tables.rows import remaining
from eskret.core.tables.values import is_number
from eskret.operations.base import Brought
from eskret.operations.settings import setting
from eskret.operations.support.other_layer import NO_PLACE, Others


@dataclass(frozen=True)
class Pairs:
    """Which row of the layer goes with which of the other (positions, int64), by row and in the order of preference."""

    row: np.ndarray
    other: np.ndarray


def several_setting(first: str) -> Any:
    """What becomes of several that go with one feature."""
    return setting(
        "Several that fit",
        kind="choice",
        default="first",
        help="What becomes of several that go with one feature.",
        choices={
            "first": first,
            "list": "list all different values",
            "sum": "add numbers up, list texts",
            "repeat": "repeat the feature for each",
        },
    )


def brought_names(facts: LayerFacts | Layer, other: LayerFacts | Layer, fields: Sequence[str]) -> list[tuple[str, str]]:
    """The fields brought from another layer, with the names they get."""
    there = [f.name for f in facts.fields]
    wanted = list(fields) or [f.name for f in other.fields]
    return list(zip(wanted, number_collisions(wanted, taken=there, limit=10_000), strict=True))


def brought_fields(facts: LayerFacts, other: LayerFacts, fields: Sequence[str], several: str) -> list[Field]:
    """The new fields."""
    kinds = {f.name: f for f in other.fields}
    out = []
    for name, new in brought_names(facts, other, fields):
        kind = kinds[name].type
        if several == "list" or (several == "sum" and not is_number(kind)):
            kind = pa.string()
        elif several == "sum":
            kind = fields_of([Statistic(name, "sum", name)], [kinds[name]])[0].type
        out.append(Field(new, kind, kinds[name].title))
    return out


def with_brought(
    layer: Layer, other: Layer, pairs: Pairs, fields: Sequence[str], several: str, kept: np.ndarray
) -> tuple[Layer, np.ndarray, np.ndarray]:
    """The layer with the other's fields.

    Parameters
    ----------
    kept : rows that stay, with or without a partner (ascending).

    Returns
    -------
    The layer, the row each of its rows comes from, and the partner of each (-1 for none, or where there are several).
    """
    begin = np.searchsorted(pairs.row, kept)
    end = np.searchsorted(pairs.row, kept, side="right")
    count = end - begin
    names = brought_names(layer, other, fields)
    if several == "repeat":
        times = np.maximum(count, 1)
        rows = np.repeat(kept, times)
        step = np.arange(len(rows)) - np.repeat(np.cumsum(times) - times, times)
        place = np.repeat(begin, times) + step
        partner = np.where(
            np.repeat(count, times) > 0, pairs.other[np.minimum(place, max(len(pairs.other) - 1, 0))] if len(pairs.other) else -1, -1
        )
    else:
        rows = kept
        first = pairs.other[np.minimum(begin, max(len(pairs.other) - 1, 0))] if len(pairs.other) else np.full(len(kept), -1)
        partner = np.where(count > 0, first, -1)
    columns: list[Any]
    if several in ("first", "repeat"):
        columns = [taken(other.table.column(name), partner) for name, _ in names]
    else:
        # the pairs as groups: one for each kept row that has any
        of = np.full(len(pairs.row), -1, np.int64)
        at = np.searchsorted(kept, pairs.row)
        inside = (at < len(kept)) & (kept[np.minimum(at, max(len(kept) - 1, 0))] == pairs.row) if len(kept) else of >= 0
        of[inside] = at[inside]
        having, place = np.unique(of[inside], return_inverse=True)
        of[inside] = place
        groups = Groups(of, np.searchsorted(of[inside], np.arange(len(having))))
        made = statistics_of(other.table.take(pa.array(pairs.other)), groups, figures_of(other, [n for n, _ in names], several))
        group = np.full(len(kept), -1, np.int64)
        group[having] = np.arange(len(having))
        columns = [taken(pa.chunked_array([c]), group) for c in made]
        partner = np.where(count == 1, partner, -1)
    return with_columns(layer, other, names, columns, rows, several == "repeat"), rows, partner


def links_of(setting: str, pairs: Pairs, kept: np.ndarray, partner: np.ndarray, several: str) -> Brought:
    """Which rows of the other layer went into which that leave.

    Parameters
    ----------
    kept : rows that stay, with or without a partner (ascending).
    partner : of each row that leaves, as ``with_brought`` has it.
    """

    def found() -> tuple[np.ndarray, np.ndarray]:
        if several in ("first", "repeat"):
            leaving = np.flatnonzero(partner >= 0)
            return np.asarray(partner[leaving], np.int64), leaving
        there = np.isin(pairs.row, kept)
        return pairs.other[there], np.searchsorted(kept, pairs.row[there])

    return Brought(setting, found)


def figures_of(other: Layer, fields: Sequence[str], several: str) -> list[Statistic]:
    """What becomes of several values, where they become one; nothing where they do not."""
    if several not in ("sum", "list"):
        return []
    return [Statistic(n, "sum" if several == "sum" and is_number(other.table.column(n).type) else "list", n) for n in fields]


def with_columns(
    layer: Layer, other: Layer, names: Sequence[tuple[str, str]], columns: Sequence[Any], rows: np.ndarray, repeated: bool = False
) -> Layer:
    """Rows of a layer with further fields, which have their titles from those of the other layer.

    Parameters
    ----------
    names : the fields of the other, with the names that they get.
    """
    out = layer.take(rows) if len(rows) != len(layer) or repeated else layer
    table = out.table
    for (_, new), column in zip(names, columns, strict=True):
        table = table.append_column(new, column)
    titles = {new: other.titles[name] for name, new in names if name in other.titles}
    return out.with_table(table).titled({**layer.titles, **titles})


def taken(column: pa.ChunkedArray, at: np.ndarray) -> pa.ChunkedArray:
    """Values at these positions, null for -1."""
    if not len(column):
        return pa.chunked_array([pa.nulls(len(at), column.type)])
    if (at >= 0).all():
        return column.take(pa.array(at, pa.int64()))
    return column.take(pa.array(np.maximum(at, 0), pa.int64(), mask=at < 0))


def other_account(setting: str, others: Others, used: np.ndarray, why: str) -> InputAccount:
    """What became of the rows of the other layer: those used, those that no feature took, those without a place."""
    assert others.layer is not None
    missing = remaining(len(others.layer), others.rows)
    aside = SetAside.from_reasons([(why, np.setdiff1d(others.rows, used)), (NO_PLACE, missing)])
    return InputAccount(setting, others.layer.key, len(others.layer), aside)
