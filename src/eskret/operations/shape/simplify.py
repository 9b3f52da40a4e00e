"""Take corners out that hardly matter."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import shapely

from eskret.core.accounts.account import Remark
from eskret.core.crs import crs_facts, is_geographic
from eskret.core.geometry.globe.ellipsoid import ellipsoid_of
from eskret.core.geometry.globe.seam import running, wrapped
from eskret.core.geometry.globe.thinned import degree_scales, stretched
from eskret.core.geometry.measuring import least_scales
from eskret.core.geometry.ordinates import with_measures
from eskret.core.geometry.parallel import in_chunks
from eskret.core.geometry.parts import dimension
from eskret.core.layer import Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.core.words import format_quantity
from eskret.errors import SettingError
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, reshaping
from eskret.operations.support.row_wise import Reshaped, ShapePerRow
from eskret.operations.support.setting_types import SomeLength


class Simplify(ShapePerRow):
    """Remove corners that hardly change the course of lines and areas.

    Each feature by itself: no corner left out lies further than the tolerance from what is drawn instead (Douglas and
    Peucker), and no area crosses itself. With shared edges kept shared, neighbours are simplified together and stay
    neighbours without gaps; corners whose triangle is smaller than the tolerance squared go (Visvalingam and Whyatt).
    """

    id = "simplify"
    title = "Simplify"
    phase = Phase.SHAPE
    menu_order = 55
    says = "Simplify {entering} to within {tolerance}"
    also_known_as = (
        "generalise",
        "generalize",
        "thin vertices",
        "fewer vertices",
        "fewer points",
        "smooth",
        "reduce detail",
        "smooth detail",
        "weed",
        "lighter",
        "smaller file",
    )

    class Settings(OperationSettings):
        tolerance: SomeLength = reshaping.length_setting("Tolerance", "How far the course may change, with its unit.", "5 m", min_length=1)
        shared: bool = setting(
            "Keep shared edges shared",
            kind="flag",
            default=False,
            help="For areas that meet exactly, such as districts: neighbours get the same new edge.",
        )

        along: ground.Along = ground.along_setting("Tolerance along")

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        found = [*reshaping.require_length_unit(facts, "tolerance"), *ground.forecast_along(facts, settings.along)]
        if settings.shared and facts.kind in ("point", "line"):
            found.append(Finding.error("only areas share edges.", "shared", facts))
        return found

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        # neighbours need each other, and how far it is along the ellipsoid is told of the whole
        return Takes.WHOLE if settings.shared or ground.on_ellipsoid(facts.crs, settings.along) else Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        thin, remarks = self._together(layer, settings) if settings.shared else self._each(layer, settings, context)
        remarks += ground.remarks_of(layer, settings.along, context)
        before, after = (int(shapely.get_num_coordinates(s).sum()) for s in (shapes, thin))
        remarks = [*remarks, Remark.figured("corners", _corners, layer.key, after=after, before=before)]
        if (dimension(shapes) == 2).any():
            whole, now = (float(np.nansum(shapely.area(s))) for s in (shapes, thin))
            if whole or context.whole is not None:
                remarks.append(Remark.figured("area", _area, layer.key, whole=whole, now=now))
        return Reshaped(thin, remarks=remarks)

    def _each(self, layer: Layer, settings: Settings, context: Context) -> tuple[np.ndarray, list[Remark]]:
        shapes = np.full(len(layer), None, object)
        metres = parse_length(settings.tolerance).si
        scales, remarks = _scales(layer, settings)

        degrees = is_geographic(layer.crs)

        def some(start: int, stop: int) -> None:
            given = layer.geometry[start:stop]  # type: ignore[index]
            if not isinstance(scales, np.ndarray):
                shapes[start:stop] = with_measures(lambda flat: np.asarray(shapely.simplify(flat, metres / scales)), given)
                return
            # where a shape was cut at 180 degrees is no corner of it
            whole, across = running(given) if degrees else (given, np.empty(0, np.int64))
            thin = stretched(whole, scales[start:stop], lambda flat: shapely.simplify(flat, metres))
            thin[across] = wrapped(thin[across], short_way=False)[0]
            shapes[start:stop] = thin

        in_chunks(some, len(layer), context.watch, 5_000)
        return shapes, remarks

    def _together(self, layer: Layer, settings: Settings) -> tuple[np.ndarray, list[Remark]]:
        assert layer.geometry is not None
        if not (dimension(layer.geometry) == 2).all():
            raise SettingError("only areas share edges", place=layer.key, setting="shared")
        metres = parse_length(settings.tolerance).si
        scales, remarks = _scales(layer, settings)
        if isinstance(scales, np.ndarray):
            # all alike, so that neighbours still meet
            alike = np.tile(scales.max(axis=0, initial=0.0), (len(layer), 1))
            shapes = stretched(layer.geometry, alike, lambda flat: shapely.coverage_simplify(flat, metres))
        else:
            shapes = with_measures(lambda flat: np.asarray(shapely.coverage_simplify(flat, metres / scales)), layer.geometry)
        if not shapely.coverage_is_valid(layer.geometry):
            text = "the areas do not meet exactly everywhere, so there edges may come apart"
            remarks.append(Remark(text, layer.key, look=True))
        return shapes, remarks


def _corners(figures: Mapping[str, int]) -> str:
    after, before = figures["after"], figures["before"]
    share = f" ({100 * after / before:.1f} %)" if before else ""
    return f"{after:,} of {before:,} corners{share} are left"


def _area(figures: Mapping[str, float]) -> str:
    if not figures["whole"]:
        return ""
    return f"the area changed by {format_quantity(100 * (figures['now'] - figures['whole']) / figures['whole'])} %"


def _scales(layer: Layer, settings: Any) -> tuple[np.ndarray | float, list[Remark]]:
    """How many metres a unit of the layer's plane is: a figure for all, or of x and y for each feature, at most; and what there is
    to say of it."""
    crs = ground.crs_of(layer)
    facts = crs_facts(crs)
    if facts.geographic:
        text = "measured in degrees as wide as they are nearest to the equator, so that no course changes further than said"
        return degree_scales(layer.bounds(), ellipsoid_of(crs)), [Remark(text, layer.key)]
    if not ground.on_ellipsoid(crs, settings.along):
        return facts.unit_metres or 1.0, []
    each = facts.unit_metres / least_scales(layer.bounds(), crs)
    text = "measured along the ellipsoid, at the least scale about each feature"
    return np.column_stack([each, each]), [Remark(text, layer.key)]
