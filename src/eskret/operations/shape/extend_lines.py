"""Lines made longer at their ends."""

from __future__ import annotations

from typing import Literal

import numpy as np
import shapely

from eskret.core.accounts.account import Altered, ControlTotal, Remark
from eskret.core.crs import crs_facts
from eskret.core.geometry.globe.ellipsoid import ellipsoid_of
from eskret.core.geometry.ordinates import measured
from eskret.core.geometry.parts import dimension, single_parts
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, reshaping
from eskret.operations.support.row_wise import Reshaped, ShapePerRow
from eskret.operations.support.setting_types import SomeLength


class ExtendLines(ShapePerRow):
    """Extend lines straight on, by a length at their ends.

    Each goes on in the direction of its last stretch, with one more corner; heights go on level, and measures as evenly as on
    that stretch. Where coordinates are degrees the length is taken along the ellipsoid. Each part of a line in several has ends of its
    own. Closed lines have none and stay as they are. To let ends meet other lines, Cut at crossings mends loose ends.
    """

    id = "extend_lines"
    title = "Extend lines"
    phase = Phase.SHAPE
    menu_order = 67
    keep_null = True
    says = "Extend lines of {entering} by {by}"
    also_known_as = (
        "lengthen lines",
        "make lines longer",
        "continue lines",
        "prolong",
        "stretch lines",
        "longer transect",
        "run on past the end",
    )

    class Settings(OperationSettings):
        by: SomeLength = reshaping.length_setting("By", "A length with its unit, at each end that is chosen.", "50 m", min_length=1)
        ends: Literal["both", "start", "end"] = setting(
            "At",
            kind="choice",
            default="both",
            choices={"both": "both ends", "start": "the start", "end": "the end"},
            help="Where lines go on.",
        )
        along: ground.Along = ground.along_setting("Length along")

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        found = [*reshaping.require_length_unit(facts, "by"), *ground.forecast_along(facts, settings.along)]
        if facts.kind in (GeometryKind.POINT, GeometryKind.POLYGON):
            found.append(Finding.error("only lines have ends.", "from", facts))
        return found

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        out = np.array(shapes, object)
        rows = np.flatnonzero((dimension(shapes) == 1) & ~shapely.is_empty(shapes))
        parts, owner = single_parts(shapes[rows])
        closed = shapely.is_closed(parts)
        able = ~closed & ~np.isin(rows[owner], ground.nowhere_rows(layer))
        metres = parse_length(settings.by).si
        made = np.array(parts, object)
        lengths = [np.empty(0)]
        for at_end in (False, True):
            if settings.ends in ("both", "end" if at_end else "start"):
                made[able], got = _longer(made[able], at_end, metres, settings.along, layer)
                lengths.append(got)
        touched = np.unique(owner[able])
        several = shapely.get_type_id(shapes[rows]) == 5
        starts = np.searchsorted(owner, np.arange(len(rows) + 1))
        for n in touched.tolist():
            some = made[starts[n] : starts[n + 1]]
            out[rows[n]] = shapely.multilinestrings(some) if several[n] else some[0]
        across = ground.within_the_turn(out, shapes, ground.crs_of(layer))
        ends = int(able.sum()) * (2 if settings.ends == "both" else 1)
        remarks = [
            *ground.remarks_of(layer, settings.along, context),
            *ground.told_of_nowhere(layer),
            Remark.counted(f"{{n|end}} moved out by {settings.by}", layer.key, n=ends),
            Remark.of_some("{n|line is|lines are} closed and {n:has|have} no ends", layer.key, n=int(closed.sum())),
            Remark.of_some(
                "{n|line goes|lines go} on across 180 degrees, and {n:comes|come} in parts that meet there", layer.key, n=across
            ),
        ]
        gained = np.concatenate(lengths)
        control = ControlTotal("length that was added", "m", ends * metres, float(gained.sum()), 1e-6)
        told = Altered("made longer", rows[touched], _gains(able, owner, touched, lengths), "m")
        return Reshaped(out, remarks=remarks, altered=[told], controls=[control])


def _gains(able: np.ndarray, owner: np.ndarray, touched: np.ndarray, lengths: list[np.ndarray]) -> np.ndarray:
    """How much longer each line became (metres)."""
    gained = np.zeros(len(owner))
    for some in lengths[1:]:
        gained[able] += some
    return np.bincount(owner, gained)[touched] if len(touched) else np.empty(0)


def _longer(lines: np.ndarray, at_end: bool, metres: float, along: str, layer: Layer) -> tuple[np.ndarray, np.ndarray]:
    """Single lines that go on at one end, and how far that corner is from the end (metres), measured from what was made."""
    if not len(lines):
        return lines, np.empty(0)
    xyzm, line = shapely.get_coordinates(lines, include_z=True, include_m=True, return_index=True)
    starts = np.searchsorted(line, np.arange(len(lines)))
    stops = np.searchsorted(line, np.arange(len(lines)), side="right") - 1
    end = stops if at_end else starts
    before = _another_place(xyzm[:, :2], line, at_end, end)
    crs = ground.crs_of(layer)
    place = np.array(xyzm[end])
    place[:, :2], length, last = _further(xyzm[before, :2], xyzm[end, :2], metres, along, crs)
    with np.errstate(invalid="ignore", divide="ignore"):
        place[:, 3] += (xyzm[end, 3] - xyzm[before, 3]) / last * metres
    out = np.empty(len(lines), object)
    tall, with_m = shapely.has_z(lines), shapely.has_m(lines)
    for n, one in enumerate(np.split(xyzm, starts[1:])):
        corners = np.r_[one, place[n : n + 1]] if at_end else np.r_[place[n : n + 1], one]
        made = shapely.LineString(corners[:, : 3 if tall[n] else 2])
        out[n] = measured(np.array([made], object), corners[:, 3])[0] if with_m[n] else made
    return out, length


def _another_place(xy: np.ndarray, line: np.ndarray, at_end: bool, end: np.ndarray) -> np.ndarray:
    """For each line the corner next to its end that is at another place: where corners are repeated the last stretch has no direction."""
    differs = np.flatnonzero((line[1:] == line[:-1]) & (xy[1:] != xy[:-1]).any(axis=1))
    if at_end:
        return differs[np.searchsorted(differs, end, side="left") - 1]
    return differs[np.searchsorted(differs, end, side="left")] + 1


def _further(before: np.ndarray, end: np.ndarray, metres: float, along: str, crs: str) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Places (n, 2) so far beyond an end, straight on; how far they are from it, and how long the stretch before is (metres)."""
    facts = crs_facts(crs)
    if not ground.on_ellipsoid(crs, along):
        unit = facts.unit_metres or 1.0
        step = end - before
        last = np.hypot(*step.T)
        found = end + step / last[:, None] * (metres / unit)
        return found, np.hypot(*(found - end).T) * unit, last * unit
    below = ground.ground_of(crs)
    geod = ellipsoid_of(below.degrees).geod
    a, b = below.lonlat(before), below.lonlat(end)
    _, back, last = geod.inv(*a.T, *b.T)
    lon, lat, _ = geod.fwd(*b.T, np.asarray(back) + 180.0, np.full(len(b), metres))
    found = shapely.get_coordinates(below.back(np.asarray(shapely.points(np.column_stack([lon, lat])), object), None))
    if facts.geographic:
        turn = 360.0 / ellipsoid_of(crs).degrees
        found[:, 0] = end[:, 0] + (found[:, 0] - end[:, 0] + turn / 2) % turn - turn / 2
    return found, below.apart(end, found), np.asarray(last)
