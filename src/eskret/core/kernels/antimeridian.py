"""Cut what goes over the antimeridian, as RFC 7946 (3.1.9) wants it: parts on either side of 180 degrees."""

from __future__ import annotations

import numpy as np
import shapely

_WHOLE, _HALF = 360.0, 180.0
_SLACK = 1e-9


def crossing(lon: np.ndarray, starts: np.ndarray) -> np.ndarray:
    """Which pieces go over the antimeridian: (pieces,) of bool.

    Parameters
    ----------
    lon : longitudes of all vertices.
    starts : where each piece (a ring, a line, a point) begins in them (pieces + 1).

    Notes
    -----
    Two neighbours more than half a turn apart are taken to be joined the short way round; a whole turn is the edge of the map,
    not a way over it. A longitude beyond 180 lies on the other side.
    """
    out = np.zeros(len(starts) - 1, bool)
    if not len(lon) or (lon.min() >= -_HALF and lon.max() <= _HALF and np.ptp(lon) <= _HALF):
        return out
    owner = np.repeat(np.arange(len(out)), np.diff(starts))
    out[owner[np.abs(lon) > _HALF + _SLACK]] = True
    jump = np.abs(np.diff(lon))
    over = (jump > _HALF + _SLACK) & (jump < _WHOLE - _SLACK) & (owner[1:] == owner[:-1])
    out[owner[1:][over]] = True
    return out


def no_degrees(shapes: np.ndarray) -> np.ndarray:
    """Positions (int64) of shapes with coordinates that no place on the globe has: more than one turn beyond 180, or beyond a
    pole."""
    xy, owner = shapely.get_coordinates(shapes, return_index=True)
    off = (np.abs(xy[:, 0]) > _HALF + _WHOLE) | (np.abs(xy[:, 1]) > _HALF / 2 + 1e-6)
    return np.unique(owner[off]).astype(np.int64)


def cut(shapes: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Shapes in degrees, those that go over the antimeridian cut there.

    Returns
    -------
    The shapes, and the positions (int64) of those that were cut. One that goes round a pole is left as it is.
    """
    shapes = np.asarray(shapes, object)
    lon, owner = shapely.get_coordinates(shapes, return_index=True)
    lon = lon[:, 0] if len(lon) else np.empty(0)
    jump = np.abs(np.diff(lon))
    over = (jump > _HALF + _SLACK) & (jump < _WHOLE - _SLACK) & (owner[1:] == owner[:-1])
    suspect = np.unique(np.concatenate([owner[1:][over], owner[np.abs(lon) > _HALF + _SLACK]])).astype(np.int64)
    out, done = shapes.copy(), []
    for row in suspect.tolist():
        made = _cut_one(shapes[row])
        if made is not None:
            out[row] = made
            done.append(row)
    return out, np.array(done, np.int64)


def _cut_one(shape: shapely.Geometry) -> shapely.Geometry | None:
    """One shape cut; None where nothing of it goes over, or where it cannot be cut."""
    kept: list[shapely.Geometry] = []
    changed = False
    for part in shapely.get_parts(shape):
        if part.geom_type == "GeometryCollection":
            return None
        far = _unwrapped(part)
        if far is None:
            kept.append(part)
            continue
        pieces = _sides(far)
        changed = changed or len(pieces) > 1 or not shapely.equals_exact(pieces[0], part, 0.0)
        kept += pieces
    if not changed:
        return None
    if len(kept) == 1:
        return kept[0]
    if kept[0].geom_type == "Point":
        return shapely.multipoints(kept)
    return shapely.multilinestrings(kept) if kept[0].geom_type == "LineString" else shapely.multipolygons(kept)


def _unwrapped(part: shapely.Geometry) -> shapely.Geometry | None:
    """The part with longitudes that run on instead of jumping; None where it does neither jump nor lie beyond."""
    has_z = part.has_z
    rings = [part] if part.geom_type != "Polygon" else [part.exterior, *part.interiors]
    found, moved = [], False
    for ring in rings:
        c = shapely.get_coordinates(ring, include_z=has_z)
        step = np.diff(c[:, 0])
        turn = np.where(
            (np.abs(step) > _HALF + _SLACK) & (np.abs(step) < _WHOLE - _SLACK), -np.sign(step) * _WHOLE, 0.0
        )
        shift = np.r_[0.0, np.cumsum(turn)]
        if part.geom_type == "Polygon" and abs(shift[-1]) > 1:
            return None  # it goes round a pole
        moved = moved or bool(shift.any()) or bool((np.abs(c[:, 0]) > _HALF + _SLACK).any())
        c = c.copy()
        c[:, 0] += shift
        found.append(c)
    if not moved:
        return None
    if part.geom_type == "Point":
        return shapely.points(found[0][0])
    if part.geom_type != "Polygon":
        return shapely.linestrings(found[0])
    middle = (found[0][:, 0].min() + found[0][:, 0].max()) / 2
    for hole in found[1:]:
        hole[:, 0] += _WHOLE * np.round((middle - (hole[:, 0].min() + hole[:, 0].max()) / 2) / _WHOLE)
    return shapely.polygons(shapely.linearrings(found[0]), holes=[shapely.linearrings(h) for h in found[1:]] or None)


def _sides(shape: shapely.Geometry) -> list[shapely.Geometry]:
    """What lies in each turn of 360 degrees, brought back between -180 and 180."""
    west, south, east, north = shapely.bounds(shape)
    kinds = {"Point": ("Point",), "LineString": ("LineString",), "Polygon": ("Polygon",)}[shape.geom_type]
    out = []
    for turn in range(int(np.floor((west + _HALF) / _WHOLE)), int(np.floor((east + _HALF) / _WHOLE)) + 1):
        window = shapely.box(turn * _WHOLE - _HALF, south - 1, turn * _WHOLE + _HALF, north + 1)
        back = np.array([turn * _WHOLE, 0.0, 0.0])
        try:
            piece = shapely.intersection(shape, window)
        except shapely.errors.GEOSException:
            piece = shapely.intersection(shapely.make_valid(shape), window)  # it crosses itself
        z = bool(piece.has_z)
        moved = shapely.transform(piece, lambda c, by=back[: 3 if z else 2]: c - by, include_z=z)
        out += [p for p in shapely.get_parts(moved) if p.geom_type in kinds and not p.is_empty]
    return out


def around(boxes: np.ndarray) -> tuple[float, float]:
    """West and east of boxes (n, 4) the shorter way round: west is greater where that is over the antimeridian."""
    boxes = boxes[np.isfinite(boxes).all(axis=1)]
    order = np.argsort(boxes[:, 0])
    west, east = boxes[order, 0], np.maximum.accumulate(boxes[order, 2])
    gaps = np.r_[west[1:] - east[:-1], west[0] + _WHOLE - east[-1]]
    widest = int(np.argmax(gaps))
    if widest == len(gaps) - 1 or gaps[widest] <= 0:
        return float(west[0]), float(east[-1])
    return float(west[widest + 1]), float(east[widest])
