"""Put a margin around features."""

from __future__ import annotations

from typing import Literal

import numpy as np

from eskret.core.geometry.globe.grow import too_far
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.parts import dimension
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.operations.base import Context, Finding, Level, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, growing, reshaping
from eskret.operations.support.row_wise import Reshaped, ShapePerRow
from eskret.operations.support.setting_types import Offset


class Buffer(ShapePerRow):
    """Draw the area within a distance of each feature.

    The distance carries its unit. Where coordinates are degrees it is taken along the ellipsoid, and the step says
    how accurate it is; areas across 180 degrees or about a pole come out in parts that meet there. Areas grow, or
    shrink by a distance below zero; of one that vanishes nothing is left and it is set aside. Buffers of neighbours
    stay apart; Dissolve joins them.
    """

    id = "buffer"
    title = "Buffer"
    phase = Phase.SHAPE
    menu_order = 40
    makes = GeometryKind.POLYGON
    says = "Buffer {entering} by {distance}"
    also_known_as = (
        "margin",
        "around",
        "grow",
        "shrink",
        "zone around",
        "within distance",
        "widen",
        "offset",
        "setback",
        "safety zone",
        "circle around point",
        "area around features",
        "expand",
    )
    turns = (("point", "area"),)

    class Settings(OperationSettings):
        distance: Offset = reshaping.length_setting(
            "Distance", "With its unit, such as 200 m; below zero, areas shrink.", "200 m", min_length=1
        )
        side: Literal["both", "left", "right"] = setting(
            "Side of lines",
            rare=True,
            kind="choice",
            default="both",
            choices={"both": "both", "left": "only the left", "right": "only the right"},
            help="As seen by somebody who goes along the line. One side alone ends flat.",
        )
        ends: growing.Ends = growing.ends_setting()
        corners: growing.Corners = growing.corners_setting()
        along: ground.Along = ground.along_setting()
        steps: int = growing.steps_setting()

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        found = reshaping.require_length_unit(facts, "distance")
        if not found or found[-1].level is not Level.ERROR:
            found += ground.forecast_along(facts, settings.along)
        if facts.crs and ground.on_ellipsoid(facts.crs, settings.along) and too_far(parse_length(settings.distance).si):
            found.append(Finding.error(f"{growing.TOO_FAR}.", "distance", facts))
        if settings.side != "both" and facts.kind in (GeometryKind.POINT, GeometryKind.POLYGON):
            found.append(Finding.error(f"it holds {facts.kind}s; only lines have a left and a right.", "side", facts))
        if settings.side != "both" and parse_length(settings.distance).si < 0:
            found.append(Finding.error("one side of lines takes a distance above zero; the other side is the other choice.", "side", facts))
        return found

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        # how true it is along the ellipsoid is told of the whole
        return Takes.WHOLE if ground.on_ellipsoid(facts.crs, settings.along) else Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        metres = parse_length(settings.distance).si
        lines = dimension(shapes) == 1
        one_side = settings.side != "both"
        wanted = np.array(shapes, object)
        if one_side:
            wanted[~lines] = None
        grown, more = growing.areas_within(layer, wanted, metres, settings, context, settings.side)
        remarks = [*ground.remarks_of(layer, settings.along, context), *more, *ground.told_of_nowhere(layer)]
        aside = [(ground.NOWHERE, ground.nowhere_rows(layer))]
        if one_side:
            others = np.setdiff1d(np.flatnonzero(~lines & is_nonempty(shapes)), aside[0][1])
            aside.append(("is no line, so it has no left and right", others))
        controls = growing.held(layer, grown, metres) if settings.ends == "round" and not one_side else ()
        return Reshaped(grown, aside, remarks, controls=controls)
