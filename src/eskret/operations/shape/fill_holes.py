"""Fill the holes of areas."""

from __future__ import annotations

from functools import partial

import numpy as np
import shapely

from eskret.core.accounts.account import Altered, ControlTotal, Remark
from eskret.core.geometry.parts import dimension, made_valid, single_parts, together
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.core.measure.planar import measures_of, unit_of
from eskret.core.measure.totals import measure_sizes
from eskret.core.measure.units import parse_measure
from eskret.core.words import format_quantity
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import reshaping
from eskret.operations.support.row_wise import Reshaped, ShapePerRow
from eskret.operations.support.setting_types import Area


class FillHoles(ShapePerRow):
    """Fill the holes of areas, all of them or only those up to a size.

    What stood in a hole that is filled, as an island in a lake, becomes part of the area around it. Holes between features
    are none of one feature: Dissolve joins the neighbours first, Check finds such gaps. Points and lines stay as they are.
    """

    id = "fill_holes"
    title = "Fill holes"
    phase = Phase.SHAPE
    menu_order = 52
    keep_null = True
    says = "Fill holes of {entering}"
    also_known_as = (
        "remove holes",
        "close holes",
        "delete rings",
        "inner rings",
        "remove islands",
        "doughnut",
        "without holes",
        "gaps inside area",
        "lakes filled",
    )

    class Settings(OperationSettings):
        largest: Area = setting(
            "Only holes up to",
            kind="measure",
            default="",
            example="50 m2",
            help="An area with its unit. Larger holes stay. Left empty, all are filled.",
        )

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        found = reshaping.require_geometry(facts)
        if facts.kind in (GeometryKind.POINT, GeometryKind.LINE):
            found.append(Finding.error("only areas have holes.", "from", facts))
        if settings.largest and facts.crs is None and not found:
            found.append(
                Finding.error("without a coordinate system a size means nothing. Say it where the layer is loaded.", "largest", facts)
            )
        return found

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        out = np.array(shapes, object)
        areas = np.flatnonzero(dimension(shapes) == 2)
        parts, owner = single_parts(shapes[areas])
        rings, ring_of = shapely.get_rings(parts, return_index=True)
        inner = np.r_[False, ring_of[1:] == ring_of[:-1]] if len(rings) else np.empty(0, bool)
        holes, part = np.asarray(shapely.polygons(rings[inner]), object), ring_of[inner]
        filled = np.ones(len(holes), bool)
        if settings.largest and len(holes):
            size = measure_sizes(holes, GeometryKind.POLYGON, layer.crs or "")
            filled = np.zeros(len(holes), bool) if size is None else size <= parse_measure(settings.largest).si
        touched = np.unique(part[filled])
        rows = np.unique(owner[touched])
        parts[touched] = _without(parts[touched], touched, holes, part, filled)
        made = together(parts, owner, len(areas), np.full(len(areas), 2))
        # what stands in a hole that was filled lies on it now
        mixed = rows[shapely.get_num_geometries(made[rows]) > 1]
        made[mixed] = [shapely.union_all(made_valid(shapely.get_parts(one))) for one in made[mixed]]
        out[areas[rows]] = made[rows]
        unit, factor = unit_of("area", layer.crs)
        area = measures_of(layer.crs)["area"]
        size = area(holes[filled]) * factor
        of = np.searchsorted(rows, owner[part[filled]])
        gained = (area(made[rows]) - area(shapes[areas[rows]])) * factor
        most = np.argsort(size, kind="stable")
        where = np.full((len(rows), 4), np.nan)
        where[of[most]] = shapely.bounds(holes[filled][most])
        remarks = [
            Remark.counted("{n|hole} filled", layer.key, n=int(filled.sum())),
            Remark.figured("filled", partial(_filled, unit), layer.key, area=float(size.sum())),
            Remark.of_some("{n|hole} stayed, being larger", layer.key, n=int((~filled).sum())),
        ]
        # holes are disjoint, but for what stands in them: of such features it is measured what the holes have that they had not
        added = np.bincount(of, size, minlength=len(rows))
        islands = np.isin(rows, mixed)
        by_row = np.argsort(of, kind="stable")
        starts = np.searchsorted(of[by_row], np.arange(len(rows) + 1))
        for n in np.flatnonzero(islands).tolist():
            all_holes = shapely.union_all(made_valid(holes[filled][by_row[starts[n] : starts[n + 1]]]))
            added[n] = float(area(np.array([shapely.difference(all_holes, made_valid(shapes[areas[rows[n : n + 1]]])[0])]))[0]) * factor
        proved = ~islands | shapely.is_valid(shapes[areas[rows]])
        before, after = (area(x[areas[rows]][proved]).sum() * factor for x in (shapes, out))
        control = ControlTotal("area with its holes", unit, float(before + added[proved].sum()), float(after), 1e-6)
        return Reshaped(out, remarks=remarks, altered=[Altered("holes filled", areas[rows], gained, unit, where)], controls=[control])


def _without(parts: np.ndarray, number: np.ndarray, holes: np.ndarray, part: np.ndarray, filled: np.ndarray) -> np.ndarray:
    """Single areas without the holes that are filled; the others stay."""
    left: dict[int, list[shapely.Geometry]] = {n: [] for n in number.tolist()}
    for hole, of in zip(holes[~filled], part[~filled].tolist(), strict=True):
        if of in left:
            left[of].append(shapely.get_exterior_ring(hole))
    shells = shapely.get_exterior_ring(parts)
    made = [shapely.polygons(shell, left[n] or None) for shell, n in zip(shells, number.tolist(), strict=True)]
    return np.array([*made, None], object)[:-1]


def _filled(unit: str, figures: dict[str, float]) -> str:
    return f"{format_quantity(figures['area'], unit)} filled in all" if figures["area"] else ""
