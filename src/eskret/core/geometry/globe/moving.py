"""Whole shapes from one coordinate system to another: nothing goes round the world as a band, no pole is lost, and what has no
place there is said.

A shape that goes over the meridian at which a map comes apart is cut there: 180 degrees for longitudes and latitudes, half a turn
from the middle for a map of the whole world. One that was cut where the map hangs together is joined. A ring round a pole is closed
over it where the coordinates are degrees.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache, partial

import numpy as np
import pyproj
import shapely
from pyproj.exceptions import ProjError
from shapely.geometry.base import BaseGeometry

from eskret.core.crs import Extent, crs_facts, degrees_of, extent_of, geographic_of, parse_crs, same_crs, way_of
from eskret.core.geometry.globe.course import following, most_bent
from eskret.core.geometry.globe.planes import EARTH
from eskret.core.geometry.globe.seam import HALF, SLACK, WHOLE, PoleWithin, at_seam, nowhere, running, wrapped
from eskret.core.geometry.ordinates import moved, one_with_measures, with_measures
from eskret.core.geometry.parts import dimension, invalid, of_dimension

_SAMPLE = 500
_BESIDE = 10.0
"""Degrees outside the area where a system is used within which its places still come back."""
_BACK = 0.01
"""Metres within which a place must come back to where it was."""
_STEEP = 1_000.0
"""The scale from which on a projection has no answer: the pole of a cylinder."""
_NEAR_POLE, _POLE = 89.9, 89.99999
_NUDGE = 1e-9
_NARROW, _HIGH = 60.0, 85.0
Move = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Reprojected:
    """``geometry`` in the other CRS. Positions (int64): ``lost``, of what has no place there; ``cut``, of what was cut or joined at
    the meridian where a map comes apart, or closed over a pole. ``bend``, by how many metres an edge lies off its course at most,
    since only its ends were moved. ``back``, how far a place lies off at most when it is brought back; NaN where there is no way."""

    geometry: np.ndarray
    lost: np.ndarray
    cut: np.ndarray
    bend: float
    back: float
    crs: str


def reproject_whole(
    shapes: np.ndarray, source: str, target: str, tolerance: float | None = None, extent: Extent | None = None
) -> Reprojected:
    """Bring shapes to another CRS; heights and measures stay as they are.

    Parameters
    ----------
    shapes : array of shapely geometry in ``source``.
    source, target : CRS as code or WKT.
    tolerance : metres within which straight edges are to keep their course, by vertices put in; without it only the vertices
        there are are moved.
    extent : of all shapes, where these are some of them: by which way they are brought there hangs on it.

    Raises
    ------
    CrsError : there is no way between the two.
    """
    shapes = np.asarray(shapes, object)
    none = np.empty(0, np.int64)
    if same_crs(source, target):
        return Reprojected(shapes, none, none, 0.0, 0.0, target)
    from_degrees, to_degrees = crs_facts(source).geographic, crs_facts(target).geographic
    off = none
    if from_degrees:
        off = np.flatnonzero(nowhere(shapes))
        if len(off):
            shapes = shapes.copy()
            shapes[off] = None
    extent = extent or extent_of(shapes)
    way = way_of(source, target, extent)

    def forth(xy: np.ndarray) -> np.ndarray:
        return np.column_stack(way.transform(xy[:, 0], xy[:, 1])) if len(xy) else xy

    plain = _nowhere_special(extent, source, target)
    ready, cut, lost, polar = shapes, none, none, none
    if from_degrees and not to_degrees and not plain:
        ready, cut, lost, polar = _ready_for(shapes, target, forth, way)
    bend = most_bent(np.delete(ready, lost) if len(lost) else ready, forth, target)
    if tolerance is not None and (bend > tolerance or (to_degrees and not plain)):
        ready = following(ready, forth, target, tolerance)
    elif to_degrees and not from_degrees and not plain:
        ready = following(ready, forth, target, np.inf)  # only what is so wide that its way round would not be known
    if len(polar):
        # once their edges are followed: what closes them in degrees is no edge of them
        ready = ready.copy()
        for row in polar.tolist():
            ready[row] = one_with_measures(_opened, ready[[row]])
    out = moved(ready, forth)
    if to_degrees and not plain:
        out, cut = _closed(ready, out, way, from_degrees)
    elif len(cut):
        bad = cut[invalid(out[cut]) & (dimension(out[cut]) == 2)]
        if len(bad):
            out[bad] = of_dimension(with_measures(_structured, out[bad]), np.full(len(bad), 2))
    middle = (middle_of(target) + WHOLE) % WHOLE if from_degrees else None
    more = _without_place(ready, out, source, target, way, middle)
    lost = np.union1d(np.union1d(lost, more), off)
    back = _back(ready, out, np.union1d(lost, cut), source, way, middle)
    return Reprojected(out, lost, np.setdiff1d(cut, lost), bend, back, target)


def reproject_places(xy: np.ndarray, source: str, target: str, extent: Extent | None) -> tuple[np.ndarray, float] | None:
    """As ``reproject_whole``, for points known by their coordinates (n, 2), without making shapes of them.

    Returns
    -------
    The coordinates, and how far a place lies off at most when it is brought back; None where they must be looked at one by one: near
    180 degrees, a pole or the edge of a map, outside the area where a system is used, or where one has no place there.
    """
    plain = _nowhere_special(extent, source, target) and _where_used(extent, source, target)
    if same_crs(source, target) or not plain or not len(xy) or not np.isfinite(xy).all():
        return None
    way = way_of(source, target, extent)
    middle = (middle_of(target) + WHOLE) % WHOLE if crs_facts(source).geographic else None
    rows = _some(xy)
    out = np.column_stack(way.transform(xy[:, 0], xy[:, 1]))
    if not way.has_inverse or not np.isfinite(out).all() or _astray(xy[rows], source, way, middle).any():
        return None
    back = np.column_stack(way.transform(out[rows, 0], out[rows, 1], direction="INVERSE"))
    metres, on_edge = _off(xy[rows], back, source, middle)
    return out, float(np.where(on_edge, 0.0, metres).max(initial=0.0))


def _structured(shapes: np.ndarray) -> np.ndarray:
    return np.asarray(shapely.make_valid(shapes, method="structure"), object)


def reproject(shapes: np.ndarray, source: str, target: str, extent: Extent | None = None) -> tuple[np.ndarray, np.ndarray]:
    """As ``reproject_whole``: the shapes, and the positions (int64) of those that have no place there."""
    found = reproject_whole(shapes, source, target, extent=extent)
    return found.geometry, found.lost


def stays_together(extent: Extent | None, source: str, target: str) -> bool:
    """Whether nothing in an extent is cut, joined or lost on the way to another CRS, so that shapes stay of the types they are."""
    return extent is not None and _nowhere_special(extent, source, target)


def _nowhere_special(extent: Extent | None, source: str, target: str) -> bool:
    """Whether shapes of an extent lie where nothing comes apart: no wider than some degrees, apart from 180 degrees, the poles, and
    the meridian at which a map of the world has its edge."""
    degrees = degrees_of(extent, source)
    edge = (middle_of(target) + WHOLE) % WHOLE - HALF
    if degrees is None or degrees[0] - 1 <= edge <= degrees[2] + 1:
        return False
    west, south, east, north = degrees
    return east - west <= _NARROW and west > -HALF + 1 and east < HALF - 1 and south > -_HIGH and north < _HIGH


def _closed(before: np.ndarray, after: np.ndarray, way: pyproj.Transformer, from_degrees: bool) -> tuple[np.ndarray, np.ndarray]:
    """Longitudes that start again at -180 made to run on, then cut and closed."""
    if from_degrees:
        # they are as far round as they were
        source = shapely.get_coordinates(before)[:, 0]
        lon = shapely.get_coordinates(after)[:, 0]
        with np.errstate(invalid="ignore"):
            turns = np.round((source - lon) / WHOLE)
        if not np.nan_to_num(turns).any():
            return after, np.empty(0, np.int64)
        after = _with_longitudes(after, lon + WHOLE * np.nan_to_num(turns))
        return wrapped(after, short_way=False)
    poles: dict[int, BaseGeometry] = {}
    for sign in (1, -1):
        try:
            x, y = way.transform(0.0, 90.0 * sign, direction="INVERSE")
        except ProjError:
            continue
        if np.isfinite([x, y]).all():
            poles[sign] = shapely.Point(x, y)

    def pole(row: int) -> PoleWithin:
        parts = shapely.get_parts(before[row])

        def within(part: int, ring: int) -> int:
            held = shapely.polygons(shapely.get_rings(parts[part])[ring])
            return next((sign for sign, at in poles.items() if shapely.intersects(held, at)), 0)

        return within

    finite = np.isfinite(shapely.bounds(after).reshape(-1, 4)).all(axis=1)
    rows = np.flatnonzero(finite)
    out = after.copy()
    out[rows], cut = wrapped(after[rows], lambda n: pole(int(rows[n])))
    return out, rows[cut]


def _with_longitudes(shapes: np.ndarray, lon: np.ndarray) -> np.ndarray:
    """Shapes with these longitudes for all their vertices, in order."""
    counts = shapely.get_num_coordinates(shapes)
    starts = np.concatenate([[0], np.cumsum(counts)])
    out = shapes.copy()
    changed = np.flatnonzero(
        np.add.reduceat(np.r_[np.abs(lon - shapely.get_coordinates(shapes)[:, 0]), 0.0], starts[:-1]) * (counts > 0) > 1.0
    )
    for row in changed.tolist():
        mine = lon[starts[row] : starts[row + 1]]
        out[row] = moved(shapes[[row]], partial(_at_longitudes, mine))[0]
    return out


def _at_longitudes(lon: np.ndarray, xy: np.ndarray) -> np.ndarray:
    return np.column_stack([lon, xy[:, 1]])


@lru_cache(maxsize=64)
def middle_of(crs: str) -> float:
    """The longitude of the middle of a projection, in degrees; 0 where it has none."""
    operation = parse_crs(crs).coordinate_operation
    for param in operation.params if operation is not None else ():
        if param.name.startswith("Longitude of"):
            return float(np.degrees(param.value * param.unit_conversion_factor))
    return 0.0


def _comes_apart(middle: float, forth: Move) -> bool:
    """Whether a map comes apart half a turn from its middle."""
    lat = np.array([0.0, 40.0, -40.0])
    right = forth(np.column_stack([np.full(3, middle + HALF - 1e-6), lat]))
    left = forth(np.column_stack([np.full(3, middle - HALF + 1e-6), lat]))
    return bool(np.nanmax(np.abs(right - left), initial=0.0) > 1_000.0)


def half_world(source: str, target: str) -> float:
    """How wide half the world is in a system that comes apart, in its units: nothing sound has a longer edge. Infinite where it hangs
    together.

    Raises
    ------
    CrsError : there is no way between the two.
    """
    if crs_facts(target).geographic:
        return HALF
    degrees = geographic_of(source)
    way = way_of(degrees, target)
    middle = (middle_of(target) + HALF) % WHOLE - HALF
    if not _comes_apart(middle, lambda xy: np.column_stack(way.transform(xy[:, 0], xy[:, 1]))):
        return float("inf")
    x, _ = way.transform([middle - HALF + 1e-6, middle + HALF - 1e-6], [0.0, 0.0])
    return float(abs(x[1] - x[0]) / 2)


def _edge_comes_back(middle: float, way: pyproj.Transformer) -> bool:
    """Whether a way leads back from the edge of a map that comes apart."""
    try:
        back = way.transform(*way.transform(middle + HALF, 40.0), direction="INVERSE")
    except ProjError:
        return True
    return bool(np.isfinite(back).all())


def _ready_for(
    shapes: np.ndarray, target: str, forth: Move, way: pyproj.Transformer
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Shapes in degrees, cut where the target comes apart and joined where it does not; positions of those, of what holds a pole that
    is nowhere in the target, and of what is to be opened at a pole that is a place there."""
    middle = (middle_of(target) + HALF) % WHOLE - HALF
    polar = np.flatnonzero(_pole_held(shapes))
    away = {s: _nowhere(np.array([[middle, 90.0 * s], [middle + 90.0, 90.0 * s]]), target, forth) for s in (1, -1)}
    lost = np.array([r for r in polar.tolist() if any(away[s] for s in _poles(shapes[r]))], np.int64)
    seam = at_seam(shapes)
    if not _comes_apart(middle, forth):
        out, joined = running(shapes)
        opened = np.setdiff1d(polar, np.union1d(joined, lost))
        return out, np.union1d(joined, opened), lost, opened
    out = running(shapes)[0] if middle else shapes
    out, cut = wrapped(moved(out, lambda xy: xy - [middle, 0.0]) if middle else out, short_way=False)

    def inside(xy: np.ndarray) -> np.ndarray:
        return np.column_stack([np.clip(xy[:, 0], -HALF + _NUDGE, HALF - _NUDGE) + middle, xy[:, 1]])

    changed = np.union1d(np.union1d(cut, polar), np.flatnonzero(seam) if middle else cut)
    settled = shapes.copy()
    edge = changed if _edge_comes_back(middle, way) else np.union1d(changed, np.flatnonzero(seam))
    settled[edge] = moved(out[edge], inside)
    return settled, changed, lost, np.empty(0, np.int64)


def _nowhere(xy: np.ndarray, target: str, forth: Move) -> bool:
    return bool(not np.isfinite(forth(xy)).all() or _no_answer(xy, target).any())


def _poles(shape: BaseGeometry) -> list[int]:
    _, south, _, north = shapely.bounds(shape)
    return [s for s, there in ((1, north >= 90 - SLACK), (-1, south <= -90 + SLACK)) if there]


def _pole_held(shapes: np.ndarray) -> np.ndarray:
    """Which shapes (bool) are areas that reach a pole."""
    boxes = shapely.bounds(shapes).reshape(-1, 4)
    with np.errstate(invalid="ignore"):
        return (dimension(shapes) == 2) & ((boxes[:, 3] >= 90 - SLACK) | (boxes[:, 1] <= -90 + SLACK))


def _opened(one: np.ndarray) -> BaseGeometry:
    """A shape closed over a pole in degrees, without the edges that only close it: on a map where the pole is a place and 180
    degrees a line like any other they would be a crack."""
    parts = []
    for part in shapely.get_parts(one[0]):
        rings = [r for r in map(_ring_opened, shapely.get_rings(part)) if r is not None]
        if rings:
            parts.append(shapely.Polygon(rings[0], rings[1:] or None))
    return shapely.multipolygons(parts) if len(parts) > 1 else parts[0] if parts else one[0]


def _ring_opened(ring: shapely.LinearRing) -> shapely.LinearRing | None:
    c = shapely.get_coordinates(ring, include_z=ring.has_z)[:-1]
    pole = np.abs(c[:, 1]) >= 90 - SLACK
    seam = np.abs(np.abs(c[:, 0]) - HALF) < SLACK
    if not pole.any():
        return ring
    before, after = np.roll(pole | seam, 1), np.roll(pole | seam, -1)
    kept = ~(pole | (seam & before & after))
    c = c[kept]
    if len(c) < 3:
        return None
    c[np.abs(c[:, 0] + HALF) < SLACK, 0] = HALF
    return shapely.LinearRing(np.vstack([c, c[:1]]))


def _without_place(
    before: np.ndarray, after: np.ndarray, source: str, target: str, way: pyproj.Transformer, middle: float | None
) -> np.ndarray:
    """What has no place in the target: coordinates that are not finite, a scale without end, places that do not come back."""
    xy, owner = shapely.get_coordinates(after, return_index=True)
    lost = [owner[~np.isfinite(xy).all(axis=1)]]
    if crs_facts(source).geographic and not crs_facts(target).geographic:
        boxes = np.abs(shapely.bounds(before).reshape(-1, 4)[:, [1, 3]])
        with np.errstate(invalid="ignore"):
            high = np.flatnonzero((boxes > _NEAR_POLE).any(axis=1))
        old, of = shapely.get_coordinates(before[high], return_index=True)
        lost.append(high[of[_no_answer(old, target)]])
    if way.has_inverse and len(before):
        where_used = _where_used(extent_of(before), source, target)
        some = shapely.get_coordinates(before[_some(before)] if where_used else before)
        if _astray(some, source, way, middle).any():
            old, of = shapely.get_coordinates(before, return_index=True)
            lost.append(of[_astray(old, source, way, middle)])
    return np.unique(np.concatenate(lost)).astype(np.int64)


def _where_used(extent: Extent | None, source: str, target: str) -> bool:
    """Whether an extent lies where both systems are used, or not far outside: there every place comes back, and trying some will do."""
    degrees = degrees_of(extent, source)
    if degrees is None:
        return False
    for bounds in (crs_facts(source).bounds, crs_facts(target).bounds):
        if bounds is None or degrees[1] < bounds[1] - _BESIDE or degrees[3] > bounds[3] + _BESIDE:
            return False
        if degrees[0] < bounds[0] - _BESIDE or degrees[2] > bounds[2] + _BESIDE:
            return False
    return True


def _some(shapes: np.ndarray) -> np.ndarray:
    """Positions of some hundred, from first to last."""
    return np.unique(np.linspace(0, max(len(shapes) - 1, 0), min(_SAMPLE, len(shapes))).astype(np.int64))


def _back(before: np.ndarray, after: np.ndarray, apart: np.ndarray, source: str, way: pyproj.Transformer, middle: float | None) -> float:
    """How many metres what was made is off at most once it is brought back, of some hundred shapes; without those ``apart``, which
    have no place there or other vertices than they had. NaN where no way leads back."""
    if not way.has_inverse:
        return float("nan")
    rows = np.setdiff1d(_some(before), apart)
    old, new = shapely.get_coordinates(before[rows]), shapely.get_coordinates(after[rows])
    if len(old) != len(new):
        return float("inf")
    try:
        back = np.column_stack(way.transform(new[:, 0], new[:, 1], direction="INVERSE"))
    except ProjError:
        return float("nan")
    metres, on_edge = _off(old, back, source, middle)
    metres = np.where(np.isfinite(old).all(axis=1) & ~on_edge, metres, 0.0)
    return float(np.where(np.isnan(metres), np.inf, metres).max(initial=0.0))


def _no_answer(xy: np.ndarray, target: str) -> np.ndarray:
    """Where (bool) a projection stretches without end along the meridian: at the pole of a cylinder that keeps angles."""
    out = np.zeros(len(xy), bool)
    high = np.flatnonzero(np.abs(xy[:, 1]) > _NEAR_POLE)
    if len(high):
        try:
            lat = np.clip(xy[high, 1], -_POLE, _POLE)
            scale = np.asarray(pyproj.Proj(parse_crs(target)).get_factors(xy[high, 0], lat).meridional_scale)
        except ProjError:
            scale = np.full(len(high), np.inf)
        out[high] = ~(scale < _STEEP)
    return out


def _astray(xy: np.ndarray, source: str, way: pyproj.Transformer, middle: float | None) -> np.ndarray:
    """Which places (bool) do not come back to where they were."""
    try:
        there = way.transform(xy[:, 0], xy[:, 1])
        back = np.column_stack(way.transform(*there, direction="INVERSE"))
    except ProjError:
        return np.zeros(len(xy), bool)
    metres, on_edge = _off(xy, back, source, middle)
    return ~(metres <= _BACK) & ~on_edge


def _off(xy: np.ndarray, back: np.ndarray, source: str, middle: float | None) -> tuple[np.ndarray, np.ndarray]:
    """How many metres places are off (NaN where there is none to tell), and which (bool) lie where that tells nothing: the poles, and
    the edge of a map half a turn from its ``middle``, have several places there, or are the one place from which no way leads
    back."""
    with np.errstate(invalid="ignore"):
        off = np.where(np.isfinite(xy) & np.isfinite(back), back - xy, np.nan)
    facts = crs_facts(source)
    on_edge = np.zeros(len(xy), bool)
    if not facts.geographic:
        return np.hypot(*off.T) * (facts.unit_metres or 1.0), on_edge
    off[:, 0] -= WHOLE * np.round(off[:, 0] / WHOLE)
    off[:, 0] *= np.cos(np.radians(np.clip(xy[:, 1], -90, 90)))
    on_edge = np.abs(xy[:, 1]) > _NEAR_POLE
    if middle is not None:
        with np.errstate(invalid="ignore"):
            on_edge |= np.abs(np.abs((xy[:, 0] - middle + HALF) % WHOLE - HALF) - HALF) < 1e-6
    return EARTH * np.radians(np.hypot(*off.T)), on_edge
