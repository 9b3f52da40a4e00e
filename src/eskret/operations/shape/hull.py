"""The shape around features."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import InputAccount, Relation, Remark, SetAside
from eskret.core.crs import is_geographic
from eskret.core.geometry.globe.around import around_on_globe
from eskret.core.geometry.globe.ellipsoid import ellipsoid_of
from eskret.core.geometry.globe.grow import tolerance_of
from eskret.core.geometry.globe.planes import EARTH, Middles, followed, into_planes, middles, out_of_planes
from eskret.core.geometry.globe.seam import running
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.parts import dimension
from eskret.core.layer import Certainty, ChunkedLayer, Field, GeometryKind, Layer, LayerFacts
from eskret.core.naming import number_collisions
from eskret.core.tables.groupby import Groups, group_rows
from eskret.core.words import bold
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, Takes
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, named_fields, reshaping
from eskret.operations.support.other_layer import NO_PLACE

NO_AREA = "encloses no area"


class Hull(EachLayer):
    """Draw the shape around each feature, or around all of a group.

    Around everything without a dent, along the dents, as an upright box, as the smallest turned box, or as the smallest
    circle. Points of one survey day become the area surveyed when you name the field of the day. What encloses no area,
    such as two points, is set aside.
    """

    id = "hull"
    title = "Hull"
    phase = Phase.SHAPE
    menu_order = 57
    relation = Relation.GROUPED
    also_known_as = (
        "convex",
        "concave",
        "envelope",
        "bounding box",
        "rectangle around",
        "around points",
        "outline around points",
        "shape around a group",
        "extent rectangle",
        "minimum circle",
        "wrap",
        "home range",
        "footprint",
    )
    turns = (("point", "area"),)

    class Settings(OperationSettings):
        shape: Literal["convex", "concave", "box", "turned box", "circle"] = setting(
            "Shape",
            kind="choice",
            default="convex",
            help="How closely the shape follows what it is drawn around.",
            choices={
                "convex": "without dents",
                "concave": "along the dents",
                "box": "upright box",
                "turned box": "smallest turned box",
                "circle": "smallest circle",
            },
        )
        around: Literal["each", "group"] = setting(
            "Around",
            kind="choice",
            default="each",
            choices={"each": "each feature", "group": "all of a group"},
            help="With a group and no field, one shape goes around everything.",
        )
        by: list[str] = named_fields.by_setting(
            help="A shape is drawn around all features with the same values.", shown_when=("around", ("group",))
        )
        closeness: int = setting(
            "How deep dents go",
            kind="whole",
            default=30,
            ge=0,
            le=100,
            shown_when=("shape", ("concave",)),
            help="In per cent: 0 follows every dent, 100 none.",
        )

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        by = settings.get("by")
        grouped = settings.get("around") == "group"
        return f"Hull around {bold(entering or '…')}" + (
            f" by {join_words(map(str, by), 4)}" if grouped and isinstance(by, list) and by else ""
        )

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = reshaping.require_geometry(facts)
        if settings.around == "each":
            return reshaping.forecast_shapes(facts, found, GeometryKind.POLYGON, certainty=Certainty.AT_MOST)
        found += named_fields.named(facts, settings.by, "by")
        kept = [f for f in facts.fields if f.name in settings.by]
        new = facts.with_fields([*kept, Field(_count_name(settings.by), pa.int64())])
        return reshaping.forecast_shapes(
            new, found, GeometryKind.POLYGON, certainty=Certainty.AT_MOST, count=facts.count if settings.by else 1
        )

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        if is_geographic(facts.crs):
            return Takes.WHOLE  # how true what is drawn on the ground is, is told of the whole
        return Takes.ROWS if settings.around == "each" else Takes.PARTS if settings.by else Takes.WHOLE

    def places(self, layer: ChunkedLayer, settings: Settings) -> np.ndarray:
        return named_fields.group_places(layer, settings.by)

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        off = ground.nowhere_rows(layer)
        nowhere = (ground.NOWHERE, off)
        if settings.around == "each":
            shapes, remarks = _around(layer.geometry, settings, layer)
            remarks += ground.told_of_nowhere(layer)
            return reshaping.one_to_one(layer, shapes, context, gone=NO_AREA, kind=GeometryKind.POLYGON, reasons=[nowhere], remarks=remarks)
        placed = is_nonempty(layer.geometry)
        there = placed.copy()
        there[off] = False
        groups = group_rows(layer.table, settings.by)
        of = np.where(there, groups.of, -1)
        collected = np.array(
            [shapely.geometrycollections(layer.geometry[r[there[r]]]) for r in map(groups.rows, range(groups.count))] or [None], object
        )[: groups.count]
        shapes, remarks = _around(collected, settings, layer)
        remarks += ground.told_of_nowhere(layer)
        good = is_nonempty(shapes)
        place = np.where(good, np.cumsum(good) - 1, -1)
        into = np.where(of >= 0, place[of] if groups.count else -1, -1)
        first = groups.first[good]
        made = Groups(into, first)
        heads = layer.table.select(settings.by).take(pa.array(first, pa.int64()))
        table = pa.table([*heads.columns, pa.array(made.sizes)], names=[*settings.by, _count_name(settings.by)])
        out = layer.with_geometry(shapes[good], GeometryKind.POLYGON, table=table, ids=None)
        aside = SetAside.from_reasons([(NO_PLACE, np.flatnonzero(~placed)), nowhere, (NO_AREA, np.flatnonzero(there & (into < 0)))])
        return Outcome((out,), inputs=(InputAccount.of(layer, aside),), remarks=tuple(remarks), into=into)


def _count_name(by: list[str]) -> str:
    return number_collisions(["features"], taken=by)[0]


def _around(geometry: np.ndarray, settings: Any, layer: Layer) -> tuple[np.ndarray, list[Remark]]:
    """The shapes around some others. Of degrees, what goes over 180 degrees is taken together there, what lies all round a pole
    holds it, and what has a size of its own, a circle or a turned box, is drawn on the ground."""
    if not is_geographic(layer.crs):
        return _drawn_around(geometry, settings), []
    on, geometry = ellipsoid_of(layer.crs), ground.on_the_globe(geometry)
    if settings.shape in ("circle", "turned box"):
        middle = middles(geometry, on)
        rows = np.flatnonzero(is_nonempty(geometry))
        about = Middles(middle.lonlat[rows], middle.reach[rows])
        tolerance = tolerance_of(about.reach * EARTH)
        flat = into_planes(followed(running(geometry[rows])[0], about, on, tolerance), about, on)
        out = np.full(len(geometry), None, object)
        made = _drawn_around(flat, settings)
        there = is_nonempty(made)
        some = Middles(about.lonlat[there], about.reach[there])
        out[rows[there]] = out_of_planes(made[there], some, on, tolerance[there])[0]
        off = float(np.nanmax(about.error, initial=0.0))
        return out, [Remark(f"drawn on the ground, true to {max(off, 1e-4):.1g} of its size", layer.key, look=off > 0.01)]
    return around_on_globe(geometry, lambda some: _drawn_around(some, settings), on), []


def _drawn_around(geometry: np.ndarray, settings: Any) -> np.ndarray:
    if settings.shape == "convex":
        found = shapely.convex_hull(geometry)
    elif settings.shape == "concave":
        found = shapely.concave_hull(geometry, ratio=settings.closeness / 100)
    elif settings.shape == "box":
        found = shapely.envelope(geometry)
    elif settings.shape == "turned box":
        found = shapely.minimum_rotated_rectangle(geometry)
    else:
        found = shapely.minimum_bounding_circle(geometry)
    out = np.array(found, object)
    out[dimension(out) != 2] = None
    return out
