"""Draw lines through points."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import ControlTotal, InputAccount, Relation, Remark, SetAside
from eskret.core.crs import is_geographic
from eskret.core.geometry.connect import legs, lines, ways
from eskret.core.geometry.globe.seam import wrapped
from eskret.core.geometry.ordinates import measured
from eskret.core.layer import Certainty, ChunkedLayer, Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import parse_length, parse_time
from eskret.core.tables.groupby import group_rows
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, Takes, has_errors
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, named_fields, reshaping
from eskret.operations.support.ordering import order_figures, seconds_of
from eskret.operations.support.other_layer import NO_PLACE
from eskret.operations.support.setting_types import SomeLength, SomeTime

ALONE = "stands alone: a line wants two points, an area three"
NO_ORDER = "has no value to be put in order by"
NO_POINT = "is no single point"


class ConnectPoints(EachLayer):
    """Connect points into lines, one for each value of a field, in a given order.

    A recording arrives as points and is wanted as a line: name the field of the track and the field of the time. Where
    two points in a row are too far apart, or too much time passed, the line ends and another begins. The line has the
    fields it was grouped by, how many points it has, and the first and last value it was ordered by. Points that stand
    alone are set aside.
    """

    id = "connect_points"
    title = "Connect points"
    phase = Phase.SHAPE
    menu_order = 60
    relation = Relation.GROUPED
    says = "Connect points of {entering}[ by {by}][ in the order of {order}]"
    also_known_as = (
        "line through points",
        "points into lines",
        "points to lines",
        "track from points",
        "path from positions",
        "route from stops",
        "join the dots",
        "draw track",
        "sequence of points",
        "gps track to line",
    )
    turns = (("point", "line"),)

    class Settings(OperationSettings):
        by: list[str] = named_fields.by_setting("A line for each", "Points with the same values in these become one line.")
        order: str = setting(
            "In the order of",
            kind="field",
            default="",
            example="time",
            help="The field that orders the points, such as a time. Left empty, they stay in the order they have.",
        )
        shape: Literal["line", "closed", "area"] = setting(
            "Draw",
            rare=True,
            kind="choice",
            default="line",
            help="What is drawn through the points.",
            choices={"line": "a line", "closed": "a line back to its beginning", "area": "the area within"},
        )
        gap_distance: SomeLength = setting(
            "Break beyond",
            rare=True,
            kind="measure",
            default="",
            example="500 m",
            help="Two points in a row further apart than this are not connected.",
        )
        along: ground.Along = ground.along_setting("Length of legs along")
        gap_time: SomeTime = setting(
            "Break after",
            rare=True,
            kind="measure",
            default="",
            example="10 min",
            help="Two points in a row with more time between than this are not connected: s, min, h or d.",
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = reshaping.require_geometry(facts)
        found += named_fields.named(facts, settings.by, "by")
        found += named_fields.named(facts, [settings.order] if settings.order else [], "order")
        kinds = {f.name: f for f in facts.fields}
        if settings.gap_time and settings.order in kinds and not pa.types.is_timestamp(kinds[settings.order].type):
            found.append(Finding.error(f"'{settings.order}' holds no times, so no time passes between points.", "gap_time", facts))
        elif settings.gap_time and not settings.order:
            found.append(Finding.error("Say which field holds the time.", "order"))
        if facts.kind in (GeometryKind.LINE, GeometryKind.POLYGON):
            found.append(Finding.error(f"it holds {facts.kind}s; points are wanted. Corner points makes some.", "from", facts))
        if has_errors(found):
            return Forecast((), tuple(found))
        fields = [kinds[n] for n in settings.by]
        new = facts.with_fields([*fields, *_new_fields(settings, kinds.get(settings.order))], ["start", "end"])
        kind = GeometryKind.POLYGON if settings.shape == "area" else GeometryKind.LINE
        return reshaping.forecast_shapes(new, found, kind, certainty=Certainty.AT_MOST)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.PARTS if settings.by else Takes.WHOLE

    def places(self, layer: ChunkedLayer, settings: Settings) -> np.ndarray:
        return named_fields.group_places(layer, settings.by)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        single = (shapely.get_type_id(layer.geometry) == 0) & ~shapely.is_empty(layer.geometry)
        empty = shapely.is_missing(layer.geometry) | shapely.is_empty(layer.geometry)
        order = layer.table.column(settings.order) if settings.order else None
        no_order = np.asarray(order.is_null()) if order is not None else np.zeros(len(layer), bool)
        groups = group_rows(layer.table, settings.by)
        high = shapely.has_z(layer.geometry)
        with_z = bool(high.any())
        xyz = np.full((len(layer), 3 if with_z else 2), np.nan)
        xyz[single] = shapely.get_coordinates(layer.geometry[single], include_z=with_z)
        along = ground.on_ellipsoid(layer.crs, settings.along)
        far = parse_length(settings.gap_distance).si if settings.gap_distance else np.inf
        late = parse_time(settings.gap_time).si if settings.gap_time else np.inf
        found = ways(
            xyz[:, :2],
            np.where(single & ~no_order, groups.of, -1),
            order_figures(order),
            seconds_of(order),
            layer.crs,
            on_ellipsoid=along,
            most_metres=far,
            most_seconds=late,
        )
        least = 2 if settings.shape == "line" else 3
        size = np.bincount(found.way) if len(found.way) else np.empty(0, np.int64)
        enough = size >= least
        kept = enough[found.way] if len(found.way) else np.empty(0, bool)
        rows = found.rows[kept]
        way = (np.cumsum(enough) - 1)[found.way[kept]] if len(found.way) else np.empty(0, np.int64)
        shapes = lines(xyz[rows], way, settings.shape != "line")
        flat = _some(way, ~high[rows], len(shapes))
        if with_z and flat.any():
            shapes[flat] = shapely.force_2d(shapes[flat])
        told = ~_some(way, ~shapely.has_m(layer.geometry[rows]), len(shapes))
        if settings.shape == "line" and told.any():
            shapes[told] = measured(shapes[told], shapely.get_coordinates(layer.geometry[rows[told[way]]], include_m=True)[:, 2])
        through = float(np.nansum(found.metres[kept]))
        if settings.shape == "area":
            shapes = np.asarray(shapely.polygons(_rings(shapes))) if len(shapes) else shapes
        begin = np.searchsorted(way, np.arange(int(enough.sum())))
        end = np.searchsorted(way, np.arange(int(enough.sum())), side="right") - 1
        heads = layer.table.select(settings.by).take(pa.array(rows[begin], pa.int64()))
        columns, names = list(heads.columns), list(settings.by)
        for name, column in _columns(settings, order, rows, begin, end, size[enough]):
            columns.append(column)
            names.append(name)
        drawn = shapes
        if len(shapes) and is_geographic(layer.crs):
            # a leg is the short way from a point to the next, also over 180 degrees
            shapes, across = wrapped(shapes)
        else:
            across = rows[:0]
        out = layer.with_geometry(
            shapes, GeometryKind.POLYGON if settings.shape == "area" else GeometryKind.LINE, table=pa.table(columns, names=names), ids=None
        )
        into = np.full(len(layer), -1, np.int64)
        into[rows] = way
        aside = SetAside.from_reasons(
            [
                (NO_PLACE, np.flatnonzero(empty)),
                (NO_POINT, np.flatnonzero(~single & ~empty)),
                (NO_ORDER, np.flatnonzero(single & no_order)),
                (ALONE, np.sort(found.rows[~kept])),
            ]
        )
        controls: tuple[ControlTotal, ...] = ()
        if settings.shape == "line" and len(shapes):
            xy, piece = shapely.get_coordinates(drawn, return_index=True)
            length = np.nansum(legs(xy, layer.crs, along)[piece[1:] == piece[:-1]])
            controls = (ControlTotal("length from point to point", "km", through / 1000, float(length) / 1000),)
        text = "{n|line} of {points|point}" if least == 2 else "{n|shape} of {points|point}"
        remarks = [Remark.counted(text, layer.key, n=len(out), points=len(rows))]
        remarks.append(Remark.of_some("cut at 180 degrees: {n|shape}", layer.key, n=len(across)))
        remarks += ground.told_of_nowhere(layer)
        if settings.gap_distance:
            remarks += ground.remarks_of(layer, settings.along, context)
        for breaks, why in zip(found.breaks, ("points are too far apart", "too much time lies between points"), strict=True):
            remarks.append(Remark.of_some(f"{{n|break}} where {why}", layer.key, n=breaks))
        return Outcome((out,), inputs=(InputAccount.of(layer, aside),), remarks=tuple(remarks), into=into, controls=controls)


def _some(way: np.ndarray, rows: np.ndarray, count: int) -> np.ndarray:
    """Which ways (bool) have some of these points."""
    return np.bincount(way[rows], minlength=count) > 0


def _rings(shapes: np.ndarray) -> np.ndarray:
    xy, of = shapely.get_coordinates(shapes, return_index=True)
    return np.asarray(shapely.linearrings(xy, indices=of))


def _new_fields(settings: Any, order: Field | None) -> list[Field]:
    taken = set(settings.by)
    out = [Field("points" if "points" not in taken else "points_2", pa.int64())]
    if order is not None:
        out += [Field(n if n not in taken else f"{n}_2", order.type) for n in ("start", "end")]
    return out


def _columns(
    settings: Any, order: pa.ChunkedArray | None, rows: np.ndarray, begin: np.ndarray, end: np.ndarray, size: np.ndarray
) -> list[tuple[str, Any]]:
    names = [f.name for f in _new_fields(settings, None if order is None else Field(settings.order, order.type))]
    out: list[tuple[str, Any]] = [(names[0], pa.array(size, pa.int64()))]
    if order is not None:
        out += [(n, order.take(pa.array(rows[at], pa.int64()))) for n, at in zip(names[1:], (begin, end), strict=True)]
    return out
