"""Take an area out of layers."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

from eskret.core.account import Relation
from eskret.core.layer import Kind, Layer, LayerFacts
from eskret.core.words import bold
from eskret.operations import cutting, other_layer
from eskret.operations.base import Context, EachLayer, Forecast, Level, Outcome, Phase
from eskret.operations.settings import OperationSettings
from eskret.operations.typed import Size


class Erase(EachLayer):
    """Cut an area out of layers and keep what lies outside.

    The opposite of Clip: the joined outline of the layer named is taken out of every feature. Points on its edge belong
    to it and are set aside. A feature that comes apart stays one feature of several parts; one of which nothing is left
    is set aside.
    """

    id = "erase"
    title = "Erase"
    phase = Phase.SHAPE
    rank = 15
    relation = Relation.KEPT
    also_known_as = ("difference", "subtract", "cut away", "take area out", "punch", "outside only", "minus")

    class Settings(OperationSettings):
        by: str = cutting.area_setting("Area to take out", "Polygons whose joined outline is taken out: step, or step:layer.")
        edge: Literal["cut", "whole"] = cutting.edge_setting()
        sliver: Size = cutting.sliver_setting()

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        return f"Erase {bold(str(settings.get('by') or '…').split(':')[-1])} from {bold(entering or '…')}"

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = other_layer.findings(facts, context, "by", Kind.AREA)
        if any(f.level is Level.ERROR for f in found):
            return Forecast((), tuple(found))
        return Forecast((other_layer.at_most(facts),), tuple(found))

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        return cutting.cut_outcome(layer, settings, context, "by", "outside")
