"""Two layers laid over each other, against every pair asked one by one."""

from __future__ import annotations

import numpy as np
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.geometry.overlay import common, meeting, remains

box = st.builds(lambda x, y, w, h: shapely.box(x, y, x + w, y + h), *[st.integers(0, 12)] * 2, *[st.integers(1, 6)] * 2)
line = st.builds(lambda x, y, dx, dy: shapely.LineString([(x, y), (x + dx, y + dy)]), *[st.integers(0, 12)] * 2, *[st.integers(1, 6)] * 2)
point = st.builds(shapely.Point, st.integers(0, 12), st.integers(0, 12))


def array(shapes: list) -> np.ndarray:
    return np.array([*shapes, None], object)[:-1]


@given(st.lists(st.one_of(box, line, point, st.none()), max_size=6), st.lists(box, max_size=6))
def test_pairs_pieces_and_what_is_left_are_those_of_every_pair(left: list, right: list) -> None:
    a, b = array(left), array(right)
    rows, others = meeting(a, b)
    every = [(i, j) for i, x in enumerate(left) for j, y in enumerate(right) if x is not None and x.intersects(y)]
    assert list(zip(rows.tolist(), others.tolist(), strict=True)) == every
    found = common(a, b)
    wanted = {}
    for i, j in every:
        piece = left[i].intersection(right[j])
        parts = [p for p in getattr(piece, "geoms", [piece]) if shapely.get_dimensions(p) == shapely.get_dimensions(left[i])]
        if parts and not piece.is_empty:
            wanted[i, j] = shapely.union_all(parts)
    pairs = list(zip(found.left.tolist(), found.right.tolist(), strict=True))
    assert pairs == sorted(wanted), "what only touches has nothing in common"
    assert all(shapely.equals(p, wanted[k]) for p, k in zip(found.piece, pairs, strict=True))
    rest = remains(a, b, found)
    for i, shape in enumerate(left):
        if shape is None:
            assert rest[i] is None
            continue
        cut = [right[j] for k, j in pairs if k == i]
        expected = shape.difference(shapely.union_all(cut)) if cut else shape
        if rest[i] is None:
            assert expected.is_empty or expected.length + expected.area < 1e-9
        else:
            assert shapely.equals(rest[i], expected) or shapely.symmetric_difference(rest[i], expected).area < 1e-9


def test_heights_stay_with_the_pieces() -> None:
    left = array([shapely.LineString([(0, 0, 5), (10, 0, 15)])])
    (piece,) = common(left, array([shapely.box(4, -1, 6, 1)])).piece
    assert sorted(piece.coords) == [(4, 0, 9), (6, 0, 11)]


def test_one_is_told_how_far_it_is_and_nothing_meets_nothing() -> None:
    told: list[tuple[int, int]] = []
    squares = array([shapely.box(i, 0, i + 1, 1) for i in range(5000)])
    rows, _ = meeting(squares, squares, lambda done, of: told.append((done, of)))
    assert len(rows) == 3 * 5000 - 2 and told[-1][0] == told[-1][1] == 5000
    assert len(common(squares[:0], squares).piece) == 0 and len(common(squares, squares[:0]).piece) == 0
