"""Cut lines where they cross, and mend loose ends."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import ControlTotal, Most, Reason, Relation, Remark
from eskret.core.geometry.crossings import crossings, cut, mend
from eskret.core.geometry.globe.meeting import turned
from eskret.core.geometry.globe.seam import at_seam, wrapped
from eskret.core.geometry.parts import dimension, single_parts
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.planar import measures_of, unit_of
from eskret.core.measure.units import parse_length
from eskret.core.naming import number_collisions
from eskret.core.tables.groupby import group_rows
from eskret.core.words import format_quantity, pluralise
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, named_fields, reshaping
from eskret.operations.support.setting_types import Length


class CutCrossings(EachLayer):
    """Cut lines where they cross or touch, and mend loose ends.

    After it, lines of a layer meet only at their ends, as a network wants it; where they meet, their ends are one place to the last
    digit. Loose ends that stop short of another line, or run a little past its end, are moved onto it: up to the distance you give, to
    the nearest loose end first. Each piece keeps the fields of its line and gets its number along it. Heights are not asked: say which
    fields must be the same, such as a level, where bridges must not be cut.
    """

    id = "cut_crossings"
    title = "Cut at crossings"
    phase = Phase.SHAPE
    menu_order = 66
    relation = Relation.MULTIPLIED
    says = "Cut lines of {entering} where they cross[, loose ends mended within {mend}]"
    limits = "Loose ends are not brought to lines on the other side of 180 degrees."
    also_known_as = (
        "split lines where they cross",
        "break lines at intersections",
        "lines into a network",
        "make a network",
        "topology of lines",
        "clean up lines",
        "mend loose ends",
        "dangles",
        "mend undershoots",
        "connect line ends",
        "snap line ends together",
    )

    class Settings(OperationSettings):
        mend: Length = reshaping.length_setting(
            "Mend loose ends within",
            "How far an end may be moved to meet another line, with its unit; 0 m moves none.",
            "2 m",
            default="0.01 m",
            min_length=1,
        )
        same: list[str] = setting(
            "Only with the same",
            kind="fields",
            default=[],
            example="level",
            help="Lines meet only lines with the same values in these fields.",
        )
        along: ground.Along = ground.along_setting()
        number: str = setting(
            "Field for the number", rare=True, default="piece", min_length=1, help="The new field that numbers the pieces of a line."
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = [*reshaping.require_length_unit(facts, "mend"), *named_fields.named(facts, settings.same, "same")]
        found += ground.forecast_along(facts, settings.along)
        if facts.kind in (GeometryKind.POINT, GeometryKind.POLYGON):
            found.append(Finding.error("only lines can be cut here. Outlines makes some of areas.", "from", facts))
        name = number_collisions([settings.number], taken=facts.names())[0]
        new = facts.with_fields((*facts.fields, Field(name, pa.int64())))
        return reshaping.forecast_shapes(new, found, GeometryKind.LINE, count=None, certainty=Certainty.UNKNOWN)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        parts, row = single_parts(layer.geometry)
        sound = (dimension(parts) == 1) & ~shapely.is_empty(parts) & np.isfinite(shapely.bounds(parts)).all(axis=1)
        other = np.setdiff1d(row[~sound], row[sound])
        left_out = len(np.intersect1d(row[~sound & ~shapely.is_empty(parts)], row[sound]))
        parts, row = parts[sound], row[sound]
        parts, row, across = _in_one_turn(parts, row, layer)
        of = group_rows(layer.table, settings.same).of if settings.same else np.zeros(len(layer), np.int64)
        group = of[row]
        reach = parse_length(settings.mend).si
        mended, loose, moved = parts, 0, np.empty(0)
        if reach > 0 and len(parts):
            found = mend(parts, group, reach, ground.metres_of(layer, settings.along))
            mended, loose, moved = found.lines, found.loose, found.metres
        copies, copy_of = _copies(mended, layer)
        met = crossings(np.concatenate([mended, copies]), np.concatenate([group, group[copy_of]]), copy_of)
        pieces, line = cut(mended, met.cuts)
        rows = row[line]
        order = np.argsort(rows, kind="stable")
        rows, pieces = rows[order], pieces[order]
        number = np.arange(len(rows)) - np.searchsorted(rows, rows) + 1
        unit, factor = unit_of("length", layer.crs)
        length = measures_of(layer.crs)["length"]
        before, after = float(length(mended).sum()) * factor, float(length(pieces).sum()) * factor
        lines = pluralise(len(np.unique(row)), "line")
        twice = "{n|pair of lines lies|pairs of lines lie} on each other along a stretch, which is there twice"
        remarks = [
            *ground.remarks_of(layer, settings.along, context),
            Remark(f"{pluralise(len(pieces), 'piece')} of {lines}; they meet at {pluralise(met.places, 'place')}", layer.key),
            Remark.of_some("{n|line goes|lines go} across 180 degrees, and {n:was|were} cut there", layer.key, n=across),
            Remark.figured("mended", _told, layer.key, n=len(moved), most=Most(moved.max(initial=-np.inf))),
            Remark.of_some("{n|loose end} near no other line", layer.key, n=loose),
            Remark.of_some(twice, layer.key, look=True, n=met.overlapping),
            Remark.of_some("{n|feature has|features have} points or areas too, which were left out", layer.key, look=True, n=left_out),
        ]
        reasons: list[Reason] = [("is no line", other)] if len(other) else []
        return reshaping.one_to_many(
            layer,
            rows,
            pieces,
            context,
            kind=GeometryKind.LINE,
            reasons=reasons,
            remarks=remarks,
            numbers=(settings.number, number),
            controls=[ControlTotal("length", unit, before, after, 1e-6)],
        )


def _told(figures: Mapping[str, Any]) -> str:
    if not figures["n"]:
        return ""
    return f"{pluralise(figures['n'], 'loose end was', 'loose ends were')} mended, moved by {format_quantity(figures['most'], 'm')} at most"


def _in_one_turn(parts: np.ndarray, row: np.ndarray, layer: Layer) -> tuple[np.ndarray, np.ndarray, int]:
    """Lines in degrees between -180 and 180, those beyond cut there, with the row of each; and how many were cut."""
    if not ground.in_degrees(ground.crs_of(layer)):
        return parts, row, 0
    whole, cut_there = wrapped(parts, short_way=False)
    found, of = single_parts(whole)
    return found, row[of], len(cut_there)


def _copies(lines: np.ndarray, layer: Layer) -> tuple[np.ndarray, np.ndarray]:
    """Lines that reach 180 degrees as they are seen from the other side of it, and which line each is."""
    if not ground.in_degrees(ground.crs_of(layer)):
        return lines[:0], np.empty(0, np.int64)
    rows = np.flatnonzero(at_seam(lines))
    west = shapely.bounds(lines[rows]).reshape(-1, 4)[:, 0] < 0
    return np.concatenate([turned(lines[rows[west]], 1), turned(lines[rows[~west]], -1)]), np.concatenate([rows[west], rows[~west]])
