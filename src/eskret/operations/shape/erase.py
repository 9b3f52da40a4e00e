"""Take an area out of layers."""

from __future__ import annotations

from typing import Literal

from eskret.core.accounts.account import Relation
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, Takes, has_errors
from eskret.operations.settings import OperationSettings
from eskret.operations.support import cutting, other_layer
from eskret.operations.support.setting_types import Size


class Erase(EachLayer):
    """Cut an area out of layers and keep what lies outside.

    The opposite of Clip: the joined outline of the layer named is taken out of every feature. Points on its edge belong
    to it and are set aside. A feature that comes apart stays one feature of several parts; one of which nothing is left
    is set aside.
    """

    id = "erase"
    title = "Erase"
    phase = Phase.SHAPE
    menu_order = 15
    relation = Relation.KEPT
    says = "Erase {by} from {entering}"
    also_known_as = (
        "difference",
        "subtract",
        "cut away",
        "take area out",
        "punch",
        "outside only",
        "minus",
        "cut out area",
        "cut a hole",
        "remove overlap with layer",
        "everything except area",
        "all but the area",
        "exclude area",
    )

    class Settings(OperationSettings):
        by: str = cutting.area_setting("Area to take out", "Polygons whose joined outline is taken out: step, or step:layer.")
        edge: Literal["cut", "whole"] = cutting.edge_setting()
        sliver: Size = cutting.sliver_setting()

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = other_layer.findings(facts, context, "by", GeometryKind.POLYGON)
        if has_errors(found):
            return Forecast((), tuple(found))
        return Forecast((other_layer.upper_bound(facts),), tuple(found))

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        return cutting.cut_outcome(layer, settings, context, "by", "outside")
