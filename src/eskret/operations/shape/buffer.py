"""Put a margin around features."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
import shapely

from eskret.core.account import Relation
from eskret.core.kernels.parts import of_dimension
from eskret.core.layer import Kind, Layer, LayerFacts
from eskret.core.words import bold
from eskret.operations import reshaped
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.typed import Offset


class Buffer(EachLayer):
    """Make of every feature the area within a distance of it.

    The distance carries its unit. In a geographic coordinate system it is measured in planes laid about the features,
    and the step says how true they are. Areas grow, or shrink by a distance below zero; of one that vanishes nothing
    is left and it is set aside. Buffers of neighbours stay apart; Dissolve joins them.
    """

    id = "buffer"
    title = "Buffer"
    phase = Phase.SHAPE
    rank = 40
    relation = Relation.ONE_FOR_ONE
    also_known_as = ("margin", "around", "grow", "shrink", "zone", "catchment", "within distance", "widen", "offset")

    class Settings(OperationSettings):
        distance: Offset = reshaped.length_setting(
            "Distance", "With its unit, such as 200 m; below zero, areas shrink.", "200 m", min_length=1
        )
        ends: Literal["round", "flat", "square"] = setting(
            "Ends of lines", kind="choice", default="round", help="How the area ends where a line does.",
            choices={"round": "round", "flat": "cut off at the end", "square": "reach beyond it, square"},
        )  # fmt: skip
        corners: Literal["round", "mitre", "bevel"] = setting(
            "Corners", kind="choice", default="round", help="How the area goes round a corner.",
            choices={"round": "round", "mitre": "pointed", "bevel": "cut off"},
        )  # fmt: skip
        steps: int = setting(
            "Steps of a quarter circle", kind="whole", default=16, ge=1, le=200,
            help="With 16, a circle's area comes out 0.2 % too small; with 64, 0.01 %.",
        )  # fmt: skip

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        return f"Buffer {bold(entering or '…')} by {settings.get('distance') or '…'}"

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        return reshaped.foretold(facts, reshaped.measured(facts, "distance"), Kind.AREA)

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        def grow(shapes: np.ndarray, distance: float, rows: np.ndarray) -> np.ndarray:
            found = shapely.buffer(
                shapes, distance, quad_segs=settings.steps, cap_style=settings.ends, join_style=settings.corners
            )
            return of_dimension(found, np.full(len(found), 2))

        shapes, remarks = reshaped.in_planes(layer, settings.distance, grow, context.watch)
        return reshaped.reshaped(layer, shapes, context, kind=Kind.AREA, remarks=remarks)
