"""Points along lines: at even distances, or at shares of their length."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Literal

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import ControlTotal, Relation, Remark
from eskret.core.crs import crs_facts, geographic_of, move
from eskret.core.geometry.globe.ellipsoid import ellipsoid_of
from eskret.core.geometry.parts import single_parts
from eskret.core.geometry.vertices import split_edges
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.core.naming import number_collisions
from eskret.core.words import bold
from eskret.errors import SettingError
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, reshaping
from eskret.operations.support.setting_types import SomeLength


class PointsAlong(EachLayer):
    """Place points along lines: at even distances, or at shares of their length.

    Distances are counted from the beginning of each line, along its course; a line of several parts is counted part by
    part. Each point has the fields of its line, its number and how far along it lies. Areas have outlines: make these first.
    """

    id = "points_along"
    title = "Points along"
    phase = Phase.SHAPE
    menu_order = 48
    relation = Relation.MULTIPLIED
    also_known_as = (
        "points along lines",
        "points every so far",
        "points at even distances",
        "points at intervals",
        "stations along a line",
        "midpoint of line",
        "sample points on line",
        "kilometre posts",
        "line into points",
    )
    turns = (("line", "point"),)

    class Settings(OperationSettings):
        place: Literal["every", "shares"] = setting(
            "Place points",
            kind="choice",
            default="every",
            choices={"every": "at even distances", "shares": "at shares of the length"},
            help="Whether distances are counted, or parts of the whole.",
        )
        every: SomeLength = reshaping.length_setting(
            "Distance", "Between two points, with its unit.", "100 m", default="100 m", min_length=1, shown_when=("place", ("every",))
        )
        shares: str = setting(
            "Shares",
            default="50",
            example="0, 25, 50, 75, 100",
            shown_when=("place", ("shares",)),
            help="In per cent of the length, with commas: 50 is the middle.",
        )
        last: bool = setting(
            "Also at the end",
            kind="flag",
            default=False,
            shown_when=("place", ("every",)),
            help="Whether the end of a line has a point too.",
        )
        along: ground.Along = ground.along_setting("Length along")
        number: str = setting(
            "Field for the number", rare=True, default="number", min_length=1, help="The new field that numbers the points."
        )

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        if settings.get("place", "every") == "shares":
            return f"Points along {bold(entering or '…')} at {settings.get('shares', '50')} % of the length"
        return f"Points along {bold(entering or '…')} every {settings.get('every', '100 m')}"

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = reshaping.require_geometry(facts)
        if not found and facts.kind in (GeometryKind.POINT, GeometryKind.POLYGON):
            way_out = "Outlines makes some of areas." if facts.kind is GeometryKind.POLYGON else "Connect points makes some."
            found.append(Finding.error(f"it holds {facts.kind}s; lines are wanted. {way_out}", "from", facts))
        found += [*reshaping.require_length_unit(facts, "every"), *ground.forecast_along(facts, settings.along)]
        try:
            _shares(settings.shares)
        except SettingError as error:
            found.append(Finding.of(error, setting="shares"))
        number, far = _names(settings, [f.name for f in facts.fields])
        new = facts.with_fields((*facts.fields, Field(number, pa.int64()), Field(far, pa.float64())))
        return reshaping.forecast_shapes(new, found, GeometryKind.POINT, count=None, certainty=Certainty.UNKNOWN)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        remarks = ground.remarks_of(layer, settings.along, context)
        parts, owner = single_parts(layer.geometry)
        lines = np.isin(shapely.get_type_id(parts), (1, 2))
        parts, owner = parts[lines], owner[lines]
        part, metres = _wanted_places(parts, settings, layer)
        shapes = _at(parts, part, metres, settings.along, layer)
        rows = owner[part]
        order = np.argsort(rows, kind="stable")
        rows, shapes, metres = rows[order], shapes[order], metres[order]
        number, far = _names(settings, layer.table.column_names)
        numbers = np.arange(len(rows)) - np.searchsorted(rows, rows) + 1
        several = int((np.bincount(owner, minlength=len(layer)) > 1).sum())
        remarks += [
            Remark.counted("{n|point} placed", layer.key, n=len(rows)),
            Remark.of_some("{n|line has|lines have} several parts, each counted by itself", layer.key, n=several),
        ]
        none = np.setdiff1d(np.unique(owner), rows)
        aside = [("is shorter than what was asked for, or has no length", none)] if len(none) else []
        control = ControlTotal(
            "points farther apart than along their line", "", 0, _too_far(shapes, metres, part[order], settings.along, layer)
        )
        return reshaping.one_to_many(
            layer,
            rows,
            shapes,
            context,
            kind=GeometryKind.POINT,
            reasons=aside,
            remarks=remarks,
            numbers=(number, numbers),
            more_fields=((far, np.round(metres, 3)),),
            controls=[control],
        )


_FINE = 500.0  # metres within which an edge is as good as straight along the ellipsoid: a place on it is off by a centimetre at most
_MOST = 5e7


def _names(settings: PointsAlong.Settings, taken: list[str]) -> tuple[str, str]:
    """What the fields are called that it makes."""
    first, second = number_collisions([settings.number, "along_m"], taken=taken)
    return first, second


def _shares(text: str) -> np.ndarray:
    """Shares of a length, from 0 to 1.

    Raises
    ------
    SettingError : one of them is none.
    """
    words = [w for w in re.split(r"[,;\s]+", text.replace("%", " ")) if w]
    try:
        found = np.array([float(w) for w in words]) / 100
    except ValueError:
        found = np.empty(0)
    if not len(found) or not ((found >= 0) & (found <= 1)).all():
        raise SettingError(f"'{text}' are no shares", setting="shares", way_out="Write per cents from 0 to 100, such as 25, 50, 75")
    return found


def _wanted_places(parts: np.ndarray, settings: PointsAlong.Settings, layer: Layer) -> tuple[np.ndarray, np.ndarray]:
    """For every point to be placed the line it lies on and how far along (metres)."""
    total = _lengths(parts, settings.along, layer)
    if settings.place == "shares":
        shares = _shares(settings.shares)
        there = np.flatnonzero(total > 0)
        return np.repeat(there, len(shares)), (total[there, None] * shares).ravel()
    step = parse_length(settings.every).si
    # a line of just so many steps ends on one, whatever the last digit of its length
    count = np.where(total > 0, np.floor(total / step * (1 + 1e-12)) + 1, 0)
    if count.sum() > _MOST:
        raise SettingError(f"a point every {settings.every} makes {count.sum():,.0f}", setting="every", way_out="Take a longer distance")
    part = np.repeat(np.arange(len(parts)), count.astype(int))
    begins = np.cumsum(count) - count
    metres = np.minimum((np.arange(len(part)) - np.repeat(begins, count.astype(int))) * step, total[part])
    if settings.last:
        open_end = np.flatnonzero((total > 0) & (total - (count - 1) * step > 1e-9 * total))
        part, metres = np.concatenate([part, open_end]), np.concatenate([metres, total[open_end]])
        order = np.lexsort((metres, part))
        part, metres = part[order], metres[order]
    return part, metres


def _edges(parts: np.ndarray, along: str, layer: Layer) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Corners of lines (n, 2 or 3), the line of each, and how far along it lies (metres)."""
    crs = ground.crs_of(layer)
    xyz, line = shapely.get_coordinates(parts, include_z=bool(shapely.has_z(parts).any()), return_index=True)
    length = np.zeros(len(xyz))
    within = np.flatnonzero(line[1:] == line[:-1]) if len(line) else np.empty(0, int)
    if len(within):
        if ground.on_ellipsoid(crs, along):
            length[within + 1] = ground.edge_length(crs)(xyz[within, :2], xyz[within + 1, :2])
        else:
            length[within + 1] = np.hypot(*(xyz[within + 1, :2] - xyz[within, :2]).T) * (crs_facts(crs).unit_metres or 1.0)
    begin = np.searchsorted(line, np.arange(len(parts)))
    so_far = np.cumsum(length)
    return xyz, line, so_far - so_far[begin][line] if len(line) else so_far


def _lengths(parts: np.ndarray, along: str, layer: Layer) -> np.ndarray:
    """The length of each line (metres)."""
    _, line, far = _edges(parts, along, layer)
    out = np.zeros(len(parts))
    np.maximum.at(out, line, far)
    return out


def _at(parts: np.ndarray, part: np.ndarray, metres: np.ndarray, along: str, layer: Layer) -> np.ndarray:
    """Points on lines, so far along."""
    crs = ground.crs_of(layer)
    if ground.on_ellipsoid(crs, along):
        length = ground.edge_length(crs)
        parts = split_edges(parts, lambda begin, end, _: np.ceil(length(begin, end) / _FINE))
    xyz, line, far = _edges(parts, along, layer)
    if not len(part):
        return np.empty(0, object)
    # how far all lines before it go, so that one search finds the place on its own
    total = np.zeros(len(parts))
    np.maximum.at(total, line, far)
    before = np.concatenate([[0.0], np.cumsum(total + 1.0)[:-1]])
    places, wanted = far + before[line], np.minimum(metres, total[part]) + before[part]
    end = np.clip(np.searchsorted(places, wanted, side="left"), 1, len(places) - 1)
    end = np.where(line[end - 1] != part, end + 1, end)
    begin = end - 1
    stretch = places[end] - places[begin]
    share = np.where(stretch > 0, (wanted - places[begin]) / np.where(stretch > 0, stretch, 1.0), 0.0)
    found = xyz[begin] + (xyz[end] - xyz[begin]) * share[:, None]
    shapes = np.asarray(shapely.points(found))
    flat = np.isnan(found[:, 2]) if found.shape[1] == 3 else np.zeros(len(found), bool)
    shapes[flat] = shapely.points(found[flat][:, :2])
    return shapes


def _too_far(shapes: np.ndarray, metres: np.ndarray, part: np.ndarray, along: str, layer: Layer) -> int:
    """Of how many points the next one on the line is farther away than the line is long between them: there must be none."""
    crs = ground.crs_of(layer)
    near = np.flatnonzero(part[1:] == part[:-1]) if len(part) else np.empty(0, int)
    xy = shapely.get_coordinates(shapes)
    begin, end = xy[near], xy[near + 1]
    if ground.on_ellipsoid(crs, along):
        on = ellipsoid_of(crs)
        begin, end = (p * on.degrees if crs_facts(crs).geographic else move(p, crs, geographic_of(crs)) for p in (begin, end))
        away = np.asarray(on.geod.inv(*begin.T, *end.T)[2])
    else:
        away = np.hypot(*(end - begin).T) * (crs_facts(crs).unit_metres or 1.0)
    between = np.abs(metres[near + 1] - metres[near])
    return int((~(away <= between * (1 + 1e-4) + 1e-3)).sum())  # what is nowhere is too far, too
