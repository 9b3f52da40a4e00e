"""Where lines meet: loose ends brought onto the line beside them, and lines cut where they cross or touch.

All is found edge by edge and only among lines that meet, so that long lines with many neighbours cost no more than short ones.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import shapely

from eskret.core.geometry.edges import Edges, boxes_about, share_along
from eskret.core.geometry.ordinates import measured
from eskret.core.scientific import connected, kd_tree

_SAME = 4e-12
"""Places are one that are no further apart than this share of their coordinates: crossings of several lines in one place."""


@dataclass(frozen=True)
class Cuts:
    """Places (n, 2) at which lines are cut, the line of each, the edge of it on which the place lies, and how far along that edge it
    lies, as a share."""

    line: np.ndarray
    edge: np.ndarray
    share: np.ndarray
    xy: np.ndarray


@dataclass(frozen=True)
class Mended:
    """Lines whose loose ends were moved; ``line`` of each end that was, whether it was the ``last`` corner, and by how many metres;
    ``loose``, how many ends are left that meet no other line. Places that ends were moved onto are corners of their lines."""

    lines: np.ndarray
    line: np.ndarray
    last: np.ndarray
    metres: np.ndarray
    loose: int


def mend(lines: np.ndarray, group: np.ndarray, reach: float, metres_of: Callable[[np.ndarray], np.ndarray]) -> Mended:
    """Bring loose ends to the nearest end of another line within reach, or else onto the nearest line.

    Parameters
    ----------
    lines : single lines.
    group : of each line; only lines of one group are brought together.
    reach : in metres.
    metres_of : metres (n, 2) that one unit of x and of y is long at places (n, 2).
    """
    lines = lines.copy()
    moved: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = []
    ends = _Ends.of(lines)
    waiting = _loose(ends, lines, group)
    scale = metres_of(ends.xy[waiting])
    pairs = _end_pairs(ends, waiting, scale, group, reach)
    stays: set[int] = set()
    gone: dict[int, tuple[int, float]] = {}
    for a, b, away in pairs:  # the nearest first: one of two stays where it is
        if a in gone or b in gone or (a in stays and b in stays):
            continue
        here, there = (a, b) if b in stays or (a not in stays and b < a) else (b, a)
        gone[here] = (there, away)
        stays.add(there)
    _move(lines, ends, np.array(list(gone), np.int64), ends.xy[[t for t, _ in gone.values()]] if gone else np.empty((0, 2)))
    if gone:
        at = np.array(list(gone), np.int64)
        moved.append((at // 2, at % 2 == 1, np.array([f for _, f in gone.values()])))
    done = np.array([*gone, *stays], np.int64)
    waiting = np.setdiff1d(waiting, done)
    while len(waiting):
        ends = _Ends.of(lines)
        end, line, edge, share, xy, far = _nearest_on(lines, ends, waiting, group, reach, metres_of)
        now = _apart_from_each_other(end, line, far)
        _move(lines, ends, end[now], xy[now])
        # the place becomes a corner at once: what is moved later no longer moves it
        _put_in(lines, line[now], edge[now], share[now], xy[now])
        moved.append((end[now] // 2, end[now] % 2 == 1, far[now]))
        waiting = end[~now]
    line, last, metres = (np.concatenate([m[n] for m in moved]) if moved else np.empty(0) for n in range(3))
    return Mended(lines, line.astype(np.int64), last.astype(bool), metres, len(_loose(_Ends.of(lines), lines, group)))


def _apart_from_each_other(end: np.ndarray, onto: np.ndarray, far: np.ndarray) -> np.ndarray:
    """Which ends (bool) are moved at one time, the nearest first: none onto a line that moves itself, or of a line that is moved onto."""
    out = np.zeros(len(end), bool)
    moving: set[int] = set()
    stays: set[int] = set()
    for n in np.lexsort((end, far)).tolist():
        own, other = int(end[n]) // 2, int(onto[n])
        if other not in moving and own not in stays:
            out[n] = True
            moving.add(own)
            stays.add(other)
    return out


def _put_in(lines: np.ndarray, line: np.ndarray, edge: np.ndarray, share: np.ndarray, xy: np.ndarray) -> None:
    """Put corners into edges, in the lines themselves; heights and measures lie evenly between those on either side."""
    order = np.lexsort((share, edge, line))
    starts = np.flatnonzero(np.r_[True, line[order][1:] != line[order][:-1]]) if len(order) else order
    for mine in np.split(order, starts[1:]) if len(order) else ():
        one = lines[line[mine[0]]]
        corners = shapely.get_coordinates(one, include_z=True, include_m=True)
        begin, end = corners[edge[mine]], corners[edge[mine] + 1]
        new = begin + share[mine, None] * (end - begin)
        new[:, :2] = xy[mine]
        kept = (new[:, :2] != begin[:, :2]).any(axis=1) & (new[:, :2] != end[:, :2]).any(axis=1)
        kept &= np.r_[True, (new[1:, :2] != new[:-1, :2]).any(axis=1)]
        course = np.insert(corners, edge[mine][kept] + 1, new[kept], axis=0)
        lines[line[mine[0]]] = _line(course, bool(one.has_z), bool(one.has_m))


@dataclass(frozen=True)
class _Ends:
    """Start and end of line n at 2 n and 2 n + 1, and whether lines are open."""

    xy: np.ndarray
    open: np.ndarray

    @classmethod
    def of(cls, lines: np.ndarray) -> _Ends:
        xy = np.empty((2 * len(lines), 2))
        xy[0::2] = shapely.get_coordinates(shapely.get_point(lines, 0)).reshape(-1, 2)
        xy[1::2] = shapely.get_coordinates(shapely.get_point(lines, -1)).reshape(-1, 2)
        return cls(xy, np.repeat((xy[0::2] != xy[1::2]).any(axis=1), 2))


def _loose(ends: _Ends, lines: np.ndarray, group: np.ndarray) -> np.ndarray:
    """Ends of open lines at which no other line of the group is."""
    asked = np.flatnonzero(ends.open)
    if not len(asked):
        return asked
    at, line = shapely.STRtree(lines).query(shapely.points(ends.xy[asked]), predicate="intersects")
    met = (line != asked[at] // 2) & (group[line] == group[asked[at] // 2])
    return np.setdiff1d(asked, asked[at[met]])


def _end_pairs(ends: _Ends, loose: np.ndarray, scale: np.ndarray, group: np.ndarray, reach: float) -> list[tuple[int, int, float]]:
    """Loose ends of two lines that are within reach of each other, the nearest first."""
    if len(loose) < 2:
        return []
    boxes = boxes_about(ends.xy[loose], scale, reach)
    a, b = shapely.STRtree(shapely.points(ends.xy[loose])).query(boxes, predicate="intersects")
    fits = (a < b) & (loose[a] // 2 != loose[b] // 2) & (group[loose[a] // 2] == group[loose[b] // 2])
    a, b = a[fits], b[fits]
    far = np.hypot(*((ends.xy[loose[a]] - ends.xy[loose[b]]) * scale[a]).T)
    order = np.lexsort((b, a, far))
    order = order[far[order] <= reach]
    return list(zip(loose[a[order]].tolist(), loose[b[order]].tolist(), far[order].tolist(), strict=True))


def _nearest_on(
    lines: np.ndarray, ends: _Ends, waiting: np.ndarray, group: np.ndarray, reach: float, metres_of: Callable[[np.ndarray], np.ndarray]
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Of ends that have another line within reach: the end, the line, the edge of it, the share of the edge, the place and how far."""
    none = np.empty(0, np.int64)
    if not len(waiting):
        return none, none, none, np.empty(0), np.empty((0, 2)), np.empty(0)
    scale = metres_of(ends.xy[waiting])
    boxes = boxes_about(ends.xy[waiting], scale, reach)
    near = np.unique(shapely.STRtree(lines).query(boxes)[1])
    edges = Edges.of(lines, near)
    at, edge = shapely.STRtree(edges.shapes()).query(boxes)
    fits = (edges.line[edge] != waiting[at] // 2) & (group[edges.line[edge]] == group[waiting[at] // 2])
    at, edge = at[fits], edge[fits]
    share = share_along(edges.begin[edge], edges.end[edge], ends.xy[waiting[at]], scale[at])
    xy = edges.begin[edge] + share[:, None] * (edges.end[edge] - edges.begin[edge])
    # an end of an edge is a corner of the line, to the last digit
    xy = np.where((share == 1)[:, None], edges.end[edge], xy)
    far = np.hypot(*((xy - ends.xy[waiting[at]]) * scale[at]).T)
    order = np.lexsort((edge, far, at))
    order = order[far[order] <= reach]
    order = order[np.unique(at[order], return_index=True)[1]]
    return waiting[at[order]], edges.line[edge[order]], edges.number[edge[order]], share[order], xy[order], far[order]


def _move(lines: np.ndarray, ends: _Ends, which: np.ndarray, xy: np.ndarray) -> None:
    """Bring ends to places, in the lines themselves; heights and measures stay."""
    for end, place in zip(which.tolist(), xy, strict=True):
        one = lines[end // 2]
        corners = shapely.get_coordinates(one, include_z=True, include_m=True)
        corners[-1 if end % 2 else 0, :2] = place
        lines[end // 2] = _line(corners, bool(one.has_z), bool(one.has_m))


def _line(corners: np.ndarray, tall: bool, with_m: bool) -> shapely.LineString:
    made = shapely.LineString(corners[:, : 3 if tall else 2])
    return measured(np.array([made], object), corners[:, 3])[0] if with_m else made


@dataclass(frozen=True)
class Crossings:
    """Where lines are to be cut, at how many places they meet, and how many pairs of lines lie on each other along a stretch."""

    cuts: Cuts
    places: int
    overlapping: int


def crossings(lines: np.ndarray, group: np.ndarray, copy_of: np.ndarray | None = None) -> Crossings:
    """Where lines of one group cross or touch each other, or themselves.

    Parameters
    ----------
    copy_of : behind the lines stand copies of some of them, at other places that are the same on the globe; of which line each is
        one. Where a line meets a copy it is cut; the copy itself is not.
    """
    copies = len(copy_of) if copy_of is not None else 0
    own_lines = len(lines) - copies
    same_line = np.concatenate([np.arange(own_lines), copy_of]) if copy_of is not None else np.arange(own_lines)
    tree = shapely.STRtree(lines)
    a, b = tree.query(lines, predicate="intersects")
    meet = (same_line[a] != same_line[b]) & (group[a] == group[b]) & ((a < own_lines) | (b < own_lines))
    wanted = np.union1d(a[meet], np.flatnonzero(~shapely.is_simple(lines)))
    edges = Edges.of(lines, wanted)
    shapes = edges.shapes()
    first, second = shapely.STRtree(shapes).query(shapes, predicate="intersects") if len(shapes) else (wanted[:0], wanted[:0])
    own = edges.line[first] == edges.line[second]
    copied = (edges.line >= own_lines)[first] & (edges.line >= own_lines)[second]
    itself = ~own & (same_line[edges.line[first]] == same_line[edges.line[second]])
    follows = own & (edges.end[first] == edges.begin[second]).all(axis=1)
    fits = (first < second) & ~copied & ~itself & (group[edges.line[first]] == group[edges.line[second]])
    # an edge and the next one of its line meet where they should; more than that is where the line turns back on itself
    back = np.zeros(len(first), bool)
    both = np.flatnonzero(fits & follows)
    back[both] = shapely.length(shapely.intersection(shapes[first[both]], shapes[second[both]])) > 0
    fits &= ~follows | back
    first, second = first[fits], second[fits]
    found = shapely.intersection(shapes[first], shapes[second])
    xy, pair = shapely.get_coordinates(found, return_index=True)
    along = np.unique(pair[np.flatnonzero(pair[1:] == pair[:-1])]) if len(pair) else pair
    lying = np.unique(np.sort(same_line[np.stack([edges.line[first[along]], edges.line[second[along]]], axis=1)], axis=1), axis=0)
    edge = np.concatenate([first[pair], second[pair]])
    xy = np.concatenate([xy, xy])
    cuts = Cuts(edges.line[edge], edges.number[edge], share_along(edges.begin[edge], edges.end[edge], xy), xy)
    mine = cuts.line < own_lines
    cuts = _at_one_place(Cuts(cuts.line[mine], cuts.edge[mine], cuts.share[mine], cuts.xy[mine]), lines)
    return Crossings(cuts, len(np.unique(cuts.xy, axis=0)), len(lying))


def _at_one_place(cuts: Cuts, lines: np.ndarray) -> Cuts:
    """Cuts whose places are one where only rounding keeps them apart: the place of a corner, where there is one."""
    if not len(cuts.line):
        return cuts
    places, of = np.unique(cuts.xy, axis=0, return_inverse=True)
    of = of.ravel()
    near = np.abs(places).max() * _SAME
    pairs = kd_tree(places).query_pairs(near, output_type="ndarray")
    if len(pairs):
        group = connected(pairs[:, 0], pairs[:, 1], len(places))
        corners = shapely.get_coordinates(lines[np.unique(cuts.line)])
        corner = np.isin(places[:, 0] + 1j * places[:, 1], corners[:, 0] + 1j * corners[:, 1])
        order = np.lexsort((~corner, group))
        first = order[np.unique(group[order], return_index=True)[1]]
        places = places[first[np.unique(group, return_inverse=True)[1]]]
    return Cuts(cuts.line, cuts.edge, cuts.share, places[of])


def cut(lines: np.ndarray, cuts: Cuts) -> tuple[np.ndarray, np.ndarray]:
    """Pieces of lines, and the line of each; heights and measures at a cut lie evenly between those of the corners on either side."""
    corners, line = shapely.get_coordinates(lines, include_z=True, include_m=True, return_index=True)
    starts = np.searchsorted(line, np.arange(len(lines) + 1))
    place = np.arange(len(corners)) - starts[line]
    begin, end = corners[starts[cuts.line] + cuts.edge], corners[starts[cuts.line] + cuts.edge + 1]
    at = begin + cuts.share[:, None] * (end - begin)
    at[:, :2] = cuts.xy
    share = np.where((cuts.xy == begin[:, :2]).all(axis=1), 0.0, np.where((cuts.xy == end[:, :2]).all(axis=1), 1.0, cuts.share))
    course = np.concatenate([corners, at])
    of, along = np.concatenate([line, cuts.line]), np.concatenate([place, cuts.edge + share])
    is_cut = np.r_[np.zeros(len(corners), bool), np.ones(len(at), bool)]
    # corners come before cuts at their own place, so that heights are those of the corner
    order = np.lexsort((is_cut, along, of))
    course, of, is_cut = course[order], of[order], is_cut[order]
    course, of, is_cut = _once_each(course, of, is_cut)
    first = np.r_[True, of[1:] != of[:-1]] if len(of) else is_cut
    last = np.r_[first[1:], True] if len(of) else is_cut
    is_cut &= ~first & ~last
    twice = 1 + is_cut
    begins = np.repeat(first, twice)
    begins[np.cumsum(twice)[is_cut] - 1] = True
    course, of = np.repeat(course, twice, axis=0), np.repeat(of, twice)
    piece = np.cumsum(begins) - 1
    owner = of[begins]
    out = np.full(len(owner), None, object)
    tall, with_m = shapely.has_z(lines)[owner], shapely.has_m(lines)[owner]
    for z in (False, True):
        for m in (False, True):
            wanted = np.flatnonzero((tall == z) & (with_m == m))
            if len(wanted):
                some = np.isin(piece, wanted)
                number = np.searchsorted(wanted, piece[some])
                made = np.asarray(shapely.linestrings(course[some][:, : 3 if z else 2], indices=number), object)
                out[wanted] = measured(made, course[some][:, 3]) if m else made
    return out, owner


def _once_each(course: np.ndarray, of: np.ndarray, is_cut: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Corners and cuts without those that are at the place of the one before them, where one of both is a cut: that place is cut."""
    same = np.r_[False, (of[1:] == of[:-1]) & (course[1:, :2] == course[:-1, :2]).all(axis=1)] if len(of) else is_cut
    run = np.cumsum(~same) - 1
    cut_there = np.zeros(int(run[-1]) + 1 if len(run) else 0, bool)
    cut_there[run[is_cut]] = True
    kept = ~same | ~cut_there[run]
    flagged = is_cut | (cut_there[run] & ~same)
    return course[kept], of[kept], flagged[kept]
