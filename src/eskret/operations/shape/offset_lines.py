"""Lines beside lines."""

from __future__ import annotations

from typing import Literal

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import ControlTotal, Reason, Relation, Remark
from eskret.core.crs import crs_facts
from eskret.core.geometry.globe.grow import about_each, tolerance_of
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.parts import dimension, of_dimension, single_parts, together
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.core.naming import number_collisions
from eskret.errors import CrsError
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, reshaping
from eskret.operations.support.setting_types import SomeLength

_NEARER = 2e-3
"""The share of the distance by which a corner may be nearer to the line: planes about large features are true to about so much."""


class OffsetLines(EachLayer):
    """Offset lines to their left, their right, or both: a line beside each, at a distance.

    Left and right are those of somebody who goes along the line from its beginning. Of a bend that is tighter than the distance, less
    or nothing is left inside. Heights and measures stay behind: a line beside has none. With both sides each line makes two
    features, and a field says which is which.
    """

    id = "offset_lines"
    title = "Offset lines"
    phase = Phase.SHAPE
    menu_order = 68
    relation = Relation.MULTIPLIED
    says = "Offset lines of {entering} by {distance} to the {side}"
    also_known_as = (
        "parallel lines",
        "line beside a line",
        "parallel copy",
        "shift lines sideways",
        "lanes",
        "both banks from centreline",
        "kerb lines",
        "line at a distance",
    )

    class Settings(OperationSettings):
        distance: SomeLength = reshaping.length_setting("Distance", "With its unit, such as 12 m.", "12 m", min_length=1)
        side: Literal["left", "right", "both"] = setting(
            "Side",
            kind="choice",
            default="left",
            choices={"left": "left", "right": "right", "both": "both"},
            help="As seen by somebody who goes along the line.",
        )
        corners: Literal["round", "mitre", "bevel"] = setting(
            "Corners",
            rare=True,
            kind="choice",
            default="round",
            choices={"round": "round", "mitre": "pointed", "bevel": "cut off"},
            help="How the line goes round a corner.",
        )
        along: ground.Along = ground.along_setting()
        field: str = setting("Field for the side", rare=True, default="side", min_length=1, help="The new field that says left or right.")

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = [*reshaping.require_length_unit(facts, "distance"), *ground.forecast_along(facts, settings.along)]
        if facts.kind in (GeometryKind.POINT, GeometryKind.POLYGON):
            found.append(Finding.error("only lines have a left and a right.", "from", facts))
        name = number_collisions([settings.field], taken=facts.names())[0]
        new = facts.with_fields((*facts.fields, Field(name, pa.string())))
        return reshaping.forecast_shapes(new, found, GeometryKind.LINE, count=None, certainty=Certainty.UNKNOWN)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        # how true it is along the ellipsoid is told of the whole
        return Takes.WHOLE if ground.on_ellipsoid(facts.crs, settings.along) else Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        assert layer.geometry is not None
        geometry = np.asarray(layer.geometry, object)
        lines = np.flatnonzero((dimension(geometry) == 1) & ~shapely.is_empty(geometry))
        others = np.flatnonzero(np.isin(dimension(geometry), (0, 2, -2)) & ~shapely.is_empty(geometry))
        metres = parse_length(settings.distance).si
        sides = ("left", "right") if settings.side == "both" else (settings.side,)
        remarks = ground.remarks_of(layer, settings.along, context)
        made, error, nearer = [], 0.0, 0
        for side in sides:
            shapes, off, near = _beside(geometry[lines], metres if side == "left" else -metres, settings, layer)
            made.append(shapes)
            error, nearer = max(error, off), nearer + near
        there = np.array([[s is not None for s in shapes] for shapes in made], bool).reshape(len(sides), len(lines))
        at, which = np.nonzero(there.T)
        out = np.stack(made)[which, at]
        if error:
            remarks.append(Remark(f"taken along the ellipsoid, true to {error:.1g} of the distance", layer.key, look=error > ground.TOLD))
        lost = int((~there).sum())
        heights = int(shapely.has_z(geometry[lines]).sum() + (shapely.has_m(geometry[lines]) & ~shapely.has_z(geometry[lines])).sum())
        remarks += [
            Remark.counted("{n|line} made", layer.key, n=len(out)),
            Remark.of_some("of {n|line} nothing is left on one side, the bends being tighter", layer.key, look=True, n=lost),
            Remark.of_some("heights and measures of {n|line} stayed behind", layer.key, n=heights),
        ]
        reasons: list[Reason] = [("is no line", others), ("its bends are tighter than the distance", lines[~there.any(axis=0)])]
        return reshaping.one_to_many(
            layer,
            lines[at],
            out,
            context,
            kind=GeometryKind.LINE,
            reasons=reasons,
            remarks=remarks,
            more_fields=((settings.field, pa.array([sides[w] for w in which.tolist()], pa.string())),),
            controls=[ControlTotal("corners that are nearer than the distance", "", 0, nearer)],
        )


def _beside(shapes: np.ndarray, metres: float, settings: OffsetLines.Settings, layer: Layer) -> tuple[np.ndarray, float, int]:
    """Lines at a distance, to the right where it is below zero, None where none is left; how true the distance is; and how many of their
    corners are nearer than it."""
    nearer = 0
    # part by part: what is beside one part of a line may be near to another
    flat, owner = single_parts(shapely.force_2d(shapes))
    wanted = np.full(len(shapes), 1)

    def make(some: np.ndarray, distance: np.ndarray) -> np.ndarray:
        nonlocal nearer
        found = np.asarray(shapely.offset_curve(some, distance, quad_segs=16, join_style=settings.corners), object)
        found = of_dimension(found, np.full(len(found), 1))
        if settings.corners != "bevel":
            xy, row = shapely.get_coordinates(found, return_index=True)
            nearer += int((shapely.distance(shapely.points(xy), some[row]) < np.abs(distance)[row] * (1 - _NEARER)).sum())
        return found

    crs = ground.crs_of(layer)
    if not ground.on_ellipsoid(crs, settings.along):
        unit = crs_facts(crs).unit_metres
        if not unit:
            raise CrsError("the unit of its coordinates is not known", place=layer.key)
        made = make(flat, np.full(len(flat), metres / unit))
        return _joined(made, owner, len(shapes), wanted), 0.0, nearer
    below = ground.ground_of(crs)
    found = about_each(below.there(flat), metres, below.on, make)
    back = below.back(found.geometry, float(tolerance_of(metres)))
    return _joined(back, owner, len(shapes), wanted), found.error, nearer


def _joined(made: np.ndarray, owner: np.ndarray, count: int, wanted: np.ndarray) -> np.ndarray:
    """What was made of parts, as one shape for each line; None where nothing was."""
    there = np.flatnonzero(is_nonempty(made))
    parts, of = single_parts(made[there])
    return together(parts, owner[there][of], count, wanted)
