"""Join the shapes of groups.

Neighbours that share their edges exactly are joined along them, which is many times faster than a general union and moves
nothing. Whether they do so is not tested before but seen from what comes out: it must be valid, and as large as its
members together. A group for which that fails goes through the general union.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from itertools import pairwise

import numpy as np
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.core.geometry.ordinates import one_with_measures, with_measures
from eskret.core.geometry.parallel import Watch, in_threads, is_nonempty
from eskret.core.geometry.parts import dimension, invalid, made_valid, of_dimension, single_parts, together
from eskret.core.geometry.vertices import edges_of
from eskret.core.scientific import connected

_TOGETHER = 5_000
_SAME = 1e-9
_MANY, _LOOKED_AT = 64, 16
"""From how many areas on a few of them are looked at first, and how many."""
Measure = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Joined:
    """One shape a group (null for one without any); ``overlapping`` are the groups (int64) whose members lie on each
    other, ``overlap`` by how much, each spot counted each time but the first: the area of areas, else the length of lines;
    ``mended`` the rows that were made valid for it."""

    geometry: np.ndarray
    overlapping: np.ndarray
    overlap: np.ndarray
    mended: np.ndarray


def dissolve(
    geometry: np.ndarray,
    rows_of: Callable[[int], np.ndarray],
    count: int,
    watch: Watch | None = None,
    length: Measure = shapely.length,
    area: Measure = shapely.area,
) -> Joined:
    """Join the shapes of each group.

    Parameters
    ----------
    geometry : all shapes; null and empty ones add nothing.
    rows_of : gives the positions of a group's members.
    count : how many groups.
    watch : called as (groups done, of all).
    length, area : how an overlap is measured.
    """
    out = np.full(count, None, object)
    overlap = np.zeros(count)
    mended: list[np.ndarray] = []
    sizes = [len(rows_of(g)) for g in range(count)]
    # several small groups make one task
    bounds = [0]
    total = 0
    for group, size in enumerate(sizes):
        total += size
        if total >= _TOGETHER:
            bounds.append(group + 1)
            total = 0
    if bounds[-1] != count:
        bounds.append(count)

    def work(first: int, last: int) -> None:
        alone: list[tuple[int, int]] = []
        for group in range(first, last):
            rows = rows_of(group)
            rows = rows[is_nonempty(geometry[rows])]
            if len(rows) == 1:
                alone.append((group, int(rows[0])))
            elif len(rows):
                out[group], overlap[group], bad = _join(geometry[rows], length, area)
                mended.append(rows[bad])
        if alone:
            groups, rows = np.array(alone).T
            out[groups] = geometry[rows]
            # one that is alone in its group is mended as any other is
            bad = np.flatnonzero((dimension(geometry[rows]) == 2) & invalid(geometry[rows]))
            for n in bad.tolist():
                out[groups[n]], overlap[groups[n]], _ = _join(geometry[rows[[n]]], length, area)
            mended.append(rows[bad])

    in_threads([partial(work, a, b) for a, b in pairwise(bounds)], watch)
    groups = np.flatnonzero(overlap > 0)
    return Joined(out, groups, overlap[groups], np.sort(np.concatenate(mended)) if mended else np.empty(0, np.int64))


def _join(members: np.ndarray, length: Measure, area: Measure) -> tuple[BaseGeometry, float, np.ndarray]:
    """The union of some shapes, what they cover more than once (each time but the first), and which of them were invalid and
    mended for it."""
    alone = _apart(members)
    if len(alone):
        rest = np.setdiff1d(np.arange(len(members)), alone)
        if not len(rest):
            return _several(members), 0.0, rest
        of_rest, overlap, bad = _join(members[rest], length, area)
        return _several(np.concatenate([members[alone], np.array([of_rest], object)])), overlap, rest[bad]
    nothing = np.empty(0, np.int64)
    areas = dimension(members) == 2
    whole = float(shapely.area(members).sum())
    if areas.all() and len(members) > 1 and not _on_each_other(members):
        try:
            joined = one_with_measures(shapely.coverage_union_all, members)
        except shapely.errors.GEOSException:
            joined = None
        if joined is not None and shapely.is_valid(joined) and abs(joined.area - whole) <= _SAME * whole:
            return _plain(joined), 0.0, nothing
    bad = np.flatnonzero(areas & invalid(members))
    if len(bad):
        # parts of one shape that lie on each other count as any others do
        parts, _ = single_parts(members[bad])
        crossed = invalid(parts)
        parts[crossed] = of_dimension(made_valid(parts[crossed]), np.full(int(crossed.sum()), 2))
        rest = np.setdiff1d(np.arange(len(members)), bad)
        members = np.concatenate([members[rest], parts[is_nonempty(parts)]])
        areas = dimension(members) == 2
        whole = float(shapely.area(members).sum())
    joined = one_with_measures(shapely.disjoint_subset_union_all if areas.all() else shapely.union_all, members)
    if not areas.any():
        merged = joined
        if (dimension(members) == 1).all():
            merged = with_measures(shapely.line_merge, np.array([joined], object))[0]
        return merged, _doubled(members, joined, length), bad
    if areas.all() and abs(joined.area - whole) <= _SAME * whole:
        return joined, 0.0, bad
    return joined, _overlap(members[areas], area), bad


def _apart(members: np.ndarray) -> np.ndarray:
    """The positions (int64) of areas whose box meets no other one's, which need no joining, where a look at a few finds that many are
    such."""
    if len(members) < _MANY or not (dimension(members) == 2).all():
        return np.empty(0, np.int64)
    tree = shapely.STRtree(members)
    looked = np.linspace(0, len(members) - 1, _LOOKED_AT).astype(np.int64)
    few = np.bincount(tree.query(members[looked])[0], minlength=len(looked))
    if (few == 1).sum() * 2 < len(looked):
        return np.empty(0, np.int64)
    alone = np.flatnonzero(np.bincount(tree.query(members)[0], minlength=len(members)) == 1)
    return alone[~invalid(members[alone])]


def _several(shapes: np.ndarray) -> BaseGeometry:
    """Areas that lie apart as one shape."""
    parts, _ = single_parts(shapes)
    parts = parts[is_nonempty(parts)]
    return shapely.multipolygons(parts) if len(parts) > 1 else parts[0]


def _on_each_other(areas: np.ndarray) -> bool:
    """Whether some of many areas are seen to lie on others by a look at a few of them, which saves the attempt to join their edges."""
    if len(areas) < _MANY:
        return False
    looked = np.linspace(0, len(areas) - 1, _LOOKED_AT).astype(np.int64)
    inside, _ = shapely.STRtree(areas).query(shapely.point_on_surface(areas[looked]), predicate="within")
    return bool((np.bincount(inside) > 1).any())


def _plain(joined: BaseGeometry) -> BaseGeometry:
    """A multiple of one part as that part; what is no area (an edge left over) taken off."""
    out = of_dimension(np.array([joined], object), np.array([2]))[0]
    parts = shapely.get_parts(out)
    return parts[0] if len(parts) == 1 else out


def _overlap(areas: np.ndarray, area: Measure) -> float:
    """The area covered more than once, counted each time but the first, found without their union: one half of them and the other
    are joined by themselves, and what both cover counts once."""
    if len(areas) < 2:
        return 0.0
    order = np.argsort(shapely.bounds(areas)[:, 0], kind="stable")
    halves = np.split(areas[order], [len(order) // 2])
    west, east = in_threads([partial(shapely.disjoint_subset_union_all, half) for half in halves])
    three = np.array([west, east, shapely.intersection(west, east)], object)

    def twice(measure: Measure) -> float:
        a, b, both = measure(three).tolist()
        return float(measure(areas).sum()) - (a + b - both)

    # what only touches differs by a rounding, which is no overlap
    return max(twice(area), 0.0) if twice(shapely.area) > _SAME * float(shapely.area(areas).sum()) else 0.0


def _doubled(members: np.ndarray, joined: BaseGeometry, length: Measure) -> float:
    """The length that lines cover more than once, counted each time but the first, found without their union's own length: of each
    stretch of it, how many of their edges run along it."""
    lines = members[dimension(members) == 1]
    if not len(lines) or abs(float(shapely.length(lines).sum()) - joined.length) <= _SAME * max(joined.length, 1e-300):
        return 0.0
    begin, end, _ = edges_of(np.array([joined], object))
    stretches = np.asarray(shapely.linestrings(np.stack([begin, end], axis=1)))
    a, b, _ = edges_of(lines)
    edges = np.asarray(shapely.linestrings(np.stack([a, b], axis=1)))
    reach = 1e-9 * float(np.abs(np.concatenate([begin, end])).max(initial=1.0))
    at, _ = shapely.STRtree(edges).query(shapely.points((begin + end) / 2), predicate="dwithin", distance=reach)
    times = np.bincount(at, minlength=len(stretches))
    return float((length(stretches) * np.maximum(times - 1, 0)).sum())


def apart(joined: np.ndarray, geometry: np.ndarray, of: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Take joined shapes apart where nothing connects them: no shared edge or point, and no member of several parts.

    Parameters
    ----------
    joined : one shape a group.
    geometry, of : the members, and the group of each (-1 for none).

    Returns
    -------
    The shapes (each of one or more parts), and the shape (int64, -1 for none) that each member went into. Members without
    a place go into the first of their group.
    """
    parts, group = single_parts(joined)
    pieces, member = single_parts(geometry)
    inside = np.flatnonzero((of[member] >= 0) & ~shapely.is_empty(pieces))
    pieces, member = pieces[inside], member[inside]
    at, part = shapely.STRtree(parts).query(shapely.point_on_surface(pieces), predicate="dwithin", distance=1e-9)
    same = group[part] == of[member[at]]
    at, part = at[same], part[same]
    # a member is a node too, so that what it reaches hangs together
    count = len(parts) + len(geometry)
    label = connected(part, len(parts) + member[at], count)
    # numbered in the order of the groups and, in each, of the parts
    _, first, number = np.unique(label[: len(parts)], return_index=True, return_inverse=True)
    order = np.argsort(first)
    place = np.empty(len(first), np.int64)
    place[order] = np.arange(len(first))
    owner = place[number]
    by_owner = np.argsort(owner, kind="stable")
    wanted = np.full(len(first), 2)
    wanted[owner] = dimension(parts)
    shapes = together(parts[by_owner], owner[by_owner], len(first), wanted)
    into = np.full(len(geometry), -1, np.int64)
    into[member[at]] = owner[part]
    lost = np.flatnonzero((into < 0) & (of >= 0))
    group_of = np.full(len(first), -1, np.int64)
    group_of[owner] = group
    begin = np.searchsorted(group_of, np.arange(len(joined)))
    into[lost] = begin[of[lost]]
    return shapes, into


def new_holes(joined: np.ndarray, geometry: np.ndarray, area: Measure = shapely.area) -> tuple[int, float]:
    """Holes in joined areas that none of the members had, as between neighbours that do not meet: how many, and the area
    of the largest."""
    polygons, _ = single_parts(joined[is_nonempty(joined)])
    polygons = polygons[dimension(polygons) == 2]
    if not shapely.get_num_interior_rings(polygons).any():
        return 0, 0.0
    before = {tuple(b) for b in shapely.bounds(_holes(geometry)).tolist()}
    holes = _holes(polygons)
    new = np.array([tuple(b) not in before for b in shapely.bounds(holes).tolist()], bool)
    sizes = area(shapely.polygons(holes[new])) if new.any() else np.empty(0)
    return int(new.sum()), float(sizes.max(initial=0.0))


def _holes(geometry: np.ndarray) -> np.ndarray:
    polygons, _ = single_parts(geometry[is_nonempty(geometry)])
    polygons = polygons[(dimension(polygons) == 2)]
    polygons = polygons[shapely.get_num_interior_rings(polygons) > 0]
    if not len(polygons):
        return np.empty(0, object)
    rings, owner = shapely.get_rings(polygons, return_index=True)
    return rings[np.r_[False, owner[1:] == owner[:-1]]]
