"""Loose ends of lines: how far each is from the next, and lines joined where that is no more than a tolerance.

Only the ends are looked at, in a k-d tree, so that millions of corners between them cost nothing.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.core.geometry.parts import dimension, single_parts
from eskret.core.scientific import connected, kd_tree

_ROUND = (1.0, 2.0, 5.0, 10.0)


@dataclass(frozen=True)
class Ends:
    """The parts of some lines and where they end.

    ``parts`` are single lines and ``row`` the feature of each (int64). ``xy`` (2 n, 2) are the start and the end of part n
    at 2 n and 2 n + 1, ``closed`` whether they are one place, and ``loose`` (positions in ``xy``) those that no other end
    shares.
    """

    parts: np.ndarray
    row: np.ndarray
    xy: np.ndarray
    closed: np.ndarray
    loose: np.ndarray


@dataclass(frozen=True)
class Gap:
    """Two loose ends that are each other's nearest, or an end and its nearest: positions in ``Ends.xy``, and how far."""

    a: int
    b: int
    distance: float


def ends_of(geometry: np.ndarray) -> Ends:
    """The ends of all lines among some shapes; what is no line has none."""
    parts, row = single_parts(geometry)
    lines = (dimension(parts) == 1) & ~shapely.is_empty(parts)
    parts, row = parts[lines], row[lines]
    xy = np.empty((2 * len(parts), 2))
    xy[0::2] = shapely.get_coordinates(shapely.get_point(parts, 0)).reshape(-1, 2)
    xy[1::2] = shapely.get_coordinates(shapely.get_point(parts, -1)).reshape(-1, 2)
    closed = (xy[0::2] == xy[1::2]).all(axis=1)
    _, place, count = np.unique(xy, axis=0, return_inverse=True, return_counts=True)
    loose = np.flatnonzero((count[place.ravel()] == 1) & ~np.repeat(closed, 2))
    return Ends(parts, row, xy, closed, loose)


def gaps(ends: Ends) -> list[Gap]:
    """For every loose end the nearest other one, the nearest first; two that are each other's nearest once."""
    if len(ends.loose) < 2:
        return []
    places = ends.xy[ends.loose]
    distance, other = kd_tree(places).query(places, k=2)
    # of two ends at nearly one place the tree may give the end itself as the second
    itself = other[:, 0] == np.arange(len(places))
    near = np.where(itself, other[:, 1], other[:, 0])
    far = np.where(itself, distance[:, 1], distance[:, 0])
    found = []
    for n in np.argsort(far, kind="stable").tolist():
        m = int(near[n])
        if near[m] == n and m < n:
            continue
        found.append(Gap(int(ends.loose[n]), int(ends.loose[m]), float(far[n])))
    return found


def proposed(distances: np.ndarray) -> float | None:
    """A tolerance that closes the small gaps and not the others: a round figure (1, 2 or 5) a fifth above the last gap
    before the widest jump; None where there are none."""
    sizes = np.sort(distances[distances > 0])
    if not len(sizes):
        return None
    at = 0
    if len(sizes) > 1:
        jump = sizes[1:] / sizes[:-1]
        at = int(np.argmax(jump)) if jump.max() >= 3 else len(sizes) - 1
    wanted = sizes[at] * 1.2
    power = 10.0 ** np.floor(np.log10(wanted))
    figure = next(f * power for f in _ROUND if f * power >= wanted * (1 - 1e-12))
    if at + 1 < len(sizes) and figure >= sizes[at + 1]:
        figure = float(np.sqrt(sizes[at] * sizes[at + 1]))
    return float(figure)


@dataclass(frozen=True)
class Enclosed:
    """Polygons made of lines.

    ``members`` are, for each polygon, the parts (positions in ``Ends.parts``) of its edge; ``moved`` the ends that were
    moved (positions in ``Ends.xy``) and ``by`` how far; ``open`` the parts that enclose nothing, and ``gap`` how far the
    ends of their chain are from closing it.
    """

    polygons: np.ndarray
    members: list[np.ndarray]
    moved: np.ndarray
    by: np.ndarray
    open: np.ndarray
    gap: np.ndarray


def enclose(ends: Ends, tolerance: float) -> Enclosed:
    """Join lines end to end where their loose ends are no further apart than a tolerance, and make polygons of them.

    Nearer ends are joined first and each end once; both move to the middle between them. Chains that come back to their
    beginning are polygons; where more than two lines meet, so are the faces between them.
    """
    xy = ends.xy.copy()
    pairs = _joins(ends, tolerance)
    for a, b in pairs:
        middle = (ends.xy[a] + ends.xy[b]) / 2
        xy[a] = xy[b] = middle
    moved = np.array(sorted({e for pair in pairs for e in pair}), np.int64)
    by = np.hypot(*(xy[moved] - ends.xy[moved]).T) if len(moved) else np.empty(0)
    parts = _moved(ends.parts, xy, ends.xy)
    _, node = np.unique(xy, axis=0, return_inverse=True)
    node = node.ravel()
    start, end = node[0::2], node[1::2]
    count = len(ends.parts)
    degree = np.bincount(node, minlength=int(node.max(initial=-1)) + 1)
    label = connected(np.repeat(np.arange(count), 2), count + node, count + len(degree))
    of = label[:count]
    order = np.argsort(of, kind="stable")
    begins = np.flatnonzero(np.r_[True, of[order][1:] != of[order][:-1]]) if count else np.empty(0, np.int64)
    polygons: list[BaseGeometry] = []
    members: list[np.ndarray] = []
    left: list[int] = []
    gap: list[float] = []
    for group in np.split(order, begins[1:]) if count else []:
        if (degree[np.concatenate([start[group], end[group]])] == 2).all():
            ring = _chain(parts, group, start, end)
            if len(ring) >= 4:
                polygons.append(shapely.Polygon(ring))
                members.append(group)
                continue
        faces, edges = _faces(parts, group)
        polygons += faces
        members += edges
        rest = np.setdiff1d(group, np.concatenate(edges)) if edges else group
        left += rest.tolist()
        gap += [_opening(xy, degree, node, rest)] * len(rest)
    out = np.empty(len(polygons), object)
    out[:] = polygons
    return Enclosed(out, members, moved, by, np.array(left, np.int64), np.array(gap))


def _joins(ends: Ends, tolerance: float) -> list[tuple[int, int]]:
    if tolerance <= 0 or len(ends.loose) < 2:
        return []
    places = ends.xy[ends.loose]
    pairs = kd_tree(places).query_pairs(tolerance, output_type="ndarray")
    distance = np.hypot(*(places[pairs[:, 0]] - places[pairs[:, 1]]).T)
    taken = np.zeros(len(places), bool)
    out = []
    for n in np.argsort(distance, kind="stable").tolist():
        a, b = pairs[n].tolist()
        if not taken[a] and not taken[b]:
            taken[a] = taken[b] = True
            out.append((int(ends.loose[a]), int(ends.loose[b])))
    return out


def _moved(parts: np.ndarray, xy: np.ndarray, before: np.ndarray) -> np.ndarray:
    out = parts.copy()
    for number in np.unique(np.flatnonzero((xy != before).any(axis=1)) // 2).tolist():
        corners = shapely.get_coordinates(parts[number])
        corners[0], corners[-1] = xy[2 * number], xy[2 * number + 1]
        out[number] = shapely.LineString(corners)
    return out


def _chain(parts: np.ndarray, group: np.ndarray, start: np.ndarray, end: np.ndarray) -> np.ndarray:
    """Corners of a ring that goes through all these parts, each turned as it must be."""
    by_node: dict[int, list[int]] = {}
    for part in group.tolist():
        by_node.setdefault(int(start[part]), []).append(part)
        by_node.setdefault(int(end[part]), []).append(part)
    part = int(group[0])
    at = int(end[part])
    corners = [shapely.get_coordinates(parts[part])]
    used = {part}
    while len(used) < len(group):
        part = next((p for p in by_node[at] if p not in used), -1)
        if part < 0:
            break
        piece = shapely.get_coordinates(parts[part])
        forward = int(start[part]) == at
        corners.append((piece if forward else piece[::-1])[1:])
        at = int(end[part]) if forward else int(start[part])
        used.add(part)
    ring = np.concatenate(corners)
    return ring if (ring[0] == ring[-1]).all() else ring[:0]


def _faces(parts: np.ndarray, group: np.ndarray) -> tuple[list[BaseGeometry], list[np.ndarray]]:
    faces = [f for f in shapely.get_parts(shapely.polygonize(parts[group])).tolist() if f is not None]
    edges = []
    for face in faces:
        # a line of the edge lies along it; one that only touches it does not
        inside = shapely.covers(shapely.boundary(face), shapely.line_interpolate_point(parts[group], 0.5, normalized=True))
        along = inside | (shapely.relate_pattern(parts[group], shapely.boundary(face), "1********"))
        edges.append(group[along])
    return faces, edges


def _opening(xy: np.ndarray, degree: np.ndarray, node: np.ndarray, parts: np.ndarray) -> float:
    """How far the two loose ends of a chain are from each other; NaN where it has not two."""
    ends = np.concatenate([2 * parts, 2 * parts + 1])
    loose = ends[degree[node[ends]] == 1]
    return float(np.hypot(*(xy[loose[0]] - xy[loose[1]]))) if len(loose) == 2 else np.nan
