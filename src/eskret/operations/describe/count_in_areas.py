"""Count what lies in each area."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.account import ControlTotal, InputAccount, OutputAccount, Relation, Remark
from eskret.core.crs import is_geographic
from eskret.core.groups import Groups
from eskret.core.kernels.chunks import real
from eskret.core.kernels.globe.meeting import centres
from eskret.core.kernels.overlay import meeting
from eskret.core.layer import Field, Kind, Layer, LayerFacts
from eskret.core.statistics import parse_statistics, statistics_of
from eskret.core.totals import totals_of
from eskret.core.words import bold, counted
from eskret.operations import figuring, other_layer, pairing
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Level, Outcome, Phase
from eskret.operations.naming_fields import field_called, told_of_field
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.typed import Figures


class CountInAreas(EachLayer):
    """Count the features of another layer in each area, with figures of them.

    A feature counts where its centre lies, or in every area that it meets. Figures are new fields made of the fields of
    those counted: landed = sum tonnes, or kinds = list kind. What lies in no area, and what was counted more than once,
    is told.
    """

    id = "count_in_areas"
    title = "Count in areas"
    phase = Phase.DESCRIBE
    rank = 47
    relation = Relation.ONE_FOR_ONE
    also_known_as = ("points in polygon", "how many in each", "density", "aggregate points", "summarise within", "per area")

    class Settings(OperationSettings):
        other: str = setting(
            "What to count",
            kind="layer",
            min_length=1,
            example="moorings",
            help="The layer whose features are counted: step, or step:layer.",
        )
        where: Literal["centre", "meets"] = setting(
            "A feature counts",
            kind="choice",
            default="centre",
            help="A point counts where it lies either way.",
            choices={"centre": "where its centre lies", "meets": "in every area that it meets"},
        )
        field: str = setting("Field for the count", default="count", min_length=1, help="The new field with the number.")
        figures: Figures = figuring.figures_setting()

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        return f"Count in areas of {bold(entering or '…')} what lies there of {bold(str(settings.get('other') or '…').split(':')[-1])}"

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = other_layer.findings(facts, context, "other")
        if facts.kind in (Kind.POINT, Kind.LINE):
            found.append(Finding(Level.ERROR, f"{facts.key}: it holds {facts.kind}s; areas are wanted.", setting="from", layer=facts.key))
        other = next(iter(context.other_facts("other")), None)
        made: list[Field] = []
        if other is not None:
            made, more = figuring.foretold(other, settings.figures, [*facts.names(), settings.field])
            found += more
        if any(f.level is Level.ERROR for f in found) or other is None:
            return Forecast((), tuple(found))
        name = field_called(facts.names(), settings.field, context)
        found += told_of_field(facts, settings.field, name)
        fields = [*(f for f in facts.fields if f.name != name), Field(name, pa.int64()), *made]
        return Forecast((replace(facts.with_fields(fields, [name]), extent=facts.extent),), tuple(found))

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        others = other_layer.others_of(layer, context, "other")
        assert layer.geometry is not None and others.layer is not None
        there = np.flatnonzero(real(layer.geometry))
        globe = is_geographic(layer.crs)
        inside = others.geometry
        if settings.where == "centre":
            inside = centres(others.geometry) if globe else shapely.centroid(others.geometry)
        b, a = meeting(inside, layer.geometry[there], context.watch, globe=globe)
        order = np.lexsort((b, a))
        pairs = pairing.Pairs(there[a[order]], others.rows[b[order]])
        count = np.bincount(pairs.row, minlength=len(layer)).astype(np.int64)
        name = field_called(layer.table.column_names, settings.field, context)
        table = layer.table.drop_columns([name]) if name in layer.table.column_names else layer.table
        table = table.append_column(name, pa.array(count))
        having, of = np.unique(pairs.row, return_inverse=True)
        groups = Groups(of.astype(np.int64), np.searchsorted(of, np.arange(len(having))))
        wanted = parse_statistics(settings.figures, others.layer.table.column_names)
        counted_rows = others.layer.table.take(pa.array(pairs.other, pa.int64()))
        group = np.full(len(layer), -1, np.int64)
        group[having] = np.arange(len(having))
        for one, column in zip(wanted, statistics_of(counted_rows, groups, wanted), strict=True):
            table = table.append_column(one.name, pairing.taken(pa.chunked_array([column]), group))
        out = layer.with_table(table)
        used = np.unique(pairs.other)
        twice = int((np.bincount(pairs.other, minlength=1) > 1).sum())
        remarks = [*others.remarks, Remark(f"{counted(len(used), 'feature')} of '{others.layer.key}' counted", layer.key)]
        alone = len(others.rows) - len(used)
        if alone:
            remarks.append(Remark(f"{counted(alone, 'feature')} of '{others.layer.key}' lie in no area", layer.key, look=True))
        if twice:
            remarks.append(Remark(f"{counted(twice, 'feature')} counted in more than one area", layer.key, look=True))
        control = ControlTotal("number counted", "", float(len(pairs.other)), float(count.sum()), 0.0)
        sums = figuring.sums_agree(counted_rows, np.arange(len(counted_rows)), table, wanted)
        return Outcome(
            (out,),
            (InputAccount("from", layer.key, len(layer)), pairing.other_account("other", others, used, "lies in no area")),
            (OutputAccount(layer.key, len(out), totals_of(out, context.totals), (control, *sums)),),
            np.arange(len(layer)),
            (*remarks, *figuring.no_numbers(others.layer, [s.field for s in wanted])),
        )
