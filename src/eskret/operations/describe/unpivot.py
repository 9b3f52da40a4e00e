"""Columns to rows: the reverse of a pivot."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.accounts.account import ControlTotal, InputAccount, OutputAccount, Relation, Remark, SetAside
from eskret.core.layer import Certainty, Field, Layer, LayerFacts, type_word
from eskret.core.measure.totals import totals_of
from eskret.core.naming import number_collisions
from eskret.core.tables.values import empties, exact_sum, is_number
from eskret.core.words import bold
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, Takes, has_errors
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields


class Unpivot(EachLayer):
    """Turn columns into rows: one row for each column, with its name and its value.

    The reverse of Pivot: a table with a column for each species or year becomes one with a field for the species and a
    field for the figure. All other fields, and the shape, stand in every row. Numbers stay numbers; where columns hold
    different kinds of values, they become text and the step says so.
    """

    id = "unpivot"
    title = "Columns to rows"
    phase = Phase.DESCRIBE
    menu_order = 63
    relation = Relation.MULTIPLIED
    also_known_as = (
        "unpivot",
        "melt",
        "wide to long",
        "stack columns",
        "reverse pivot",
        "columns into rows",
        "columns to rows",
        "row for each column",
        "one row per year",
        "transpose",
        "tidy table",
    )

    class Settings(OperationSettings):
        columns: list[str] = setting(
            "Columns", kind="fields", min_length=1, example="mussel, oyster", help="The fields of which each makes a row."
        )
        name_field: str = setting("Field for the name", default="name", min_length=1, help="The new field with the column's name.")
        value_field: str = setting("Field for the value", default="value", min_length=1, help="The new field with what stood there.")
        empty: Literal["keep", "drop"] = setting(
            "Where there is no value",
            kind="choice",
            default="drop",
            choices={"keep": "make a row all the same", "drop": "make no row"},
            help="What becomes of a column that is empty in a row.",
        )

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        given = settings.get("columns")
        names = join_words(map(str, given), 3) if isinstance(given, list) and given else "…"
        return f"Columns {names} of {bold(entering or '…')} to rows"

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = named_fields.named(facts, settings.columns, "columns")
        if len(set(settings.columns)) < len(settings.columns):
            found.append(Finding.error("A column is named twice.", "columns"))
        types = {f.name: f.type for f in facts.fields}
        kind = None if has_errors(found) else _kind([types[n] for n in settings.columns])
        if kind is None and not has_errors(found):
            no_text = [n for n in settings.columns if pa.types.is_nested(types[n]) or pa.types.is_binary(types[n])]
            if no_text:
                text = f"{join_words(no_text, 3)} cannot stand in one field with the others: lists and bytes make no text."
                found.append(Finding.error(text, "columns", facts))
        if has_errors(found):
            return Forecast((), tuple(found))
        if kind is None:
            words = join_words(dict.fromkeys(type_word(types[n]) for n in settings.columns), 4)
            found.append(Finding.look(f"the columns hold {words}, so their values become text.", "columns", facts))
        kept = [f for f in facts.fields if f.name not in settings.columns]
        names = number_collisions([settings.name_field, settings.value_field], taken=[f.name for f in kept])
        out = facts.with_fields([*kept, Field(names[0], pa.string()), Field(names[1], kind or pa.string())])
        count = facts.count * len(settings.columns) if facts.count is not None else None
        certain = facts.certainty if settings.empty == "keep" else Certainty.AT_MOST if count is not None else Certainty.UNKNOWN
        return Forecast((replace(out, count=count, certainty=certain),), tuple(found))

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        table, wide = layer.table, len(settings.columns)
        kind = _kind([table.column(n).type for n in settings.columns])
        columns = [table.column(n) for n in settings.columns]
        values = pa.chunked_array([c for x in columns for c in _as(x, kind or pa.string()).chunks], kind or pa.string())
        # the columns stand one below the other; of each row they come together
        by_row = np.arange(len(layer) * wide).reshape(wide, len(layer)).T.ravel()
        values = values.take(pa.array(by_row, pa.int64()))
        rows, of = np.repeat(np.arange(len(layer)), wide), np.tile(np.arange(wide), len(layer))
        if settings.empty == "drop":
            there = ~empties(values)
            rows, of, values = rows[there], of[there], values.filter(pa.array(there))
        others = [n for n in table.column_names if n not in settings.columns]
        names = number_collisions([settings.name_field, settings.value_field], taken=others)
        kept = {n: table.column(n).take(pa.array(rows, pa.int64())) for n in others}
        heads = pa.array(settings.columns, pa.string()).take(pa.array(of, pa.int64()))
        out = layer.take(rows).with_table(pa.table({**kept, names[0]: heads, names[1]: values}))
        if out.has_geometry:
            out = out.with_geometry(out.geometry, out.kind, ids=None)
        gone = np.setdiff1d(np.arange(len(layer)), rows)
        aside = SetAside.from_reasons([("has no value in any of the columns", gone)])
        controls = [ControlTotal("values", "", sum(len(c) - (c.null_count if settings.empty == "drop" else 0) for c in columns), len(out))]
        if kind is not None and is_number(kind):
            whole = sum(exact_sum(c) for c in columns)
            controls.append(ControlTotal("sum of all columns", "", whole, exact_sum(out.table.column(names[1]))))
        told = OutputAccount(layer.key, len(out), totals_of(out, context.totals), tuple(controls))
        remarks = [Remark.counted("{n|row} of " + f"{wide:,} columns", layer.key, n=len(out))]
        if kind is None:
            remarks.append(Remark("values of different kinds became text", layer.key, look=True).once())
        elif pa.types.is_floating(kind) and any(_beyond(c) for c in columns):
            remarks.append(Remark("whole numbers above 9,007,199,254,740,992 were rounded", layer.key, look=True).once())
        return Outcome((out,), (InputAccount.of(layer, aside),), (told,), rows, tuple(remarks))


def _kind(types: list[pa.DataType]) -> pa.DataType | None:
    """What holds the values of all columns; None for a text of them."""
    if all(one == types[0] for one in types):
        return types[0]
    if all(pa.types.is_integer(one) for one in types):
        return pa.int64()
    return pa.float64() if all(pa.types.is_integer(one) or pa.types.is_floating(one) for one in types) else None


def _beyond(column: pa.ChunkedArray) -> bool:
    """Whether whole numbers are too large to be told apart as decimal ones."""
    if not pa.types.is_integer(column.type) or len(column) == column.null_count:
        return False
    most = pc.min_max(column).as_py()
    return bool(max(abs(most["min"]), abs(most["max"])) > 2**53)


def _as(column: pa.ChunkedArray, kind: pa.DataType) -> pa.ChunkedArray:
    if column.type == kind:
        return column
    return column.cast(kind, safe=False)
