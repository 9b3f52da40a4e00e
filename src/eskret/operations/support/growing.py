"""Areas within a distance of features, in the plane or along the ellipsoid, as the settings of Buffer and Zones say."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import shapely

from eskret.core.accounts.account import ControlTotal, Remark
from eskret.core.crs import crs_facts, is_geographic
from eskret.core.geometry.globe.grow import Grown, about_each, grow, tolerance_of, too_far
from eskret.core.geometry.globe.seam import wrapped
from eskret.core.geometry.parallel import in_chunks, is_nonempty
from eskret.core.geometry.parts import of_dimension
from eskret.core.layer import Layer
from eskret.core.words import pluralise
from eskret.errors import CrsError, SettingError
from eskret.operations.base import Context
from eskret.operations.settings import setting
from eskret.operations.support import ground

_TRIED = 300
TOO_FAR = "a distance of more than a quarter of the globe makes no area about a feature"
Ends = Literal["round", "flat", "square"]
Corners = Literal["round", "mitre", "bevel"]


def ends_setting() -> Any:
    """How an area ends where a line does."""
    return setting(
        "Ends of lines",
        rare=True,
        kind="choice",
        default="round",
        help="How the area ends where a line does.",
        choices={"round": "round", "flat": "cut off at the end", "square": "reach beyond it, square"},
    )


def corners_setting() -> Any:
    """How an area goes round a corner."""
    return setting(
        "Corners",
        rare=True,
        kind="choice",
        default="round",
        help="How the area goes round a corner.",
        choices={"round": "round", "mitre": "pointed", "bevel": "cut off"},
    )


def steps_setting() -> Any:
    """How fine curves are."""
    return setting(
        "Steps of a quarter circle",
        rare=True,
        kind="whole",
        default=16,
        ge=1,
        le=200,
        help="With 16, a circle's area comes out 0.2 % too small; with 64, 0.01 %.",
    )


def areas_within(
    layer: Layer, shapes: np.ndarray, metres: float, settings: Any, context: Context, side: str = "both"
) -> tuple[np.ndarray, list[Remark]]:
    """The area within a distance of each feature, None for none, and what there is to say of how it was taken.

    Parameters
    ----------
    shapes : those of the layer (n).
    metres : below zero areas shrink.
    settings : has ``along``, ``ends``, ``corners`` and ``steps``.
    side : ``left`` or ``right`` of lines alone.

    Raises
    ------
    EskretError : the distance is too far, or the unit of the coordinates is not known.
    """
    crs = ground.crs_of(layer)
    one_side = side != "both"

    def buffer(some: np.ndarray, distance: np.ndarray | float) -> np.ndarray:
        found = shapely.buffer(
            some,
            -distance if side == "right" else distance,
            quad_segs=settings.steps,
            cap_style="flat" if one_side else settings.ends,
            join_style=settings.corners,
            single_sided=one_side,
        )
        return of_dimension(found, np.full(len(found), 2))

    grown = np.full(len(layer), None, object)
    if not ground.on_ellipsoid(crs, settings.along):
        unit = crs_facts(crs).unit_metres
        if not unit:
            raise CrsError("the unit of its coordinates is not known", place=layer.key)

        def some(start: int, stop: int) -> None:
            grown[start:stop] = buffer(shapes[start:stop], metres / unit)

        in_chunks(some, len(layer), context.watch, 5_000)
        return grown, []
    if too_far(metres):
        raise SettingError(TOO_FAR, place=layer.key, setting="distance")
    below = ground.ground_of(crs)
    degrees = below.there(shapes)
    round_ = settings.ends == "round" and settings.corners == "round"

    def on_globe(start: int, stop: int) -> Grown:
        if one_side:
            found = about_each(degrees[start:stop], metres, below.on, buffer)
        else:
            found = grow(degrees[start:stop], metres, below.on, buffer, round_=round_)
        grown[start:stop] = below.back(found.geometry, float(tolerance_of(metres)))
        return found

    made = in_chunks(on_globe, len(layer), context.watch, 1_000)
    error = max((f.error for f in made), default=0.0)
    remarks = [Remark(f"taken along the ellipsoid, true to {error:.1g} of the distance", layer.key, look=error > ground.TOLD)]
    cut = sum(f.cut for f in made)
    if cut:
        remarks.append(Remark(f"{pluralise(cut, 'area lies', 'areas lie')} across 180 degrees or about a pole", layer.key))
    return grown, remarks


def held(layer: Layer, shapes: np.ndarray, metres: float) -> tuple[ControlTotal, ...]:
    """Features lie within the areas that they grew to, or hold those to which they shrank; of many, some hundred are tried."""
    assert layer.geometry is not None
    geometry = layer.geometry
    rows = np.flatnonzero(is_nonempty(geometry) & is_nonempty(shapes))
    rows = rows[np.unique(np.linspace(0, max(len(rows) - 1, 0), _TRIED).astype(np.int64))] if len(rows) else rows
    rows = rows[shapely.is_valid(geometry[rows])]
    if not len(rows):
        return ()
    before, after = geometry[rows], shapes[rows]
    if is_geographic(layer.crs):
        before, _ = wrapped(before, short_way=False)  # areas that grew lie between -180 and 180
    inner, outer = (before, after) if metres > 0 else (after, before)
    good = shapely.covers(outer, inner)
    rest = np.flatnonzero(~good)
    # what only rounding puts outside does not count
    left = shapely.difference(inner[rest], outer[rest])
    size = np.abs(shapely.bounds(inner[rest]).reshape(-1, 4)).max(axis=1, initial=1.0)
    boxes = shapely.bounds(left).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        thin = np.minimum(boxes[:, 2] - boxes[:, 0], boxes[:, 3] - boxes[:, 1]) <= 1e-9 * size
    good[rest] = shapely.is_empty(left) | thin
    return (ControlTotal("features held", "", len(rows), int(good.sum())),)
