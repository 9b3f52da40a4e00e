"""Take corners out that hardly matter."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import shapely

from eskret.core.account import Relation, Remark
from eskret.core.kernels.local import planes
from eskret.core.kernels.parts import dimension
from eskret.core.layer import Layer, LayerFacts
from eskret.core.measures import parse_length
from eskret.core.words import bold, figure
from eskret.errors import SettingError
from eskret.operations import reshaped
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Level, Outcome, Phase
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.typed import SomeLength


class Simplify(EachLayer):
    """Take corners out of lines and areas that hardly change their course.

    Each feature by itself: no corner left out lies further than the tolerance from what is drawn instead (Douglas and
    Peucker), and no area crosses itself. With shared edges kept shared, neighbours are simplified together and stay
    neighbours without gaps; corners whose triangle is smaller than the tolerance squared go (Visvalingam and Whyatt).
    """

    id = "simplify"
    title = "Simplify"
    phase = Phase.SHAPE
    rank = 55
    relation = Relation.ONE_FOR_ONE
    also_known_as = ("generalise", "generalize", "thin", "fewer vertices", "smooth", "reduce", "weed", "lighter")

    class Settings(OperationSettings):
        tolerance: SomeLength = reshaped.length_setting("Tolerance", "How far the course may change, with its unit.", "5 m",
                                                 min_length=1)  # fmt: skip
        shared: bool = setting(
            "Keep shared edges shared", kind="flag", default=False,
            help="For areas that meet exactly, such as districts: neighbours get the same new edge.",
        )  # fmt: skip

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        return f"Simplify {bold(entering or '…')} to within {settings.get('tolerance') or '…'}"

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = reshaped.measured(facts, "tolerance")
        if settings.shared and facts.kind in ("point", "line"):
            text = f"{facts.key}: only areas share edges."
            found.append(Finding(Level.ERROR, text, layer=facts.key, setting="shared"))
        return reshaped.foretold(facts, found)

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        if settings.shared:
            shapes, remarks = self._together(layer, settings)
        else:
            shapes, remarks = reshaped.in_planes(
                layer, settings.tolerance, lambda s, t, _: shapely.simplify(s, t, preserve_topology=True), context.watch
            )
        before = int(shapely.get_num_coordinates(layer.geometry).sum())
        after = int(shapely.get_num_coordinates(shapes).sum())
        share = f" ({100 * after / before:.1f} %)" if before else ""
        remarks = [*remarks, Remark(f"{after:,} of {before:,} corners{share} are left", layer.key)]
        if (dimension(layer.geometry) == 2).any():
            whole, now = float(np.nansum(shapely.area(layer.geometry))), float(np.nansum(shapely.area(shapes)))
            if whole:
                remarks.append(Remark(f"the area changed by {figure(100 * (now - whole) / whole)} %", layer.key))
        return reshaped.reshaped(layer, shapes, context, kind=layer.kind, remarks=remarks)

    def _together(self, layer: Layer, settings: Settings) -> tuple[np.ndarray, list[Remark]]:
        assert layer.geometry is not None
        if not (dimension(layer.geometry) == 2).all():
            raise SettingError("only areas share edges", place=layer.key, setting="shared")
        # all at once: in a plane that holds the whole layer
        box = layer.extent() or (0.0, 0.0, 1.0, 1.0)

        plane = next(iter(planes(np.array([box]), layer.crs)))
        shapes = plane.there(layer.geometry)
        whole = shapely.coverage_is_valid(shapes)
        found = shapely.coverage_simplify(shapes, parse_length(settings.tolerance).si / plane.metres)
        remarks = []
        if not whole:
            text = "the areas do not meet exactly everywhere, so there edges may come apart"
            remarks.append(Remark(text, layer.key, look=True))
        return plane.back(found), remarks
