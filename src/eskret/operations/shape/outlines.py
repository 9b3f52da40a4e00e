"""The outlines of areas as lines."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import shapely

from eskret.core.account import ControlTotal, Relation
from eskret.core.kernels.parts import dimension
from eskret.core.layer import Kind, Layer, LayerFacts
from eskret.core.plane import measures_of, unit_of
from eskret.core.words import bold
from eskret.operations import reshaped
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Level, Outcome, Phase
from eskret.operations.settings import OperationSettings, setting


class Outlines(EachLayer):
    """Make of every area the line around it.

    Holes have outlines too, and belong to the same feature unless you leave them out. Neighbours keep a line each where
    they meet. Features that are no areas are set aside.
    """

    id = "outlines"
    title = "Outlines"
    phase = Phase.SHAPE
    rank = 46
    relation = Relation.ONE_FOR_ONE
    also_known_as = ("boundary", "lines from areas", "border", "ring", "perimeter line", "edges")

    class Settings(OperationSettings):
        holes: bool = setting("With those of holes", kind="flag", default=True, help="Whether holes are drawn around too.")

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        return f"Outlines of {bold(entering or '…')}"

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = reshaped.drawn(facts)
        if facts.kind in (Kind.POINT, Kind.LINE):
            found.append(Finding(Level.ERROR, f"{facts.key}: only areas have outlines.", layer=facts.key, setting="from"))
        return reshaped.foretold(facts, found, Kind.LINE)

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        areas = dimension(layer.geometry) == 2
        shapes = np.full(len(layer), None, object)
        found = layer.geometry[areas]
        if not settings.holes:
            parts, owner = shapely.get_parts(found, return_index=True)
            filled = shapely.polygons(shapely.get_exterior_ring(parts))
            found = shapely.multipolygons(filled, indices=owner) if len(parts) else found
        shapes[areas] = shapely.boundary(found)
        single = np.flatnonzero(shapely.get_num_geometries(shapes) == 1)
        shapes[single] = shapely.get_geometry(shapes[single], 0)
        unit, factor = unit_of("length", layer.crs)
        length = measures_of(layer.crs)["length"]
        around = float(np.nansum(length(found))) * factor
        control = ControlTotal("length around", unit, around, float(np.nansum(length(shapes))) * factor)
        return reshaped.reshaped(layer, shapes, context, gone="is no area", kind=Kind.LINE, controls=[control])
