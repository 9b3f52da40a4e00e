"""Open datasets that a package carries, against the counts its documentation states (libpysal's READMEs: n, k)."""

from __future__ import annotations

from pathlib import Path

import libpysal.examples
import numpy as np
import pyogrio
import pyproj
import pytest
import shapely

from eskret import Workflow, read
from eskret.core.layer import Layer
from eskret.operations import operation_by_id
from eskret.operations.base import Context
from eskret.workflow.run.step import prove

HOME = Path(libpysal.examples.__file__).parent
# dataset, file, features, kind, fields: as the README beside the file says
DOCUMENTED = [
    ("baltim", "baltim.shp", 211, "point", 17),
    ("columbus", "columbus.shp", 49, "area", 20),
    ("georgia", "G_utm.shp", 159, "area", None),
    ("burkitt", "burkitt.shp", 188, "point", 6),
    ("juvenile", "juvenile.shp", 168, "point", 3),
    ("mexico", "mexicojoin.shp", 32, "area", None),
    ("sids2", "sids2.shp", 100, "area", 18),
    ("us_income", "us48.shp", 48, "area", 8),
    ("virginia", "virginia.shp", 136, "area", 7),
    ("stl", "stl_hom.shp", 78, "area", None),
    ("chicago", "Chicago77.shp", 77, "area", None),
    ("street_net_pts", "street_net_pts.shp", 303, "point", 1),
    ("snow_maps", "SohoPeople.shp", 324, "point", 2),
    ("snow_maps", "SohoWater.shp", 13, "point", 1),
    ("snow_maps", "Soho_Network.shp", 118, "line", 1),
    ("networks", "eberly_net.shp", 29, "line", 3),
    ("networks", "eberly_net_pts_onnetwork.shp", 110, "point", 1),
    ("networks", "eberly_net_pts_offnetwork.shp", 100, "point", 2),
    ("calemp", "calempdensity.csv", 58, "table", 11),
    ("mexico", "mexico.csv", 32, "table", 13),
    ("us_income", "usjoin.csv", 48, "table", None),
]


@pytest.mark.parametrize(("dataset", "file", "count", "kind", "fields"), DOCUMENTED)
def test_counts_are_as_documented(dataset: str, file: str, count: int, kind: str, fields: int | None) -> None:
    layer = read(HOME / dataset / file)
    assert (len(layer), str(layer.kind)) == (count, kind)
    assert fields is None or len(layer.fields) == fields


def test_all_of_them_in_one_step_into_sections_and_nothing_lost(tmp_path: Path) -> None:
    workflow = Workflow()
    # none of these says its CRS in a file: it is given, since it is never guessed
    files = [str(HOME / d / f) for d, f, _, kind, _ in DOCUMENTED if kind != "table" and d not in ("snow_maps", "virginia")]
    workflow.load("all", files=files, crs="EPSG:32616")
    workflow.tally("count", "all")
    workflow.save("out", "all", to=str(tmp_path / "all.gpkg"))
    workflow.path = tmp_path / "w.toml"
    result = workflow.run()
    assert result.error == "" and result.state in ("balanced", "look")
    expected = sorted(n for d, _, n, kind, _ in DOCUMENTED if kind != "table" and d not in ("snow_maps", "virginia"))
    assert sorted(o.features for o in result.outputs) == expected
    counted = result.layers["count"][0].table
    assert sorted(counted.column("features").to_pylist()) == expected
    assert (
        sorted(
            n
            for _, n in (
                (name, pyogrio.read_info(tmp_path / "all.gpkg", layer=name)["features"])
                for name, _ in pyogrio.list_layers(tmp_path / "all.gpkg")
            )
        )
        == expected
    )


def _run(use: str, layer: Layer, other: Layer, **settings):
    operation = operation_by_id(use)
    outcome = operation.run(layer, operation.Settings(to="x", **settings), Context(others={"to": (other,)}))
    prove(outcome, operation.relation)
    return outcome.layers[0]


def test_places_in_a_real_coverage_agree_with_asking_every_pair() -> None:
    """Neighbours of one county by 'touches', and centres within counties, against the library's plain predicate."""
    counties = read(HOME / "sids2" / "sids2.shp")
    for row in (0, 37, 99):
        one = counties.take(np.array([row]))
        touching = _run("keep_by_place", counties, one, relation="touches")
        plain = shapely.touches(counties.geometry, one.geometry[0])
        assert len(touching) == plain.sum() and 1 <= len(touching) < 12
    centres = Layer("c", counties.table, shapely.point_on_surface(counties.geometry), counties.crs)
    assert len(_run("keep_by_place", centres, counties, relation="within")) == 100
    half = counties.take(np.arange(50))
    found = _run("keep_by_place", centres, half, relation="within")
    assert found.table.column("FIPSNO").to_pylist() == half.table.column("FIPSNO").to_pylist()


def test_deaths_near_the_water_pumps() -> None:
    """The survey of 1854: every death within 500 feet of a pump, against distances pair by pair: on the ground, since the file is in
    the square map of the whole world, whose metres are 1.6 times too long in London; in its plane where that is asked for."""
    people, pumps = read(HOME / "snow_maps" / "SohoPeople.shp"), read(HOME / "snow_maps" / "SohoWater.shp")
    assert people.crs is not None and people.crs == pumps.crs
    metres = 500 * 0.3048
    near = _run("keep_by_place", people, pumps, relation="near", distance="500 ft", along="planar")
    apart = np.array([min(p.distance(w) for w in pumps.geometry) for p in people.geometry])
    assert len(near) == (apart <= metres).sum()
    degrees = pyproj.Transformer.from_crs(people.crs, 4326, always_xy=True)
    geod = pyproj.Geod(ellps="WGS84")
    here, there = (np.column_stack(degrees.transform(*shapely.get_coordinates(x.geometry).T)) for x in (people, pumps))
    ground = np.array([geod.inv(*np.tile(p, (len(there), 1)).T, *there.T)[2].min() for p in here])
    held = _run("keep_by_place", people, pumps, relation="near", distance="500 ft")
    assert len(held) == (ground <= metres).sum() > len(near)
