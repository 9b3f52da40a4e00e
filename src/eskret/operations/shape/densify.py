"""Put corners in, so that no stretch is long."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import shapely

from eskret.core.account import Relation, Remark
from eskret.core.kernels.parts import dimension, single_parts, together
from eskret.core.layer import Layer, LayerFacts
from eskret.core.words import bold, counted
from eskret.operations import reshaped
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase
from eskret.operations.settings import OperationSettings
from eskret.operations.typed import SomeLength


class Densify(EachLayer):
    """Put corners into lines and areas, so that no stretch between two is longer than a length.

    The course stays the same in the plane. It is wanted before bringing long straight lines to another coordinate
    system, where they would cut the corner that a curve takes.
    """

    id = "densify"
    title = "Densify"
    phase = Phase.SHAPE
    rank = 56
    relation = Relation.ONE_FOR_ONE
    also_known_as = ("more vertices", "add points", "segmentise", "subdivide", "interpolate", "insert corners")

    class Settings(OperationSettings):
        longest: SomeLength = reshaped.length_setting("Longest stretch", "Between two corners, with its unit.", "100 m",
                                               min_length=1)  # fmt: skip

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        return f"Densify {bold(entering or '…')} to stretches of {settings.get('longest') or '…'}"

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        return reshaped.foretold(facts, reshaped.measured(facts, "longest"))

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        shapes, remarks = reshaped.in_planes(
            layer, settings.longest, lambda shapes, length, _: _densified(shapes, length), context.watch
        )
        before = int(shapely.get_num_coordinates(layer.geometry).sum())
        after = int(shapely.get_num_coordinates(shapes).sum())
        remarks = [*remarks, Remark(counted(after - before, "corner was put in", "corners were put in"), layer.key)]
        return reshaped.reshaped(layer, shapes, context, kind=layer.kind, remarks=remarks)


def _densified(shapes: np.ndarray, length: float) -> np.ndarray:
    """The library refuses a part without length among them; such a part has no stretch to divide."""
    try:
        return np.asarray(shapely.segmentize(shapes, length))
    except shapely.errors.GEOSException:
        parts, owner = single_parts(shapes)
        long = shapely.length(parts) > 0
        parts[long] = shapely.segmentize(parts[long], length)
        return together(parts, owner, len(shapes), dimension(shapes))
