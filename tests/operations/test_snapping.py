"""Points moved onto lines: against plain geometry in the plane, and geographiclib (Karney, J. Geodesy 87, 2013) on the ellipsoid."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from geographiclib.geodesic import Geodesic
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.geometry.closest import closest, places_on
from eskret.errors import AccountError
from eskret.operations import operation_by_id
from eskret.workflow.run.step import prove
from tests.operations.helpers import E, N, aside, do, layer_of, refused, said, square

LINES = layer_of([shapely.LineString([(E, N), (E + 100, N)]), shapely.LineString([(E, N + 50), (E + 100, N + 50)])], key="lines")
DEGREES = "EPSG:4326"


def at(*xy: float) -> shapely.Point:
    return shapely.Point(E + xy[0], N + xy[1], *xy[2:])


def moved(outcome) -> dict[int, float]:
    """How far each row was moved, in metres."""
    (told,) = [a for a in outcome.inputs[0].altered if a.what == "moved"] or [None]
    return {} if told is None else dict(zip(told.rows.tolist(), told.amounts.tolist(), strict=True))


def test_points_within_the_distance_lie_on_the_nearest_line_and_the_others_stay() -> None:
    outcome = do("snap_points", layer_of([at(10, 3), at(20, 47), at(30, 0), at(40, 20), at(-3, -4)]), to=LINES, within="5 m")
    found = outcome.layers[0].geometry
    assert shapely.equals(found, [at(10, 0), at(20, 50), at(30, 0), at(40, 20), at(0, 0)]).all()
    assert moved(outcome) == pytest.approx({0: 3.0, 1: 3.0, 4: 5.0})
    assert "3 points were moved, by 3.0 m to 5.0 m" in said(outcome) and "1 point is more than 5 m away" in said(outcome)
    assert [(c.name, c.expected, c.found) for c in outcome.outputs[0].controls] == [("points on it", 3, 3)]
    assert [a.setting for a in outcome.inputs] == ["from", "to"] and outcome.inputs[1].used == 2
    again = do("snap_points", outcome.layers[0], to=LINES, within="5 m")
    assert not moved(again) and "0 points were moved" in said(again), "what lies on it does not move"


def test_what_is_too_far_or_no_single_point_is_set_aside_with_a_reason() -> None:
    shapes = [at(10, 3), at(40, 20), None, shapely.MultiPoint([at(1, 1), at(2, 2)]), shapely.Point()]
    outcome = do("snap_points", layer_of(shapes), to=LINES, within="5 m", others="aside")
    assert aside(outcome) == {"is no single point": 1, "is too far from it": 1, "has no geometry": 2}
    assert len(outcome.layers[0]) == 1
    left = do("snap_points", layer_of(shapes), to=LINES, within="5 m")
    assert len(left.layers[0]) == 2 and {a.what: a.rows.tolist() for a in left.inputs[0].altered}["is too far from it"] == [1]


def test_onto_corners_and_onto_the_edge_of_areas() -> None:
    ground = layer_of([square(0, 0, 100)], key="ground")
    inside = layer_of([at(40, 3), at(97, 96)])
    assert shapely.equals(do("snap_points", inside, to=ground, within="5 m").layers[0].geometry, [at(40, 0), at(100, 96)]).all()
    corner = do("snap_points", inside, to=ground, within="6 m", onto="corner")
    assert shapely.equals(corner.layers[0].geometry, [at(40, 3), at(100, 100)]).all() and moved(corner) == pytest.approx({1: 5.0})


def test_heights_and_measures_stay_with_their_points() -> None:
    points = shapely.from_wkt([f"POINT Z ({E + 10} {N + 3} 7)", f"POINT M ({E + 20} {N + 2} 8)", f"POINT ZM ({E + 30} {N + 1} 9 4)"])
    found = do("snap_points", layer_of(list(points)), to=LINES, within="5 m").layers[0].geometry
    assert shapely.get_y(found).tolist() == [N, N, N]
    assert shapely.get_z(found).tolist()[::2] == [7, 9] and shapely.get_coordinates(found[1:], include_m=True)[:, 2].tolist() == [8, 4]


@pytest.mark.parametrize(("crs", "x", "y", "size"), [("EPSG:32626", E, N, 100.0), (DEGREES, -26.0, 47.0, 0.001)])
def test_the_parts_of_a_collection_are_moved_to_each_by_its_kind(crs: str, x: float, y: float, size: float) -> None:
    """Areas by the line around them, lines and points as they are, however they lie one in another."""
    area, line = shapely.box(x, y, x + size, y + size), shapely.LineString([(x + 2 * size, y), (x + 2 * size, y + size)])
    spot = shapely.Point(x + 3 * size, y)
    mixed = shapely.GeometryCollection([area, shapely.GeometryCollection([line, shapely.Polygon()]), spot])
    grown = [(0.5, 0.03), (0.5, 0.5), (1.97, 0.5), (2.98, 0.0)]
    points = layer_of([shapely.Point(x + size * a, y + size * b) for a, b in grown], crs)
    to = layer_of([shapely.Point(x - size, y), mixed], crs, "mixed")
    outcome = do("snap_points", points, to=to, within="5 m")
    expected = [(0.5, 0.0), (0.5, 0.5), (2.0, 0.5), (3.0, 0.0)]
    found = shapely.get_coordinates(outcome.layers[0].geometry)
    assert found == pytest.approx(np.array([(x + size * a, y + size * b) for a, b in expected]), abs=size * 1e-5)
    assert set(moved(outcome)) == {0, 2, 3} and outcome.inputs[1].used == 1
    corner = do("snap_points", points, to=to, within="5 m", onto="corner")
    assert set(moved(corner)) == {3}


def test_what_cannot_be_done_is_said_before_a_run() -> None:
    several = refused("snap_points", layer_of([at(0, 0)]), to=[LINES, layer_of([square(0, 0, 9)], key="more")], within="5 m")
    assert "names 2 layers; one is wanted. Merge them first." in several
    assert "points are wanted. Corner points makes some." in refused("snap_points", LINES, to=LINES, within="5 m")
    assert "a distance means nothing" in refused("snap_points", layer_of([at(0, 0)], None), to=LINES, within="5 m")


def test_a_point_that_is_not_where_it_should_be_does_not_pass(monkeypatch: pytest.MonkeyPatch) -> None:
    from eskret.operations.shape import snap_points

    monkeypatch.setattr(snap_points, "places_on", lambda points, shapes: places_on(points, shapes) + 1.0)
    with pytest.raises(AccountError, match="points on it"):
        do("snap_points", layer_of([at(10, 3), at(20, 47)]), to=LINES, within="5 m")


coordinate = st.integers(-40, 140)


@given(st.lists(st.tuples(coordinate, coordinate), min_size=1, max_size=8), st.integers(1, 60))
def test_as_the_library_finds_it_one_by_one(spots: list, within: int) -> None:
    points, lines = [at(*xy) for xy in spots], LINES.geometry
    outcome = do("snap_points", layer_of(points), to=LINES, within=f"{within} m")
    for before, after in zip(points, outcome.layers[0].geometry, strict=True):
        far = min(before.distance(line) for line in lines)
        assert before.distance(after) == pytest.approx(far if far <= within else 0.0, abs=1e-9)
        assert far > within or min(after.distance(line) for line in lines) < 1e-9
    partner, apart = closest(np.array(points, object), lines, float(within))
    assert [n >= 0 for n in partner] == [min(p.distance(x) for x in lines) <= within for p in points]
    assert np.isnan(apart[partner < 0]).all()


def test_in_degrees_the_way_is_the_shortest_on_the_ellipsoid() -> None:
    """The foot found by trying every place of the edge with the reference."""
    line = shapely.LineString([(-26.0, 46.9), (-25.7, 47.1)])
    spots = [(-25.9, 46.99), (-25.8, 47.0), (-26.01, 46.89)]
    outcome = do("snap_points", layer_of([shapely.Point(xy) for xy in spots], DEGREES), to=layer_of([line], DEGREES, "x"), within="20 km")
    share = np.linspace(0, 1, 4001)
    edge = np.column_stack([-26.0 + 0.3 * share, 46.9 + 0.2 * share])
    for row, (lon, lat) in enumerate(spots):
        far = [Geodesic.WGS84.Inverse(lat, lon, y, x)["s12"] for x, y in edge]
        best = int(np.argmin(far))
        x, y = outcome.layers[0].geometry[row].coords[0]
        assert moved(outcome)[row] == pytest.approx(far[best], abs=0.05) and moved(outcome)[row] <= far[best] + 1e-6
        assert Geodesic.WGS84.Inverse(y, x, *edge[best][::-1])["s12"] < 10.0
        assert line.distance(shapely.Point(x, y)) < 1e-12


@pytest.mark.parametrize(
    ("point", "line", "expected"),
    [
        ((-179.9999, 10), [(179.9999, 9.9), (179.9999, 10.1)], (179.9999, 10)),
        ((179.9999, 10), [(-179.9999, 9.9), (-179.9999, 10.1)], (-179.9999, 10)),
        ((180.0001, 10), [(180.0003, 9.9), (180.0003, 10.1)], (180.0003, 10)),
        ((0, 89.9999), [(180, 89.9998), (180, 89.9)], (180, 89.9998)),
    ],
)
def test_over_180_degrees_and_the_pole(point: tuple, line: list, expected: tuple) -> None:
    outcome = do(
        "snap_points", layer_of([shapely.Point(point)], DEGREES), to=layer_of([shapely.LineString(line)], DEGREES, "x"), within="100 m"
    )
    found = outcome.layers[0].geometry[0]
    assert (found.x - expected[0]) % 360 == pytest.approx(0, abs=1e-7) or (found.x - expected[0]) % 360 == pytest.approx(360, abs=1e-7)
    assert found.y == pytest.approx(expected[1], abs=1e-6) and abs(found.x) <= max(180.0, abs(point[0]) + 1)
    (metres,) = moved(outcome).values()
    assert metres == pytest.approx(Geodesic.WGS84.Inverse(point[1], point[0], expected[1], expected[0])["s12"], rel=1e-6)


def test_the_square_map_of_the_world_is_left_for_the_ellipsoid_unless_said_otherwise() -> None:
    """At 60 degrees north its metres are twice those on the ground."""
    line = shapely.LineString([(-3e6, 8_399_737.9), (-2.9e6, 8_399_737.9)])
    point = layer_of([shapely.Point(-2.95e6, 8_399_737.9 + 15)], "EPSG:3857")
    lines = layer_of([line], "EPSG:3857", "x")
    assert moved(do("snap_points", point, to=lines, within="10 m"))[0] == pytest.approx(7.5, rel=0.01)
    assert not moved(do("snap_points", point, to=lines, within="10 m", along="planar"))
    outcome = do("snap_points", point, to=lines, within="10 m")
    prove(outcome, operation_by_id("snap_points").relation)
