"""Number rows."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import Remark
from eskret.core.layer import Field, Layer, LayerFacts
from eskret.core.tables.groupby import group_rows
from eskret.core.words import pluralise
from eskret.operations.base import Context, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.naming_fields import field_called, told_of_field
from eskret.operations.support.ordering import ordered_rows, ordering_field, ordering_fields
from eskret.operations.support.row_wise import Columns, FieldsPerRow, MadeFields


class Number(FieldsPerRow):
    """Number the features of a layer, or of each group in it, in the order of their values.

    The rows stay where they are; only the numbers follow the order. Without an order they are numbered as they stand.
    Groups are of the values of fields, an empty value a group of its own. Numbers begin where you say and go on by as
    much as you say. An existing field of that name is overwritten.
    """

    id = "number"
    title = "Number"
    phase = Phase.DESCRIBE
    menu_order = 66
    says = "Number {entering}[ within each {within}][ by {order}]"
    also_known_as = (
        "running number",
        "sequence",
        "serial number",
        "row number",
        "enumerate",
        "index",
        "count up",
        "new key",
        "add id",
        "unique id",
        "rank",
        "rank by size",
        "consecutive number",
    )

    class Settings(OperationSettings):
        field: str = setting("Field", default="number", min_length=1, help="The field that gets the numbers.")
        within: list[str] = setting(
            "Start again in each",
            rare=True,
            kind="fields",
            default=[],
            example="district",
            help="Fields whose values make groups; each group is numbered for itself.",
        )
        order: list[str] = setting(
            "In the order of",
            rare=True,
            kind="patterns",
            default=[],
            example="district, tonnes down",
            help="Fields, the first counting most; with down after it, the greatest first. None numbers rows as they stand.",
        )
        start: int = setting("First number", kind="whole", default=1, help="The number of the first row of each group.")
        increment: int = setting("Go on by", kind="whole", default=1, help="How much greater each next number is.")

    def fields(self, facts: LayerFacts, settings: Settings, context: Context) -> MadeFields:
        found = named_fields.named(facts, settings.within, "within")
        found += named_fields.named(facts, [ordering_field(t, facts.names())[0] for t in settings.order], "order")
        if found:
            return [], found
        name = field_called(facts.names(), settings.field, context)
        return [Field(name, pa.int64())], told_of_field(facts, settings.field, name)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def columns(self, layer: Layer, settings: Settings, context: Context) -> Columns:
        place, said = context.once("places", lambda: _places(layer, settings, context))
        name = field_called(layer.table.column_names, settings.field, context)
        column = pa.array(settings.start + settings.increment * place[context.rows_of(layer)], pa.int64())
        return Columns({name: column}, [Remark(said, layer.key)])


def _places(layer: Layer, settings: Any, context: Context) -> tuple[np.ndarray, str]:
    """How far each row, of all that there are, is from the first of its group, in the order wanted; and what there is to say of it."""
    table = context.columns_of(layer, list(dict.fromkeys([*ordering_fields(layer, settings.order), *settings.within])))
    rows = len(layer if context.large is None else context.large)
    order = ordered_rows(table, rows, settings.order)
    of = group_rows(table, settings.within).of if settings.within else np.zeros(rows, np.int64)
    # rows of one group together, each in the order wanted
    together = order[np.argsort(of[order], kind="stable")]
    begins = np.flatnonzero(np.diff(of[together], prepend=-1)) if rows else np.empty(0, np.int64)
    lengths = np.diff(begins, append=rows)
    place = np.empty(rows, np.int64)
    place[together] = np.arange(rows) - np.repeat(begins, lengths)
    said = f"numbered from {settings.start:,}"
    if settings.within:
        said += f" in {pluralise(len(begins), 'group')}, the largest of {pluralise(int(lengths.max(initial=0)), 'feature')}"
    return place, said
