"""Lines turned, made longer, drawn beside, cut where they cross: against GeographicLib (Karney, 2013), GEOS' own noding, and by hand."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
import shapely
from geographiclib.geodesic import Geodesic
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.geometry import crossings as crossing
from eskret.errors import AccountError
from eskret.operations.shape import extend_lines, reverse_lines
from tests.operations.helpers import E, N, aside, do, layer_of, refused, rows, said

GRID = st.tuples(st.integers(0, 12), st.integers(0, 12))
COURSE = st.lists(GRID, min_size=2, max_size=6).filter(lambda c: len(set(c)) > 1)


def line(*places: tuple[float, ...]) -> shapely.LineString:
    return shapely.LineString([(E + p[0], N + p[1], *p[2:]) for p in places])


def corners(shape: shapely.Geometry) -> list[tuple[float, ...]]:
    return [tuple(c) for c in (shapely.get_coordinates(shape) - [E, N]).round(6).tolist()]


# -- turned


@given(courses=st.lists(COURSE, min_size=1, max_size=4))
def test_turned_twice_a_line_is_as_it_was(courses: list[list[tuple[int, int]]]) -> None:
    shapes = [*(line(*c) for c in courses), shapely.MultiLineString([line(*c) for c in courses]), None]
    layer = layer_of(shapes)
    (once,) = do("reverse_lines", layer).layers
    (twice,) = do("reverse_lines", once).layers
    assert [None if s is None else s.wkb for s in twice.geometry] == [None if s is None else s.wkb for s in shapes]
    assert corners(once.geometry[-2]) == corners(shapes[-2])[::-1]


def test_only_lines_for_which_a_condition_holds_are_turned_and_heights_stay_with_their_corners() -> None:
    layer = layer_of([line((0, 0, 5), (9, 0, 7)), line((0, 0, 5), (9, 0, 7)), line((0, 0), (9, 0))], up=pa.array([True, False, None]))
    outcome = do("reverse_lines", layer, where="up")
    assert [shapely.get_coordinates(g, include_z=True)[0, 2] for g in outcome.layers[0].geometry[:2]] == [7, 5]
    assert "1 line turned" in said(outcome) and "1 could not be told" in said(outcome)
    assert "only lines have a direction" in refused("reverse_lines", layer_of([shapely.Point(E, N)]))


def test_a_line_that_was_not_turned_is_not_balanced(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reverse_lines, "_turned", lambda lines: lines)
    with pytest.raises(AccountError, match="begin where they ended"):
        do("reverse_lines", layer_of([line((0, 0), (9, 0))]))


# -- made longer


@given(course=COURSE, by=st.sampled_from([3.0, 250.0]), ends=st.sampled_from(["both", "start", "end"]))
def test_a_line_goes_straight_on(course: list[tuple[int, int]], by: float, ends: str) -> None:
    before = line(*course)
    if before.is_closed:
        outcome = do("extend_lines", layer_of([before]), by=f"{by} m", ends=ends)
        assert outcome.layers[0].geometry[0] == before and "closed" in said(outcome)
        return
    (made,) = do("extend_lines", layer_of([before]), by=f"{by} m", ends=ends).layers
    now = made.geometry[0]
    assert now.length == pytest.approx(before.length + by * (2 if ends == "both" else 1), rel=1e-9)
    assert shapely.equals_exact(shapely.line_merge(now.intersection(before)), shapely.line_merge(before.intersection(before)), 1e-6) or (
        shapely.covers(now.buffer(1e-6), before)
    )
    for at_end, wanted in ((False, ends != "end"), (True, ends != "start")):
        xy, old = shapely.get_coordinates(now), shapely.get_coordinates(before)
        if wanted:
            tip, hinge = (xy[-1], xy[-2]) if at_end else (xy[0], xy[1])
            other = next(p for p in (old[::-1] if at_end else old) if tuple(p) != tuple(old[-1 if at_end else 0]))
            a, b = tip - hinge, hinge - other
            assert a @ b == pytest.approx(np.hypot(*a) * np.hypot(*b), rel=1e-9)


@pytest.mark.parametrize("place", [(-9.0, 38.0), (179.99, -17.0), (20.0, 80.0)])
def test_in_degrees_a_line_goes_on_along_the_geodesic(place: tuple[float, float]) -> None:
    lon, lat = place
    layer = layer_of([shapely.LineString([place, (lon + 0.005, lat + 0.003)])], crs="EPSG:4326")
    outcome = do("extend_lines", layer, by="5 km", ends="end")
    tip = shapely.get_coordinates(outcome.layers[0].geometry[0])[-1]
    course = Geodesic.WGS84.Inverse(lat, lon, lat + 0.003, lon + 0.005)
    theirs = Geodesic.WGS84.Direct(lat + 0.003, lon + 0.005, course["azi2"], 5000)
    assert tip == pytest.approx([theirs["lon2"], theirs["lat2"]], abs=1e-9)
    assert ("across 180 degrees" in said(outcome)) == (lon > 170)


def test_heights_go_on_level_and_measures_evenly() -> None:
    rising = shapely.from_wkt(f"LINESTRING ZM ({E} {N} 1 10, {E + 10} {N} 3 20, {E + 10} {N} 4 20)")
    (made,) = do("extend_lines", layer_of([rising]), by="5 m").layers
    found = shapely.get_coordinates(made.geometry[0], include_z=True, include_m=True) - [E, N, 0, 0]
    assert found[[0, -1]].tolist() == [[-5, 0, 1, 5], [15, 0, 4, 25]]


def test_a_length_that_was_not_added_is_not_balanced(monkeypatch: pytest.MonkeyPatch) -> None:
    real = extend_lines._further
    monkeypatch.setattr(extend_lines, "_further", lambda before, end, metres, *a: real(before, end, metres * 0.9, *a))
    with pytest.raises(AccountError, match="length that was added"):
        do("extend_lines", layer_of([line((0, 0), (9, 0))]), by="10 m")


# -- beside


WIDE = st.lists(st.tuples(st.integers(0, 300), st.integers(0, 300)), min_size=2, max_size=6, unique=True)


@given(course=WIDE, side=st.sampled_from(["left", "right"]))
def test_what_is_beside_a_line_is_at_the_distance_on_its_side(course: list[tuple[int, int]], side: str) -> None:
    before = line(*course)
    outcome = do("offset_lines", layer_of([before]), distance="4 m", side=side)
    found = outcome.layers[0].geometry
    for made in found:
        places = shapely.points(shapely.get_coordinates(made))
        assert shapely.distance(places, before) == pytest.approx(np.full(len(places), 4.0), abs=0.02)
    if before.is_simple and len(course) == 2:
        (begin, end), (a, _) = np.array(course, float), np.array(corners(found[0]))
        (along_x, along_y), (off_x, off_y) = end - begin, a - begin
        turn = along_x * off_y - along_y * off_x
        assert (turn > 0) == (side == "left")
        assert rows(outcome, "side") == [side]


def test_both_sides_are_two_features_and_tight_bends_are_told() -> None:
    bend = line((0, 0), (50, 0), (50, 4), (0, 4))
    outcome = do("offset_lines", layer_of([bend, shapely.Point(E, N), line((0, 0), (3, 0), (3, 3), (0, 0))]), distance="6 m", side="both")
    assert rows(outcome, "n", "side") == [(0, "left"), (0, "right"), (2, "right")] or rows(outcome, "n", "side")[0][0] == 0
    assert "nothing is left on one side" in said(outcome) and aside(outcome)["is no line"] == 1


def test_beside_a_meridian_in_degrees() -> None:
    layer = layer_of([shapely.LineString([(179.9995, 10.0), (179.9995, 10.2)])], crs="EPSG:4326")
    outcome = do("offset_lines", layer, distance="200 m", side="right")
    xy = shapely.get_coordinates(outcome.layers[0].geometry[0])
    assert (xy[:, 0] < -179).all(), "east of it is the other side of 180 degrees"
    far = [Geodesic.WGS84.Inverse(y, 179.9995, y, x)["s12"] for x, y in xy]
    assert far == pytest.approx([200.0] * len(far), rel=1e-3)


# -- zones and one side of a margin


def test_zones_lie_beside_each_other_and_make_up_the_widest() -> None:
    shapes = [line((0, 0), (100, 0)), shapely.box(E, N + 500, E + 50, N + 550), shapely.Point(E + 900, N)]
    layer = layer_of(shapes)
    (made,) = do("zones", layer, distances="10 m, 0.02 km, 50 m").layers
    assert made.table.column("zone_m").to_pylist() == [10, 20, 50] * 3
    for n, shape in enumerate(shapes):
        zones = made.geometry[3 * n : 3 * n + 3]
        whole = [shape.buffer(d, quad_segs=16) for d in (10, 20, 50)]
        assert [z.area for z in zones] == pytest.approx([whole[0].area, whole[1].area - whole[0].area, whole[2].area - whole[1].area])
        assert zones[0].intersection(zones[1]).area < 1e-6 and shapely.union_all(zones).symmetric_difference(whole[2]).area < 1e-6
    (whole_ones,) = do("zones", layer, distances="10, 20 m", whole=True).layers
    assert whole_ones.geometry[3].area == pytest.approx(shapes[1].buffer(20, quad_segs=16).area)


def test_zones_in_degrees_are_true_to_the_ellipsoid() -> None:
    (made,) = do("zones", layer_of([shapely.Point(25, 78)], crs="EPSG:4326"), distances="1, 3 km").layers
    outer = shapely.get_coordinates(shapely.get_exterior_ring(made.geometry[1]))
    far = [Geodesic.WGS84.Inverse(78, 25, y, x)["s12"] for x, y in outer]
    assert far == pytest.approx([3000.0] * len(far), rel=2e-4)


@pytest.mark.parametrize(
    ("text", "says"), [("1,200 m", "one number or two"), ("0 m, 5 m", "no distances"), ("5 tons", "tons"), ("1", "unit")]
)
def test_unclear_distances_are_refused(text: str, says: str) -> None:
    assert says in refused("zones", layer_of([shapely.Point(E, N)]), distances=text)


@pytest.mark.parametrize(("side", "sign"), [("left", 1), ("right", -1)])
def test_one_side_of_a_line(side: str, sign: int) -> None:
    layer = layer_of([line((0, 0), (100, 0)), shapely.Point(E, N)])
    outcome = do("buffer", layer, distance="5 m", side=side)
    (made,) = outcome.layers[0].geometry
    assert made.area == pytest.approx(500) and (made.centroid.y - N) * sign > 0
    assert aside(outcome) == {"is no line, so it has no left and right": 1}
    assert "above zero" in refused("buffer", layer, distance="-5 m", side=side)


# -- cut where they cross


def pieces_of(shapes: np.ndarray) -> set[tuple]:
    return {tuple(map(tuple, shapely.get_coordinates(shapely.normalize(s)).round(6).tolist())) for s in shapes}


@given(courses=st.lists(COURSE, min_size=1, max_size=6))
def test_pieces_are_those_of_the_librarys_noding(courses: list[list[tuple[int, int]]]) -> None:
    """GEOS nodes a heap of lines (``node``); every stretch comes once there, and here once for each line that runs along it."""
    shapes = [line(*c) for c in courses]
    outcome = do("cut_crossings", layer_of(shapes), mend="0 m")
    (made,) = outcome.layers
    for n, shape in enumerate(shapes):
        assert shapely.length(made.geometry[made.table.column("n").to_numpy() == n]).sum() == pytest.approx(shape.length)
    theirs = shapely.get_parts(shapely.node(shapely.multilinestrings(shapes)))
    # where a line ends on the inside of another one's straight stretch both cut there; the library also joins nothing
    ends = {tuple(c) for s in theirs for c in shapely.get_coordinates(s)[[0, -1]].round(6).tolist()}
    ours = {tuple(c) for s in made.geometry for c in shapely.get_coordinates(s)[[0, -1]].round(6).tolist()}
    assert ours <= ends and shapely.union_all(made.geometry).length == pytest.approx(shapely.union_all(theirs).length)
    a, b = shapely.STRtree(made.geometry).query(made.geometry, predicate="crosses")
    assert not len(a), (made.geometry[a[:1]], made.geometry[b[:1]])


def test_loose_ends_are_brought_to_the_nearest_end_or_line_and_cut_it() -> None:
    shapes = [
        line((0, 0), (100, 0)),
        line((50, 1.5), (50, 60)),
        line((101, 0), (160, 0)),
        line((300, 0), (400, 0)),
        line((350, 5), (350, 60)),
    ]
    outcome = do("cut_crossings", layer_of(shapes), mend="2 m")
    assert [(n, corners(g)) for n, g in zip(rows(outcome, "n"), outcome.layers[0].geometry, strict=True)] == [
        (0, [(0, 0), (50, 0)]),
        (0, [(50, 0), (100, 0)]),
        (1, [(50, 0), (50, 60)]),
        (2, [(100, 0), (160, 0)]),
        (3, [(300, 0), (400, 0)]),
        (4, [(350, 5), (350, 60)]),
    ]
    assert "2 loose ends were mended, moved by 1.50 m at most" in said(outcome) and "7 loose ends near no other line" in said(outcome)


def test_lines_of_different_levels_do_not_meet() -> None:
    shapes = [line((0, 0), (100, 0)), line((50, -50), (50, 50)), line((20, -50), (20, -0.5))]
    outcome = do("cut_crossings", layer_of(shapes, level=pa.array([0, 1, 0])), mend="1 m", same=["level"])
    assert rows(outcome, "level", "piece") == [(0, 1), (0, 2), (1, 1), (0, 1)]


def test_ends_meet_to_the_last_digit_and_heights_lie_between() -> None:
    shapes = [line((0, 0, 10), (90, 30, 40)), line((0, 31, 0), (91, 0, 0)), line((7, 0.3, 5), (33, 77, 6))]
    (made,) = do("cut_crossings", layer_of(shapes), mend="0.01 m").layers
    ends = shapely.get_coordinates(np.concatenate([shapely.get_point(made.geometry, 0), shapely.get_point(made.geometry, -1)]))
    places, count = np.unique(ends, axis=0, return_counts=True)
    assert sorted(count.tolist()) == [1] * 6 + [4] * 3 and len(places) == 9
    cut = shapely.get_coordinates(made.geometry[0], include_z=True)[-1]
    share = (cut[0] - E) / 90
    assert cut[2] == pytest.approx(10 + 30 * share)


@pytest.mark.parametrize("lat", [0.0, 60.0, 84.0])
def test_in_degrees_the_distance_is_of_the_ground(lat: float) -> None:
    def beside(metres: float) -> shapely.LineString:
        begin = Geodesic.WGS84.Direct(lat, 10.0, 90, metres)["lon2"]
        return shapely.LineString([(begin, lat), (begin + 0.1, lat)])

    wall = shapely.LineString([(10.0, lat - 0.01), (10.0, lat + 0.01)])
    for metres, mended in ((4.9, True), (5.1, False)):
        outcome = do("cut_crossings", layer_of([wall, beside(metres)], crs="EPSG:4326"), mend="5 m")
        assert ("1 loose end was mended" in said(outcome)) == mended and len(outcome.layers[0]) == (3 if mended else 2)


def test_a_stretch_that_got_lost_is_not_balanced(monkeypatch: pytest.MonkeyPatch) -> None:
    real = crossing.cut
    monkeypatch.setattr("eskret.operations.shape.cut_crossings.cut", lambda *a: tuple(x[:-1] for x in real(*a)))
    with pytest.raises(AccountError, match="length"):
        do("cut_crossings", layer_of([line((0, 0), (9, 0)), line((5, -5), (5, 5))]))


def test_lines_meet_across_180_degrees_however_they_are_drawn() -> None:
    shapes = [
        shapely.LineString([(179.9, 0), (180.1, 0)]),
        shapely.LineString([(-179.95, -1), (-179.95, 1)]),
        shapely.LineString([(-180, 2), (-180, -2)]),
        shapely.LineString([(-180, 1.5), (-179.5, 1.5)]),
    ]
    outcome = do("cut_crossings", layer_of(shapes, crs="EPSG:4326"))
    assert rows(outcome, "n") == [0, 0, 0, 1, 1, 2, 2, 2, 3] and "1 line goes across 180 degrees" in said(outcome)
    assert (np.abs(shapely.bounds(outcome.layers[0].geometry)[:, [0, 2]]) <= 180).all()
    # the same, a third of a turn further east, is cut at the same places
    turned = [shapely.transform(s, lambda xy: np.column_stack([(xy[:, 0] % 360) - 120, xy[:, 1]])) for s in shapes]
    elsewhere = do("cut_crossings", layer_of(turned, crs="EPSG:4326"))
    assert rows(elsewhere, "n") == [0, 0, 0, 1, 1, 2, 2, 2, 3]


def test_lines_that_wait_for_each_other_are_all_mended() -> None:
    """Of every pair each has an end beside the inside of the other: none of both is done before the other."""
    shapes = []
    for y in range(0, 60_000, 1000):
        shapes += [line((0, y), (100, y)), line((101, y - 50), (101, y + 30), (50, y + 30), (50, y + 1))]
    outcome = do("cut_crossings", layer_of(shapes), mend="2 m")
    assert "120 loose ends were mended" in said(outcome) and "120 loose ends near no other line" in said(outcome)
    assert len(outcome.layers[0]) == 240
