"""Reproject layers to another coordinate system."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from eskret.core.accounts.account import Remark
from eskret.core.crs import Extent, crs_facts, same_crs, transformation
from eskret.core.geometry.globe.moving import reproject_places, reproject_whole
from eskret.core.layer import GeometryColumn, GeometryKind, Layer, LayerFacts, WkbArray
from eskret.core.measure.units import parse_length
from eskret.errors import CrsError
from eskret.operations.base import Context, Finding, Level, Outcome, Phase, Takes
from eskret.operations.settings import KnownCrs, OperationSettings, setting
from eskret.operations.support import reshaping
from eskret.operations.support.row_wise import Reshaped, ShapePerRow
from eskret.operations.support.setting_types import Length
from eskret.operations.support.to_workflow_crs import control_of_move, controls_of_move, outside_words, said_of_move


class Reproject(ShapePerRow):
    """Bring layers to another coordinate system.

    Of the ways that lead there, the best for the layer's own place is taken; the step says which, and how accurate it is.
    Where a better one would need a grid that this machine does not have, or where the layer lies outside the area for
    which the system is meant, the step asks for a look. Shapes are cut where the new system comes apart, as at 180 degrees, and
    joined where it does not; what has no place in it is set aside. Heights and measures are left as they are: no vertical datum
    is changed.
    """

    id = "reproject"
    title = "Reproject"
    phase = Phase.SHAPE
    menu_order = 35
    keep_null = True
    says = "Reproject {entering} to {crs}"
    also_known_as = (
        "project",
        "transform coordinates",
        "crs",
        "change coordinate system",
        "change projection",
        "datum",
        "utm",
        "convert coordinates",
        "lat lon to grid",
        "degrees to metres",
        "same coordinate system",
        "wgs84",
    )

    class Settings(OperationSettings):
        crs: KnownCrs = setting("To CRS", kind="crs", min_length=1, example="EPSG:32626", help="The coordinate system wanted.")
        tolerance: Length = setting(
            "Keep the course of edges within",
            rare=True,
            kind="measure",
            default="",
            example="1 m",
            help="Straight edges bend on the way: corners are added so that none is off by more than this. Left empty, none are added.",
        )

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        found = reshaping.require_geometry(facts)
        if not found and facts.crs is None:
            found.append(Finding.error("it has no coordinate system to come from. Say it where the layer is loaded.", "from", facts))
        elif not found and facts.crs and not same_crs(facts.crs, settings.crs):
            way = transformation(facts.crs, settings.crs, facts.extent)
            text = f"{facts.key}: {crs_facts(facts.crs).name} to {crs_facts(settings.crs).name}: {way.sentence()}."
            found.append(Finding(Level.LOOK if way.coarse else Level.NOTE, text, layer=facts.key))
            doubt = outside_words(facts.extent, facts.crs, settings.crs)
            if doubt:
                found.append(Finding.look(f"{doubt}.", about=facts))
        return found

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        # how far edges lie off their course, and whether a total jumps, is told of the whole
        return Takes.ROWS if facts.kind is GeometryKind.POINT else Takes.WHOLE

    def crs_after(self, crs: str | None, settings: Settings) -> str | None:
        return settings.crs

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        xy = layer.undecoded.xy if layer.undecoded is not None else None
        extent = context.extent_of(layer)
        found = None if xy is None or layer.crs is None else reproject_places(xy, layer.crs, settings.crs, extent)
        if found is None:
            return super().work(layer, settings, context)
        assert layer.crs is not None
        there, back = found
        out = replace(layer, column=GeometryColumn(WkbArray.of_points(there)), crs=settings.crs)
        remarks = self._said(layer, layer.crs, settings, extent)
        return Outcome((out,), lineage=np.arange(len(layer)), remarks=tuple(remarks), controls=(control_of_move(back),))

    def _said(self, layer: Layer, crs: str, settings: Settings, extent: Extent | None) -> list[Remark]:
        way = transformation(crs, settings.crs, extent)
        remarks = [Remark(f"brought to {crs_facts(settings.crs).name}: {way.sentence()}", layer.key, look=way.coarse)]
        doubt = outside_words(extent, crs, settings.crs)
        return [*remarks, *([Remark(doubt, layer.key, look=True)] if doubt else [])]

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        if layer.crs is None:
            raise CrsError("it has no coordinate system to come from", place=layer.key, way_out="Say it where the layer is loaded")
        extent = context.extent_of(layer)
        within = parse_length(settings.tolerance).si if settings.tolerance else None
        found = reproject_whole(shapes, layer.crs, settings.crs, within, extent)
        remarks = []
        if same_crs(layer.crs, settings.crs):
            remarks.append(Remark("it was in this coordinate system already", layer.key))
        else:
            remarks += self._said(layer, layer.crs, settings, extent)
            remarks += said_of_move(layer, found, within)
        reasons = [(f"has no place in {settings.crs}", found.lost)]
        return Reshaped(found.geometry, reasons, remarks, controls=controls_of_move(layer, found))
