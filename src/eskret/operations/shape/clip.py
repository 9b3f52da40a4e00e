"""Clip layers to an area."""

from __future__ import annotations

from typing import Literal

from eskret.core.accounts.account import Relation
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, Takes, has_errors
from eskret.operations.settings import OperationSettings
from eskret.operations.support import cutting, other_layer
from eskret.operations.support.setting_types import Size


class Clip(EachLayer):
    """Cut layers to an area and keep what lies inside.

    The area is the joined outline of all areas of the layer named. Lines and areas are cut at its edge; points are
    kept or set aside whole, and one right on the edge is kept. A feature that comes apart stays one feature of
    several parts. What only touches the edge is set aside. Fields are kept as they are; a field that holds a length
    or an area is not measured anew, so use Measure after this. What was cut away is told for each feature and in
    total.
    """

    id = "clip"
    title = "Clip"
    phase = Phase.SHAPE
    menu_order = 10
    relation = Relation.KEPT
    says = "Clip {entering} to {to}"
    also_known_as = (
        "cut",
        "crop",
        "trim",
        "cut lines at border",
        "cut out",
        "inside only",
        "restrict to area",
        "cut to boundary",
        "area only",
        "cookie cutter",
        "limit to extent",
        "cut to study area",
        "keep inside part",
        "mask",
    )

    class Settings(OperationSettings):
        to: str = cutting.area_setting("Area to keep", "Polygons whose joined outline is kept: step, or step:layer.")
        edge: Literal["cut", "whole"] = cutting.edge_setting()
        sliver: Size = cutting.sliver_setting()

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = other_layer.findings(facts, context, "to", GeometryKind.POLYGON)
        if has_errors(found):
            return Forecast((), tuple(found))
        return Forecast((other_layer.upper_bound(facts),), tuple(found))

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        return cutting.cut_outcome(layer, settings, context, "to", "inside")
