"""Compute a field."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Literal

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import Altered, Remark, verbatim
from eskret.core.expression import comes_by_rule, evaluate, parse, result_type
from eskret.core.layer import Field, Layer, LayerFacts, type_word
from eskret.core.tables.cast import TYPES, retyped, type_called
from eskret.core.tables.values import empties
from eskret.errors import ExpressionError
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.naming_fields import field_called, told_of_field
from eskret.operations.support.row_wise import Columns, FieldsPerRow, MadeFields


class Compute(FieldsPerRow):
    """Compute a field from the others with an SQL expression.

    For example tonnes / area_ha, upper(name), round(depth_m, 1), CASE WHEN depth_m > 20 THEN 'deep' ELSE 'shallow' END,
    coalesce(name, 'unnamed'), extract(year FROM time). A single slash divides with decimals, // without; dividing by zero
    gives an empty value. A parameter is written with a dollar sign. A row for which the expression cannot be worked out, such as
    a text that is no number, gets an empty value and is told with the reason.
    """

    id = "compute"
    title = "Compute"
    phase = Phase.DESCRIBE
    menu_order = 10
    says = "Compute {field} = {value} for {entering}"
    also_known_as = (
        "formula for a field",
        "formula",
        "expression",
        "calculator",
        "derive",
        "new column",
        "calculated field",
        "update field",
        "case when",
        "if then else",
        "density per hectare",
        "round values",
        "uppercase",
        "concatenate fields",
        "arithmetic",
    )

    class Settings(OperationSettings):
        field: str = setting(
            "Field",
            min_length=1,
            example="tonnes_per_ha",
            help="The field that gets the values. A new name makes a new field; an existing one is overwritten.",
        )
        value: str = setting(
            "Value", kind="expression", min_length=1, example="tonnes / area_ha", help="An SQL expression over the fields of a row."
        )
        type: Literal["as it comes", "whole", "number", "text", "yes/no", "date", "time"] = setting(
            "Type", kind="choice", default="as it comes", choices=TYPES, help="What the field holds."
        )

    def fields(self, facts: LayerFacts, settings: Settings, context: Context) -> MadeFields:
        try:
            expression = parse(settings.value, facts.names(), context.field_values)
            found = result_type(expression, facts.schema(), context.values)
        except ExpressionError as error:
            return [], [Finding.error(error.sentence(), "value", facts, start=error.start, length=error.length)]
        name = field_called(facts.names(), settings.field, context)
        kind = _kind(found, settings.type, [f.type for f in facts.fields if f.name in expression.fields])
        return [Field(name, kind)], told_of_field(facts, settings.field, name)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def columns(self, layer: Layer, settings: Settings, context: Context) -> Columns:
        expression = parse(settings.value, layer.table.column_names, context.field_values)
        result_type(expression, layer.table.schema, context.values)  # what is wrong for every row is an error
        values, failing = _values(expression, layer.table, context.values)
        none = _comes_to_none(expression, layer.table, values, context.values)
        asked = [layer.table.column(n).type for n in expression.fields]
        made = retyped(values, _kind(values.type, settings.type, asked))
        name = field_called(layer.table.column_names, settings.field, context)
        empty = int(made.column.null_count) - len(failing) - len(made.lost) - len(none)
        remarks = [Remark(f"'{name}' is {type_word(made.column.type)}", layer.key)]
        altered = []
        remarks += named_fields.no_numbers(layer, expression.fields)
        if len(none):
            text = "{n|row} came to no number, as by dividing by zero, and stay empty"
            remarks.append(Remark.counted(text, layer.key, look=True, n=len(none)))
            altered.append(Altered("came to no number, as by dividing by zero", none))
        for why, rows in _reasons(failing):
            remarks.append(Remark.counted(f"{{n|row}} could not be worked out: {verbatim(why)}", layer.key, look=True, n=len(rows)))
            altered.append(Altered(f"could not be worked out: {why}", rows))
        remarks.append(named_fields.lost_values("{n|value} cannot be " + type_word(made.column.type), made, layer.key))
        if len(made.lost):
            altered.append(Altered("its value does not fit the type", made.lost))
        if made.rounded:
            remarks.append(Remark.counted("{n|value} were rounded", layer.key, look=True, n=made.rounded))
        if empty > 0:
            remarks.append(Remark.counted("{n|row} came out empty", layer.key, n=empty))
        return Columns({name: made.column}, remarks, altered)


def _kind(found: pa.DataType, wanted: str, asked: Sequence[pa.DataType]) -> pa.DataType:
    """The type of the new field, of fields of these types. Decimals stay decimals; a number with a point in the expression alone
    makes none."""

    if wanted != "as it comes":
        return type_called(wanted)
    if pa.types.is_null(found):
        return pa.string()
    if pa.types.is_decimal(found) and not any(map(pa.types.is_decimal, asked)):
        return pa.float64()
    return pa.int64() if pa.types.is_integer(found) else found


def _comes_to_none(expression: Any, table: pa.Table, found: pa.ChunkedArray, values: Mapping[str, Any]) -> np.ndarray:
    """Rows that came out empty although every field asked for has a value there, where the expression divides or the like."""
    if not comes_by_rule(expression):
        return np.empty(0, np.int64)
    empty = np.asarray(found.is_null())
    for name in expression.fields:
        empty &= ~empties(table.column(name))
    if any(values.get(name) is None for name in expression.parameters):
        return np.empty(0, np.int64)
    return np.flatnonzero(empty)


_TRIES = 400


def _values(expression: Any, table: pa.Table, values: Mapping[str, Any]) -> tuple[pa.ChunkedArray, dict[int, str]]:
    """The values, and why those rows failed that did."""
    try:
        return evaluate(expression, table, values), {}
    except ExpressionError as first:
        column = evaluate(replace(expression, sql=f"TRY({expression.sql}\n)"), table, values)
        suspects = np.flatnonzero(np.asarray(column.is_null()))
        failing: dict[int, str] = {}
        tries = _TRIES

        def look(rows: np.ndarray) -> None:
            nonlocal tries
            if not len(rows) or tries <= 0:
                return
            tries -= 1
            try:
                evaluate(expression, table.take(pa.array(rows)), values)
            except ExpressionError as error:
                if len(rows) == 1:
                    failing[int(rows[0])] = error.problem
                else:
                    half = len(rows) // 2
                    look(rows[:half])
                    look(rows[half:])

        look(suspects)
        if not failing:
            raise first
        if tries <= 0:  # too many to be told one by one: the empty ones are taken to have failed as the first did
            for row in suspects.tolist():
                failing.setdefault(row, "as the others")
        return column, failing


def _reasons(failing: Mapping[int, str]) -> list[tuple[str, np.ndarray]]:
    by: dict[str, list[int]] = {}
    for row, why in failing.items():
        by.setdefault(why, []).append(row)
    ordered = sorted(by.items(), key=lambda pair: -len(pair[1]))
    rest = sorted(r for _, rows in ordered[3:] for r in rows)
    out = [(why, np.array(sorted(rows), np.int64)) for why, rows in ordered[:3]]
    return [*out, ("for other reasons", np.array(rest, np.int64))] if rest else out
