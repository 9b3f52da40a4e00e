"""Points along lines: against shapely's own places on a line in the plane, and geographiclib on the ellipsoid."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
import shapely
from geographiclib.geodesic import Geodesic
from hypothesis import given
from hypothesis import strategies as st

from eskret.errors import AccountError
from eskret.operations.shape import points_along
from tests.operations.helpers import E, N, do, layer_of, refused

CORNERS = st.lists(st.tuples(st.integers(-500, 500), st.integers(-500, 500)), min_size=2, max_size=7)


def line(*places: tuple[float, float]) -> shapely.LineString:
    return shapely.LineString([(E + x, N + y) for x, y in places])


@given(corners=st.lists(CORNERS, min_size=1, max_size=4), every=st.sampled_from([7.0, 100.0, 400.0]), last=st.booleans())
def test_every_point_lies_where_the_library_places_it(corners: list[list[tuple[int, int]]], every: float, last: bool) -> None:
    lines = [line(*c) for c in corners]
    outcome = do("points_along", layer_of(lines), every=f"{every} m", last=last)
    (made,), (account,) = outcome.layers, outcome.inputs
    assert len(account.set_aside) == sum(one.length == 0 for one in lines)
    far, of = made.table.column("along_m").to_numpy(), made.table.column("n").to_numpy()
    for n, one in enumerate(lines):
        if one.length == 0:
            assert n not in of
            continue
        expected = np.arange(0, one.length * (1 + 1e-12), every)
        if last and one.length - expected[-1] > 1e-6:
            expected = np.append(expected, one.length)
        assert far[of == n] == pytest.approx(expected, abs=1e-3)
        places = shapely.line_interpolate_point(one, np.minimum(expected, one.length))
        assert shapely.distance(made.geometry[of == n], places).max() < 1e-6
        assert made.table.column("number").to_numpy()[of == n].tolist() == list(range(1, len(expected) + 1))


@pytest.mark.parametrize("shares", ["0, 25; 50 100", "50 %"])
def test_shares_are_of_the_length_of_each_part(shares: str) -> None:
    parts = shapely.MultiLineString([line((0, 0), (0, 100)), line((50, 0), (50, 10))])
    outcome = do("points_along", layer_of([parts, None, line((0, 0), (300, 400))]), place="shares", shares=shares)
    (made,) = outcome.layers
    wanted = [float(w) / 100 for w in shares.replace(",", " ").replace(";", " ").replace("%", " ").split()]
    assert made.table.column("along_m").to_pylist() == [pytest.approx(w * length) for length in (100, 10, 500) for w in wanted]
    assert any("1 line has several parts" in r.text for r in outcome.remarks)
    assert [reason for reason, _ in outcome.inputs[0].set_aside.counts()] == ["has no geometry"]


@pytest.mark.parametrize("crs", ["EPSG:4326", "EPSG:3857"])
def test_in_degrees_and_on_web_maps_distances_are_of_the_ellipsoid(crs: str) -> None:
    """Against GeographicLib (C. F. F. Karney, 2013): from Lisbon's meridian north, and along a parallel by its length in small steps."""
    course = shapely.LineString([(-9.0, 38.0), (-9.0, 39.0)])
    layer = layer_of([course], crs="EPSG:4326")
    if crs != "EPSG:4326":
        layer = do("reproject", layer, crs=crs).layers[0]
    (made,) = do("points_along", layer, every="10 km").layers
    if crs != "EPSG:4326":
        (made,) = do("reproject", made, crs="EPSG:4326").layers
    length = Geodesic.WGS84.Inverse(38.0, -9.0, 39.0, -9.0)["s12"]
    assert len(made) == int(length // 10_000) + 1
    for n, point in enumerate(made.geometry):
        theirs = Geodesic.WGS84.Direct(38.0, -9.0, 0.0, 10_000.0 * n)
        assert point.y == pytest.approx(theirs["lat2"], abs=2e-7) and point.x == pytest.approx(-9.0, abs=1e-9)


def test_heights_are_between_those_of_the_corners() -> None:
    rising = shapely.LineString([(E, N, 10.0), (E + 100, N, 20.0)])
    (made,) = do("points_along", layer_of([rising, line((0, 0), (100, 0))]), every="25 m").layers
    assert shapely.get_z(made.geometry[:5]).tolist() == [10, 12.5, 15, 17.5, 20] and not shapely.has_z(made.geometry[5:]).any()


def test_what_has_no_course_is_refused() -> None:
    assert "Outlines makes some of areas" in refused("points_along", layer_of([shapely.box(E, N, E + 1, N + 1)]))
    assert "Connect points makes some" in refused("points_along", layer_of([shapely.Point(E, N)]))
    assert "are no shares" in refused("points_along", layer_of([line((0, 0), (1, 1))]), place="shares", shares="20, 120")
    assert refused("points_along", layer_of([line((0, 0), (1, 1))], crs=None))


@pytest.mark.parametrize("crs", ["EPSG:32626", "EPSG:4326"])
def test_a_point_in_the_wrong_place_is_not_balanced(crs: str, monkeypatch: pytest.MonkeyPatch) -> None:
    course = line((0, 0), (1_000, 0)) if crs == "EPSG:32626" else shapely.LineString([(-9.0, 38.0), (-9.0, 38.02)])
    place = points_along._at

    def misplaced(*given: Any) -> np.ndarray:
        out = place(*given)
        out[2] = shapely.transform(out[2], lambda c: c + (500 if crs == "EPSG:32626" else 0.01))
        return out

    monkeypatch.setattr(points_along, "_at", misplaced)
    with pytest.raises(AccountError):
        do("points_along", layer_of([course], crs=crs), every="100 m")
