"""The rank of a value among the others."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.accounts.account import ControlTotal, Remark, verbatim
from eskret.core.layer import Field, Layer, LayerFacts
from eskret.core.tables.groupby import group_rows
from eskret.core.tables.values import settled
from eskret.core.words import pluralise
from eskret.operations.base import Context, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.naming_fields import field_called, told_of_field
from eskret.operations.support.row_wise import Columns, FieldsPerRow, MadeFields


class Rank(FieldsPerRow):
    """Rank features by a value: first, second, third.

    Rows stay where they are; equal values get equal ranks, unlike the numbers that Number gives. The value of one field decides,
    within each group where you name one. An empty value has no rank.
    """

    id = "rank"
    title = "Rank"
    phase = Phase.DESCRIBE
    menu_order = 67
    says = "Rank {entering} by {by}[ within each {within}]"
    also_known_as = (
        "rank by size",
        "ranking",
        "place in the order",
        "position among others",
        "league table",
        "largest is first",
        "order of importance",
        "standing",
        "equal values share a place",
    )

    class Settings(OperationSettings):
        by: str = setting("By", kind="field", min_length=1, example="tonnes", help="The field whose values are ranked.")
        first: Literal["greatest", "least"] = setting(
            "First is",
            kind="choice",
            default="greatest",
            choices={"greatest": "the greatest, or the last of the alphabet", "least": "the least, or the first of the alphabet"},
            help="Which value gets rank 1.",
        )
        within: list[str] = named_fields.by_setting("Within each", "Fields whose values make groups; each group is ranked by itself.")
        ties: Literal["skip", "next", "middle"] = setting(
            "Equal values",
            rare=True,
            kind="choice",
            default="skip",
            choices={
                "skip": "share a rank, and as many are left out after it: 1, 2, 2, 4",
                "next": "share a rank, and the next follows: 1, 2, 2, 3",
                "middle": "get the middle of their places: 1, 2.5, 2.5, 4",
            },
            help="How ranks go on after values that are equal.",
        )
        field: str = setting("Field", default="rank", min_length=1, help="The field that gets the ranks.")

    def fields(self, facts: LayerFacts, settings: Settings, context: Context) -> MadeFields:
        found = named_fields.named(facts, [settings.by], "by") + named_fields.named(facts, settings.within, "within")
        if found:
            return [], found
        name = field_called(facts.names(), settings.field, context)
        return [Field(name, _kind(settings))], told_of_field(facts, settings.field, name)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def columns(self, layer: Layer, settings: Settings, context: Context) -> Columns:
        ranks, remarks, controls = context.once("ranks", lambda: _ranks(layer, settings, context))
        mine = ranks[context.rows_of(layer)]
        name = field_called(layer.table.column_names, settings.field, context)
        column = pa.array(mine, mask=np.isnan(mine)).cast(_kind(settings))
        return Columns({name: column}, remarks, controls=controls if not context.begins else ())


def _kind(settings: Any) -> pa.DataType:
    return pa.float64() if settings.ties == "middle" else pa.int64()


def _ranks(layer: Layer, settings: Any, context: Context) -> tuple[np.ndarray, list[Remark], list[ControlTotal]]:
    """The rank of each row, of all that there are (float64, NaN for none), what there is to say of them, and what proves them."""
    wanted = list(dict.fromkeys([settings.by, *settings.within]))
    table = context.columns_of(layer, wanted)
    values = settled(table.column(settings.by)).combine_chunks()
    if pa.types.is_boolean(values.type):
        values = values.cast(pa.int8())
    elif pa.types.is_nested(values.type):
        values = pa.array([None if v is None else repr(v) for v in values.to_pylist()])
    # the place of each value among all different ones, so that what is not a number can be ranked as well
    place = np.asarray(pc.rank(values, "ascending", tiebreaker="dense")).astype(np.int64)
    there = ~np.asarray(values.is_null())
    of = group_rows(table, settings.within).of if settings.within else np.zeros(len(place), np.int64)
    rows = np.flatnonzero(there)
    sign = -1 if settings.first == "greatest" else 1
    order = rows[np.lexsort((sign * place[rows], of[rows]))]
    group, value = of[order], place[order]
    begins = np.searchsorted(group, group)
    new = np.r_[True, (group[1:] != group[:-1]) | (value[1:] != value[:-1])] if len(order) else np.empty(0, bool)
    run = np.cumsum(new) - 1
    first = np.flatnonzero(new)
    length = np.diff(np.r_[first, len(order)])
    at = np.arange(len(order))
    if settings.ties == "next":
        found = run - run[begins] + 1.0 if len(order) else run.astype(float)
    else:
        found = (first[run] - begins + 1).astype(float)
        if settings.ties == "middle":
            found += (length[run] - 1) / 2
    ranks = np.full(len(place), np.nan)
    ranks[order] = found
    equal = int(length[length > 1].sum())
    groups = len(np.unique(group))
    said = f"{len(at):,} ranked" + (f" in {pluralise(groups, 'group')}" if settings.within else "")
    remarks = [
        Remark(said, layer.key),
        Remark.of_some("{n} share their rank with others", layer.key, n=equal),
        Remark.of_some(
            f"{{n}} without a value in '{verbatim(settings.by)}' {{n:has|have}} no rank", layer.key, look=True, n=int((~there).sum())
        ),
    ]
    return (
        ranks,
        [r.once() for r in remarks],
        [ControlTotal("ranks against the order of the values", "", 0, _against(values, of, ranks, sign))],
    )


def _against(values: pa.Array, of: np.ndarray, ranks: np.ndarray, sign: int) -> int:
    """How many neighbours in the order of their ranks are not so in the order of their values: there must be none."""
    rows = np.flatnonzero(~np.isnan(ranks))
    order = rows[np.lexsort((ranks[rows], of[rows]))]
    before, after = values.take(pa.array(order[:-1], pa.int64())), values.take(pa.array(order[1:], pa.int64()))
    less, greater = (np.asarray(f(before, after)) for f in ((pc.less, pc.greater) if sign > 0 else (pc.greater, pc.less)))
    a, b = ranks[order[:-1]], ranks[order[1:]]
    same_group = of[order[:-1]] == of[order[1:]]
    right = np.where(less, a < b, np.where(greater, False, a == b))
    return int((same_group & ~right).sum())
