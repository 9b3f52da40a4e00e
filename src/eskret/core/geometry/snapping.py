"""Shapes brought onto others that they nearly meet: corners moved, and corners put in, so that edges become one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import shapely

from eskret.core.geometry.edges import Edges, boxes_about, share_along
from eskret.core.geometry.ordinates import measured
from eskret.core.geometry.parts import dimension, single_parts, together

_AT_ONCE = 100_000


@dataclass(frozen=True)
class Target:
    """What is moved onto: places of corners (n, 2) and edges, with their indices."""

    corners: np.ndarray
    edges: Edges
    corner_index: shapely.STRtree
    edge_index: shapely.STRtree

    @classmethod
    def of(cls, shapes: np.ndarray) -> Target:
        """The corners and edges of shapes; of areas those of all their rings."""
        parts, _ = single_parts(shapes)
        kind = dimension(parts)
        lines = np.concatenate([shapely.get_rings(parts[kind == 2]), parts[kind == 1]]).astype(object)
        corners = np.unique(shapely.get_coordinates(parts), axis=0)
        corners = corners[np.isfinite(corners).all(axis=1)]
        edges = Edges.of(lines, np.arange(len(lines)))
        found = cls(corners, edges, shapely.STRtree(np.asarray(shapely.points(corners))), shapely.STRtree(edges.shapes()))
        for index in (found.corner_index, found.edge_index):
            index.query(shapely.Point())  # builds it before threads ask
        return found


@dataclass(frozen=True)
class Snapped:
    """Shapes; of each how many corners were ``moved`` and ``added``, and the longest way of one (``metres``); which came to ``nothing``
    or crossed themselves (``broken``) and stayed as they were."""

    shapes: np.ndarray
    moved: np.ndarray
    added: np.ndarray
    metres: np.ndarray
    nothing: np.ndarray
    broken: np.ndarray


def snap(shapes: np.ndarray, target: Target, reach: float, metres_of: Callable[[np.ndarray], np.ndarray], onto: str, add: bool) -> Snapped:
    """Move corners to the nearest corner within reach, or else to the nearest place on an edge.

    Parameters
    ----------
    shapes : array of shapely geometry; null stays null.
    reach : in metres.
    metres_of : metres (n, 2) that one unit of x and of y is long at places (n, 2).
    onto : ``corners``, ``edges`` or ``both``.
    add : whether corners are put into edges where a corner of the others is within reach of them.
    """
    count = len(shapes)
    out = np.array(shapes, object)
    moved, added, metres = np.zeros(count, np.int64), np.zeros(count, np.int64), np.zeros(count)
    nothing = np.zeros(count, bool)
    tall, with_m = shapely.has_z(out), shapely.has_m(out)
    there = ~shapely.is_missing(out) & ~shapely.is_empty(out)
    for z in (False, True):
        for m in (False, True):
            rows = np.flatnonzero(there & (tall == z) & (with_m == m))
            if len(rows):
                made = _Work(out[rows], z, m, target, reach, metres_of).done(onto, add)
                out[rows], moved[rows], added[rows], metres[rows], nothing[rows] = made
    touched = np.flatnonzero(there & ~nothing & ((moved > 0) | (added > 0)))
    broken = np.zeros(count, bool)
    broken[touched] = ~shapely.is_valid(out[touched]) & shapely.is_valid(np.asarray(shapes, object)[touched])
    back = nothing | broken
    out[back] = np.asarray(shapes, object)[back]
    moved[back], added[back], metres[back] = 0, 0, 0.0
    return Snapped(out, moved, added, metres, nothing, broken)


class _Work:
    """The corners of shapes that all have heights, or none, and all measures, or none, ring by ring and line by line."""

    def __init__(
        self, shapes: np.ndarray, tall: bool, with_m: bool, target: Target, reach: float, metres_of: Callable[[np.ndarray], np.ndarray]
    ) -> None:
        self.shapes, self.tall, self.with_m = shapes, tall, with_m
        self.target, self.reach, self.metres_of = target, reach, metres_of
        self.parts, self.owner = single_parts(shapes)
        self.kind = dimension(self.parts)
        rings, self.ring_of = shapely.get_rings(self.parts, return_index=True)
        lines = np.flatnonzero(self.kind == 1)
        dots = np.flatnonzero(self.kind == 0)
        self.part_of = np.concatenate([self.ring_of, lines, dots])
        pieces = np.concatenate([rings, self.parts[lines], self.parts[dots]])
        self.is_ring = np.arange(len(pieces)) < len(rings)
        self.course, self.piece = shapely.get_coordinates(pieces, include_z=True, include_m=True, return_index=True)

    def done(self, onto: str, add: bool) -> tuple[np.ndarray, ...]:
        """The shapes, and of each how many corners moved and came, the longest way, and whether a part of it came to nothing."""
        far = self._move(onto)
        hit = ~np.isnan(far) & (far > 0)
        row = self.owner[self.part_of[self.piece]]
        # a ring ends where it begins, which is one corner
        closing = self.is_ring[self.piece] & np.r_[self.piece[1:] != self.piece[:-1], True]
        moved = np.bincount(row[hit & ~closing], minlength=len(self.shapes))
        metres = np.zeros(len(self.shapes))
        np.maximum.at(metres, row[hit], far[hit])
        added = np.zeros(len(self.shapes), np.int64)
        self._drop_repeats(hit)
        if add and onto != "edges":
            added = self._add()
        size = np.bincount(self.piece, minlength=len(self.part_of))
        lost = size < np.where(self.is_ring, 4, np.where(self.kind[self.part_of] == 1, 2, 1))
        nothing = np.zeros(len(self.shapes), bool)
        nothing[self.owner[self.part_of[lost]]] = True
        return self._built(nothing), moved, added, metres, nothing

    def _move(self, onto: str) -> np.ndarray:
        """Moves corners; how far each went (metres, NaN where nothing is near)."""
        places, of = np.unique(self.course[:, :2], axis=0, return_inverse=True)
        to, far = places.copy(), np.full(len(places), np.nan)
        for start in range(0, len(places), _AT_ONCE):
            some = slice(start, start + _AT_ONCE)
            to[some], far[some] = self._nearest(places[some], onto)
        self.course[:, :2] = to[of.ravel()]
        return far[of.ravel()]

    def _nearest(self, xy: np.ndarray, onto: str) -> tuple[np.ndarray, np.ndarray]:
        to, far = xy.copy(), np.full(len(xy), np.nan)
        finite = np.isfinite(xy).all(axis=1)
        scale = np.ones_like(xy)
        scale[finite] = self.metres_of(xy[finite])
        boxes = boxes_about(np.where(finite[:, None], xy, 1e300), scale, self.reach)
        if onto != "edges":
            at, other = self.target.corner_index.query(boxes)
            self._take(xy, scale, at, self.target.corners[other], to, far)
        if onto != "corners":
            at, edge = self.target.edge_index.query(boxes)
            begin, end = self.target.edges.begin[edge], self.target.edges.end[edge]
            share = share_along(begin, end, xy[at], scale[at])
            place = np.where((share == 1)[:, None], end, begin + share[:, None] * (end - begin))
            self._take(xy, scale, at, place, to, far)
        return to, far

    def _take(self, xy: np.ndarray, scale: np.ndarray, at: np.ndarray, place: np.ndarray, to: np.ndarray, far: np.ndarray) -> None:
        """Takes the nearest place within reach for those that have none yet."""
        away = np.hypot(*((place - xy[at]) * scale[at]).T)
        fits = np.flatnonzero((away <= self.reach) & np.isnan(far[at]))
        order = fits[np.lexsort((place[fits, 1], place[fits, 0], away[fits], at[fits]))]
        first = order[np.unique(at[order], return_index=True)[1]]
        to[at[first]], far[at[first]] = place[first], away[first]

    def _drop_repeats(self, hit: np.ndarray) -> None:
        """Leaves out corners that came to the place of the one before them."""
        same = (self.piece[1:] == self.piece[:-1]) & (self.course[1:, :2] == self.course[:-1, :2]).all(axis=1)
        gone = np.r_[False, same & (hit[1:] | hit[:-1])] if len(hit) else hit
        self.course, self.piece = self.course[~gone], self.piece[~gone]

    def _add(self) -> np.ndarray:
        """Puts corners of the others into edges that pass them within reach; how many came into each shape."""
        at = np.flatnonzero((self.piece[1:] == self.piece[:-1]) & (self.course[1:, :2] != self.course[:-1, :2]).any(axis=1))
        begin, end = self.course[at, :2], self.course[at + 1, :2]
        scale = self.metres_of((begin + end) / 2) if len(at) else np.empty((0, 2))
        lines = np.asarray(shapely.linestrings(np.stack([begin, end], axis=1)), object) if len(at) else np.empty(0, object)
        limit = self.reach / scale.min(axis=1) if len(at) else np.empty(0)
        edge, corner = self.target.corner_index.query(lines, predicate="dwithin", distance=limit) if len(at) else (at, at)
        place = self.target.corners[corner]
        share = share_along(begin[edge], end[edge], place, scale[edge])
        foot = begin[edge] + share[:, None] * (end[edge] - begin[edge])
        away = np.hypot(*((foot - place) * scale[edge]).T)
        fits = (share > 0) & (share < 1) & (away <= self.reach)
        # each once in a line or ring, where it is nearest, and not where it is a corner already
        fits &= ~_among(self.piece[at[edge]], place, self.piece, self.course[:, :2])
        chosen = np.flatnonzero(fits)
        order = chosen[np.lexsort((share[chosen], away[chosen], corner[chosen], self.piece[at[edge[chosen]]]))]
        pair = np.stack([self.piece[at[edge[order]]], corner[order]], axis=1)
        order = order[np.unique(pair, axis=0, return_index=True)[1]] if len(order) else order
        before = at[edge[order]]
        new = self.course[before] + share[order, None] * (self.course[before + 1] - self.course[before])
        new[:, :2] = place[order]
        along = np.concatenate([np.arange(len(self.course), dtype=float), before + share[order]])
        course, piece = np.concatenate([self.course, new]), np.concatenate([self.piece, self.piece[before]])
        rows = self.owner[self.part_of[self.piece[before]]]
        final = np.argsort(along, kind="stable")
        self.course, self.piece = course[final], piece[final]
        return np.bincount(rows, minlength=len(self.shapes))

    def _built(self, nothing: np.ndarray) -> np.ndarray:
        """The shapes of their corners, but for those that come to nothing."""
        kept = ~nothing[self.owner[self.part_of]]
        new = np.full(len(self.parts), None, object)
        for kind, make in ((1, shapely.linestrings), (0, shapely.points), (2, shapely.linearrings)):
            wanted = np.flatnonzero(kept & (self.kind[self.part_of] == kind))
            if not len(wanted):
                continue
            some = np.isin(self.piece, wanted)
            corners, number = self.course[some][:, : 3 if self.tall else 2], np.searchsorted(wanted, self.piece[some])
            made = np.asarray(make(corners) if kind == 0 else make(corners, indices=number), object)
            parts, place = np.unique(self.part_of[wanted], return_inverse=True)
            new[parts] = shapely.polygons(made, indices=place) if kind == 2 else made
        there = ~shapely.is_missing(new)
        wanted_kind = dimension(self.shapes)
        out = together(new[there], self.owner[there], len(self.shapes), wanted_kind)
        several = np.isin(shapely.get_type_id(self.shapes), (4, 5, 6)) & np.isin(shapely.get_type_id(out), (0, 1, 3))
        starts = np.searchsorted(self.owner, np.arange(len(self.shapes) + 1))
        for n in np.flatnonzero(~nothing & (several | (wanted_kind == -2))).tolist():
            # a multiple of one part stays one, a collection a collection
            some = new[starts[n] : starts[n + 1]]
            out[n] = shapely.geometrycollections(some) if wanted_kind[n] == -2 else _MULTIPLE[int(wanted_kind[n])](some)
        return self._measured(out) if self.with_m else out

    def _measured(self, out: np.ndarray) -> np.ndarray:
        """With the measures of their corners."""
        order = np.lexsort((np.arange(len(self.part_of)), self.part_of))  # as the library counts them: part by part
        starts, stops = (np.searchsorted(self.piece, order, side=s) for s in ("left", "right"))
        there = ~shapely.is_missing(out)
        wanted = there[self.owner[self.part_of[order]]]
        values = [self.course[a:b, 3] for a, b in zip(starts[wanted].tolist(), stops[wanted].tolist(), strict=True)]
        done = np.array(out, object)
        done[there] = measured(out[there], np.concatenate(values)) if values else out[there]
        return done


_MULTIPLE = (shapely.multipoints, shapely.multilinestrings, shapely.multipolygons)


def _among(piece: np.ndarray, xy: np.ndarray, pieces: np.ndarray, places: np.ndarray) -> np.ndarray:
    """Whether each place, of a line or ring, is among those of the same line or ring (bool)."""
    number = np.unique(np.concatenate([xy, places]), axis=0, return_inverse=True)[1].ravel()
    key = np.concatenate([piece, pieces]) * (len(number) + 1) + number
    return np.isin(key[: len(piece)], key[len(piece) :])
