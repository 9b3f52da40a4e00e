"""Keep the features that meet a condition."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from eskret.core.account import Relation
from eskret.core.expression import parse_condition, truth
from eskret.core.layer import Layer, LayerFacts
from eskret.core.words import bold
from eskret.errors import ExpressionError
from eskret.operations import figuring
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Level, Outcome, Phase
from eskret.operations.kept import kept_outcome
from eskret.operations.settings import OperationSettings, setting

NOT_MET = "does not meet the condition"
UNKNOWN = "a field the condition asks for is empty"


class Keep(EachLayer):
    """Keep the features that meet a condition on their fields.

    Write the condition in SQL: name = 'North', desc LIKE 'Pile%', tonnes BETWEEN 5 AND 20, kind IN ('a', 'b'),
    licence IS NOT NULL. A parameter is written with a dollar sign, as in district = $district; its value is bound, so
    quotes in it do no harm. Upper and lower case of field names do not matter; in texts they do (ILIKE ignores them).
    A feature whose condition is unknown, because a field in it is empty, is set aside with that reason.
    """

    id = "keep"
    title = "Keep"
    phase = Phase.CHOOSE
    rank = 10
    relation = Relation.KEPT
    also_known_as = ("select", "filter", "choose by attribute", "where", "query", "subset", "like", "condition", "extract", "only")

    class Settings(OperationSettings):
        where: str = setting(
            "Condition",
            kind="condition",
            example="desc LIKE 'Pile%'",
            help="Features for which this SQL condition is true are kept, the others are set aside.",
        )

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        where = " ".join(str(settings.get("where") or "…").split())
        return f"Keep {bold(entering or '…')} where {where}"

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        try:
            parse_condition(settings.where, facts.schema(), context.values, context.field_values)
        except ExpressionError as error:
            finding = Finding(
                Level.ERROR, f"{facts.key}: {error.sentence()}", setting="where", layer=facts.key, start=error.start, length=error.length
            )
            return Forecast((), (finding,))
        return Forecast((replace(facts, certainty="at most", extent=None),))

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        condition = parse_condition(settings.where, layer.table.schema, context.values, context.field_values)
        holds, unknown = truth(condition, layer.table, context.values)
        aside = [(NOT_MET, np.flatnonzero(~holds & ~unknown)), (UNKNOWN, np.flatnonzero(unknown & ~holds))]
        told = figuring.no_numbers(layer, condition.fields)
        return kept_outcome(layer, np.flatnonzero(holds), aside, context, told)
