"""Features of several parts, one for each part."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import ControlTotal, Relation, Remark
from eskret.core.geometry.parts import single_parts
from eskret.core.layer import Certainty, Field, Layer, LayerFacts
from eskret.core.measure.planar import layer_sizes, sizes_of, unit_of
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import reshaping


class SeparateParts(EachLayer):
    """Split features of several parts into one feature for each part.

    A group of islands that is one feature becomes one feature per island, each with all the fields. A field that
    holds a total (a sum, an area) then stands in every part; adding it up counts it several times, and the step says
    how many features came apart.
    """

    id = "separate_parts"
    title = "Separate parts"
    phase = Phase.SHAPE
    menu_order = 50
    relation = Relation.MULTIPLIED
    says = "Separate parts of {entering}"
    also_known_as = (
        "single parts of many",
        "multipart to single part",
        "multi to single",
        "split multi",
        "single parts",
        "explode",
        "explode multipolygon",
        "break up parts",
        "break apart",
        "islands apart",
        "one feature for each part",
        "ungroup",
    )

    class Settings(OperationSettings):
        number: str = setting(
            "Field for the number",
            default="",
            example="part",
            help="A new field that numbers the parts of a feature from 1. Left empty, there is none.",
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:

        new = facts.with_fields((*facts.fields, Field(settings.number, pa.int64()))) if settings.number else facts
        return reshaping.forecast_shapes(new, reshaping.require_geometry(facts), certainty=Certainty.UNKNOWN, count=None)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:

        assert layer.geometry is not None
        parts, rows = single_parts(layer.geometry)
        there = ~shapely.is_empty(parts)
        parts, rows = parts[there], rows[there]
        number = np.arange(len(rows)) - np.searchsorted(rows, rows) + 1
        before, after = layer_sizes(layer), sizes_of(parts, layer.crs)
        controls = []
        for name in ("length", "area"):
            if before[name].any():
                unit, factor = unit_of(name, layer.crs)
                controls.append(ControlTotal(name, unit, np.nansum(before[name]) * factor, after[name].sum() * factor))
        came_apart = int((np.bincount(rows, minlength=len(layer)) > 1).sum())
        remarks = [Remark.counted("{n|feature} came apart", layer.key, n=came_apart)] if came_apart else []
        return reshaping.one_to_many(
            layer, rows, parts, context, remarks=remarks, controls=controls, numbers=(settings.number, number) if settings.number else None
        )
