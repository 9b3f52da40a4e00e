"""Count what lies in each area."""

from __future__ import annotations

from functools import partial
from typing import Literal

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import ControlTotal, InputAccount, Remark, SetAside, added_up
from eskret.core.crs import is_geographic
from eskret.core.geometry.globe.meeting import centres
from eskret.core.geometry.overlay import meeting
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.layer import Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.aggregates import parse_statistics, statistics_of
from eskret.core.tables.groupby import Groups
from eskret.core.words import pluralise
from eskret.formats.reading import Watch
from eskret.operations.base import Brought, Context, Finding, Phase, has_errors
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields, other_layer, pairing
from eskret.operations.support.naming_fields import field_called, told_of_field
from eskret.operations.support.other_layer import NO_PLACE
from eskret.operations.support.row_wise import Columns, FieldsPerRow, MadeFields
from eskret.operations.support.setting_types import Figures


class CountInAreas(FieldsPerRow):
    """Count the features of another layer in each area, with sums and other figures.

    A feature counts where its centre lies, or in every area that it meets. Figures are new fields made of the fields of
    those counted: landed = sum tonnes, or kinds = list kind. What lies in no area, and what was counted more than once,
    is told.
    """

    id = "count_in_areas"
    title = "Count in areas"
    phase = Phase.DESCRIBE
    menu_order = 47
    at_end = True
    others_in_chunks = frozenset({"other"})
    says = "Count in areas of {entering} what lies there of {other}"
    also_known_as = (
        "points in polygon",
        "how many in each area",
        "count per area",
        "per district",
        "sum by zone",
        "total in each cell",
        "total length in cells",
        "density in areas",
        "aggregate points",
        "summarise within",
        "number per area",
    )

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
            rare=True,
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
        assert layer.geometry is not None
        there = np.flatnonzero(is_nonempty(layer.geometry))
        met = _Met(layer, layer.geometry[there], settings, context)
        order = np.lexsort((met.other, met.area))
        pairs = pairing.Pairs(there[met.area[order]], met.other[order])
        count = np.bincount(pairs.row, minlength=len(layer)).astype(np.int64)
        name = field_called(layer.table.column_names, settings.field, context)
        made: dict[str, pa.Array | pa.ChunkedArray] = {name: pa.array(count)}
        having, of = np.unique(pairs.row, return_inverse=True)
        groups = Groups(of.astype(np.int64), np.searchsorted(of, np.arange(len(having))))
        counted_rows = met.rows.take(pa.array(order, pa.int64()))
        group = np.full(len(layer), -1, np.int64)
        group[having] = np.arange(len(having))
        for one, column in zip(met.wanted, statistics_of(counted_rows, groups, met.wanted), strict=True):
            made[one.name] = pairing.taken(pa.chunked_array([column]), group)
        used = int((met.often > 0).sum())
        remarks = [*met.remarks, Remark(f"{pluralise(used, 'feature')} of '{met.key}' counted", layer.key)]
        alone = int((met.placed & (met.often == 0)).sum())
        if alone:
            remarks.append(Remark(f"{pluralise(alone, 'feature')} of '{met.key}' lie in no area", layer.key, look=True))
        twice = int((met.often > 1).sum())
        if twice:
            remarks.append(Remark(f"{pluralise(twice, 'feature')} counted in more than one area", layer.key, look=True))
        control = ControlTotal("number counted", "", float(len(pairs.other)), float(count.sum()), 0.0)
        sums = named_fields.sums_agree(counted_rows, np.arange(len(counted_rows)), pa.table(made), met.wanted)
        return Columns(
            made,
            [*remarks, *met.no_numbers],
            controls=(control, *sums),
            others=[met.account()],
            brought=[Brought("other", lambda: (pairs.other, pairs.row))],
        )


class _Met:
    """Which features lie in which areas, of the layer that is counted some rows at a time.

    ``area`` and ``other`` are positions of those that meet, ``rows`` the fields that figures are made of, of each; ``often`` is how
    often each feature was counted, ``placed`` whether it has a place at all.
    """

    def __init__(self, layer: Layer, areas: np.ndarray, settings: CountInAreas.Settings, context: Context) -> None:
        self.remarks: list[Remark] = []
        self.no_numbers: list[Remark] = []
        found: list[np.ndarray] = []
        rows: list[pa.Table] = []
        often: list[np.ndarray] = []
        placed: list[np.ndarray] = []
        globe, begin = is_geographic(layer.crs), 0
        index = shapely.STRtree(areas)
        for chunk, whole in context.other_chunks("other"):
            others = other_layer.laid(chunk, layer, "other", whole=whole)
            self.key, self.wanted = chunk.key, parse_statistics(settings.figures, chunk.table.column_names)
            inside = others.geometry
            if settings.where == "centre":
                inside = centres(inside) if globe else shapely.centroid(inside)
            b, a = meeting(inside, areas, partial(_on, context.watch, begin, whole.count or 0), globe=globe, index=index)
            mine = others.rows[b]
            found.append(np.stack([a, mine + begin]))
            at = pa.array(mine, pa.int64())
            asked = {s.field: chunk.table.column(s.field).take(at) for s in self.wanted if s.field}
            rows.append(pa.table({**asked, "\0": at}))  # the position beside it: without any column there would be no rows
            often.append(np.bincount(mine, minlength=len(chunk)).astype(np.int32))
            placed.append(np.isin(np.arange(len(chunk)), others.rows))
            self.remarks = added_up(self.remarks, others.remarks)
            said = named_fields.no_numbers(chunk, [s.field for s in self.wanted])
            self.no_numbers = added_up(self.no_numbers, said)
            begin += len(chunk)
        self.area, self.other = np.concatenate(found, axis=1)
        self.rows = pa.concat_tables(rows)
        self.often, self.placed = np.concatenate(often), np.concatenate(placed)

    def account(self) -> InputAccount:
        """What became of the features of the layer that is counted."""
        aside = [("lies in no area", np.flatnonzero(self.placed & (self.often == 0))), (NO_PLACE, np.flatnonzero(~self.placed))]
        return InputAccount("other", self.key, len(self.often), SetAside.from_reasons(aside))


def _on(watch: Watch, begin: int, whole: int, done: int, of: int) -> None:
    """Progress within a chunk, as that of the whole."""
    watch(begin + done, whole)
