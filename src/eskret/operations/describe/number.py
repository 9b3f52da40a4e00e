"""Number rows."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.account import InputAccount, OutputAccount, Relation, Remark
from eskret.core.groups import group_rows
from eskret.core.layer import Field, Layer, LayerFacts
from eskret.core.totals import totals_of
from eskret.core.words import bold, counted
from eskret.operations import figuring
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, in_words
from eskret.operations.naming_fields import field_called, told_of_field
from eskret.operations.ordering import ordered_rows, ordering_field
from eskret.operations.settings import OperationSettings, setting


class Number(EachLayer):
    """Number the features of a layer, or of each group in it, in the order of their values.

    The rows stay where they are; only the numbers follow the order. Without an order they are numbered as they stand. Groups
    are of the values of fields, an empty value a group of its own. Numbers begin where you say and go on by as much as you
    say. A field that is there already is written over.
    """

    id = "number"
    title = "Number"
    phase = Phase.DESCRIBE
    rank = 66
    relation = Relation.ONE_FOR_ONE
    also_known_as = ("running number", "sequence", "serial number", "row number", "enumerate", "index", "count up", "new key")

    class Settings(OperationSettings):
        field: str = setting("Field", default="number", min_length=1, help="The field that gets the numbers.")
        within: list[str] = setting(
            "From one again in each",
            kind="fields",
            default=[],
            example="district",
            help="Fields whose values make groups; each group is numbered for itself.",
        )
        order: list[str] = setting(
            "In the order of",
            kind="patterns",
            default=[],
            example="district, tonnes down",
            help="Fields, the first counting most; with down after it, the greatest first. None numbers rows as they stand.",
        )
        start: int = setting("First number", kind="whole", default=1, help="The number of the first row of each group.")
        increment: int = setting("Go on by", kind="whole", default=1, help="How much greater each next number is.")

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        parts = [f"Number {bold(entering or '…')}"]
        for name, words in (("within", "within each"), ("order", "by")):
            given = settings.get(name)
            if isinstance(given, list) and given:
                parts.append(f"{words} {in_words(map(str, given), 4)}")
        return " ".join(parts)

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = figuring.named(facts, settings.within, "within")
        found += figuring.named(facts, [ordering_field(t, facts.names())[0] for t in settings.order], "order")
        if found:
            return Forecast((), tuple(found))
        name = field_called(facts.names(), settings.field, context)
        found = told_of_field(facts, settings.field, name)
        fields = list(facts.fields)
        if name in facts.names():
            fields[facts.names().index(name)] = Field(name, pa.int64())
        else:
            fields.append(Field(name, pa.int64()))
        return Forecast((facts.with_fields(fields, [name]),), tuple(found))

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        order = ordered_rows(layer, settings.order)
        groups = group_rows(layer.table, settings.within) if settings.within else None
        of = groups.of if groups is not None else np.zeros(len(layer), np.int64)
        # rows of one group together, each in the order wanted; how far each is from the first of its group
        together = order[np.argsort(of[order], kind="stable")]
        begins = np.flatnonzero(np.diff(of[together], prepend=-1)) if len(layer) else np.empty(0, np.int64)
        lengths = np.diff(begins, append=len(layer))
        place = np.empty(len(layer), np.int64)
        place[together] = np.arange(len(layer)) - np.repeat(begins, lengths)
        name = field_called(layer.table.column_names, settings.field, context)
        column = pa.array(settings.start + settings.increment * place, pa.int64())
        at = layer.table.schema.get_field_index(name)
        table = layer.table.append_column(name, column) if at < 0 else layer.table.set_column(at, name, column)
        out = layer.with_table(table)
        said = f"numbered from {settings.start:,}"
        if settings.within:
            said += f" in {counted(len(begins), 'group')}, the largest of {counted(int(lengths.max(initial=0)), 'feature')}"
        return Outcome(
            (out,),
            (InputAccount("from", layer.key, len(layer)),),
            (OutputAccount(layer.key, len(out), totals_of(out, context.totals)),),
            np.arange(len(layer)),
            (Remark(said, layer.key),),
        )
