"""Reading only what meets the box around other layers: what of a file lies elsewhere is counted, and need not be read."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import shapely

from eskret.core.crs import Extent, extent_in, same_crs
from eskret.core.layer import Layer
from eskret.core.tables.rows import remaining
from eskret.errors import InputError
from eskret.formats.reading import Reading
from eskret.operations.base import Context, Finding
from eskret.operations.settings import setting


def around_setting() -> Any:
    """The layers around which features are wanted."""
    return setting(
        "Only around",
        kind="layer",
        default="",
        example="district",
        help="A layer: only what meets its bounding box is taken from the files; where a file has a spatial index, no more is read.",
    )


def findings(around: str, context: Context) -> list[Finding]:
    """What a rehearsal has to say of it."""
    found = context.other_facts("around")
    if not around or not found:
        return []
    tables = [f.key for f in found if f.kind == "table"]
    return [Finding.error(f"'{key}' is a table, which has no place.", "around") for key in tables]


def reason(around: str) -> str:
    """Why a feature is not taken."""
    return f"does not meet the box around '{around}'"


def box_around(context: Context, crs: str | None, key: str) -> Extent | None:
    """The box in the CRS of a file; None where the layers have no shape to draw it around.

    Raises
    ------
    InputError : one side has no CRS, and the other has.
    """
    boxes = []
    for one in context.handles.get("around") or context.other_layers("around"):
        extent = one.facts().extent
        if extent is None:
            continue
        if (crs is None) != (one.crs is None):
            raise InputError(
                "it has no coordinate system, so nothing can be told to lie around the other",
                place=key if crs is None else one.key,
                way_out="Say it where the layer is loaded",
            )
        boxes.append(extent if crs is None or one.crs is None or same_crs(crs, one.crs) else extent_in(extent, one.crs, crs))
    if not boxes:
        return None
    west, south, east, north = zip(*boxes, strict=True)
    return min(west), min(south), max(east), max(north)


def limited(reading: Reading, box: Extent | None) -> Reading:
    """What was read, of which only features stay that meet a box; nothing where there is none. A table stays as it is."""
    layer = reading.layer
    if not layer.has_geometry:
        return reading
    rows = _meeting(layer, box) if box is not None else np.empty(0, np.int64)
    record = remaining(reading.found, np.concatenate([r for _, r in reading.set_aside] or [np.empty(0, np.int64)]))
    return replace(reading, layer=layer.take(rows), kept=record[rows], unread=len(layer) - len(rows))


def _meeting(layer: Layer, box: Extent) -> np.ndarray:
    """Positions (int64) of the features that meet a box; most are told by their own boxes."""
    west, south, east, north = layer.bounds().T
    with np.errstate(invalid="ignore"):
        meets = (west <= box[2]) & (east >= box[0]) & (south <= box[3]) & (north >= box[1])
        within = (west >= box[0]) & (east <= box[2]) & (south >= box[1]) & (north <= box[3])
    edge = np.flatnonzero(meets & ~within)
    meets[edge] = shapely.intersects(layer.shapes(edge), shapely.box(*box))
    return np.flatnonzero(meets)
