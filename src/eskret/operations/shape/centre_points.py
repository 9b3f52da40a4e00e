"""A point for every feature."""

from __future__ import annotations

from typing import Literal

import numpy as np
import shapely

from eskret.core.crs import is_geographic
from eskret.core.geometry.globe.seam import running, wrapped
from eskret.core.geometry.parts import dimension
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.operations.base import Context, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support.row_wise import Reshaped, ShapePerRow


class CentrePoints(ShapePerRow):
    """Replace each feature by a point at its centre.

    The centre of mass can lie outside a bent area or beside a bent line; the other choice is always on the feature: a
    point well inside an area, the middle of a line's length. Fields are kept.
    """

    id = "centre_points"
    title = "Centre points"
    phase = Phase.SHAPE
    menu_order = 45
    makes = GeometryKind.POINT
    says = "Centre points of {entering}"
    also_known_as = (
        "centroid",
        "middle",
        "points of areas",
        "area to point",
        "label point",
        "representative point",
        "midpoint",
        "centre of gravity",
        "areas into points",
    )
    turns = (("area", "point"), ("line", "point"))

    class Settings(OperationSettings):
        where: Literal["on", "mass"] = setting(
            "Where",
            kind="choice",
            default="on",
            help="Where the point of each feature lies.",
            choices={"on": "on the feature", "mass": "at its centre of mass"},
        )

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        globe = is_geographic(layer.crs)
        # what was cut at 180 degrees has its middle there, not on the other side of the globe
        whole, across = running(shapes) if globe else (shapes, np.empty(0, np.int64))
        if settings.where == "mass":
            middle = shapely.centroid(whole)
        else:
            middle = shapely.point_on_surface(whole)
            single = np.flatnonzero((dimension(whole) == 1) & (shapely.get_num_geometries(whole) == 1))
            lines = shapely.get_geometry(whole[single], 0)
            middle[single] = shapely.line_interpolate_point(lines, 0.5, normalized=True)
        middle = np.asarray(middle, object)
        middle[across] = wrapped(middle[across])[0]
        return Reshaped(middle)
