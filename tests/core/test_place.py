"""Relations of place against OGC 06-103r4 (DE-9IM), and against asking every pair."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from shapely import LineString, MultiPolygon, Point, Polygon, box

from eskret.core.geometry.predicates import Predicate, matches_predicate, near, points_match
from eskret.errors import StoppedError
from tests.exact import STANDARD, same

# The pattern a relation needs in the DE-9IM matrix of (feature, other), as OGC 06-103r4, section 6.1.15.3 has them;
# crosses and overlaps depend on the dimensions.
AREA = box(0, 0, 10, 10)
CASES = [
    # feature, other, the relations that hold
    (Point(5, 5), AREA, {"intersects", "within"}),
    (Point(0, 5), AREA, {"intersects", "touches"}),
    (Point(20, 5), AREA, {"disjoint"}),
    (box(2, 2, 4, 4), AREA, {"intersects", "within"}),
    (box(0, 0, 4, 4), AREA, {"intersects", "within"}),
    (AREA, box(2, 2, 4, 4), {"intersects", "contains"}),
    (AREA, box(0, 0, 10, 10), {"intersects", "within", "contains", "equals"}),
    (AREA, Polygon([(10, 10), (10, 0), (5, 0), (0, 0), (0, 10)]), {"intersects", "within", "contains", "equals"}),
    (box(10, 0, 20, 10), AREA, {"intersects", "touches"}),
    (box(10, 10, 20, 20), AREA, {"intersects", "touches"}),
    (box(5, 5, 15, 15), AREA, {"intersects", "overlaps"}),
    (box(11, 0, 20, 10), AREA, {"disjoint"}),
    (LineString([(-5, 5), (15, 5)]), AREA, {"intersects", "crosses"}),
    (LineString([(2, 2), (8, 8)]), AREA, {"intersects", "within"}),
    (LineString([(0, 0), (10, 0)]), AREA, {"intersects", "touches"}),
    (LineString([(0, 0), (0, 10)]), LineString([(-5, 5), (5, 5)]), {"intersects", "crosses"}),
    (LineString([(0, 0), (10, 0)]), LineString([(5, 0), (15, 0)]), {"intersects", "overlaps"}),
    (LineString([(0, 0), (10, 0)]), LineString([(10, 0), (20, 5)]), {"intersects", "touches"}),
    (Point(5, 0), LineString([(0, 0), (10, 0)]), {"intersects", "within"}),
    (Point(0, 0), LineString([(0, 0), (10, 0)]), {"intersects", "touches"}),
    (Point(3, 3), Point(3, 3), {"intersects", "within", "contains", "equals"}),
]


@pytest.mark.parametrize(("feature", "other", "expected"), CASES)
def test_the_truth_table_of_the_standard(feature: shapely.Geometry, other: shapely.Geometry, expected: set[str]) -> None:
    found = {str(r) for r in Predicate if matches_predicate(np.array([feature], object), np.array([other], object), r)[0]}
    same("keep_by_place", STANDARD, found, expected)


def test_the_edge_belongs_to_it_only_where_asked() -> None:
    on_edge, inside = np.array([Point(0, 5), box(0, 0, 4, 4)], object), np.array([AREA], object)
    assert matches_predicate(on_edge, inside, Predicate.WITHIN).tolist() == [False, True]
    assert matches_predicate(on_edge, inside, Predicate.WITHIN, edge=True).tolist() == [True, True]
    assert matches_predicate(inside, np.array([Point(0, 5)], object), Predicate.CONTAINS).tolist() == [False]
    assert matches_predicate(inside, np.array([Point(0, 5)], object), Predicate.CONTAINS, edge=True).tolist() == [True]


def test_null_and_empty_hold_nothing_and_are_passed_over() -> None:
    odd = np.array([None, Point(), Point(5, 5)], object)
    assert matches_predicate(odd, np.array([None, Polygon(), AREA], object), Predicate.INTERSECTS).tolist() == [False, False, True]
    assert matches_predicate(odd, np.array([None], object), Predicate.DISJOINT).tolist() == [False, False, True]
    assert near(odd, np.array([AREA], object), 1e9).tolist() == [False, False, True]
    assert matches_predicate(np.empty(0, object), odd, Predicate.WITHIN).tolist() == []


coordinates = st.integers(0, 12).map(float)
shapes = st.one_of(
    st.builds(Point, coordinates, coordinates),
    st.builds(lambda x, y, w, h: box(x, y, x + w, y + h), coordinates, coordinates, st.integers(1, 6), st.integers(1, 6)),
    st.builds(lambda a, b, c, d: LineString([(a, b), (c + 0.5, d)]), *[coordinates] * 4),
)


@given(st.lists(shapes, max_size=25), st.lists(shapes, min_size=1, max_size=14), st.sampled_from(list(Predicate)))
def test_the_index_changes_nothing(features: list, others: list, relation: Predicate) -> None:
    """With few others each is asked by its box, with many a tree is: both say what asking every pair says."""
    geometry, other = np.array([*features, None], object)[:-1], np.array([*others, None], object)[:-1]
    every = np.array([[getattr(f, str(relation))(o) for o in others] for f in features], bool).reshape(len(features), len(others))
    expected = every.all(axis=1) if relation is Predicate.DISJOINT else every.any(axis=1)
    assert matches_predicate(geometry, other, relation).tolist() == expected.tolist()


@given(st.lists(shapes, max_size=25), st.lists(shapes, min_size=1, max_size=14), st.integers(0, 6))
def test_near_is_what_the_distance_says(features: list, others: list, reach: int) -> None:
    geometry, other = np.array([*features, None], object)[:-1], np.array([*others, None], object)[:-1]
    expected = [min(f.distance(o) for o in others) <= reach for f in features]
    assert near(geometry, other, float(reach)).tolist() == expected


def test_exactly_that_far_still_counts() -> None:
    assert near(np.array([Point(13, 0), Point(13.001, 0)], object), np.array([box(0, 0, 10, 10)], object), 3.0).tolist() == [True, False]


def test_a_multipart_other_counts_as_one() -> None:
    two = MultiPolygon([box(0, 0, 5, 10), box(5, 0, 10, 10).buffer(-0.0)])
    across = np.array([box(4, 4, 6, 6)], object)
    halves = np.array([box(0, 0, 5, 10), box(5, 0, 10, 10)], object)
    assert matches_predicate(across, halves, Predicate.WITHIN).tolist() == [False]
    assert matches_predicate(across, np.array([shapely.union_all(halves)], object), Predicate.WITHIN).tolist() == [True]
    assert matches_predicate(across, np.array([shapely.make_valid(two)], object), Predicate.INTERSECTS).tolist() == [True]


def test_stop_is_heard_between_chunks() -> None:
    seen = []

    def watch(done: int, of: int) -> None:
        seen.append((done, of))
        raise StoppedError

    many = shapely.points(np.random.default_rng(1).uniform(0, 10, (60_000, 2)))
    with pytest.raises(StoppedError):
        matches_predicate(many, np.array([AREA], object), Predicate.WITHIN, watch=watch)
    assert seen == [(20_000, 60_000)]


def test_many_points_are_told_by_cells_as_they_would_be_one_by_one() -> None:
    """An area with holes and a long edge, and points right on its vertices and on the borders of the cells."""
    rng = np.random.default_rng(5)
    angle = np.linspace(0, 2 * np.pi, 400, endpoint=False)
    radius = 40 + 8 * np.sin(7 * angle)
    area = Polygon(np.column_stack([50 + radius * np.cos(angle), 50 + radius * np.sin(angle)]), [box(45, 45, 55, 52).exterior])
    west, south, east, north = area.bounds
    borders = np.array([(west + (east - west) / 64 * n, south + (north - south) / 64 * m) for n in range(65) for m in range(65)])
    xy = np.vstack([rng.uniform(0, 100, (60_000, 2)), shapely.get_coordinates(area), borders])
    for edge in (True, False):
        test = shapely.intersects_xy if edge else shapely.contains_xy
        assert points_match(xy, np.array([area], object), Predicate.WITHIN, edge=edge).tolist() == test(area, *xy.T).tolist()
