"""Turn values of a field into columns."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import ControlTotal, InputAccount, OutputAccount, Relation, Remark, SetAside
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.aggregates import fields_of, parse_statistics, statistics_of
from eskret.core.naming import clean_name, number_collisions
from eskret.core.tables.groupby import group_codes, group_rows
from eskret.core.tables.values import exact_sum, settled
from eskret.core.words import pluralise
from eskret.errors import SettingError
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, has_errors
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.setting_types import Figure

_MOST = 1_900


class Pivot(EachLayer):
    """Turn the values of a field into columns, with a figure in each cell.

    A row for each value of some fields, a column for each value of another, and in the cell the sum, the count or
    another figure of the rows that have both: landings by district and species. Columns are called after their value by
    the naming rule. A cell without any row stays empty.
    """

    id = "pivot"
    title = "Pivot"
    phase = Phase.DESCRIBE
    menu_order = 62
    relation = Relation.GROUPED
    says = "Pivot {entering} by {by} and {columns}, {cell}"
    also_known_as = (
        "crosstab",
        "cross table",
        "cross tabulation",
        "values to columns",
        "rows to columns",
        "long to wide",
        "years as columns",
        "columns from values",
        "values as column headings",
        "contingency",
        "matrix",
        "reshape",
    )

    class Settings(OperationSettings):
        by: list[str] = named_fields.by_setting(
            "A row for each", "Rows with the same values in these become one.", default=..., min_length=1
        )
        columns: str = setting(
            "A column for each", kind="field", min_length=1, example="species", help="The field whose values become columns."
        )
        cell: Figure = setting(
            "In the cell",
            default="count",
            min_length=1,
            example="sum tonnes",
            help="A figure: count, or sum, mean, min, max, first, list ... and a field.",
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = [*named_fields.named(facts, settings.by, "by"), *named_fields.named(facts, [settings.columns], "columns")]
        made, more = named_fields.forecast_figures(facts, {"cell": settings.cell}, setting="cell")
        found += more
        if settings.columns in settings.by:
            found.append(Finding.error(f"'{settings.columns}' cannot make rows and columns.", "columns"))
        if has_errors(found):
            return Forecast((), tuple(found))
        kept = {f.name: f for f in facts.fields}
        fields = [kept[n] for n in settings.by]
        values = facts.values([settings.columns])
        if values is None:
            found.append(Finding.note("which columns this makes only the run will tell.", about=facts))
        else:
            heads = group_rows(values, [settings.columns], without_empty=True)
            fields += [Field(n, made[0].type) for n in _names(values.column(0), heads.first, settings.by)]
        out = facts.with_fields(fields)
        return Forecast((replace(out, kind=GeometryKind.TABLE, crs=None, extent=None, certainty=Certainty.AT_MOST),), tuple(found))

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        rows = group_rows(layer.table, settings.by)
        columns = group_rows(layer.table, [settings.columns], without_empty=True)
        if columns.count > _MOST:
            raise SettingError(
                f"'{settings.columns}' has {columns.count:,} values, more than a table can have columns",
                setting="columns",
                way_out="Choose another field",
            )
        used = columns.of >= 0
        one = parse_statistics({"cell": settings.cell}, layer.table.column_names)[0]
        some = layer.table.take(pa.array(np.flatnonzero(used), pa.int64()))
        cells = group_codes([rows.of[used] * max(columns.count, 1) + columns.of[used]], int(used.sum()))
        figures = statistics_of(some, cells, [one])[0]
        # rows all of whose values are empty in the column field are set aside, so they are no row here
        heads, place = np.unique(rows.of[used], return_inverse=True)
        row_of, column_of = place[cells.first], columns.of[used][cells.first]
        names = _names(layer.table.column(settings.columns), columns.first, settings.by)
        kind = fields_of([one], layer.fields)[0].type
        made = []
        for number in range(columns.count):
            at = np.full(len(heads), -1, np.int64)
            mine = np.flatnonzero(column_of == number)
            at[row_of[mine]] = mine
            made.append(figures.take(pa.array(np.maximum(at, 0), mask=at < 0)) if len(figures) else pa.nulls(len(heads), kind))
        head = layer.table.select(settings.by).take(pa.array(rows.first[heads], pa.int64()))
        table = pa.table([*head.columns, *made], names=[*settings.by, *names])
        out = Layer(layer.key, table, None, None, layer.name, layer.origin)
        into = np.full(len(layer), -1, np.int64)
        into[used] = place
        aside = SetAside.from_reasons([(f"has no value in {settings.columns}", np.flatnonzero(~used))])
        controls: tuple[ControlTotal, ...] = ()
        if one.what in ("sum", "count"):
            whole: Any = len(some)
            if one.field:
                values = settled(some.column(one.field))
                whole = exact_sum(values) if one.what == "sum" else len(some) - values.null_count
            found: Any = sum(exact_sum(pa.chunked_array([c])) for c in made)
            controls = (ControlTotal(f"{settings.cell} of all cells", "", whole, found),)
        remarks = [Remark(f"{pluralise(len(out), 'row')} and {pluralise(columns.count, 'column')}", layer.key)]
        remarks += named_fields.no_numbers(layer, [*settings.by, settings.columns, one.field])
        return Outcome(
            (out,),
            (InputAccount.of(layer, aside),),
            (OutputAccount(layer.key, len(out), controls=controls),),
            None,
            tuple(remarks),
            into=into,
        )


def _names(column: pa.ChunkedArray, first: np.ndarray, taken: list[str]) -> list[str]:
    values = column.take(pa.array(first, pa.int64())).to_pylist()
    return number_collisions([clean_name(str(v), keep_case=True) or "value" for v in values], taken=taken)
