"""The job on real data: the low-resolution countries that pyogrio ships for its own tests (Natural Earth, 177 features).

GeoPandas is the second opinion; areas of known countries are from memory of handbooks, to the tolerance such coarse
outlines allow.
"""

from __future__ import annotations

import json
from pathlib import Path

import geopandas
import numpy as np
import pyogrio
import pytest
import shapely

from eskret import Workflow, read
from eskret.core.measure.totals import measure_sizes
from eskret.workflow.run.engine import RunResult
from tests.operations.helpers import do, layer_of, rows, said, table_of

FILE = Path(pyogrio.__file__).parent / "tests" / "fixtures" / "naturalearth_lowres" / "naturalearth_lowres.shp"


@pytest.fixture(scope="module")
def frame() -> geopandas.GeoDataFrame:
    return geopandas.read_file(FILE)


def keep(folder: Path, where: str, target: str, crs: str = "", **values: object) -> RunResult:
    workflow = Workflow(crs=crs)
    workflow.path = folder / "w.toml"
    for name, value in values.items():
        workflow.parameter(name, type="number" if isinstance(value, int) else "text", default=value)
    countries = workflow.load("countries", files=[str(FILE)], totals=["pop_est"])
    workflow.save("saved", workflow.keep("kept", countries, where=where, totals=["pop_est"]), to=target)
    return workflow.run()


REST = ["North America", "South America", "Oceania"]
CONDITIONS = [
    ("name LIKE 'S%'", lambda f: f.name.str.startswith("S")),
    ("continent = 'Africa'", lambda f: f.continent == "Africa"),
    ("continent = 'Asia' AND pop_est > $least", lambda f: (f.continent == "Asia") & (f.pop_est > 50_000_000)),
    ("name ILIKE '%land%' OR iso_a3 = '-99'", lambda f: f.name.str.lower().str.contains("land") | (f.iso_a3 == "-99")),
    ("gdp_md_est BETWEEN 1000 AND 5000", lambda f: f.gdp_md_est.between(1000, 5000)),
    ("NOT (continent LIKE '%America' OR continent = 'Oceania')", lambda f: ~f.continent.isin(REST)),
]


@pytest.mark.parametrize(("where", "mask"), CONDITIONS, ids=[c[0] for c in CONDITIONS])
def test_conditions_keep_what_a_data_frame_keeps(tmp_path: Path, frame: geopandas.GeoDataFrame, where: str, mask) -> None:  # type: ignore[no-untyped-def]
    expected = frame[mask(frame)]
    result = keep(tmp_path, where, "out.gpkg", least=50_000_000)
    assert result.state == "balanced", result.error
    account = result.steps[1].inputs[0]
    assert (account.rows, account.used) == (177, len(expected)) and 0 < len(expected) < 177
    saved = read(tmp_path / "out.gpkg")
    assert saved.table.column("name").to_pylist() == expected.name.tolist()
    assert saved.geometry is not None
    # single parts beside multiple ones become multiple, as a container with one declared type wants
    assert shapely.equals(saved.geometry, expected.geometry.to_numpy()).all()
    sums = {n: v for n, v, _ in result.steps[1].outputs[0].totals}
    assert sums["pop_est"] == expected.pop_est.sum()


def test_areas_are_those_of_the_handbooks(frame: geopandas.GeoDataFrame) -> None:
    layer = read(FILE)
    assert layer.geometry is not None and layer.crs == "EPSG:4326"
    sizes = measure_sizes(layer.geometry, layer.kind, layer.crs)
    assert sizes is not None
    square_km = dict(zip(layer.table.column("name").to_pylist(), sizes / 1e6, strict=True))
    for name, area in (("Kenya", 580_000), ("France", 640_000), ("Iceland", 103_000), ("Australia", 7_690_000), ("Brazil", 8_510_000)):
        assert square_km[name] == pytest.approx(area, rel=0.06), name
    geodesic = [abs(frame.crs.get_geod().geometry_area_perimeter(g)[0]) for g in frame.geometry]
    # straight edges of an equal-area projection are not quite geodesics
    np.testing.assert_allclose(sizes, geodesic, rtol=5e-3)


def test_geojson_of_the_whole_world_is_sound(tmp_path: Path, frame: geopandas.GeoDataFrame) -> None:
    assert keep(tmp_path, "true", "world.geojson").state == "balanced"
    found = json.loads((tmp_path / "world.geojson").read_text())
    assert len(found["features"]) == 177
    west, south, east, north = found["bbox"]
    assert -180 <= west < east <= 180 and -90 <= south < north <= 90
    back = geopandas.read_file(tmp_path / "world.geojson")
    assert back.name.tolist() == frame.name.tolist()
    assert shapely.hausdorff_distance(back.geometry.to_numpy(), frame.geometry.to_numpy()).max() < 1e-6
    for feature in found["features"]:
        polygons = feature["geometry"]["coordinates"]
        for rings in [polygons] if feature["geometry"]["type"] == "Polygon" else polygons:
            assert shapely.LinearRing(rings[0]).is_ccw and not any(shapely.LinearRing(r).is_ccw for r in rings[1:])


def test_an_equal_area_system_keeps_the_sum(tmp_path: Path) -> None:
    result = keep(tmp_path, "continent = 'Africa'", "africa.gpkg", crs="EPSG:6933")
    assert result.state == "look", result.error
    # edges of some degrees between coarse corners are no straight lines there, and that is said
    assert any("off their course" in r.text for s in result.steps for r in s.remarks)
    (_, hectares, unit), *_ = result.steps[1].outputs[0].totals
    # the continent has some 30.3 million square kilometres with its islands; from memory, to a few per cent
    assert unit == "ha" and hectares / 100 == pytest.approx(30_000_000, rel=0.04)
    assert read(tmp_path / "africa.gpkg").crs == "EPSG:6933"


# square kilometres, from memory of handbooks; outlines this coarse miss some hundredths of them
KNOWN = {"Iceland": 103_000, "Madagascar": 587_000, "Sri Lanka": 65_600, "Australia": 7_690_000, "Cuba": 110_000, "Portugal": 92_000}


def test_areas_along_the_ellipsoid_are_those_of_handbooks_and_sum_up_by_continent(frame: geopandas.GeoDataFrame) -> None:
    layer = read(FILE)
    measured = do("measure", layer, what=["area", "perimeter"], area_unit="km2", length_unit="km")
    areas = dict(zip(rows(measured, "name"), rows(measured, "area_km2"), strict=True))
    for name, known in KNOWN.items():
        assert areas[name] == pytest.approx(known, rel=0.09), name
    total = do("dissolve", measured.layers[0], by=["continent"], figures={"people": "sum pop_est", "km2": "sum area_km2", "n": "count"})
    by_hand = frame.groupby("continent").agg(people=("pop_est", "sum"), n=("name", "count"))
    for continent, people, km2, number in rows(total, "continent", "people", "km2", "n"):
        assert (number, people) == (by_hand.n[continent], pytest.approx(by_hand.people[continent]))
        assert km2 == pytest.approx(sum(a for c, a in zip(frame.continent, rows(measured, "area_km2"), strict=True) if c == continent))
    assert sum(rows(total, "n")) == 177


def test_lists_of_nearly_the_same_countries_leave_something_on_either_side() -> None:
    """Two lists of nearly the same countries; names that differ in case and blanks only meet when told so."""
    layer = read(FILE)
    names = rows(do("sort", layer, by=["name"]), "name")
    other = [*(n.upper() if i % 9 == 0 else f" {n}" if i % 11 == 0 else n for i, n in enumerate(names[4:])), "Atlantis", "Lyonesse"]
    table = table_of("list", name=other, rank=list(range(len(other))))
    plainly = do("join_table", layer, table=table, key="name")
    alike = do("join_table", layer, table=table, key="name", alike=["case", "blanks"])
    odd = sum(i % 9 == 0 or i % 11 == 0 for i in range(173))
    assert sum(len(a) for a in plainly.inputs[0].altered) == 4 + odd and len(plainly.inputs[1].set_aside) == 2 + odd
    assert sum(len(a) for a in alike.inputs[0].altered) == 4 and dict(alike.inputs[1].set_aside.counts()) == {"no feature has its key": 2}


def test_neighbours_joined_and_clipped_agree_with_a_second_opinion(frame: geopandas.GeoDataFrame) -> None:
    layer = read(FILE)
    continents = do("dissolve", layer, by=["continent"])
    theirs = frame.dissolve("continent").geometry
    for continent, shape in zip(rows(continents, "continent"), continents.layers[0].geometry, strict=True):
        assert shape.symmetric_difference(theirs[continent]).area < 1e-9
    box = layer_of([shapely.box(-20, -30, 60, 40)], layer.crs, "box")
    clipped = do("clip", layer, to=box)
    second = geopandas.clip(frame, shapely.box(-20, -30, 60, 40))
    assert shapely.area(clipped.layers[0].geometry).sum() == pytest.approx(second.area.sum(), rel=1e-12)
    assert set(rows(clipped, "name")) == set(second.name)
    apart = do("separate_parts", layer)
    assert len(apart.layers[0]) == len(frame.explode()) and "came apart" in said(apart)
