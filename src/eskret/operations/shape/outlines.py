"""The outlines of areas as lines."""

from __future__ import annotations

import numpy as np
import shapely

from eskret.core.accounts.account import ControlTotal
from eskret.core.geometry.parts import dimension
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.core.measure.planar import measures_of, unit_of
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import reshaping
from eskret.operations.support.row_wise import Reshaped, ShapePerRow


class Outlines(ShapePerRow):
    """Turn each area into the line around it.

    Holes have outlines too, and belong to the same feature unless you leave them out. Neighbours keep a line each where
    they meet. Features that are no areas are set aside.
    """

    id = "outlines"
    title = "Outlines"
    phase = Phase.SHAPE
    menu_order = 46
    makes = GeometryKind.LINE
    gone = "is no area"
    says = "Outlines of {entering}"
    also_known_as = (
        "boundary",
        "boundary line",
        "lines from areas",
        "area to line",
        "outline of area",
        "border",
        "perimeter line",
        "edges of areas",
        "areas into lines",
    )
    turns = (("area", "line"),)

    class Settings(OperationSettings):
        holes: bool = setting("With those of holes", kind="flag", default=True, help="Whether holes are drawn around too.")

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        found = reshaping.require_geometry(facts)
        if facts.kind in (GeometryKind.POINT, GeometryKind.LINE):
            found.append(Finding.error("only areas have outlines.", "from", facts))
        return found

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        areas = dimension(shapes) == 2
        lines = np.full(len(layer), None, object)
        found = shapes[areas]
        if not settings.holes:
            parts, owner = shapely.get_parts(found, return_index=True)
            filled = np.asarray(shapely.polygons(shapely.get_exterior_ring(parts)))
            found = shapely.multipolygons(filled, indices=owner) if len(parts) else found
        lines[areas] = shapely.boundary(found)
        single = np.flatnonzero(shapely.get_num_geometries(lines) == 1)
        lines[single] = shapely.get_geometry(lines[single], 0)
        unit, factor = unit_of("length", layer.crs)
        length = measures_of(layer.crs)["length"]
        around = float(np.nansum(length(found))) * factor
        return Reshaped(lines, controls=[ControlTotal("length around", unit, around, float(np.nansum(length(lines))) * factor)])
