"""Keep the features that meet a condition."""

from __future__ import annotations

import numpy as np

from eskret.core.expression import parse_condition, truth
from eskret.core.layer import Layer, LayerFacts
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.row_wise import Chosen, RowFilter

NOT_MET = "does not meet the condition"
UNKNOWN = "a field the condition asks for is empty"


class Keep(RowFilter):
    """Keep the features that meet a condition on their fields.

    Write the condition in SQL: name = 'North', desc LIKE 'Pile%', tonnes BETWEEN 5 AND 20, kind IN ('a', 'b'),
    licence IS NOT NULL. A parameter is written with a dollar sign, as in district = $district; its value is bound, so
    quotes in it do no harm. Upper and lower case of field names do not matter; in texts they do (ILIKE ignores them).
    A feature whose condition is unknown, because a field in it is empty, is set aside with that reason.
    """

    id = "keep"
    title = "Keep"
    phase = Phase.CHOOSE
    menu_order = 10
    says = "Keep {entering} where {where}"
    also_known_as = (
        "select",
        "filter",
        "choose by attribute",
        "where",
        "query",
        "subset",
        "like",
        "condition",
        "extract",
        "only some",
        "only where",
        "only rows",
        "only larger than",
        "filter by attribute",
        "by an expression",
        "remove rows below",
        "remove records without value",
        "throw away rows",
        "is not empty",
    )

    class Settings(OperationSettings):
        where: str = setting(
            "Condition",
            kind="condition",
            example="desc LIKE 'Pile%'",
            help="Features for which this SQL condition is true are kept, the others are set aside.",
        )

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        return named_fields.wrong_condition(facts, settings.where, context)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def choose(self, layer: Layer, settings: Settings, context: Context) -> Chosen:
        condition = parse_condition(settings.where, layer.table.schema, context.values, context.field_values)
        holds, unknown = truth(condition, layer.table, context.values)
        aside = [(NOT_MET, np.flatnonzero(~holds & ~unknown)), (UNKNOWN, np.flatnonzero(unknown & ~holds))]
        return Chosen(np.flatnonzero(holds), aside, named_fields.no_numbers(layer, condition.fields))
