"""Count what lies in each area."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import ControlTotal, Remark
from eskret.core.crs import is_geographic
from eskret.core.geometry.globe.meeting import centres
from eskret.core.geometry.overlay import meeting
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.layer import Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.aggregates import parse_statistics, statistics_of
from eskret.core.tables.groupby import Groups
from eskret.core.words import pluralise
from eskret.operations.base import Context, Finding, Phase, has_errors
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields, other_layer, pairing
from eskret.operations.support.naming_fields import field_called, told_of_field
from eskret.operations.support.row_wise import Columns, FieldsPerRow, MadeFields
from eskret.operations.support.setting_types import Figures


class CountInAreas(FieldsPerRow):
    """Count the features of another layer in each area, with figures of them.

    A feature counts where its centre lies, or in every area that it meets. Figures are new fields made of the fields of
    those counted: landed = sum tonnes, or kinds = list kind. What lies in no area, and what was counted more than once,
    is told.
    """

    id = "count_in_areas"
    title = "Count in areas"
    phase = Phase.DESCRIBE
    menu_order = 47
    at_end = True
    says = "Count in areas of {entering} what lies there of {other}"
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
        figures: Figures = named_fields.figures_setting()

    def fields(self, facts: LayerFacts, settings: Settings, context: Context) -> MadeFields:
        found = other_layer.findings(facts, context, "other")
        if facts.kind in (GeometryKind.POINT, GeometryKind.LINE):
            found.append(Finding.error(f"it holds {facts.kind}s; areas are wanted.", "from", facts))
        other = next(iter(context.other_facts("other")), None)
        made: list[Field] = []
        if other is not None:
            made, more = named_fields.forecast_figures(other, settings.figures, [*facts.names(), settings.field])
            found += more
        if has_errors(found) or other is None:
            return [], found
        name = field_called(facts.names(), settings.field, context)
        return [Field(name, pa.int64()), *made], found + told_of_field(facts, settings.field, name)

    def columns(self, layer: Layer, settings: Settings, context: Context) -> Columns:
        others = other_layer.others_of(layer, context, "other")
        assert layer.geometry is not None and others.layer is not None
        there = np.flatnonzero(is_nonempty(layer.geometry))
        globe = is_geographic(layer.crs)
        inside = others.geometry
        if settings.where == "centre":
            inside = centres(others.geometry) if globe else shapely.centroid(others.geometry)
        b, a = meeting(inside, layer.geometry[there], context.watch, globe=globe)
        order = np.lexsort((b, a))
        pairs = pairing.Pairs(there[a[order]], others.rows[b[order]])
        count = np.bincount(pairs.row, minlength=len(layer)).astype(np.int64)
        name = field_called(layer.table.column_names, settings.field, context)
        made: dict[str, pa.Array | pa.ChunkedArray] = {name: pa.array(count)}
        having, of = np.unique(pairs.row, return_inverse=True)
        groups = Groups(of.astype(np.int64), np.searchsorted(of, np.arange(len(having))))
        wanted = parse_statistics(settings.figures, others.layer.table.column_names)
        counted_rows = others.layer.table.take(pa.array(pairs.other, pa.int64()))
        group = np.full(len(layer), -1, np.int64)
        group[having] = np.arange(len(having))
        for one, column in zip(wanted, statistics_of(counted_rows, groups, wanted), strict=True):
            made[one.name] = pairing.taken(pa.chunked_array([column]), group)
        used = np.unique(pairs.other)
        twice = int((np.bincount(pairs.other, minlength=1) > 1).sum())
        remarks = [*others.remarks, Remark(f"{pluralise(len(used), 'feature')} of '{others.layer.key}' counted", layer.key)]
        alone = len(others.rows) - len(used)
        if alone:
            remarks.append(Remark(f"{pluralise(alone, 'feature')} of '{others.layer.key}' lie in no area", layer.key, look=True))
        if twice:
            remarks.append(Remark(f"{pluralise(twice, 'feature')} counted in more than one area", layer.key, look=True))
        control = ControlTotal("number counted", "", float(len(pairs.other)), float(count.sum()), 0.0)
        sums = named_fields.sums_agree(counted_rows, np.arange(len(counted_rows)), pa.table(made), wanted)
        remarks += named_fields.no_numbers(others.layer, [s.field for s in wanted])
        account = pairing.other_account("other", others, used, "lies in no area")
        return Columns(made, remarks, controls=(control, *sums), others=[account])
