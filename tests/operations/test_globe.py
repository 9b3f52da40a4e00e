"""Longitudes and latitudes anywhere on the globe, against geographiclib (Karney, J. Geodesy 87, 2013) and plain geometry.

What an edge means is RFC 7946, 3.1.1 and OGC 06-103r4: straight in the coordinates.
"""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

import numpy as np
import pyogrio
import pytest
import shapely
from geographiclib.geodesic import Geodesic
from hypothesis import given
from hypothesis import strategies as st
from typer.testing import CliRunner

from eskret import Workflow, write
from eskret.cli import app
from eskret.core.geometry.globe import moving
from eskret.core.geometry.globe.seam import jumps
from eskret.core.layer import GeometryKind, Layer, WkbArray
from eskret.errors import AccountError, SettingError
from tests.exact import KARNEY as REFERENCE
from tests.exact import THERE_AND_BACK, close, same
from tests.operations.helpers import UTM, aside, do, layer_of, refused, rows, said

WGS84 = "EPSG:4326"
KARNEY = Geodesic.WGS84
MOLLWEIDE = "+proj=moll +lon_0=0 +datum=WGS84 +units=m +type=crs"
COUNTRIES = files("pyogrio") / "tests/fixtures/naturalearth_lowres/naturalearth_lowres.shp"


def countries() -> Layer:
    """Open data that the library's own tests carry: 177 countries, coarsely."""
    meta, _, binary, columns = pyogrio.raw.read(str(COUNTRIES), columns=["iso_a3"])
    return layer_of(
        shapely.from_wkb(binary), WGS84, "countries", iso=columns[list(meta["fields"]).index("iso_a3")], n=np.arange(len(binary))
    )


def here(*places: tuple[float, float]) -> Layer:
    return layer_of([shapely.Point(*p) for p in places], WGS84, "here")


def apart(a: tuple[float, float], b: tuple[float, float]) -> float:
    return float(KARNEY.Inverse(a[1], a[0], b[1], b[0])["s12"])


def test_the_nearest_country_of_places_all_over_the_globe() -> None:
    """Every 0.1 degrees along every coast measured by PROJ's geodesics: no place finds a country on the other side."""
    rng = np.random.default_rng(15)
    places = np.column_stack([rng.uniform(-180, 180, 60), np.degrees(np.arcsin(rng.uniform(-1, 1, 60)))])
    land = countries()
    found = do("nearest", here(*map(tuple, places)), other=land, unit="km", fields=["iso"])
    dense = [shapely.get_coordinates(shapely.segmentize(s, 0.1)) for s in land.geometry]
    coast, owner = np.concatenate(dense), np.repeat(np.arange(len(dense)), [len(d) for d in dense])
    names = land.table.column("iso").to_pylist()
    from pyproj import Geod

    geod = Geod(ellps="WGS84")
    for n, (iso, km) in enumerate(rows(found, "iso", "distance_km")):
        inside = np.flatnonzero(shapely.intersects(land.geometry, shapely.Point(places[n])))
        if len(inside):
            assert (iso, km) == (names[inside[0]], 0.0)
            continue
        far = np.asarray(geod.inv(*np.tile(places[n], (len(coast), 1)).T, *coast.T)[2])
        # between two of the vertices it may be a little nearer: 0.1 degrees are 11 km
        assert iso == names[owner[np.argmin(far)]]
        assert far.min() / 1000 - max(0.7 / max(km, 0.1), 0.0) * 11.2 <= km <= far.min() / 1000 * (1 + 1e-6)


@given(st.tuples(st.floats(-180, 180), st.floats(-90, 90)), st.tuples(st.floats(-180, 180), st.floats(-90, 90)))
def test_the_distance_of_any_two_places_is_karneys(a: tuple[float, float], b: tuple[float, float]) -> None:
    found = do("nearest", here(a), other=here(b))
    close("nearest", REFERENCE, rows(found, "distance_m")[0], apart(a, b), rel=1e-6, abs_=1e-6)


@given(st.floats(-170, 170), st.floats(-75, 75), st.floats(0.2, 20), st.floats(-3, 3), st.floats(0, 1), st.floats(1, 400))
def test_the_distance_to_an_edge_is_the_least_of_its_places(
    lon: float, lat: float, wide: float, high: float, share: float, km: float
) -> None:
    """The edge is looked through at 300 places, and about the best of them by golden sections, with geographiclib."""
    edge = shapely.LineString([(lon, lat), (lon + wide, lat + high)])
    start = edge.interpolate(share, normalized=True)
    away = KARNEY.Direct(start.y, start.x, 0 if high < 0 else 180, km * 1000)
    place = (away["lon2"], away["lat2"])
    found = rows(do("nearest", here(place), other=layer_of([edge], WGS84)), "distance_m")[0]

    def far(t: float) -> float:
        return apart(place, (lon + t * wide, lat + t * high))

    rough = [far(t) for t in np.linspace(0, 1, 301)]
    best = int(np.argmin(rough)) / 300
    low, high_ = max(best - 1 / 300, 0.0), min(best + 1 / 300, 1.0)
    for _ in range(40):
        a, b = low + 0.382 * (high_ - low), low + 0.618 * (high_ - low)
        low, high_ = (low, b) if far(a) < far(b) else (a, high_)
    close("nearest", f"{REFERENCE}, to an edge", found, min(far((low + high_) / 2), min(rough)), rel=1e-6, abs_=1e-3)


def test_near_over_180_degrees_and_over_a_pole() -> None:
    a, b = (-179.999, 10.0), (179.999, 10.0)
    c, d = (0.0, 89.999), (180.0, 89.999)
    for one, other in ((a, b), (c, d)):
        far = apart(one, other)
        assert far < 230
        for metres, held in ((far - 0.01, False), (far + 0.01, True)):
            kept = do("keep_by_place", here(one), to=here(other), relation="near", distance=f"{metres!r} m")
            same("keep_by_place", REFERENCE, len(kept.layers[0]), int(held))
        assert rows(do("nearest", here(one), other=here(other)), "distance_m")[0] == pytest.approx(far, rel=1e-9)
    flagged = do("flag", here(a), to=here(b), relation="near", distance="1 km", field="close")
    assert rows(flagged, "close") == [True] or rows(flagged, "close") == ["yes"]


def test_within_nothing_finds_what_meets() -> None:
    area = layer_of([shapely.box(0, 0, 1, 1)], WGS84)
    found = do("nearest", here((0.5, 0.5), (1, 1), (1.0001, 1)), other=area, within="0 m")
    assert rows(found, "distance_m") == [0.0, 0.0, None]
    flat = layer_of([shapely.box(0, 0, 1, 1)])
    points = layer_of([shapely.Point(0.5, 0.5), shapely.Point(1.1, 1)])
    assert rows(do("nearest", points, other=flat, within="0 m"), "distance_m") == [0.0, None]


def test_near_finds_nothing_where_all_lies_further() -> None:
    left, right = layer_of([shapely.box(0, 0, 1e-6, 1e-6)], WGS84), layer_of([shapely.box(0, 0.004, 0.3, 0.004001)], WGS84, key="b")
    assert not rows(do("keep_by_place", left, to=right, relation="near", distance="1 m"), "n")
    assert rows(do("nearest", left, other=right, within="1 m"), "distance_m") == [None]
    assert rows(do("keep_by_place", left, to=right, relation="near", distance="1 km"), "n") == [0]


def test_an_edge_means_one_thing_to_every_operation() -> None:
    """A parallel of 4 degrees at 58 north lies some hundred metres from the shortest line between its ends."""
    area, place = layer_of([shapely.box(0, 58, 4, 60)], WGS84), here((2, 58.01), (2, 57.99))
    for relation, kept in (("intersects", 1), ("within", 1), ("disjoint", 1)):
        assert len(do("keep_by_place", place, to=area, relation=relation).layers[0]) == kept
    far = rows(do("nearest", place, other=area), "distance_m")
    assert far[0] == 0.0 and far[1] == pytest.approx(apart((2, 57.99), (2, 58)), rel=1e-6)
    for metres, kept in ((1100, 1), (1120, 2)):
        assert len(do("keep_by_place", place, to=area, relation="near", distance=f"{metres} m").layers[0]) == kept
        grown = do("buffer", area, distance=f"{metres} m").layers[0].geometry[0]
        assert [bool(shapely.intersects(grown, p)) for p in place.geometry] == [True, kept == 2]


@pytest.mark.parametrize("box", [(0, 58, 60, 68), (-180, -10, 180, 10), (-180, 60, 180, 90), (10, 89, 50, 90), (3, 3, 3.001, 3.001)])
def test_the_ledger_and_measure_agree_on_areas_in_degrees(box: tuple[float, ...]) -> None:
    """Against geographiclib along edges of 5,000 stretches."""
    layer = layer_of([shapely.box(*box)], WGS84)
    measured = do("measure", layer, what=["area", "perimeter"], area_unit="ha", length_unit="km")
    polygon = KARNEY.Polygon()
    for x, y in shapely.get_coordinates(shapely.segmentize(layer.geometry[0], max(box[2] - box[0], 1e-4) / 5000))[:-1]:
        polygon.AddPoint(y, x)
    _, around, size = polygon.Compute()
    total = next(value for name, value, _ in measured.outputs[0].totals if name == "area")
    assert total == pytest.approx(rows(measured, "area_ha")[0], rel=1e-12)
    close("measure", f"{REFERENCE}, along straight edges", total, abs(size) / 10_000, rel=1e-6)
    close("measure", f"{REFERENCE}, along straight edges", rows(measured, "perimeter_km")[0], around / 1000, rel=1e-6)


def test_a_circle_over_180_degrees_and_one_over_the_pole() -> None:
    """A circle of 1 km has 314.16 ha, a polygon of 64 corners in it 313.65."""
    grown = do("buffer", here((179.9999, 0), (30, 89.9999), (0, -90), (-180, 50)), distance="1 km")
    shapes = grown.layers[0].geometry
    assert shapely.is_valid(shapes).all() and "180 degrees" in said(grown)
    sizes = rows(do("measure", grown.layers[0], what=["area"]), "area_ha")
    close("buffer", "the area of a circle of 64 corners", sizes, [313.65] * 4, rel=2e-3)
    assert not shapely.intersects(shapes[0], shapely.Point(0, 0))
    for lon in (-170, 0, 77):
        assert shapely.intersects(shapes[1], shapely.Point(lon, 90)) and shapely.intersects(shapes[2], shapely.Point(lon, -89.995))
    assert shapely.bounds(shapes[1])[1] > 89.98


@pytest.mark.parametrize("km", [10, -10])
def test_countries_grow_and_shrink_and_stay_valid(km: int) -> None:
    land = countries()
    done = do("buffer", land, distance=f"{km} km").layers[0]
    assert shapely.is_valid(done.geometry).all() and len(done) == len(land)
    small, large = (land.geometry, done.geometry) if km > 0 else (done.geometry, land.geometry)
    valid = shapely.make_valid(small)
    assert float(shapely.area(shapely.difference(valid, shapely.make_valid(large))).max()) < 1e-9
    before = np.array(rows(do("measure", land, what=["area", "perimeter"], length_unit="km", area_unit="km2"), "area_km2"))
    around = np.array(rows(do("measure", land, what=["perimeter"], length_unit="km"), "perimeter_km"))
    after = np.array(rows(do("measure", done, what=["area"], area_unit="km2"), "area_km2"))
    # never more than the edge's length times the distance and full circles at its ends (common practice)
    assert (np.abs(after - before) <= 1.02 * around * abs(km) + 400 * shapely.get_num_geometries(land.geometry)).all()
    iso = land.table.column("iso").to_pylist()
    pole = done.geometry[iso.index("ATA")]
    assert shapely.intersects(pole, shapely.Point(12, -90)) and shapely.bounds(pole)[3] < -62
    fiji = done.geometry[iso.index("FJI")]
    assert not shapely.intersects(fiji, shapely.Point(0, -17))


def test_a_buffer_of_a_large_area_is_everywhere_as_wide_as_it_says() -> None:
    """geographiclib: places on the new edge are 50 km from the old one, also 40 degrees from the middle."""
    area = layer_of([shapely.box(-40, 20, 40, 70)], WGS84)
    grown = do("buffer", area, distance="50 km").layers[0].geometry[0]
    edge = shapely.get_coordinates(shapely.segmentize(grown.exterior, 0.5))[::37]
    far = rows(do("nearest", here(*map(tuple, edge)), other=area), "distance_m")
    assert far == pytest.approx([50_000] * len(far), rel=1.5e-3)
    assert "more than a quarter" in refused("buffer", area, distance="11000 km")


@pytest.mark.parametrize("crs", ["EPSG:3832", "EPSG:3413", "EPSG:3031", "EPSG:3857", "EPSG:6933", MOLLWEIDE])
def test_countries_come_back_from_every_map_without_bands(crs: str) -> None:
    land = countries()
    iso = land.table.column("iso").to_pylist()
    there = do("reproject", land, crs=crs)
    back = do("reproject", there.layers[0], crs=WGS84)
    names = rows(back, "iso")
    wide = shapely.bounds(back.layers[0].geometry)
    assert {n for n, w in zip(names, wide[:, 2] - wide[:, 0], strict=True) if w > 180} <= {"RUS", "FJI", "ATA"}
    parts = shapely.bounds(shapely.get_parts(back.layers[0].geometry[names.index("FJI")]))
    assert (parts[:, 2] - parts[:, 0] < 5).all()
    size = rows(do("measure", land, what=["area"]), "area_ha")
    for n, again in rows(do("measure", back.layers[0], what=["area"]), "n", "area_ha"):
        close("reproject", THERE_AND_BACK, again, size[n], rel=2e-5)
    # what is missing has no place there, and is said: the pole on a cylinder, the far pole of a polar map
    gone = set(iso) - set(names)
    assert gone <= {"ATA"} and (not gone or "no place" in " ".join([*aside(there), *aside(back)]))
    assert ("ATA" in names) == (crs in ("EPSG:3031", "EPSG:6933", MOLLWEIDE))


def test_a_small_area_over_the_edge_of_a_map_is_cut_there() -> None:
    """The edge of EPSG:3832, whose middle is 150 east, lies 30 degrees west."""
    there = do("reproject", layer_of([shapely.box(-35, 10, -25, 20)], WGS84), crs="EPSG:3832").layers[0].geometry[0]
    wide = [np.ptp(shapely.get_coordinates(p)[:, 0]) for p in shapely.get_parts(there)]
    assert len(wide) == 2 and max(wide) < 6e5 and there.is_valid
    back = do("reproject", layer_of([there], "EPSG:3832"), crs=WGS84).layers[0].geometry[0]
    assert shapely.union_all(shapely.get_parts(back)).equals_exact(shapely.box(-35, 10, -25, 20), 1e-6, normalize=True) or (
        shapely.symmetric_difference(back, shapely.box(-35, 10, -25, 20)).area < 1e-6
    )


def test_a_pole_is_nowhere_on_a_cylinder_that_keeps_angles() -> None:
    outcome = do("reproject", here((10, 90), (10, 60)), crs="EPSG:3395")
    assert len(outcome.layers[0]) == 1 and aside(outcome) == {"has no place in EPSG:3395": 1}
    assert any(r.look for r in outcome.remarks)


def test_edges_off_their_course_are_told_and_can_be_kept() -> None:
    area = layer_of([shapely.box(0, 58, 4, 60)], WGS84)
    bent = do("reproject", area, crs="EPSG:32631")
    assert "off their course" in said(bent) and any(r.look for r in bent.remarks)
    kept = do("reproject", area, crs="EPSG:32631", tolerance="1 m")
    back = do("reproject", kept.layers[0], crs=WGS84).layers[0].geometry[0]
    assert shapely.hausdorff_distance(back, shapely.segmentize(area.geometry[0], 0.01)) < 0.02
    size = rows(do("measure", area, what=["area"]), "area_ha")[0]
    for layer, off in ((kept.layers[0], 1e-4), (bent.layers[0], 1e-2)):
        found = rows(do("measure", layer, what=["area"], how="geodesic"), "area_ha")[0]
        assert abs(found / size - 1) < off
    assert "there and back" in kept.outputs[0].controls[0].name


def test_180_and_minus_180_are_one_meridian() -> None:
    """Joined, an area over the meridian holds a place right on it; the truth table of OGC 06-103r4 for a place within."""
    area = shapely.multipolygons([shapely.box(179, 9, 180, 11), shapely.box(-180, 9, -179, 11)])
    layer = layer_of([area], WGS84, name=["over"])
    for lon in (180.0, -180.0):
        place = here((lon, 10.0))
        for relation, held in (("intersects", 1), ("within", 1), ("touches", 0), ("disjoint", 0), ("crosses", 0)):
            kept = do("keep_by_place", place, to=layer, relation=relation, edge=False)
            assert len(kept.layers[0]) == held, (lon, relation)
        assert rows(do("join_by_place", place, other=layer, fields=["name"]), "name") == ["over"]
        assert rows(do("count_in_areas", layer, other=place, field="places"), "places") == [1]
        assert len(do("keep_by_place", place, to=here((-lon, 10.0)), relation="equals").layers[0]) == 1
        assert rows(do("nearest", place, other=layer), "distance_m") == [0.0]
    one_side = layer_of([shapely.box(-180, 9, -179, 11)], WGS84)
    assert len(do("keep_by_place", here((180.0, 10.0)), to=one_side, relation="touches").layers[0]) == 1
    # a file whose longitudes run from 0 to 360
    turned = layer_of([shapely.box(179, 9, 181, 11)], WGS84, name=["over"])
    for place in ((-179.5, 10.0), (179.5, 10.0)):
        assert len(do("keep_by_place", here(place), to=turned, relation="within").layers[0]) == 1
        assert len(do("keep_by_place", turned, to=here(place), relation="contains").layers[0]) == 1
        assert len(do("clip", here(place), to=turned).layers[0]) == 1


def test_an_edge_the_long_way_round_is_told_and_can_take_the_short_one(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Through the command: a recording from 179 to -179 is drawn round the globe, and says so where it comes in."""
    track = shapely.LineString([(170, 10), (179, 12), (-179, 13), (-170, 15)])
    write(layer_of([track, shapely.box(-180, -10, 180, 10)], WGS84), tmp_path / "track.gpkg", "track")
    short = layer_of([track], WGS84)
    mended = do("make_valid", short, long_edges="short")
    assert "1 feature goes the short way" in said(mended) and shapely.get_num_geometries(mended.layers[0].geometry[0]) == 2
    km = do("measure", mended.layers[0], what=["length"]).outputs[0].totals[0][1]
    legs = [apart((170, 10), (179, 12)), apart((179, 12), (-179, 13)), apart((-179, 13), (-170, 15))]
    assert km == pytest.approx(sum(legs) / 1000, rel=1e-3)
    monkeypatch.chdir(tmp_path)
    told = CliRunner().invoke(app, ["do", "measure", "track.gpkg", "--what", "length", "-o", "out.gpkg"])
    assert told.exit_code == 0 and "1 feature has an edge of more than half a turn" in " ".join(told.output.split())


def test_parts_on_both_sides_of_the_meridian_are_no_edge_round_the_globe(tmp_path: Path) -> None:
    both = shapely.multipolygons([shapely.box(179, 9, 179.9, 11), shapely.box(-180, 9, -179, 11)])
    layer = layer_of([both, shapely.box(-180, 86, 180, 90)], WGS84)
    write(layer, tmp_path / "isles.gpkg", "isles")
    flow = Workflow()
    flow.path = tmp_path / "w.toml"
    flow.load("in", files=["isles.gpkg"])
    assert [r.text for r in flow.run().steps[0].remarks if "half a turn" in r.text] == []
    assert not jumps(layer.geometry).any()


def test_a_circle_about_the_pole_is_one_on_a_polar_map() -> None:
    """60 nautical miles about 89.2 north, 30 east: the pole is within, 22 km from its edge on the far side."""
    grown = do("buffer", here((30, 89.2)), distance="60 nmi").layers[0]
    there = do("reproject", grown, crs="EPSG:3995", tolerance="1 m")
    shape = there.layers[0].geometry[0]
    assert shape.is_valid and shape.contains(shapely.Point(0, 0)) and "would be off by 4" not in said(there)
    middle = do("reproject", here((30, 89.2)), crs="EPSG:3995").layers[0].geometry[0]
    far = shapely.distance(middle, shapely.points(shapely.get_coordinates(shape)))
    assert far.max() / far.min() < 1.002, "a circle stays one where angles are kept"


def test_layers_that_are_put_together_keep_their_shapes() -> None:
    """Longitudes that run on to 190 are laid over others in every turn, but stay what they are where layers are only joined up."""
    turned, cap = (layer_of([shapely.box(170, 0, 190, 5)], WGS84, "a"), layer_of([shapely.box(-180, 80, 180, 90)], WGS84, "b"))
    merged = do("merge", [turned, cap])
    assert [s.equals(o) for s, o in zip(merged.layers[0].geometry, [*turned.geometry, *cap.geometry], strict=True)] == [True, True]
    assert len(do("compare", turned, earlier=turned, key=["n"]).layers[0]) == 0


def test_middles_hulls_and_ways_over_180_degrees() -> None:
    area = shapely.multipolygons([shapely.box(178, 0, 180, 2), shapely.box(-180, 0, -178, 2)])
    layer = layer_of([area], WGS84, name=["over"])
    for where in ("mass", "on"):
        middle = do("centre_points", layer, where=where).layers[0].geometry[0]
        assert abs(abs(middle.x) - 180) < 1e-6 and 0.5 < middle.y < 1.5
    assert abs(rows(do("measure", layer, what=["x"]), "x")[0]) == pytest.approx(180)
    round_ = here((179, 0), (-179, 0), (179.5, 1), (-179.5, -1))
    hull = do("hull", round_, around="group").layers[0].geometry[0]
    assert not shapely.intersects(hull, shapely.Point(0, 0)) and shapely.is_valid(hull)
    assert do("measure", layer_of([hull], WGS84), what=["area"]).outputs[0].totals[0][1] < 6e6
    polar = do("hull", here((0, 85), (90, 85), (180, 85), (-90, 85)), around="group").layers[0].geometry[0]
    assert shapely.intersects(polar, shapely.Point(33, 90)) and shapely.is_valid(polar)
    circle = do("hull", layer_of([shapely.MultiPoint([(9, 60), (11, 60)])], WGS84), shape="circle")
    wide, high = np.ptp(shapely.get_coordinates(circle.layers[0].geometry[0]), axis=0)
    assert wide * np.cos(np.radians(60)) == pytest.approx(high, rel=0.02)
    way = do("connect_points", here((179, 0), (-179, 0), (-178, 1))).layers[0]
    assert way.geometry[0].geom_type == "MultiLineString" and way.kind is GeometryKind.LINE
    km = do("measure", way, what=["length"]).outputs[0].totals[0][1]
    close("connect_points", REFERENCE, km, (apart((179, 0), (-179, 0)) + apart((-179, 0), (-178, 1))) / 1000, rel=1e-5)


def test_a_simpler_course_in_degrees_keeps_its_own_vertices() -> None:
    land = countries()
    thin = do("simplify", land, tolerance="20 km").layers[0].geometry
    old = {tuple(c) for c in shapely.get_coordinates(land.geometry).round(9).tolist()}
    assert {tuple(c) for c in shapely.get_coordinates(thin).round(9).tolist() if abs(c[0]) < 180} <= old
    sound = shapely.is_valid(land.geometry)
    assert shapely.is_valid(thin[sound]).all()
    russia = thin[land.table.column("iso").to_pylist().index("RUS")]
    assert shapely.bounds(russia)[[0, 2]].tolist() == [-180, 180], "both sides still meet at 180 degrees"
    assert shapely.get_num_coordinates(thin).sum() < 0.8 * shapely.get_num_coordinates(land.geometry).sum()
    # no vertex left out lies further from the new course than said (geodesics by the library)
    canada = land.table.column("iso").to_pylist().index("CAN")
    lost = shapely.get_coordinates(land.geometry[canada]).tolist()
    far = rows(do("nearest", here(*map(tuple, lost[::7])), other=do("outlines", layer_of([thin[canada]], WGS84)).layers[0]), "distance_m")
    close("simplify", "no corner further off than the tolerance, along geodesics", np.maximum(far, 20_000), [20_000] * len(far), rel=1e-3)
    dense = do("densify", layer_of([shapely.LineString([(0, 60), (10, 60)])], WGS84), longest="50 km").layers[0].geometry[0]
    steps = [apart(*pair) for pair in zip(list(dense.coords)[:-1], list(dense.coords)[1:], strict=True)]
    close("densify", REFERENCE, steps, [steps[0]] * len(steps), rel=1e-6)
    assert max(steps) <= 50_000 and {c[1] for c in dense.coords} == {60.0} and len(steps) == 12


ZM = shapely.from_wkt("LINESTRING ZM (0 0 1 10, 1 0.001 2 20, 2 0 3 30, 3 0 4 40)")


def shifted(shape: shapely.Geometry, crs: str) -> shapely.Geometry:
    return shape if crs == WGS84 else shapely.from_wkt("LINESTRING ZM (500000 0 1 10, 600000 50 2 20, 700000 0 3 30, 800000 0 4 40)")


@pytest.mark.parametrize("crs", [WGS84, UTM])
def test_heights_and_measures_go_through_what_keeps_vertices(crs: str) -> None:
    line = layer_of([shifted(ZM, crs), shapely.from_wkt("POINT M (1 1 7)"), shapely.from_wkt("POINT Z (1 1 7)")][:1], crs)

    def zm(layer: Layer) -> np.ndarray:
        return shapely.get_coordinates(layer.geometry, include_z=True, include_m=True)[:, 2:]

    whole = zm(line)
    moved = do("reproject", line, crs="EPSG:3395")
    assert (zm(moved.layers[0]) == whole).all() and "vertical datum" in said(moved)
    assert zm(do("simplify", line, tolerance="1 km").layers[0]).tolist() == [[1, 10], [4, 40]]
    dense = zm(do("densify", line, longest="60 km").layers[0])
    assert len(dense) > 5 and np.allclose(dense[:, 1], dense[:, 0] * 10)
    corners = do("corner_points", line).layers[0]
    assert (zm(corners) == whole).all()
    if crs == UTM:
        assert (zm(do("connect_points", corners).layers[0]) == whole).all()
    halves = [shapely.from_wkt("LINESTRING ZM (0 0 1 10, 1 0 2 20)"), shapely.from_wkt("LINESTRING ZM (1 0 2 20, 3 0 4 40)")]
    joined = do("dissolve", layer_of(halves, crs), by=[]).layers[0]
    assert sorted(zm(joined).tolist()) == [[1, 10], [2, 20], [4, 40]]
    middle = shapely.get_coordinates(line.geometry[0])[1] * 0.5 + shapely.get_coordinates(line.geometry[0])[0] * 0.5
    cut = do("cut_lines", line, at=layer_of([shapely.Point(middle)], crs), within="10 km").layers[0]
    assert np.allclose(zm(cut)[1], [1.5, 15], atol=1e-3) and len(cut) == 2
    west, _, east, _ = shapely.bounds(line.geometry[0])
    box = layer_of([shapely.box(west - 1, -1e4, (west + east) / 2, 1e4)], crs)
    for clipped in (do("clip", line, to=box), do("erase", line, by=box), do("overlay", line, other=box)):
        found = zm(clipped.layers[0])
        assert np.isfinite(found).all() and np.allclose(found[:, 1], found[:, 0] * 10)
    area = layer_of([shapely.from_wkt("POLYGON ZM ((0 0 1 10, 4 0 5 50, 4 4 5 50, 0 4 1 10, 0 0 1 10))")], crs)
    half = do("clip", area, to=layer_of([shapely.box(-1, -1, 2, 5)], crs)).layers[0]
    assert np.allclose(zm(half)[:, 1], zm(half)[:, 0] * 10) and np.isfinite(zm(half)).all()


def test_heights_and_measures_outlast_the_meridian_of_180_degrees_and_what_makes_one_of_several() -> None:
    """M is ten times Z all along; nothing that is cut, joined, closed or made one there loses it or leaves it without a number."""

    def told(layer: Layer, what: str) -> None:
        assert shapely.has_m(layer.geometry).all() and shapely.has_z(layer.geometry).all(), what
        found = shapely.get_coordinates(layer.geometry, include_z=True, include_m=True)[:, 2:]
        assert np.isfinite(found).all() and np.allclose(found[:, 1], found[:, 0] * 10), what

    def zm(kind: str, inner: str) -> shapely.Geometry:
        numbers = ", ".join(f"{x} {y} {z} {10 * int(z)}" for x, y, z in (c.split() for c in inner.split(",")))
        return shapely.from_wkt(f"{kind} ZM (({numbers}))" if kind == "POLYGON" else f"{kind} ZM ({numbers})")

    beyond = [
        zm("LINESTRING", "170 10 1,190 12 3,191 12 4"),
        zm("POLYGON", "170 10 1,190 10 2,190 20 3,170 20 4,170 10 1"),
        zm("MULTIPOINT", "170 1 1,190 1 2"),
    ]
    there = do("reproject", layer_of(beyond, WGS84), crs="EPSG:3832").layers[0]
    told(there, "joined for a map of the Pacific")
    back = do("reproject", there, crs=WGS84).layers[0]
    told(back, "cut for degrees")
    told(do("reproject", back, crs="EPSG:3832").layers[0], "joined again")
    told(do("simplify", back, tolerance="1 km").layers[0], "simplified over it")
    round_pole = zm("POLYGON", "-180 60 1,-90 61 2,0 60 3,90 61 4,180 60 1,180 90 9,-180 90 9,-180 60 1")
    polar = do("reproject", layer_of([round_pole], WGS84), crs="EPSG:3995").layers[0]
    told(polar, "opened at a pole")
    told(do("reproject", polar, crs=WGS84).layers[0], "closed over a pole")
    halves = [zm("POLYGON", "0 0 1,1 0 2,1 1 3,0 1 4,0 0 1"), zm("POLYGON", "1 0 2,2 0 5,2 1 6,1 1 3,1 0 2")]
    lapping = zm("POLYGON", "0.5 0 1,1.5 0 2,1.5 1 3,0.5 1 4,0.5 0 1")
    for members in (halves, [halves[0], lapping]):
        told(do("dissolve", layer_of(members, UTM), by=[]).layers[0], "dissolved")
    areas = layer_of([shapely.box(-1, -1, 0.5, 2), shapely.box(0.5, -1, 3, 2)], UTM, name=["a", "a"])
    for part in do("split_by_area", layer_of(halves, UTM), areas=areas, name_field="name", across="cut").layers:
        told(part, "cut by two areas of one name")


@pytest.mark.parametrize("shape", ["convex", "circle", "box"])
def test_a_place_beyond_a_pole_does_not_take_its_group_along(shape: str) -> None:
    """One row with a latitude of 95 is set aside for what it is; the shape goes around the others."""
    given_places = here((0, 0), (1, 0), (0, 1), (5, 95))
    found = do("hull", given_places, shape=shape, around="group")
    assert rows(found, "features") == [3] and aside(found) == {"has coordinates that are no degrees": 1}
    assert "1 feature has coordinates that are no degrees" in said(found)
    assert aside(do("hull", given_places, shape=shape)) == {"has coordinates that are no degrees": 1, "encloses no area": 3}


@pytest.mark.parametrize(
    ("crs", "to", "first", "step", "off"),
    [(WGS84, "EPSG:32632", (9.0, 50.0), 1e-4, (-90.0, 0.1)), ("EPSG:32632", WGS84, (5e5, 5e6), 10.0, (9e8, 5e6))],
    ids=["far outside a zone", "a figure too many"],
)
def test_one_place_of_thousands_that_has_none_there_is_set_aside(
    crs: str, to: str, first: tuple[float, float], step: float, off: tuple[float, float]
) -> None:
    """It lies where no sample of some hundred would look."""
    places = [shapely.Point(first[0] + n * step, first[1]) for n in range(5_000)]
    places[1_234] = shapely.Point(off)
    found = do("reproject", layer_of(places, crs), crs=to)
    assert found.inputs[0].set_aside.rows.tolist() == [1_234]


@pytest.mark.parametrize("target", ["EPSG:32626", "EPSG:3035", "EPSG:3857", "EPSG:4258", "EPSG:27700", "EPSG:3031"])
@pytest.mark.parametrize(("west", "south"), [(-30.0, 60.0), (-3.0, 52.0), (170.0, -10.0), (-5.0, 84.0), (0.0, -89.0)])
def test_points_known_by_their_coordinates_go_where_shapes_go(target: str, west: float, south: float) -> None:
    xy = np.random.default_rng(4).uniform((west, south), (west + 11, south + 5.5), (700, 2))
    xy[:, 0] = np.where(xy[:, 0] > 180, xy[:, 0] - 360, xy[:, 0])
    shapes = layer_of(shapely.points(xy), WGS84)
    binary = Layer("a", shapes.table, WkbArray.of_points(xy), WGS84)
    one, other = (do("reproject", x, crs=target) for x in (shapes, binary))
    assert aside(one) == aside(other) and sorted(said(one)) == sorted(said(other))
    assert one.layers[0].kind == other.layers[0].kind and one.layers[0].crs == other.layers[0].crs
    assert shapely.equals_exact(one.layers[0].geometry, other.layers[0].geometry, 0.0).all()
    assert one.outputs[0].to_json() == other.outputs[0].to_json()


def test_a_place_made_wrongly_does_not_balance(monkeypatch: pytest.MonkeyPatch) -> None:
    """The control takes what was made, and brings it back; 2 cm are seen."""
    there = moving.moved
    monkeypatch.setattr(moving, "moved", lambda shapes, move: there(shapes, lambda xy: np.add(move(xy), (0.02, 0.0))))
    with pytest.raises(AccountError, match="there and back"):
        do("reproject", here((9.0, 50.0)), crs="EPSG:32632")


@pytest.mark.parametrize("use", ["dissolve", "gather_parts"])
def test_what_is_nowhere_on_the_globe_is_told_where_sizes_are_added_up(use: str) -> None:
    """A shape of a million degrees has no area, and what lies beneath it none that could be added to it."""
    found = do(use, layer_of([shapely.box(-1e6, -1e6, 1e6, 1e6), shapely.box(0, 0, 1e-6, 1e-6)], WGS84), by=[])
    assert len(found.layers[0]) == 1 and "1 feature has coordinates that are no degrees" in said(found)


@pytest.mark.parametrize("far", [float("inf"), 1e13])
def test_what_is_endlessly_far_away_is_told_and_holds_nothing_up(far: float) -> None:
    """There would be turns about the globe without end on the way there."""
    found = do("connect_points", here((far, 0), (180, 90), (170, 80)))
    assert "coordinates that are no degrees" in said(found)
    line = layer_of([shapely.LineString([(0, 0), (far, 10)]), shapely.LineString([(179, 0), (181, 1)])], WGS84)
    for use, settings in (
        ("reproject", {"crs": "EPSG:3832"}),
        ("centre_points", {}),
        ("hull", {}),
        ("make_valid", {"long_edges": "short"}),
    ):
        outcome = do(use, line, **settings)
        assert len(outcome.layers[0]) + sum(aside(outcome).values()) == 2, use


@pytest.mark.parametrize(("ending", "bad"), [("gpkg", float("inf")), ("gpkg", float("nan")), ("shp", -1.7976931348623157e308)])
def test_a_shape_with_coordinates_that_are_no_numbers_is_set_aside_where_it_is_loaded(tmp_path: Path, ending: str, bad: float) -> None:
    """It would make the length of all endless, and most operations fail; the largest number stands for none in some files."""
    lines = [[(500_000, 5_000_000), (500_500, bad), (501_000, 5_000_000)], [(500_000, 5_000_000), (501_000, 5_000_000)]]
    shapes = shapely.to_wkb(np.array([shapely.LineString(c) for c in lines], object))
    pyogrio.raw.write(tmp_path / f"in.{ending}", shapes, [np.array([1, 2])], ["n"], geometry_type="LineString", crs=UTM)
    for use, *settings in (("simplify", "--tolerance", "1 m"), ("densify", "--longest", "10 m"), ("find_gaps",), ("hull",)):
        to = str(tmp_path / f"{use}.gpkg")
        said = CliRunner().invoke(app, ["do", use, str(tmp_path / f"in.{ending}"), *settings, "--out", to])
        assert said.exit_code == 0 and "1 · has coordinates that are no numbers" in said.output, said.output


def test_corners_that_no_memory_holds_are_refused() -> None:
    for crs, far in ((UTM, 1e6), (WGS84, 80)):
        with pytest.raises(SettingError, match="corners and more"):
            do("densify", layer_of([shapely.LineString([(0, 0), (far, far)])], crs), longest="1 mm")
