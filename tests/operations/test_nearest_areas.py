"""The area nearest to each point: held against the distance from places drawn at random to every point."""

from __future__ import annotations

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from tests.operations.helpers import E, N, do, layer_of, refused

PLACES = st.lists(st.tuples(st.integers(0, 60), st.integers(0, 60)), min_size=1, max_size=25)


@given(places=PLACES, margin=st.sampled_from(["", "0 m", "35 m"]), seed=st.integers(0, 99))
def test_every_place_lies_in_the_area_of_the_point_nearest_to_it(places: list[tuple[int, int]], margin: str, seed: int) -> None:
    xy = np.array(places, float) * 10 + (E, N)
    outcome = do("nearest_areas", layer_of(list(shapely.points(xy))), margin=margin)
    (made,), (account,) = outcome.layers, outcome.inputs
    different = len(set(places))
    assert len(made) == different and len(account.set_aside) == len(places) - different
    assert shapely.is_valid(made.geometry).all()
    west, south, east, north = made.extent()
    assert shapely.area(made.geometry).sum() == pytest.approx((east - west) * (north - south))
    mine = xy[made.table.column("n").to_numpy()]
    tried = np.random.default_rng(seed).uniform((west, south), (east, north), (60, 2))
    tree = shapely.STRtree(made.geometry)
    place, area = tree.query(shapely.points(tried), predicate="intersects")
    assert set(place) == set(range(60))
    distance = np.hypot(*(tried[:, None, :] - mine[None]).T).T
    assert distance[place, area] == pytest.approx(distance.min(axis=1)[place], abs=1e-6)


def test_several_points_of_one_feature_have_one_area_together() -> None:
    pair = shapely.MultiPoint([(E, N), (E + 100, N)])
    (made,) = do("nearest_areas", layer_of([pair, shapely.Point(E + 50, N + 80), None]), margin="10 m").layers
    assert len(made) == 2 and shapely.contains(made.geometry[0], pair) and made.geometry[0].is_valid


def test_degrees_and_other_shapes_are_refused() -> None:
    assert "no unit of length" in refused("nearest_areas", layer_of([shapely.Point(1, 2)], crs="EPSG:4326"))
    assert "points are wanted" in refused("nearest_areas", layer_of([shapely.box(E, N, E + 1, N + 1)]))
