"""Two layers laid over each other: which features meet, what they have in common, what is left of each."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely

from eskret.core.geometry.globe.meeting import with_poles, with_seam
from eskret.core.geometry.ordinates import with_measures
from eskret.core.geometry.parallel import ThreadLocalPrepared, Watch, in_chunks, is_nonempty, runs
from eskret.core.geometry.parts import dimension, of_dimension

_PIECE = 2_000
# predicates of the library's index that a join by place asks for
Meeting = Literal["intersects", "within", "contains", "covered_by", "touches", "crosses", "overlaps"]


@dataclass(frozen=True)
class Pieces:
    """What features have in common: ``piece`` of the feature ``left`` with ``right`` (positions, int64), of the left one's
    dimension. In the order of ``left``, then ``right``."""

    left: np.ndarray
    right: np.ndarray
    piece: np.ndarray


def meeting(
    left: np.ndarray,
    right: np.ndarray,
    watch: Watch | None = None,
    *,
    relation: Meeting = "intersects",
    globe: bool = False,
    index: shapely.STRtree | None = None,
) -> tuple[np.ndarray, np.ndarray]:
    """Positions (int64) of the features of both sides that meet or touch, by left and then right.

    Parameters
    ----------
    relation : what ``left`` must be to ``right``, if not that: a predicate of the library's index.
    globe : whether coordinates are degrees, of which 180 and -180 are one meridian.
    index : of ``right``, where there is one already.
    """
    tree = shapely.STRtree(right) if index is None else index
    tree.query(shapely.Point())  # builds it before threads ask

    # the tree asks "left relation right" of those whose boxes meet
    def some(start: int, stop: int) -> np.ndarray:
        found = tree.query(left[start:stop], predicate=relation)
        return np.stack([found[0] + start, found[1]])

    found = in_chunks(some, len(left), watch)
    both = np.concatenate(found, axis=1).astype(np.int64) if found else np.empty((2, 0), np.int64)
    if globe:
        met = with_seam(both, left, right, lambda a, b: shapely.STRtree(b).query(a, predicate=relation))
        return with_poles(met, left, right) if relation == "intersects" else met
    order = np.lexsort((both[1], both[0]))
    return both[0][order], both[1][order]


def common(left: np.ndarray, right: np.ndarray, watch: Watch | None = None, index: shapely.STRtree | None = None) -> Pieces:
    """What features of both sides have in common; what only touches has nothing. Both must be valid."""
    a, b = meeting(left, right, watch, index=index)
    out = np.full(len(a), None, object)
    by_right = np.argsort(b, kind="stable")
    asked, which = np.unique(b, return_inverse=True)
    prepared = ThreadLocalPrepared(right[asked])
    # one that lies wholly in the other is the piece itself: only the rest is cut
    within = np.zeros(len(a), bool)
    begins, ends = runs(b[by_right])

    def ask(start: int, stop: int) -> None:
        for k in range(start, stop):
            at = by_right[begins[k] : ends[k]]
            within[at] = shapely.covers(prepared.shapes[which[at[0]]], left[a[at]])

    in_chunks(ask, len(begins), watch, max(1, len(begins) // 16))
    out[within] = left[a[within]]
    cut = np.flatnonzero(~within)
    wanted = dimension(left)

    def divide(start: int, stop: int) -> None:
        at = cut[start:stop]
        out[at] = of_dimension(with_measures(shapely.intersection, left[a[at]], right[b[at]]), wanted[a[at]])

    in_chunks(divide, len(cut), watch, _PIECE)
    there = is_nonempty(out)
    return Pieces(a[there], b[there], out[there])


def remains(left: np.ndarray, right: np.ndarray, found: Pieces, watch: Watch | None = None) -> np.ndarray:
    """What is left of each feature without all those it has something in common with; null for nothing."""
    out = np.where(is_nonempty(left), left, np.full(len(left), None, object))
    begins, ends = runs(found.left)
    wanted = dimension(left)

    def work(start: int, stop: int) -> None:
        for k in range(start, stop):
            row = found.left[begins[k]]
            others = right[found.right[begins[k] : ends[k]]]
            if ends[k] - begins[k] == 1 and found.piece[begins[k]] is left[row]:
                out[row] = None
                continue
            whole = others[0] if len(others) == 1 else shapely.union_all(others)
            rest = with_measures(shapely.difference, left[[row]], np.array([whole], object))
            out[row] = of_dimension(rest, wanted[[row]])[0]

    in_chunks(work, len(begins), watch, 500)
    return out
