"""Keep the features that lie where they should."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from eskret.core.layer import Layer, LayerFacts
from eskret.core.words import bold
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings
from eskret.operations.support import by_place, ground
from eskret.operations.support.row_wise import Chosen, RowFilter
from eskret.operations.support.setting_types import Length

NOT_HELD = "does not lie there"


class KeepByPlace(RowFilter):
    """Keep features by where they lie: inside, touching, crossing or near those of another layer.

    The relations are those of OGC Simple Features (DE-9IM): a feature can lie within an area, intersect it, contain,
    touch, cross, overlap or equal it, or lie apart from it. A distance carries its unit; in a geographic coordinate
    system it is measured in a projection laid around each feature compared with, never in degrees. A layer in another
    coordinate system is brought over for the comparison only. Features are kept whole; nothing is cut.
    """

    id = "keep_by_place"
    title = "Keep by place"
    phase = Phase.CHOOSE
    menu_order = 20
    nothing = "nothing lies there"
    also_known_as = (
        "select by place",
        "choose by location",
        "in the area",
        "spatial filter",
        "spatial query",
        "features within distance of",
        "features inside area",
        "features outside area",
        "features that intersect",
        "features that touch",
        "features that cross",
        "only inside",
        "only outside",
        "which lie in",
        "near another layer",
        "located in",
    )

    class Settings(OperationSettings):
        to: str = by_place.other_setting(min_length=1)
        relation: by_place.RelationName = by_place.relation_setting()
        distance: Length = by_place.distance_setting()
        along: ground.Along = by_place.along_setting()
        against: Literal["each", "whole"] = by_place.against_setting()
        edge: bool = by_place.edge_setting()

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        return f"Keep {bold(entering or '…')} {by_place.place_words(settings)}"

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        return by_place.findings(facts, settings, context)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def choose(self, layer: Layer, settings: Settings, context: Context) -> Chosen:
        found = by_place.placed(layer, settings, context)
        aside = [
            (NOT_HELD, np.flatnonzero(~found.holds & ~found.missing)),
            (by_place.NO_PLACE, np.flatnonzero(~found.holds & found.missing)),
        ]
        return Chosen(np.flatnonzero(found.holds), aside, found.remarks, found.accounts)
