"""A point for every feature."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
import shapely

from eskret.core.account import Relation
from eskret.core.crs import is_geographic
from eskret.core.kernels.globe.seam import running, wrapped
from eskret.core.kernels.parts import dimension
from eskret.core.layer import Kind, Layer, LayerFacts
from eskret.core.words import bold
from eskret.operations import reshaped
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase
from eskret.operations.settings import OperationSettings, setting


class CentrePoints(EachLayer):
    """Make of every feature a point in its middle.

    The centre of mass can lie outside a bent area or beside a bent line; the other choice is always on the feature: a
    point well inside an area, the middle of a line's length. Fields are kept.
    """

    id = "centre_points"
    title = "Centre points"
    phase = Phase.SHAPE
    rank = 45
    relation = Relation.ONE_FOR_ONE
    also_known_as = ("centroid", "middle", "points of areas", "label point", "representative point", "midpoint")

    class Settings(OperationSettings):
        where: Literal["on", "mass"] = setting(
            "Where",
            kind="choice",
            default="on",
            help="Where the point of each feature lies.",
            choices={"on": "on the feature", "mass": "at its centre of mass"},
        )

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        return f"Centre points of {bold(entering or '…')}"

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        return reshaped.foretold(facts, reshaped.drawn(facts), Kind.POINT)

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        globe = is_geographic(layer.crs)
        # what was cut at 180 degrees has its middle there, not on the other side of the globe
        whole, across = running(layer.geometry) if globe else (layer.geometry, np.empty(0, np.int64))
        if settings.where == "mass":
            shapes = shapely.centroid(whole)
        else:
            shapes = shapely.point_on_surface(whole)
            single = np.flatnonzero((dimension(whole) == 1) & (shapely.get_num_geometries(whole) == 1))
            lines = shapely.get_geometry(whole[single], 0)
            shapes[single] = shapely.line_interpolate_point(lines, 0.5, normalized=True)
        shapes = np.asarray(shapes, object)
        shapes[across] = wrapped(shapes[across])[0]
        return reshaped.reshaped(layer, shapes, context, kind=Kind.POINT)
