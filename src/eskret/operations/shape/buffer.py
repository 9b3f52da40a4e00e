"""Put a margin around features."""

from __future__ import annotations

from typing import Literal

import numpy as np
import shapely

from eskret.core.accounts.account import ControlTotal, Remark
from eskret.core.crs import crs_facts, is_geographic
from eskret.core.geometry.globe.grow import Buffer as InPlanes
from eskret.core.geometry.globe.grow import Grown, grow, tolerance_of, too_far
from eskret.core.geometry.globe.seam import wrapped
from eskret.core.geometry.parallel import in_chunks, is_nonempty
from eskret.core.geometry.parts import of_dimension
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.core.words import pluralise
from eskret.errors import CrsError, SettingError
from eskret.operations.base import Context, Finding, Level, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, reshaping
from eskret.operations.support.row_wise import Reshaped, ShapePerRow
from eskret.operations.support.setting_types import Offset

_TRIED = 300
TOO_FAR = "a distance of more than a quarter of the globe makes no area about a feature"


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
        ends: Literal["round", "flat", "square"] = setting(
            "Ends of lines",
            rare=True,
            kind="choice",
            default="round",
            help="How the area ends where a line does.",
            choices={"round": "round", "flat": "cut off at the end", "square": "reach beyond it, square"},
        )
        corners: Literal["round", "mitre", "bevel"] = setting(
            "Corners",
            rare=True,
            kind="choice",
            default="round",
            help="How the area goes round a corner.",
            choices={"round": "round", "mitre": "pointed", "bevel": "cut off"},
        )
        along: ground.Along = ground.along_setting()
        steps: int = setting(
            "Steps of a quarter circle",
            rare=True,
            kind="whole",
            default=16,
            ge=1,
            le=200,
            help="With 16, a circle's area comes out 0.2 % too small; with 64, 0.01 %.",
        )

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        found = reshaping.require_length_unit(facts, "distance")
        if not found or found[-1].level is not Level.ERROR:
            found += ground.forecast_along(facts, settings.along)
        if facts.crs and ground.on_ellipsoid(facts.crs, settings.along) and too_far(parse_length(settings.distance).si):
            found.append(Finding.error(f"{TOO_FAR}.", "distance", facts))
        return found

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        # how true it is along the ellipsoid is told of the whole
        return Takes.WHOLE if ground.on_ellipsoid(facts.crs, settings.along) else Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        crs = ground.crs_of(layer)
        metres = parse_length(settings.distance).si

        def buffer(shapes: np.ndarray, distance: np.ndarray | float) -> np.ndarray:
            found = shapely.buffer(shapes, distance, quad_segs=settings.steps, cap_style=settings.ends, join_style=settings.corners)
            return of_dimension(found, np.full(len(found), 2))

        remarks = ground.remarks_of(layer, settings.along, context)
        if ground.on_ellipsoid(crs, settings.along):
            if too_far(metres):
                raise SettingError(TOO_FAR, place=layer.key, setting="distance")
            grown, more = self._on_ellipsoid(layer, settings, metres, buffer, context)
            remarks += more
        else:
            unit = crs_facts(crs).unit_metres
            if not unit:
                raise CrsError("the unit of its coordinates is not known", place=layer.key)
            grown = np.full(len(layer), None, object)

            def some(start: int, stop: int) -> None:
                grown[start:stop] = buffer(shapes[start:stop], metres / unit)

            in_chunks(some, len(layer), context.watch, 5_000)
        remarks += ground.told_of_nowhere(layer)
        aside = [(ground.NOWHERE, ground.nowhere_rows(layer))]
        controls = _held(layer, grown, metres) if settings.ends == "round" else ()
        return Reshaped(grown, aside, remarks, controls=controls)

    def _on_ellipsoid(
        self, layer: Layer, settings: Settings, metres: float, buffer: InPlanes, context: Context
    ) -> tuple[np.ndarray, list[Remark]]:
        assert layer.crs is not None and layer.geometry is not None
        below = ground.ground_of(layer.crs)
        degrees = below.there(layer.geometry)
        shapes = np.full(len(layer), None, object)
        round_ = settings.ends == "round" and settings.corners == "round"

        def some(start: int, stop: int) -> Grown:
            found = grow(degrees[start:stop], metres, below.on, buffer, round_=round_)
            shapes[start:stop] = below.back(found.geometry, float(tolerance_of(metres)))
            return found

        found = in_chunks(some, len(layer), context.watch, 1_000)
        error = max((f.error for f in found), default=0.0)
        remarks = [Remark(f"taken along the ellipsoid, true to {error:.1g} of the distance", layer.key, look=error > ground.TOLD)]
        cut = sum(f.cut for f in found)
        if cut:
            remarks.append(Remark(f"{pluralise(cut, 'area lies', 'areas lie')} across 180 degrees or about a pole", layer.key))
        return shapes, remarks


def _held(layer: Layer, shapes: np.ndarray, metres: float) -> tuple[ControlTotal, ...]:
    """Features lie within the areas that they grew to, or hold those to which they shrank; of many, some hundred are tried."""
    assert layer.geometry is not None
    geometry = layer.geometry
    rows = np.flatnonzero(is_nonempty(geometry) & is_nonempty(shapes))
    rows = rows[np.unique(np.linspace(0, max(len(rows) - 1, 0), _TRIED).astype(np.int64))] if len(rows) else rows
    rows = rows[shapely.is_valid(geometry[rows])]
    if not len(rows):
        return ()
    before, after = geometry[rows], shapes[rows]
    if is_geographic(layer.crs):
        before, _ = wrapped(before, short_way=False)  # areas that grew lie between -180 and 180
    inner, outer = (before, after) if metres > 0 else (after, before)
    good = shapely.covers(outer, inner)
    rest = np.flatnonzero(~good)
    # what only rounding puts outside does not count
    left = shapely.difference(inner[rest], outer[rest])
    size = np.abs(shapely.bounds(inner[rest]).reshape(-1, 4)).max(axis=1, initial=1.0)
    boxes = shapely.bounds(left).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        thin = np.minimum(boxes[:, 2] - boxes[:, 0], boxes[:, 3] - boxes[:, 1]) <= 1e-9 * size
    good[rest] = shapely.is_empty(left) | thin
    return (ControlTotal("features held", "", len(rows), int(good.sum())),)
