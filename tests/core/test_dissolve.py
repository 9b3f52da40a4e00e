"""Joining areas that lie on each other: what they cover more than once, told without their union, against a count of faces."""

from __future__ import annotations

import numpy as np
import pytest
import shapely

from eskret.core.geometry.dissolve import dissolve


def faces_of(areas: np.ndarray) -> tuple[float, float]:
    """The area that is covered, and what is covered more than once, each time but the first: face by face (common practice)."""
    faces = shapely.get_parts(shapely.polygonize([shapely.union_all(shapely.boundary(areas))]))
    face, _ = shapely.STRtree(areas).query(shapely.point_on_surface(faces), predicate="intersects")
    times = np.bincount(face, minlength=len(faces))
    return float(shapely.area(faces[times > 0]).sum()), float((shapely.area(faces) * np.maximum(times - 1, 0)).sum())


@pytest.mark.parametrize(("count", "side"), [(3, 100), (63, 900), (64, 900), (300, 900), (300, 9000)])
def test_what_lies_on_each_other_is_counted_as_faces_are(count: int, side: float) -> None:
    chance = np.random.default_rng(count)
    circles = shapely.buffer(shapely.points(chance.uniform(0, side, (count, 2))), chance.uniform(40, 160, count))
    made = dissolve(circles, lambda g: np.arange(count), 1)
    covered, twice = faces_of(circles)
    assert made.geometry[0].is_valid and made.geometry[0].equals(shapely.union_all(circles))
    assert made.geometry[0].area == pytest.approx(covered, rel=1e-11)
    assert made.overlap.tolist() == pytest.approx([twice], rel=1e-9) and made.overlapping.tolist() == [0]


def test_a_few_that_lie_on_others_are_found_among_many_that_share_edges() -> None:
    """The look at a few of them misses these; what comes of joining their edges does not."""
    col, row = (a.ravel() for a in np.mgrid[0:40, 0:40])
    squares = shapely.box(col, row, col + 1, row + 1)
    squares[7] = shapely.box(col[7], row[7], col[7] + 1.5, row[7] + 1)
    made = dissolve(squares, lambda g: np.arange(len(squares)), 1)
    assert made.overlap.tolist() == pytest.approx([0.5]) and made.geometry[0].area == pytest.approx(1600)
    squares[7] = shapely.box(col[7], row[7], col[7] + 1, row[7] + 1)
    assert not len(dissolve(squares, lambda g: np.arange(len(squares)), 1).overlap)


@pytest.mark.parametrize("count", [1, 2, 40, 100])
def test_what_only_touches_overlaps_nothing_beside_a_line(count: int) -> None:
    """Not by a rounding error either, which would be told as features that lie on each other."""
    edges = np.cumsum(np.random.default_rng(count).uniform(0.1, 0.9, count + 1)) * 1000 / 7 + 4e6
    areas = shapely.box(edges[:-1], 5e6 / 3, edges[1:], 5.1e6 / 3)
    members = np.array([*areas, shapely.LineString([(0, 0), (9, 9)])], object)
    made = dissolve(members, lambda g: np.arange(len(members)), 1)
    assert not len(made.overlapping) and not np.isnan(made.overlap).any()
    turned = shapely.transform(areas, lambda xy: xy @ np.array([[0.8, 0.6], [-0.6, 0.8]]))
    members = np.array([*turned, shapely.LineString([(0, 0), (9, 9)])], object)
    assert not len(dissolve(members, lambda g: np.arange(len(members)), 1).overlapping)
