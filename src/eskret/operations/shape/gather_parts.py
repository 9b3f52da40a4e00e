"""Put features together into one of several parts."""

from __future__ import annotations

from typing import Literal

import numpy as np
import shapely

from eskret.core.accounts.account import ControlTotal, InputAccount, Relation
from eskret.core.geometry.parts import single_parts
from eskret.core.layer import Certainty, ChunkedLayer, Layer, LayerFacts
from eskret.core.measure.planar import layer_sizes, sizes_of, unit_of
from eskret.core.tables.groupby import group_rows
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, Takes
from eskret.operations.settings import OperationSettings
from eskret.operations.support import ground, named_fields, reshaping
from eskret.operations.support.setting_types import Figures


class GatherParts(EachLayer):
    """Combine features with the same values into one of several parts, as they are drawn.

    Nothing is joined or cut: shared edges stay, and areas on each other stay on each other. Use Dissolve to join them.
    Figures are new fields made of the old, as in Dissolve.
    """

    id = "gather_parts"
    title = "Gather parts"
    phase = Phase.SHAPE
    menu_order = 51
    relation = Relation.GROUPED
    says = "Gather parts of {entering}[ by {by}]"
    also_known_as = (
        "multipart",
        "single part to multipart",
        "single to multi",
        "group geometries",
        "several as one",
        "combine parts",
        "collect shapes",
        "points into multipoint",
        "bundle",
    )
    turns = (("point", "multipoint"),)

    class Settings(OperationSettings):
        by: list[str] = named_fields.by_setting()
        figures: Figures = named_fields.figures_setting()
        empty: Literal["aside", "group"] = named_fields.empty_setting()

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = [*reshaping.require_geometry(facts), *named_fields.named(facts, settings.by, "by")]
        made, more = named_fields.forecast_figures(facts, settings.figures, settings.by)
        kept = {f.name: f for f in facts.fields if f.name in settings.by}
        new = facts.with_fields([*(kept[n] for n in settings.by if n in kept), *made])
        count = facts.count if settings.by else 1
        return reshaping.forecast_shapes(new, [*found, *more], certainty=Certainty.AT_MOST if settings.by else Certainty.KNOWN, count=count)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        # whether there is a control total hangs on what there is in all of it
        return Takes.PARTS if settings.by and not ground.may_be_nowhere(facts) else Takes.WHOLE

    def places(self, layer: ChunkedLayer, settings: Settings) -> np.ndarray:
        return named_fields.group_places(layer, settings.by, settings.empty)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        groups = group_rows(layer.table, settings.by, without_empty=settings.empty == "aside")
        used = np.flatnonzero(groups.of >= 0)
        parts, owner = single_parts(layer.geometry[used])
        of = groups.of[used][owner]
        order = np.argsort(of, kind="stable")
        shapes = _bundles(parts[order], of[order], groups.count)
        table, wanted = named_fields.grouped(layer.table, groups, settings.by, settings.figures)
        out = layer.with_geometry(shapes, layer.kind, table=table, ids=None)
        aside = named_fields.without_value(groups, settings.by)
        controls = list(named_fields.sums_agree(layer.table, used, table, wanted))
        # what is nowhere on the globe has no size there that could be added up
        before, after, lost = layer_sizes(layer), sizes_of(shapes, layer.crs), ground.told_of_nowhere(layer)
        for name in ("length", "area"):
            if before[name].any() and not lost:
                unit, factor = unit_of(name, layer.crs)
                whole = float(np.nansum(before[name][used])) * factor
                controls.append(ControlTotal(name, unit, whole, float(np.nansum(after[name])) * factor))
        remarks = [named_fields.grown(layer, groups.count, len(used)), *lost]
        return Outcome(
            (out,),
            inputs=(InputAccount.of(layer, aside),),
            remarks=(*remarks, *named_fields.no_numbers(layer, [*settings.by, *(s.field for s in wanted)])),
            into=groups.of,
            controls=tuple(controls),
        )


def _bundles(parts: np.ndarray, of: np.ndarray, count: int) -> np.ndarray:
    """The parts of each group as one shape; a collection where they are of several kinds."""
    out = np.full(count, None, object)
    starts = np.searchsorted(of, np.arange(count + 1))
    for group in range(count):
        some = parts[starts[group] : starts[group + 1]]
        some = some[~shapely.is_empty(some)]
        if not len(some):
            continue
        kinds = set(shapely.get_type_id(some).tolist())
        if kinds == {0}:
            out[group] = shapely.multipoints(some)
        elif kinds <= {1, 2}:
            out[group] = shapely.multilinestrings(some)
        elif kinds == {3}:
            out[group] = shapely.multipolygons(some)
        else:
            out[group] = shapely.geometrycollections(some)
    return out
