"""Put rows in order."""

from __future__ import annotations

import numpy as np

from eskret.core.accounts.account import Relation
from eskret.core.layer import ChunkedLayer, Layer, LayerFacts
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.ordering import ordered_rows, ordering_field, ordering_fields


class Sort(EachLayer):
    """Put the rows of a layer in the order of their values.

    By several fields, the first counting most. Write down after a field for the greatest first: tonnes down. Rows whose
    value is empty come last either way; equal ones keep their order. Formats that order rows by place, such as
    FlatGeobuf, do not keep it.
    """

    id = "sort"
    title = "Sort"
    phase = Phase.DESCRIBE
    menu_order = 65
    relation = Relation.ONE_FOR_ONE
    says = "Sort {entering} by {by}"
    also_known_as = (
        "order by",
        "sort rows",
        "arrange rows",
        "ascending",
        "descending",
        "largest first",
        "alphabetical order",
        "order by date",
    )

    class Settings(OperationSettings):
        by: list[str] = setting(
            "In the order of",
            kind="patterns",
            min_length=1,
            example="district, tonnes down",
            help="Fields, the first counting most; with down after it, the greatest first.",
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = named_fields.named(facts, [ordering_field(b, facts.names())[0] for b in settings.by], "by")
        return Forecast((), tuple(found)) if found else Forecast((facts,))

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.PARTS

    def places(self, layer: ChunkedLayer, settings: Settings) -> np.ndarray:
        order = ordered_rows(layer.columns(ordering_fields(layer, settings.by)), len(layer), settings.by)
        places = np.empty(len(layer), np.int64)
        places[order] = np.arange(len(layer))
        return places

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        order = ordered_rows(layer.table.select(ordering_fields(layer, settings.by)), len(layer), settings.by)
        out = layer.take(order)
        return Outcome((out,), lineage=order)
