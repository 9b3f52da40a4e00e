"""One feature, another shape: buffers, hulls, parts, simpler and denser courses, other coordinate systems, mended shapes."""

from __future__ import annotations

import numpy as np
import pyproj
import pytest
import shapely
from geographiclib.geodesic import Geodesic
from hypothesis import given
from hypothesis import strategies as st

from tests.exact import GUIDANCE, KARNEY, close
from tests.operations.helpers import E, N, aside, do, layer_of, refused, rows, said, square

# IOGP Guidance Note 7-2, worked examples: the figures from memory. Degrees in, easting and northing out.
EXAMPLES = [
    ("transverse Mercator, British National Grid", "EPSG:4277", "EPSG:27700", 0.5, 50.5, 577274.99, 69740.50, 0.02),
    ("Lambert conic conformal, two parallels, Texas (US survey feet)", "EPSG:4267", "EPSG:32040", -96.0, 28.5, 2963503.91, 254759.80, 0.01),
    (
        "Lambert conic conformal, one parallel, Jamaica",
        "EPSG:4242",
        "EPSG:24200",
        -(76 + 56 / 60 + 37.26 / 3600),
        17 + 55 / 60 + 55.80 / 3600,
        255966.58,
        142493.51,
        0.01,
    ),
    ("Albers equal area, Great Lakes", "EPSG:4269", "EPSG:3174", -78.75, 42.75, 1466493.492, 702903.006, 0.002),
]


@pytest.mark.parametrize(("what", "source", "target", "lon", "lat", "east", "north", "near"), EXAMPLES, ids=[e[0] for e in EXAMPLES])
def test_reproject_as_the_guidance_note_works_it_out(what, source, target, lon, lat, east, north, near) -> None:
    outcome = do("reproject", layer_of([shapely.Point(lon, lat, 7)], source), crs=target)
    point = outcome.layers[0].geometry[0]
    close("reproject", GUIDANCE, [point.x, point.y], [east, north], abs_=near, unit="m (or ft)")
    assert point.z == 7
    assert (outcome.layers[0].crs == target and "accurate to" in said(outcome)) or "exact" in said(outcome)


def test_reproject_sets_aside_what_has_no_place_and_says_where_it_does_not_belong() -> None:
    outcome = do("reproject", layer_of([shapely.Point(0, 91), shapely.Point(-26, 47), None], "EPSG:4326"), crs="EPSG:3035")
    assert "has no place in EPSG:3035" in " ".join(aside(outcome))
    far = do("reproject", layer_of([shapely.Point(140, -30)], "EPSG:4326"), crs="EPSG:32626")
    assert "outside the area where" in said(far) and any(r.look for r in far.remarks)
    assert "no coordinate system to come from" in refused("reproject", layer_of([square(0, 0)], None), crs="EPSG:3035")


def test_buffers_have_the_area_they_should_and_vanish_with_a_reason() -> None:
    point, line = shapely.Point(E, N), shapely.LineString([(E, N), (E + 1000, N)])
    outcome = do("buffer", layer_of([point]), distance="100 m", steps=64)
    assert outcome.layers[0].geometry[0].area == pytest.approx(np.pi * 1e4, rel=1.1e-4)
    assert do("buffer", layer_of([line]), distance="100 m", ends="flat").layers[0].geometry[0].area == pytest.approx(200_000)
    assert do("buffer", layer_of([line]), distance="0.1 km", ends="square").layers[0].geometry[0].area == pytest.approx(240_000)
    shrunk = do("buffer", layer_of([square(0, 0), square(0, 0, 10)]), distance="-6 m")
    assert shrunk.layers[0].geometry[0].area == pytest.approx(988**2) and aside(shrunk) == {"nothing is left of it": 1}


@given(st.floats(-75, 75), st.floats(-179, 179), st.floats(10, 20_000))
def test_a_buffer_on_the_globe_is_everywhere_as_wide_as_it_says(lat: float, lon: float, metres: float) -> None:
    """geographiclib (Karney): every corner lies at the distance, never in degrees."""
    outcome = do("buffer", layer_of([shapely.Point(lon, lat)], "EPSG:4326"), distance=f"{metres!r} m")
    for x, y in shapely.get_coordinates(outcome.layers[0].geometry[0])[::9]:
        close("buffer", KARNEY, Geodesic.WGS84.Inverse(lat, lon, y, x)["s12"], metres, rel=1e-6)
    assert "true to" in said(outcome)


def test_points_lines_and_corners_of_features() -> None:
    bent = shapely.Polygon([(E, N), (E + 900, N), (E + 900, N + 100), (E + 100, N + 100), (E + 100, N + 900), (E, N + 900)])
    on = do("centre_points", layer_of([bent])).layers[0].geometry[0]
    mass = do("centre_points", layer_of([bent]), where="mass").layers[0].geometry[0]
    assert bent.contains(on) and not bent.contains(mass)
    hole = square(0, 0).difference(square(100, 100, 100))
    around = do("outlines", layer_of([hole, shapely.Point(E, N)]))
    assert around.layers[0].geometry[0].length == 4400 and aside(around) == {"is no area": 1}
    assert do("outlines", layer_of([hole]), holes=False).layers[0].geometry[0].length == 4000
    corners = do("corner_points", layer_of([hole, shapely.LineString([(E, N, 4), (E + 1, N, 5)])]))
    assert rows(corners, "n", "corner") == [(0, i) for i in range(1, 9)] + [(1, 1), (1, 2)]
    assert corners.layers[0].geometry[9].z == 5 and not corners.layers[0].geometry[0].has_z


def test_parts_come_apart_and_together_again() -> None:
    multi = shapely.MultiPolygon([square(0, 0), square(2000, 0)])
    apart = do("separate_parts", layer_of([multi, square(5000, 0), None]), number="part")
    assert rows(apart, "n", "part") == [(0, 1), (0, 2), (1, 1)] and "1 feature came apart" in said(apart)
    back = do("gather_parts", apart.layers[0], by=["n"], figures={"parts": "count"})
    assert rows(back, "n", "parts") == [(0, 2), (1, 1)] and back.layers[0].geometry[0].equals(multi)
    mixed = do("gather_parts", layer_of([square(0, 0), shapely.Point(E, N)]), by=[])
    assert mixed.layers[0].geometry[0].geom_type == "GeometryCollection"


def test_a_simpler_course_stays_within_the_tolerance_and_shared_edges_stay_shared() -> None:
    x = np.linspace(0, 10_000, 500)
    line = shapely.LineString(np.c_[E + x, N + 40 * np.sin(x / 90)])
    simple = do("simplify", layer_of([line]), tolerance="30 m").layers[0].geometry[0]
    assert simple.hausdorff_distance(line) <= 30 and len(simple.coords) < 400
    edge = np.c_[E + 1000 + 30 * np.sin(x / 500), N + x]
    left = shapely.Polygon([(E, N), *edge, (E, N + 10_000)])
    right = shapely.Polygon([(E + 2000, N + 10_000), *edge[::-1], (E + 2000, N)])
    outcome = do("simplify", layer_of([left, right]), tolerance="100 m", shared=True)
    a, b = outcome.layers[0].geometry
    assert a.intersection(b).area == 0 and a.union(b).area == pytest.approx(left.union(right).area)
    assert len(a.exterior.coords) < len(left.exterior.coords) / 2
    dense = do("densify", layer_of([shapely.LineString([(E, N), (E + 1000, N)])]), longest="99 m")
    assert len(dense.layers[0].geometry[0].coords) == 12 and dense.layers[0].geometry[0].length == 1000


def test_hulls_grids_and_cut_lines() -> None:
    corners = [shapely.Point(E + x, N + y) for x, y in ((0, 0), (100, 0), (100, 100), (0, 100), (50, 50))]
    layer = layer_of([*corners, shapely.Point(E, N)], day=["a"] * 5 + ["b"])
    hull = do("hull", layer, around="group", by=["day"])
    assert hull.layers[0].geometry[0].area == 10_000 and rows(hull, "day", "features") == [("a", 5)]
    assert aside(hull) == {"encloses no area": 1}
    circle = do("hull", layer_of([shapely.MultiPoint(corners)]), shape="circle").layers[0].geometry[0]
    assert circle.area == pytest.approx(np.pi * 5000, rel=0.01)
    cells = do("grid", layer_of([square(50, 50, 1900)]), size="1 km", cover="extent")
    assert len(cells.layers[0]) == 4 and shapely.bounds(cells.layers[0].geometry)[0].tolist() == [E, N, E + 1000, N + 1000]
    six = do("grid", layer_of([square(0, 0, 9000)]), size="1 km", shape="hexagon").layers[0].geometry
    assert shapely.area(six) == pytest.approx(np.sqrt(3) / 2 * 1e6) and shapely.coverage_is_valid(shapely.set_precision(six, 1e-6))
    assert "no unit of length" in refused("grid", layer_of([shapely.box(0, 0, 1, 1)], "EPSG:4326"), size="1 km")
    line = shapely.LineString([(E, N), (E + 50, N), (E + 100, N)])
    marks = layer_of(
        [shapely.Point(E + 50, N), shapely.Point(E + 80, N + 0.5), shapely.Point(E + 100, N), shapely.Point(E, N + 9)], key="m"
    )
    pieces = do("cut_lines", layer_of([line]), at=marks, within="1 m")
    assert shapely.length(pieces.layers[0].geometry).tolist() == [50, 30, 20] and rows(pieces, "piece") == [1, 2, 3]
    assert aside(pieces, 1) == {"lies on no line": 1}


def test_mended_shapes_say_what_was_wrong_and_where() -> None:
    bow = shapely.Polygon([(E, N), (E + 100, N + 100), (E + 100, N), (E, N + 100)])
    flat = shapely.Polygon([(E, N), (E + 9, N), (E, N)])
    outcome = do("make_valid", layer_of([bow, square(0, 0), flat, None]))
    assert shapely.is_valid(outcome.layers[0].geometry[:2]).all() and aside(outcome) == {"nothing of its kind is left of it": 1}
    assert "1 x self-intersection, the first at 560050 5200050" in said(outcome)
    (altered,) = outcome.inputs[0].altered
    assert altered.rows.tolist() == [0, 2] and altered.amounts[0] == pytest.approx(0.5)


def test_measured_on_the_globe_against_karney() -> None:
    rng = np.random.default_rng(8)
    lat, lon = rng.uniform(-60, 60, 12), rng.uniform(-170, 170, 12)
    shapes = [shapely.Polygon([(x, y), (x + 1.3, y), (x + 1.1, y + 0.7), (x, y + 0.9)]) for x, y in zip(lon, lat, strict=True)]
    outcome = do("measure", layer_of(shapes, "EPSG:4326"), what=["area", "perimeter"], area_unit="km2", length_unit="km", edges="geodesic")
    for shape, area, around in zip(shapes, rows(outcome, "area_km2"), rows(outcome, "perimeter_km"), strict=True):
        polygon = Geodesic.WGS84.Polygon()
        for x, y in list(shape.exterior.coords)[:-1]:
            polygon.AddPoint(y, x)
        _, perimeter, size = polygon.Compute()
        close("measure", f"{KARNEY}, shortest ways", [area, around], [abs(size) / 1e6, perimeter / 1000], rel=1e-9)
    lines = [shapely.LineString([(x, y), (x + 2, y + 1)]) for x, y in zip(lon, lat, strict=True)]
    found = do("measure", layer_of(lines, "EPSG:4326"), what=["length", "bearing"], length_unit="nmi", edges="geodesic")
    for (x, y), length, bearing in zip(zip(lon, lat, strict=True), rows(found, "length_nmi"), rows(found, "bearing_deg"), strict=True):
        known = Geodesic.WGS84.Inverse(y, x, y + 1, x + 2)
        assert length == pytest.approx(known["s12"] / 1852, rel=1e-9) and bearing == pytest.approx(known["azi1"] % 360, abs=1e-7)


def test_a_degree_is_never_a_length_and_a_stretched_plane_is_told() -> None:
    degrees = layer_of([shapely.box(-26, 47, -25.9, 47.1)], "EPSG:4326")
    assert "a degree is no length" in refused("measure", degrees, what=["area"], how="planar")
    assert "nothing can be measured" in refused("measure", layer_of([square(0, 0)], None), what=["area"])
    near = do("measure", layer_of([square(0, 0)]), what=["area", "length", "x"])
    assert rows(near, "area_ha", "length_m", "x") == [(100.0, None, E + 500)] and "along the plane" in said(near)
    x, y = pyproj.Transformer.from_crs(4326, 3857, always_xy=True).transform(-26, 47)
    stretched = do("measure", layer_of([shapely.box(x, y, x + 1000, y + 1000)], "EPSG:3857"), what=["area"])
    assert any("off by up to 47 %" in r.text and r.look for r in stretched.remarks)
    true = do("measure", layer_of([shapely.box(x, y, x + 1000, y + 1000)], "EPSG:3857"), what=["area"], how="geodesic")
    assert rows(true, "area_ha")[0] == pytest.approx(100 * np.cos(np.radians(47)) ** 2, rel=0.01)


def test_units_are_those_they_are_called_after() -> None:
    """The international mile and foot (agreement of 1959), the US survey foot only by name."""
    line = layer_of([shapely.LineString([(E, N), (E + 1609.344, N)])])
    for unit, name, value in (
        ("mi", "length_mi", 1),
        ("ft", "length_ft", 5280),
        ("US survey ft", "length_US_survey_ft", 1609.344 * 3937 / 1200),
    ):
        assert rows(do("measure", line, what=["length"], length_unit=unit), name)[0] == pytest.approx(value, rel=1e-12)
