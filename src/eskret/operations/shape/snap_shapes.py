"""Bring the edges of shapes onto those of another layer."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
import shapely

from eskret.core.accounts.account import Altered, ControlTotal, Most, Remark
from eskret.core.geometry.globe.meeting import turned
from eskret.core.geometry.parallel import is_nonempty
from eskret.core.geometry.snapping import Snapped, Target, snap
from eskret.core.layer import Layer, LayerFacts
from eskret.core.measure.units import parse_length
from eskret.core.words import format_quantity, pluralise
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import ground, other_layer, pairing, reshaping
from eskret.operations.support.row_wise import Reshaped, ShapePerRow
from eskret.operations.support.setting_types import SomeLength

BROKEN = "would cross itself, and stayed as it was"
NOTHING = "a part of it would come to nothing, and it stayed as it was"
_TRIED = 2_000


class SnapShapes(ShapePerRow):
    """Snap shapes onto another layer: corners and edges that nearly meet it come to meet it.

    For districts that should follow a coast, or layers that were drawn from different maps. Corners within the distance move to the
    nearest corner there, or else onto the nearest edge; and corners are put into edges where one of the other layer is near, so that
    no gaps or slivers stay between. Neighbours that share an edge go on sharing it. A shape that would cross itself stays as it was,
    and the step asks for a look.
    """

    id = "snap_shapes"
    title = "Snap shapes"
    phase = Phase.SHAPE
    menu_order = 48
    keep_null = True
    says = "Snap shapes of {entering} to {to} within {within}"
    also_known_as = (
        "snap vertices",
        "snap edges",
        "align boundaries",
        "match edges",
        "close gaps to another layer",
        "fit borders to the coast",
        "edges that nearly meet",
        "remove slivers between layers",
        "make borders coincide",
    )

    class Settings(OperationSettings):
        to: str = setting("Onto", kind="layer", min_length=1, example="islands", help="The layer to meet: step, or step:layer.")
        within: SomeLength = reshaping.length_setting("Within", "Corners that are further away are not moved.", "2 m", min_length=1)
        onto: Literal["both", "corners", "edges"] = setting(
            "Move to",
            rare=True,
            kind="choice",
            default="both",
            choices={
                "both": "the nearest corner, or else the nearest edge",
                "corners": "corners only",
                "edges": "the nearest place on an edge",
            },
            help="What corners within the distance move to.",
        )
        add: bool = setting(
            "Put in corners",
            rare=True,
            kind="flag",
            default=True,
            shown_when=("onto", ("both", "corners")),
            help="Whether edges that pass a corner of the other layer within the distance are led through it.",
        )
        along: ground.Along = ground.along_setting()

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        found = [*reshaping.require_length_unit(facts, "within"), *other_layer.findings(facts, context, "to")]
        found += other_layer.only_one(context, "to", settings.to)[1]
        return [*found, *ground.forecast_along(facts, settings.along)]

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def reshape(self, layer: Layer, shapes: np.ndarray, settings: Settings, context: Context) -> Reshaped:
        others = other_layer.others_of(layer, context, "to", valid=False)
        reach = parse_length(settings.within).si
        target, seen, row_of = context.once("target", lambda: _target(others.geometry, reach, ground.crs_of(layer)))
        made = snap(shapes, target, reach, ground.metres_of(layer, settings.along), settings.onto, settings.add)
        changed = np.flatnonzero((made.moved > 0) | (made.added > 0))
        used = others.rows[np.unique(row_of[_near(made, seen, changed)])]
        control = _control(shapes, made, seen, changed)
        across = ground.within_the_turn(made.shapes, shapes, ground.crs_of(layer))
        altered = [
            Altered("moved onto it", changed, made.metres[changed], "m"),
            Altered(BROKEN, np.flatnonzero(made.broken)),
            Altered(NOTHING, np.flatnonzero(made.nothing)),
        ]
        beyond = "{n|shape goes|shapes go} on across 180 degrees, and {n:comes|come} in parts that meet there"
        crossed = "{n|shape} would cross {n:itself|themselves}, and stayed as before"
        gone = "of {n|shape} a part would come to nothing, and it stayed as before"
        remarks = [
            *others.remarks,
            *ground.remarks_of(layer, settings.along, context),
            *ground.told_of_nowhere(layer),
            Remark.figured("moved", _told, layer.key, n=int(made.moved.sum()), most=Most(made.metres.max(initial=-np.inf))),
            Remark.of_some(beyond, layer.key, n=across),
            Remark.of_some("{n|corner} put in", layer.key, n=int(made.added.sum())),
            Remark.of_some(crossed, layer.key, look=True, n=int(made.broken.sum())),
            Remark.of_some(gone, layer.key, look=True, n=int(made.nothing.sum())),
        ]
        account = pairing.other_account("to", others, used, "no shape was moved to it")
        return Reshaped(made.shapes, remarks=remarks, altered=altered, controls=control, others=[account])


_BESIDE = 0.01
_DEGREE = 20_000.0
"""Metres of a degree of longitude far in the north; what is nearer to 180 degrees than the reach is looked at from both sides."""


def _target(shapes: np.ndarray, reach: float, crs: str) -> tuple[Target, np.ndarray, np.ndarray]:
    """What is moved onto: the shapes and, near 180 degrees, those of the other side as seen from this one; with the position of each."""
    seen, row_of = shapes, np.arange(len(shapes))
    if ground.in_degrees(crs):
        boxes = shapely.bounds(shapes).reshape(-1, 4)
        limit = 180.0 - _BESIDE - reach / _DEGREE
        with np.errstate(invalid="ignore"):
            west, east = np.flatnonzero(boxes[:, 0] <= -limit), np.flatnonzero(boxes[:, 2] >= limit)
        seen = np.concatenate([shapes, turned(shapes[west], 1), turned(shapes[east], -1)])
        row_of = np.concatenate([row_of, west, east])
    return Target.of(seen), seen, row_of


def _told(figures: Mapping[str, Any]) -> str:
    if not figures["n"]:
        return "no corner is near enough to be moved"
    if figures["most"] == 0:
        return f"{pluralise(figures['n'], 'corner lies', 'corners lie')} on it already"
    return f"{pluralise(figures['n'], 'corner')} moved, by {format_quantity(figures['most'], 'm')} at most"


def _near(made: Snapped, others: np.ndarray, changed: np.ndarray) -> np.ndarray:
    """The positions of the other shapes that something touches that was moved."""
    if not len(changed):
        return np.empty(0, np.int64)
    _, other = shapely.STRtree(others).query(made.shapes[changed], predicate="intersects")
    return np.unique(other)


def _control(before: np.ndarray, made: Snapped, others: np.ndarray, changed: np.ndarray) -> tuple[ControlTotal, ...]:
    """Corners that were not there before lie on the other layer; of many, some are tried."""
    rows = changed[np.unique(np.linspace(0, max(len(changed) - 1, 0), _TRIED).astype(np.int64))] if len(changed) else changed
    there = is_nonempty(others)
    if not len(rows) or not there.any():
        return ()
    new, old = (_corners(shapes[rows]) for shapes in (made.shapes, before))
    both, number = np.unique(np.concatenate([old, new]), axis=0, return_inverse=True)
    fresh = both[np.setdiff1d(number.ravel()[len(old) :], number.ravel()[: len(old)])][:, 1:]
    near = np.abs(fresh).max(initial=1.0) * 1e-12
    edges = np.concatenate([shapely.boundary(others[there]), others[there]])
    at, _ = shapely.STRtree(edges[~shapely.is_missing(edges)]).query(shapely.points(fresh), predicate="dwithin", distance=near)
    return (ControlTotal("new corners on it", "", len(fresh), len(np.unique(at))),)


def _corners(shapes: np.ndarray) -> np.ndarray:
    """The corners of shapes, each with the number of its shape before it (n, 3)."""
    xy, row = shapely.get_coordinates(shapes, return_index=True)
    return np.column_stack([row, xy])
