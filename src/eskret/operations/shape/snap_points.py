"""Move points onto lines."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
import shapely

from eskret.core.accounts.account import Altered, ControlTotal, Least, Most, Remark, verbatim
from eskret.core.crs import crs_facts
from eskret.core.geometry.closest import closest, edges, places_on
from eskret.core.geometry.globe.nearest import nearest_places
from eskret.core.geometry.ordinates import measured
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.core.words import format_quantity, pluralise
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, other_layer, pairing, reshaping
from eskret.operations.support.row_wise import Reshaped, ShapePerRow
from eskret.operations.support.setting_types import Length

TOO_FAR = "is too far from it"
NO_POINT = "is no single point"
_ON_IT = 0.02
"""Metres within which a point lies on what it was moved to: edges of a plane are followed on the ellipsoid to a centimetre."""
_DEGREE = 111_000.0


class SnapPoints(ShapePerRow):
    """Move points onto the nearest line or edge of another layer.

    Only points within the distance are moved, each by the shortest way; how far each was moved is listed. The others stay where they
    are, or are set aside. Fields, heights and measures stay with their points. A point that lies on it already does not move.
    """

    id = "snap_points"
    title = "Snap points"
    phase = Phase.SHAPE
    menu_order = 47
    says = "Snap points of {entering} to {to} within {within}"
    also_known_as = (
        "onto line",
        "pull to line",
        "snap to line",
        "snap gps to line",
        "move points to nearest line",
        "align points",
        "project points on line",
        "linear reference",
        "slightly off the line",
    )

    class Settings(OperationSettings):
        to: str = setting(
            "Lines", kind="layer", min_length=1, example="breakwater", help="The lines or areas to move to: step, or step:layer."
        )
        within: Length = setting("Within", kind="measure", min_length=1, example="5 m", help="Points that are further away are not moved.")
        onto: Literal["edge", "corner"] = setting(
            "Onto",
            kind="choice",
            default="edge",
            choices={"edge": "the nearest place on the line", "corner": "the nearest corner of the line"},
            help="An area is taken for the line around it.",
        )
        along: ground.Along = ground.along_setting()
        others: Literal["leave", "aside"] = setting(
            "Points that are too far",
            rare=True,
            kind="choice",
            default="leave",
            choices={"leave": "stay where they are", "aside": "are set aside"},
            help="Either way they are counted.",
        )

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        found = [*reshaping.require_length_unit(facts, "within"), *other_layer.findings(facts, context, "to")]
        found += other_layer.only_one(context, "to", settings.to)[1]
        if facts.kind in (GeometryKind.LINE, GeometryKind.POLYGON):
            found.append(Finding.error(f"it holds {facts.kind}s; points are wanted. Corner points makes some.", "from", facts))
        return [*found, *ground.forecast_along(facts, settings.along)]

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        # how true it is along the ellipsoid is told of the whole
        return Takes.WHOLE if ground.on_ellipsoid(facts.crs, settings.along) else Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        others = other_layer.others_of(layer, context, "to", valid=False)
        lines, index = context.once("lines", lambda: _lines(others.geometry, settings))
        there = is_nonempty(shapes)
        single = there & (shapely.get_type_id(shapes) == 0)
        rows = np.flatnonzero(single)
        partner, metres, places = _found(layer, shapes[rows], lines, index, settings, context)
        near, moves = partner >= 0, (partner >= 0) & (metres > 0) & ~np.isnan(places[:, 0])
        out = np.array(shapes, object)
        out[rows[moves]] = _at(shapes[rows[moves]], places[moves])
        far = rows[~near]
        reasons = [(NO_POINT, np.flatnonzero(there & ~single))]
        altered = [Altered("moved", rows[moves], metres[moves], "m")]
        if settings.others == "aside":
            reasons.append((TOO_FAR, far))
        else:
            altered.append(Altered(TOO_FAR, far))
        remarks = [*others.remarks, *ground.remarks_of(layer, settings.along, context), *ground.told_of_nowhere(layer)]
        least, most = Least(metres[moves].min(initial=np.inf)), Most(metres[moves].max(initial=-np.inf))
        remarks.append(Remark.figured("moved", _told, layer.key, n=int(moves.sum()), least=least, most=most))
        text = f"{{n|point is|points are}} more than {verbatim(settings.within)} away"
        remarks.append(Remark.of_some(text, layer.key, look=True, n=len(far)))
        account = pairing.other_account("to", others, others.rows[np.unique(partner[near])], "no point is near to it")
        control = _control(out[rows[moves]], lines[partner[moves]], layer)
        return Reshaped(out, reasons, remarks, altered, control, [account])


def _told(figures: Mapping[str, Any]) -> str:
    told = pluralise(figures["n"], "point was moved", "points were moved")
    if not figures["n"]:
        return told
    return f"{told}, by {format_quantity(figures['least'], 'm')} to {format_quantity(figures['most'], 'm')}"


def _lines(shapes: np.ndarray, settings: Any) -> tuple[np.ndarray, shapely.STRtree]:
    """What points are moved onto, with its index, built."""
    lines = _corners(shapes) if settings.onto == "corner" else edges(shapes)
    index = shapely.STRtree(lines)
    index.query(shapely.Point())
    return lines, index


def _corners(shapes: np.ndarray) -> np.ndarray:
    xy, row = shapely.get_coordinates(shapes, return_index=True)
    return np.asarray(shapely.multipoints(np.asarray(shapely.points(xy)), indices=row), object) if len(xy) else np.empty(0, object)


def _found(
    layer: Layer, points: np.ndarray, lines: np.ndarray, index: shapely.STRtree, settings: Any, context: Context
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """For each point the position of the nearest line within reach (-1 for none), metres to it, and the place on it."""
    limit, crs = parse_length(settings.within).si, ground.crs_of(layer)
    if not ground.on_ellipsoid(crs, settings.along):
        unit = crs_facts(crs).unit_metres or 1.0
        partner, apart = closest(points, lines, limit / unit, context.watch, index)
        places = np.full((len(points), 2), np.nan)
        found = np.flatnonzero(partner >= 0)
        if len(found):
            places[found] = places_on(points[found], lines[partner[found]])
        return partner, apart * unit, places
    below = ground.ground_of(crs)
    partner, metres, lonlat = nearest_places(below.there(points), below.there(lines), below.on, limit, context.watch)
    places = np.full((len(points), 2), np.nan)
    known = np.flatnonzero(~np.isnan(lonlat[:, 0]))
    if len(known):
        places[known] = shapely.get_coordinates(below.back(np.asarray(shapely.points(lonlat[known]), object), None))
        if crs_facts(crs).geographic:
            places[known, 0] = _same_turn(places[known, 0], shapely.get_x(points[known]), 360.0 / below.on.degrees)
    return partner, metres, places


def _same_turn(x: np.ndarray, before: np.ndarray, turn: float) -> np.ndarray:
    """Longitudes in the turn about the globe that the points had: between -180 and 180 degrees, or beyond where they were."""
    within = np.abs(before) <= turn / 2
    wrapped = x - turn * np.ceil(x / turn - 0.5)
    return np.where(within, wrapped, x + turn * np.round((before - x) / turn))


def _at(points: np.ndarray, places: np.ndarray) -> np.ndarray:
    """Points at other places, with the heights and measures that they have."""
    out = np.asarray(shapely.points(places), object)
    high = shapely.has_z(points)
    out[high] = shapely.points(np.column_stack([places[high], shapely.get_z(points[high])]))
    with_m = shapely.has_m(points)
    out[with_m] = measured(out[with_m], shapely.get_coordinates(points[with_m], include_m=True)[:, 2])
    return out


def _control(points: np.ndarray, lines: np.ndarray, layer: Layer) -> tuple[ControlTotal, ...]:
    """All points that were moved lie on their lines now, measured from where they came to lie."""
    if not len(points):
        return ()
    facts = crs_facts(ground.crs_of(layer))
    reach = _ON_IT / (_DEGREE if facts.geographic else facts.unit_metres or 1.0)
    on_it = int(shapely.dwithin(points, lines, reach).sum())
    return (ControlTotal("points on it", "", len(points), on_it),)
