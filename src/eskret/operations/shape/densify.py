"""Put corners in, so that no stretch is long."""

from __future__ import annotations

import numpy as np
import shapely

from eskret.core.accounts.account import Remark
from eskret.core.crs import crs_facts
from eskret.core.geometry.ordinates import with_measures
from eskret.core.geometry.parallel import in_chunks
from eskret.core.geometry.parts import dimension, single_parts, together
from eskret.core.geometry.vertices import split_edges
from eskret.core.layer import Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.errors import SettingError
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings
from eskret.operations.support import ground, reshaping
from eskret.operations.support.row_wise import Reshaped, ShapePerRow
from eskret.operations.support.setting_types import SomeLength


class Densify(ShapePerRow):
    """Add corners to lines and areas so that no segment is longer than a given length.

    The course stays the same, and all existing vertices stay. Use it before reprojecting long straight lines, which
    would otherwise take a short cut where they ought to follow a curve.
    """

    id = "densify"
    title = "Densify"
    phase = Phase.SHAPE
    menu_order = 56
    says = "Densify {entering} to stretches of {longest}"
    also_known_as = (
        "more vertices",
        "add vertices",
        "add points along",
        "segmentise",
        "subdivide segments",
        "split long segments",
        "shorter segments",
        "insert corners",
    )

    class Settings(OperationSettings):
        longest: SomeLength = reshaping.length_setting("Longest segment", "Between two corners, with its unit.", "100 m", min_length=1)

        along: ground.Along = ground.along_setting("Length along")

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        return [*reshaping.require_length_unit(facts, "longest"), *ground.forecast_along(facts, settings.along)]

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        metres, crs = parse_length(settings.longest).si, ground.crs_of(layer)
        remarks = ground.remarks_of(layer, settings.along, context)
        along = ground.on_ellipsoid(crs, settings.along)
        if along:
            remarks.append(Remark("stretches are measured along the ellipsoid", layer.key))
        length, unit = ground.edge_length(crs), crs_facts(crs).unit_metres or 1.0

        def fits(many: float) -> None:
            if not many <= _MOST:
                raise SettingError(
                    f"stretches of {settings.longest} would put in {many:,.0f} corners and more",
                    place=layer.key,
                    setting="longest",
                    way_out="Take a longer stretch, or look for a shape that is much too large",
                )

        def count(begin: np.ndarray, end: np.ndarray, row: np.ndarray) -> np.ndarray:
            found = np.ceil(length(begin, end) / metres * (1 - 1e-12))
            fits(float(np.nansum(found)))
            return np.asarray(found)

        out = np.full(len(layer), None, object)

        def some(start: int, stop: int) -> None:
            given = shapes[start:stop]
            if not along:
                fits(float(np.nansum(shapely.length(given))) * unit / metres)
            out[start:stop] = split_edges(given, count) if along else with_measures(lambda s: _densified(s, metres / unit), given)

        in_chunks(some, len(layer), context.watch, 5_000)
        before = int(shapely.get_num_coordinates(shapes).sum())
        after = int(shapely.get_num_coordinates(out).sum())
        remarks.append(Remark.counted("{n|corner was put in|corners were put in}", layer.key, n=after - before))
        return Reshaped(out, remarks=remarks)


_MOST = 5e7
"""Corners put into some thousand features at once, beyond which no memory would hold them."""


def _densified(shapes: np.ndarray, length: float) -> np.ndarray:
    """The library refuses a part without length among them; such a part has no stretch to divide."""
    try:
        return np.asarray(shapely.segmentize(shapes, length))
    except shapely.errors.GEOSException:
        parts, owner = single_parts(shapes)
        long = shapely.length(parts) > 0
        parts[long] = shapely.segmentize(parts[long], length)
        return together(parts, owner, len(shapes), dimension(shapes))
