"""The area nearest to each point."""

from __future__ import annotations

import numpy as np
import shapely

from eskret.core.accounts.account import ControlTotal, Relation, Remark
from eskret.core.crs import crs_facts
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.core.measure.planar import unit_of
from eskret.core.measure.units import parse_length
from eskret.errors import CrsError
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase
from eskret.operations.settings import OperationSettings
from eskret.operations.support import reshaping
from eskret.operations.support.setting_types import Length


class NearestAreas(EachLayer):
    """Draw around each point the area that is nearer to it than to any other point.

    Together they cover a rectangle around all points without gaps or overlaps, and each keeps the fields of its point. Clip
    cuts them to a district afterwards. Of several points at one place the first counts. Distances are those of the plane,
    so the coordinate system must be in units of length.
    """

    id = "nearest_areas"
    title = "Nearest areas"
    phase = Phase.SHAPE
    menu_order = 66
    relation = Relation.ONE_FOR_ONE
    says = "Nearest areas of {entering}"
    also_known_as = (
        "area nearest to each point",
        "voronoi",
        "thiessen",
        "catchment of points",
        "zones around points",
        "divide space between points",
        "area of influence",
        "points to areas",
    )
    turns = (("point", "area"),)

    class Settings(OperationSettings):
        margin: Length = reshaping.length_setting(
            "Beyond the outermost points", "How far the areas go, with its unit. Left empty, a tenth of the extent.", "500 m", default=""
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = reshaping.require_geometry(facts)
        if not found and facts.kind is not GeometryKind.POINT:
            found.append(Finding.error(f"it holds {facts.kind}s; points are wanted. Centre points makes some.", "from", facts))
        if not found and (not facts.crs or not crs_facts(facts.crs).unit_metres):
            found.append(Finding.error("its coordinate system has no unit of length. Reproject it first.", "from", facts))
        return reshaping.forecast_shapes(facts, found, GeometryKind.POLYGON)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        facts = crs_facts(layer.crs) if layer.crs else None
        if facts is None or not facts.unit_metres:
            raise CrsError("its coordinate system has no unit of length", place=layer.key, way_out="Reproject it first")
        there = np.flatnonzero(is_nonempty(layer.geometry))
        # points of several parts have an area each; what comes of one feature is put together below
        xy, of = shapely.get_coordinates(layer.geometry[there], return_index=True)
        places, first = np.unique(xy, axis=0, return_index=True)
        order = np.argsort(first)
        places, owner = places[order], there[of[first[order]]]
        out = np.full(len(layer), None, object)
        covered = 0.0
        if len(places):
            box = _box(places, parse_length(settings.margin).si / facts.unit_metres if settings.margin else None)
            cells, covered = _cells(places, box), float(box.area)
            single = np.bincount(owner, minlength=len(layer)) == 1
            out[owner[single[owner]]] = cells[single[owner]]
            for row in np.flatnonzero(np.bincount(owner, minlength=len(layer)) > 1).tolist():
                out[row] = shapely.union_all(cells[owner == row])
        same = np.setdiff1d(there, owner)
        unit, factor = unit_of("area", layer.crs)
        control = ControlTotal("area around all points", unit, covered * factor, float(np.nansum(shapely.area(out))) * factor, 1e-9)
        return reshaping.one_to_one(
            layer,
            out,
            context,
            kind=GeometryKind.POLYGON,
            reasons=[("another point lies at the same place", same)],
            remarks=[Remark.counted("{n|point has|points have} an area", layer.key, n=len(places))],
            controls=[control],
        )


def _box(places: np.ndarray, margin: float | None) -> shapely.Polygon:
    """The rectangle that is divided."""
    low, high = places.min(axis=0), places.max(axis=0)
    beyond = margin if margin is not None else max(float((high - low).max()) / 10, 1.0)
    if margin is not None and not beyond and (high == low).any():
        beyond = 1.0  # points in a row have no area of their own
    return shapely.box(*(low - beyond), *(high + beyond))


def _cells(places: np.ndarray, box: shapely.Polygon) -> np.ndarray:
    """The area of each place, in their order."""
    if len(places) == 1:
        return np.array([box, None], object)[:-1]
    # near the origin, where the last digits of large coordinates are not lost
    middle = np.round((np.array(box.bounds[:2]) + np.array(box.bounds[2:])) / 2)
    near = shapely.transform(box, lambda c: c - middle)
    found = shapely.voronoi_polygons(shapely.multipoints(places - middle), extend_to=near.buffer(near.length), ordered=True)
    cut = shapely.intersection(shapely.get_parts(found), near)
    return np.asarray(shapely.transform(cut, lambda c: c + middle))
