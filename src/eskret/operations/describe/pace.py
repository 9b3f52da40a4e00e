"""How far, how long and how fast from point to point."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import InputAccount, Relation, Remark, SetAside
from eskret.core.geometry.connect import Way, ways
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import SPEEDS, parse_speed
from eskret.core.naming import number_collisions
from eskret.core.style.style import CLASSES, Style
from eskret.core.tables.groupby import group_rows
from eskret.core.words import duration, pluralise
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields, reshaping
from eskret.operations.support.ordering import seconds_of
from eskret.operations.support.other_layer import NO_PLACE
from eskret.operations.support.setting_types import Speed

FIRST = "begins its track, so no leg leads to it"
NO_TIME = "has no time"
_SHORT = {"km/h": "kmh", "m/s": "ms", "kn": "kn", "mph": "mph"}


class Pace(EachLayer):
    """Distance, time and speed from each point of a track to the next.

    Points are taken in the order of their time, each track by itself. Distances follow the ellipsoid where coordinates
    are degrees. Draw the legs as lines to see the speed on the map, or keep the points. Two points at one time have a
    distance and no speed; points without a time have neither and are told. A leg slower than the pause speed counts as a
    pause. Distance, time, pauses and mean speed of each track are told.
    """

    id = "pace"
    title = "Pace"
    phase = Phase.DESCRIBE
    menu_order = 30
    relation = Relation.ONE_FOR_ONE
    says = "Pace of {entering}[ by {by}]"
    also_known_as = (
        "speed",
        "velocity",
        "duration",
        "time between points",
        "knots",
        "leg",
        "speed of track",
        "track statistics",
        "distance to previous point",
        "pause",
        "speed between fixes",
    )

    class Settings(OperationSettings):
        time: str = setting("Time", kind="field", min_length=1, example="time", help="The field with the time of each point.")
        by: list[str] = named_fields.by_setting("A track for each", "Points with the same values in these are one track.")
        unit: Literal["km/h", "m/s", "kn", "mph"] = setting(
            "Unit of speed",
            kind="choice",
            default="km/h",
            choices={u: u for u in SPEEDS},
            help="It is part of the field's name: speed_kmh, speed_ms, speed_kn or speed_mph.",
        )
        pause: Speed = setting(
            "A pause is slower than",
            rare=True,
            kind="measure",
            default="0.5 km/h",
            example="0.5 km/h",
            help="Legs slower than this count as a pause, with its unit: km/h, m/s, kn or mph.",
        )
        draw: Literal["legs", "points"] = setting(
            "Draw",
            rare=True,
            kind="choice",
            default="legs",
            help="What leaves: a line for each leg, or the points.",
            choices={"legs": "the leg to each point", "points": "the points"},
        )

    def default_style(self, settings: Mapping[str, object]) -> Style:
        unit = str(settings.get("unit"))
        return Style(CLASSES, field=_names([], unit if unit in _SHORT else "km/h")[2], method="natural", width=2.5)

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = [
            *reshaping.require_length_unit(facts, "from"),
            *named_fields.named(facts, [settings.time], "time"),
            *named_fields.named(facts, settings.by, "by"),
        ]
        kinds = {f.name: f.type for f in facts.fields}
        if settings.time in kinds and not pa.types.is_timestamp(kinds[settings.time]):
            found.append(Finding.error(f"'{settings.time}' holds no times. Retype it first.", "time", facts))
        if facts.kind in (GeometryKind.LINE, GeometryKind.POLYGON):
            found.append(Finding.error(f"it holds {facts.kind}s; the points of tracks are wanted.", "from", facts))
        names = _names(facts.names(), settings.unit)
        new = facts.with_fields([*facts.fields, *(Field(n, pa.bool_() if i == 3 else pa.float64()) for i, n in enumerate(names))])
        kind = GeometryKind.LINE if settings.draw == "legs" else facts.kind
        return reshaping.forecast_shapes(new, found, kind, certainty=Certainty.AT_MOST if settings.draw == "legs" else facts.certainty)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        single = (shapely.get_type_id(layer.geometry) == 0) & ~shapely.is_empty(layer.geometry)
        seconds = seconds_of(layer.table.column(settings.time))
        assert seconds is not None, "the rehearsal checked the type"
        timed = ~np.isnan(seconds)
        xy = np.full((len(layer), 2), np.nan)
        xy[single] = shapely.get_coordinates(layer.geometry[single])
        groups = group_rows(layer.table, settings.by)
        way = ways(xy, np.where(single & timed, groups.of, -1), seconds, seconds, layer.crs)
        metres, passed = np.full(len(layer), np.nan), np.full(len(layer), np.nan)
        metres[way.rows], passed[way.rows] = way.metres, way.seconds
        with np.errstate(divide="ignore", invalid="ignore"):
            speed = np.where(passed > 0, metres / passed, np.nan)
        still = np.where(np.isnan(speed), False, speed < parse_speed(settings.pause).si) if settings.pause else np.zeros(len(layer), bool)
        table = layer.table
        names = _names(table.column_names, settings.unit)
        for name, values in zip(names, (metres, passed, speed / SPEEDS[settings.unit]), strict=False):
            table = table.append_column(name, pa.array(values, pa.float64(), mask=np.isnan(values)))
        table = table.append_column(names[3], pa.array(still, pa.bool_(), mask=np.isnan(speed)))
        remarks = _remarks(layer, groups.of, way, speed, still, settings)
        out = layer.with_table(table)
        lineage = np.arange(len(layer))
        aside = SetAside()
        if settings.draw == "legs":
            later = ~way.first
            lineage = way.rows[later]
            before = way.rows[np.flatnonzero(later) - 1]
            drawn = shapely.linestrings(np.stack([xy[before], xy[lineage]], axis=1)) if len(lineage) else np.empty(0, object)
            order = np.argsort(lineage, kind="stable")
            lineage = lineage[order]
            out = out.take(lineage).with_geometry(np.asarray(drawn, object)[order], GeometryKind.LINE)
            aside = SetAside.from_reasons(
                [(NO_PLACE, np.flatnonzero(~single)), (NO_TIME, np.flatnonzero(single & ~timed)), (FIRST, np.sort(way.rows[way.first]))]
            )
        return Outcome((out,), inputs=(InputAccount.of(layer, aside),), lineage=lineage, remarks=tuple(remarks))


def _names(taken: list[str], unit: str) -> list[str]:
    return number_collisions(["leg_m", "leg_s", f"speed_{_SHORT[unit]}", "pause"], taken=taken)


def _remarks(layer: Layer, group: np.ndarray, way: Way, speed: np.ndarray, still: np.ndarray, settings: Any) -> list[Remark]:
    out = []
    tracks = np.unique(group[way.rows]) if len(way.rows) else np.empty(0, np.int64)
    unit = SPEEDS[settings.unit]
    for track in tracks[:6].tolist():
        at = group[way.rows] == track
        metres, seconds = float(np.nansum(way.metres[at])), float(np.nansum(way.seconds[at]))
        rows = way.rows[at]
        head = layer.table.select(settings.by).slice(int(rows[0]), 1).to_pylist()[0] if settings.by else {}
        name = " ".join(str(v) for v in head.values()) or layer.key
        paused = float(np.nansum(way.seconds[at][still[rows]]))
        mean = f", {metres / seconds / unit:.1f} {settings.unit}" if seconds > 0 else ""
        rest = f", {duration(paused)} of it in pauses" if paused else ""
        out.append(Remark(f"{name}: {metres / 1000:,.2f} km in {duration(seconds)}{mean}{rest}", layer.key))
    if len(tracks) > 6:
        out.append(Remark(f"and {pluralise(len(tracks) - 6, 'track')} more", layer.key))
    same = int(((way.seconds == 0) & ~way.first).sum()) if len(way.rows) else 0
    if same:
        out.append(Remark(f"{pluralise(same, 'point')} at the same time as the one before, so without a speed", layer.key, look=True))
    missing = len(layer) - len(way.rows)
    if missing:
        out.append(Remark(f"{pluralise(missing, 'point')} without a time or a place", layer.key, look=True))
    return out
