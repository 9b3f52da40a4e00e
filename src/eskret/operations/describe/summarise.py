"""Sum rows up by group."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, Literal

import numpy as np
from pydantic import model_validator

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation
from eskret.core.layer import Certainty, ChunkedLayer, GeometryKind, Layer, LayerFacts
from eskret.core.measure.aggregates import parse_statistics
from eskret.core.tables.groupby import group_rows
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.setting_types import Figures


class Summarise(EachLayer):
    """Summarise rows by the values of fields, as a table.

    A row for each value, or for each combination of several fields; without any, one row for everything. Figures are new
    fields made of the old: beds = count, tonnes = sum tonnes, deepest = max depth_m. Sums are proved against what
    entered. To keep shapes, use Dissolve.
    """

    id = "summarise"
    title = "Summarise"
    phase = Phase.DESCRIBE
    menu_order = 60
    relation = Relation.GROUPED
    says = "Summarise {entering}[ by {by}]"
    also_known_as = (
        "summary",
        "group by",
        "aggregate",
        "statistics",
        "totals",
        "sum by category",
        "count by",
        "average",
        "mean",
        "subtotal",
        "average by group",
        "minimum and maximum",
    )

    class Settings(OperationSettings):
        by: list[str] = named_fields.by_setting(help="A row for each value; with several fields, for each combination.")
        figures: Figures = named_fields.figures_setting()
        empty: Literal["group", "aside"] = setting(
            "If the value is empty",
            rare=True,
            kind="choice",
            default="group",
            choices={"group": "it makes a row of its own", "aside": "set the row aside"},
            help="Rows that have no value in a field they are summed up by.",
        )

        @model_validator(mode="after")
        def _something(self) -> Summarise.Settings:
            if not self.by and not self.figures:
                raise ValueError("name a field, or a figure")
            return self

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:

        found = named_fields.named(facts, settings.by, "by")
        made, more = named_fields.forecast_figures(facts, _wanted(settings), settings.by)
        found += more
        if found:
            return Forecast((), tuple(found))
        kept = {f.name: f for f in facts.fields}
        new = facts.with_fields([*(kept[n] for n in settings.by), *made])
        count = facts.count if settings.by else 1
        certainty = Certainty.AT_MOST if settings.by else Certainty.KNOWN
        return Forecast((replace(new, kind=GeometryKind.TABLE, crs=None, extent=None, count=count, certainty=certainty),))

    def fields_asked(self, settings: Settings) -> Sequence[str] | None:
        return [*settings.by, *(s.field for s in parse_statistics(_wanted(settings)) if s.field)]

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.PARTS if settings.by else Takes.WHOLE

    def places(self, layer: ChunkedLayer, settings: Settings) -> np.ndarray:
        return named_fields.group_places(layer, settings.by, settings.empty)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        groups = group_rows(layer.table, settings.by, without_empty=settings.empty == "aside")
        table, wanted = named_fields.grouped(layer.table, groups, settings.by, _wanted(settings))
        titles = {n: t for n, t in layer.titles.items() if n in settings.by}
        out = Layer(layer.key, table, None, None, layer.name, layer.origin, titles)
        used = np.flatnonzero(groups.of >= 0)
        aside = named_fields.without_value(groups, settings.by)
        controls = named_fields.sums_agree(layer.table, used, table, wanted)
        return Outcome(
            (out,),
            (InputAccount.of(layer, aside),),
            (OutputAccount(layer.key, len(out), controls=controls),),
            None,
            (
                named_fields.grown(layer, groups.count, len(used)),
                *named_fields.no_numbers(layer, [*settings.by, *(s.field for s in wanted)]),
            ),
            into=groups.of,
        )


def _wanted(settings: Any) -> dict[str, str]:
    """The figures; a count where none is named."""
    return dict(settings.figures) or {"rows" if "rows" not in settings.by else "rows_2": "count"}
