"""Bring a layer to the workflow's coordinate system as it comes in."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from eskret.core.account import Remark
from eskret.core.crs import crs_facts, degrees_of, extent_of, reproject, same_crs, transformation
from eskret.core.layer import Layer
from eskret.core.rows import remaining
from eskret.errors import InputError
from eskret.operations.base import Context

Extent = tuple[float, float, float, float]


def bring(layer: Layer, context: Context) -> tuple[Layer, np.ndarray, list[Remark]]:
    """The layer in the workflow's CRS; rows that have no place there are taken out.

    Returns
    -------
    The layer, the positions (int64) of the rows taken out, and what there is to say.

    Raises
    ------
    InputError : the layer declares no CRS and the workflow has one.
    """
    nothing = np.empty(0, np.int64)
    if not layer.drawn or context.crs is None or same_crs(layer.crs, context.crs):
        return layer, nothing, []
    if layer.crs is None:
        raise InputError(
            "no coordinate system is declared", place=layer.origin,
            way_out="Say which one under 'CRS where none is declared'; it is never guessed",
        )  # fmt: skip
    assert layer.geometry is not None
    extent = extent_of(layer.geometry)
    way = transformation(layer.crs, context.crs, extent)
    remarks = [Remark(f"brought to {crs_facts(context.crs).name}: {way.sentence()}", look=way.coarse)]
    doubt = outside_words(extent, layer.crs, context.crs)
    if doubt:
        remarks.append(Remark(doubt, look=True))
    moved, lost = reproject(layer.geometry, layer.crs, context.crs)
    layer = replace(layer, geometry=moved, crs=context.crs)
    if len(lost):
        layer = layer.take(remaining(len(layer), lost))
    return layer, lost, remarks


def outside_words(extent: Extent | None, crs: str, target: str) -> str:
    """What to say where coordinates lie wholly outside the area where a CRS is used; empty where they do not.

    A margin of a degree is left. Coordinates that would lie inside with x and y changed are told as that.
    """
    area = crs_facts(target).bounds
    degrees = degrees_of(extent, crs)
    if area is None or degrees is None or not _apart(degrees, area):
        return ""
    hint = ""
    if (
        extent is not None
        and crs_facts(crs).geographic
        and not _apart((extent[1], extent[0], extent[3], extent[2]), area)
    ):
        hint = "; x and y seem to have changed places"
    return f"they lie outside the area where {crs_facts(target).name} is used{hint}"


def _apart(extent: Extent, bounds: Extent) -> bool:
    west, south, east, north = bounds
    across = west > east  # an area over the antimeridian
    beside = extent[2] < west - 1 and extent[0] > east + 1 if across else extent[2] < west - 1 or extent[0] > east + 1
    return beside or extent[3] < south - 1 or extent[1] > north + 1
