"""Edges brought onto those of another layer: what was one before it was disturbed is one again."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from geographiclib.geodesic import Geodesic
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.geometry import snapping
from eskret.errors import AccountError
from tests.operations.helpers import E, N, do, layer_of, said


def area(*places: tuple[float, float]) -> shapely.Polygon:
    return shapely.Polygon([(E + x, N + y) for x, y in places])


@given(seed=st.integers(0, 10_000), count=st.integers(1, 4))
def test_disturbed_areas_come_back_to_the_last_digit(seed: int, count: int) -> None:
    rng = np.random.default_rng(seed)
    whole = [shapely.box(E + 100 * i, N + 100 * j, E + 100 * i + 100, N + 100 * j + 100) for i in range(count) for j in range(2)]

    def disturbed(xy: np.ndarray) -> np.ndarray:
        off = rng.uniform(-1, 1, xy.shape)
        off[-1] = off[0]
        return xy + off

    layer = layer_of([shapely.transform(s, disturbed) for s in whole])
    outcome = do("snap_shapes", layer, to=layer_of(whole, key="drawn"), within="1.5 m")
    assert shapely.equals_exact(outcome.layers[0].geometry, np.array(whole, object), 0).all()
    assert f"{4 * len(whole)} corners moved" in said(outcome)


def test_corners_of_the_other_layer_are_put_in_so_that_nothing_is_left_between() -> None:
    coast = area((0, 0), (30, 1), (60, -1), (100, 0), (100, 80), (0, 80))
    district = area((0, -60), (100, -60), (100.5, -0.5), (0.5, 0.5))
    layer, to = layer_of([district]), layer_of([coast], key="coast")
    outcome = do("snap_shapes", layer, to=to, within="2 m")
    (made,) = outcome.layers[0].geometry
    assert made.intersection(coast).area == 0 and not made.union(coast).interiors
    assert made.touches(coast) and made.intersection(coast).length == pytest.approx(shapely.LineString(coast.exterior.coords[:4]).length)
    assert "2 corners put in" in said(outcome)
    (bare,) = do("snap_shapes", layer, to=to, within="2 m", add=False).layers[0].geometry
    assert len(bare.exterior.coords) == 5


def test_what_would_cross_itself_or_vanish_stays_and_asks_for_a_look() -> None:
    to = layer_of([shapely.LineString([(E, N), (E + 100, N)])], key="line")
    thin = area((10, 0.5), (20, 0.5), (20, -0.5), (10, -0.5))
    bow = area((50, 1), (60, 1), (60, 9), (55, 1.2), (50, 9))
    outcome = do("snap_shapes", layer_of([thin, bow, None]), to=to, within="1.6 m", onto="edges")
    made = outcome.layers[0].geometry
    assert made[0] == thin and made[1] == bow and made[2] is None
    assert "1 shape would cross itself, and stayed as before" in said(outcome) and any(r.look for r in outcome.remarks)
    assert "of 1 shape a part would come to nothing" in said(outcome)


def test_heights_and_measures_stay_with_their_corners_and_lie_between_at_new_ones() -> None:
    shape = shapely.from_wkt(f"LINESTRING ZM ({E} {N + 1} 10 0, {E + 100} {N + 1} 20 8)")
    to = layer_of([shapely.LineString([(E, N), (E + 50, N), (E + 100, N)])], key="line")
    (made,) = do("snap_shapes", layer_of([shape]), to=to, within="2 m").layers[0].geometry
    assert (shapely.get_coordinates(made, include_z=True, include_m=True) - [E, N, 0, 0]).tolist() == [
        [0, 0, 10, 0],
        [50, 0, 15, 4],
        [100, 0, 20, 8],
    ]


@pytest.mark.parametrize("lat", [0.0, 70.0])
def test_in_degrees_the_distance_is_of_the_ground(lat: float) -> None:
    to = layer_of([shapely.LineString([(10.0, lat - 0.1), (10.0, lat + 0.1)])], crs="EPSG:4326", key="line")
    for metres, moves in ((19, True), (21, False)):
        lon = Geodesic.WGS84.Direct(lat, 10.0, 90, metres)["lon2"]
        outcome = do("snap_shapes", layer_of([shapely.Point(lon, lat)], crs="EPSG:4326"), to=to, within="20 m")
        assert (shapely.get_x(outcome.layers[0].geometry[0]) == 10.0) == moves


def test_kinds_and_parts_stay_as_they_are() -> None:
    square = shapely.box(E + 0.4, N, E + 10, N + 10)
    shapes = [
        shapely.MultiPolygon([square]),
        shapely.GeometryCollection([shapely.Point(E + 0.3, N + 5), square]),
        shapely.MultiPoint([(E + 0.2, N + 2), (E + 40, N)]),
        shapely.Polygon(shapely.box(E - 50, N - 50, E + 50, N + 50).exterior, [square.exterior.coords]),
    ]
    to = layer_of([shapely.LineString([(E, N - 10), (E, N + 20)])], key="line")
    made = do("snap_shapes", layer_of(shapes), to=to, within="0.5 m").layers[0].geometry
    assert [g.geom_type for g in made] == [s.geom_type for s in shapes] and shapely.is_valid(made).all()
    assert [shapely.get_coordinates(g)[:, 0].min() - E for g in made[:3]] == [0, 0, 0] and len(made[3].interiors) == 1


def test_a_corner_that_is_not_where_it_should_be_is_not_balanced(monkeypatch: pytest.MonkeyPatch) -> None:
    real = snapping._Work._nearest
    monkeypatch.setattr(snapping._Work, "_nearest", lambda self, xy, onto: (lambda to, far: (to + 0.25, far))(*real(self, xy, onto)))
    to = layer_of([shapely.LineString([(E, N), (E + 100, N)])], key="line")
    with pytest.raises(AccountError, match="new corners on it"):
        do("snap_shapes", layer_of([shapely.Point(E + 3, N + 1)]), to=to, within="2 m")


def test_what_lies_on_the_other_side_of_180_degrees_is_near() -> None:
    to = layer_of([shapely.box(179, -1, 180, 1), shapely.LineString([(-179.9999, 5), (-179.9999, 6)])], crs="EPSG:4326", key="east")
    shapes = [shapely.box(-179.9999, -1, -179, 1), shapely.LineString([(179.9, 5), (179.99995, 5.5)])]
    outcome = do("snap_shapes", layer_of(shapes, crs="EPSG:4326"), to=to, within="50 m")
    made = outcome.layers[0].geometry
    assert shapely.bounds(made[0]).tolist() == [-180, -1, -179, 1]
    assert made[1].geom_type == "MultiLineString" and shapely.get_coordinates(made[1])[-1].tolist() == pytest.approx([-179.9999, 5.5])
    assert "1 shape goes on across 180 degrees" in said(outcome) and not len(outcome.inputs[1].set_aside)
