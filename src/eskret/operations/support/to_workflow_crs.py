"""Bring a layer to the workflow's coordinate system as it comes in."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import shapely

from eskret.core.accounts.account import ControlTotal, Reason, Remark
from eskret.core.crs import crs_facts, degrees_of, extent_of, is_geographic, same_crs, transformation
from eskret.core.geometry.globe.moving import Reprojected, reproject_places, reproject_whole
from eskret.core.geometry.globe.seam import beyond, jumps
from eskret.core.geometry.parts import invalid
from eskret.core.layer import GeometryColumn, GeometryKind, Layer, WkbArray
from eskret.core.measure.totals import measure_sizes
from eskret.core.tables.rows import remaining
from eskret.core.words import format_quantity, pluralise
from eskret.errors import InputError
from eskret.operations.base import Context

Extent = tuple[float, float, float, float]
BENT, BENT_MUCH = 0.01, 10.0
"""Metres by which an edge is off its course from which on it is told, and asks for a look."""
BACK = 0.01
JUMPED, JUMPED_MUCH = 0.0025, 0.01
"""The share by which a total is another one in a new system from which on it is told, and asks for a look."""


_ENDLESS = 1e15
"""Some files write the largest number there is where they have none."""
NO_NUMBERS = "has coordinates that are no numbers, or endless"


class Extents:
    """Where all rows lie of points that come so many at a time: by which way they are brought elsewhere hangs on it."""

    def __init__(self) -> None:
        self.all: Extent | None = None
        self.somewhere: Extent | None = None
        """Of those that are places: others are taken out before."""

    def add(self, layer: Layer) -> bool:
        """Take further rows in; False where they are no points."""
        boxes = np.asarray(layer.bounds(), float).reshape(-1, 4)
        with np.errstate(invalid="ignore"):
            boxes = boxes[(np.abs(boxes) < _ENDLESS).all(axis=1)]
        self.all = _around(self.all, boxes)
        self.somewhere = _around(self.somewhere, boxes[~beyond(boxes)] if is_geographic(layer.crs) else boxes)
        return layer.kind is GeometryKind.POINT


def _around(before: Extent | None, boxes: np.ndarray) -> Extent | None:
    boxes = np.concatenate([boxes, [before]]) if before is not None else boxes
    if not len(boxes):
        return None
    low, high = boxes[:, :2].min(axis=0), boxes[:, 2:].max(axis=0)
    return float(low[0]), float(low[1]), float(high[0]), float(high[1])


def bring(layer: Layer, context: Context, extents: Extents | None = None) -> tuple[Layer, list[Reason], list[Remark]]:
    """The layer as it goes into a workflow, in its CRS; rows that have no place there are taken out, and those that have none
    anywhere.

    Parameters
    ----------
    extents : of all rows, where these are some of them.

    Returns
    -------
    The layer, the positions (int64) of the rows taken out with the reason, and what there is to say.

    Raises
    ------
    InputError : the layer declares no CRS and the workflow has one.
    """
    if not layer.has_geometry:
        return layer, [], []
    off = _without_numbers(layer)
    kept = remaining(len(layer), off)
    reasons: list[Reason] = [(NO_NUMBERS, off)] if len(off) else []
    if len(off):
        layer = layer.take(kept)
    remarks = [Remark.counted(f"{{n|feature}} set aside: {NO_NUMBERS}", look=True, n=len(off))] if len(off) else []
    if context.crs is None or same_crs(layer.crs, context.crs):
        return layer, reasons, remarks
    if layer.crs is None:
        raise InputError(
            "no coordinate system is declared",
            place=layer.origin,
            way_out="Say which one under 'CRS where none is declared'; it is never guessed",
        )
    extent = extents.all if extents is not None else _extent(layer)
    way = transformation(layer.crs, context.crs, extent)
    remarks.append(Remark(f"brought to {crs_facts(context.crs).name}: {way.sentence()}", look=way.coarse))
    doubt = outside_words(extent, layer.crs, context.crs)
    if doubt:
        remarks.append(Remark(doubt, look=True))
    xy = layer.undecoded.xy if layer.undecoded is not None else None
    places = None if xy is None else reproject_places(xy, layer.crs, context.crs, extent)
    if places is not None:
        return replace(layer, column=GeometryColumn(WkbArray.of_points(places[0])), crs=context.crs), reasons, remarks
    assert layer.geometry is not None
    found = reproject_whole(layer.geometry, layer.crs, context.crs, extent=extents.somewhere if extents is not None else None)
    lost = found.lost
    remarks += said_of_move(layer, found, None)
    layer = layer.with_geometry(found.geometry, layer.kind, crs=context.crs)
    if len(lost):
        layer = layer.take(remaining(len(layer), lost))
        reasons.append((f"cannot be brought to {context.crs}", kept[lost]))
    return layer, reasons, remarks


def _extent(layer: Layer) -> Extent | None:
    if layer.undecoded is not None:
        return layer.extent()
    assert layer.geometry is not None
    return extent_of(layer.geometry)


def _without_numbers(layer: Layer) -> np.ndarray:
    """Positions (int64) of features with coordinates that are not finite, or so large that no place has them: no operation could make
    anything of them, and one alone takes the figures of all along."""
    with np.errstate(invalid="ignore"):
        suspect = ~(np.abs(layer.bounds()) < _ENDLESS).all(axis=1)
    if layer.undecoded is None:
        # a vertex between others that is no number does not show in a box
        suspect |= ~np.isfinite(shapely.length(layer.geometry))
    rows = np.flatnonzero(suspect)
    if not len(rows):
        return rows
    xy, of = shapely.get_coordinates(layer.shapes(rows), return_index=True)
    return np.asarray(np.unique(rows[of[~(np.abs(xy) < _ENDLESS).all(axis=1)]]))


def wide_edges(layer: Layer) -> list[Remark]:
    """What to say of edges in degrees that are longer than half a turn: drawn as they are, they go the long way round."""
    extent = layer.extent() if layer.has_geometry and layer.kind is not GeometryKind.POINT else None
    if extent is None or not is_geographic(layer.crs) or extent[2] - extent[0] <= 180.0:
        return []
    assert layer.geometry is not None
    many = int(jumps(layer.geometry).sum())
    if not many:
        return []
    text = "{n|feature has an edge|features have edges} of more than half a turn, taken as drawn, the long way round; "
    return [Remark.counted(text + "Make valid can take the short way over 180 degrees", layer.key, look=True, n=many)]


def said_of_move(layer: Layer, found: Reprojected, within: float | None) -> list[Remark]:
    """What there is to say of shapes in another CRS: where edges lie off their course, what was cut or joined, what has no place,
    and heights that stay."""
    out = []
    if len(found.lost):
        out.append(Remark.counted("{n|feature has|features have} no place there", layer.key, look=True, n=len(found.lost)))
    if len(found.cut):
        text = "{n|feature} cut or joined where a map comes apart: at 180 degrees, at its edge, or about a pole"
        out.append(Remark.counted(text, layer.key, n=len(found.cut)))
    if within is not None and found.bend > within:
        text = f"edges follow their course to {format_quantity(within, 'm')}"
        out.append(Remark(f"{text}; as they were they would be off by {format_quantity(found.bend, 'm')}", layer.key))
    elif found.bend > BENT:
        text = f"edges lie up to {format_quantity(found.bend, 'm')} off their course, since only their ends are moved"
        out.append(Remark(f"{text}; Reproject can keep it, or Densify before", layer.key, look=found.bend > BENT_MUCH))
        crossed = int(invalid(found.geometry).sum()) - int(invalid(layer.shapes(np.arange(len(layer)))).sum())
        if crossed > 0:
            out.append(Remark(f"{pluralise(crossed, 'shape crosses itself', 'shapes cross themselves')} for it", layer.key, look=True))
    out += _jump(layer, found)
    if layer.kind is not GeometryKind.TABLE and _tall(layer):
        out.append(Remark("heights and measures are left as they are: the vertical datum is not changed", layer.key))
    return out


def _jump(layer: Layer, found: Reprojected) -> list[Remark]:
    """A total that is another one in the new system, as in one that keeps no areas."""
    if layer.kind not in (GeometryKind.LINE, GeometryKind.POLYGON) or layer.crs is None:
        return []
    kept = remaining(len(layer), found.lost)
    some = kept[np.unique(np.linspace(0, max(len(kept) - 1, 0), 1_000).astype(np.int64))] if len(kept) else kept

    def totals(rows: np.ndarray) -> tuple[float, float]:
        sizes = (measure_sizes(layer.shapes(rows), layer.kind, layer.crs or ""), measure_sizes(found.geometry[rows], layer.kind, found.crs))
        a, b = (0.0 if s is None else float(np.nansum(s)) for s in sizes)
        return a, b

    # of some first: where they keep their size, nothing jumps
    before, after = totals(some)
    if not before or not after or abs(after / before - 1) <= JUMPED:
        return []
    before, after = totals(kept)
    off = after / before - 1
    name, unit, factor = ("length", "km", 1e-3) if layer.kind is GeometryKind.LINE else ("area", "ha", 1e-4)
    value, after = before * factor, after * factor
    digits = 1 if abs(off) >= 0.01 else 2
    text = f"the {name} is {format_quantity(value, unit)} before and {format_quantity(after, unit)} after it, {100 * off:+,.{digits}f} %"
    return [Remark(text, layer.key, look=abs(off) > JUMPED_MUCH)]


def _tall(layer: Layer) -> bool:
    if layer.undecoded is not None:
        return False
    assert layer.geometry is not None
    return bool(shapely.has_z(layer.geometry).any() or shapely.has_m(layer.geometry).any())


def controls_of_move(layer: Layer, found: Reprojected) -> tuple[ControlTotal, ...]:
    """Places that are brought there and back are where they were, to a centimetre."""
    return (control_of_move(found.back),) if np.isfinite(found.back) else ()


def control_of_move(back: float) -> ControlTotal:
    """Of how far a place lies off at most that was brought there and back, in metres."""
    return ControlTotal("difference there and back", "m", 0.0, back, BACK, worst=True)


def outside_words(extent: Extent | None, crs: str, target: str) -> str:
    """What to say where coordinates lie wholly outside the area where a CRS is used; empty where they do not.

    A margin of a degree is left. Coordinates that would lie inside with x and y changed are told as that.
    """
    area = crs_facts(target).bounds
    degrees = degrees_of(extent, crs)
    if area is None or degrees is None or not _apart(degrees, area):
        return ""
    hint = ""
    if extent is not None and crs_facts(crs).geographic and not _apart((extent[1], extent[0], extent[3], extent[2]), area):
        hint = "; x and y seem to have changed places"
    return f"they lie outside the area where {crs_facts(target).name} is used{hint}"


def _apart(extent: Extent, bounds: Extent) -> bool:
    west, south, east, north = bounds
    across = west > east  # an area over the antimeridian
    beside = extent[2] < west - 1 and extent[0] > east + 1 if across else extent[2] < west - 1 or extent[0] > east + 1
    return beside or extent[3] < south - 1 or extent[1] > north + 1
