"""Shaping and describing on datasets that a package carries (libpysal), against a second library's answer (geopandas,
pandas, scipy) or a plain one pair by pair."""

from __future__ import annotations

from pathlib import Path

import geopandas
import libpysal.examples
import numpy as np
import pandas as pd
import pytest
import shapely
from scipy.spatial import cKDTree

from eskret import read, to_geopandas
from eskret.core.layer import Layer
from tests.operations.helpers import aside, do, layer_of, rows, said

HOME = Path(libpysal.examples.__file__).parent
PLANE = "EPSG:32617"


def planar(dataset: str, file: str) -> Layer:
    """A layer as it stands, its numbers taken for metres of a plane: these files do not say their CRS."""
    layer = read(HOME / dataset / file)
    return Layer(layer.key, layer.table, layer.geometry, PLANE)


@pytest.fixture(scope="module")
def tracts() -> Layer:
    """78 counties about St. Louis, moved and stretched to metres."""
    layer = read(HOME / "stl" / "stl_hom.shp")
    shapes = shapely.transform(layer.geometry, lambda xy: np.add(xy, (90, -37)) * 100_000 + (500_000, 4_000_000))
    return Layer("tracts", layer.table, shapes, PLANE)


def test_counties_dissolved_keep_sums_and_area_and_agree_with_a_second_opinion(tracts: Layer) -> None:
    states = do("dissolve", tracts, by=["STATE_NAME"], figures={"counties": "count", "homicides": "sum HC8893", "most": "max HR8893"})
    frame = to_geopandas(tracts)
    theirs = frame.dissolve("STATE_NAME", aggfunc={"HC8893": "sum", "HR8893": "max"})
    assert sum(rows(states, "counties")) == 78 and sum(rows(states, "homicides")) == frame.HC8893.sum()
    for state, homicides, most in rows(states, "STATE_NAME", "homicides", "most"):
        assert homicides == theirs.HC8893[state] and most == pytest.approx(theirs.HR8893[state])
    for state, shape in zip(rows(states, "STATE_NAME"), states.layers[0].geometry, strict=True):
        # edges of this file are off by hairs, so neighbours overlap and leave gaps: same areas, not same corners
        assert shape.symmetric_difference(theirs.geometry[state]).area < 1e-6 * shape.area
    one = do("dissolve", tracts, by=[])
    assert one.layers[0].geometry[0].area == pytest.approx(shapely.union_all(tracts.geometry).area, rel=1e-9)


def test_counties_split_and_merged_are_what_they_were(tracts: Layer) -> None:
    pieces = do("split", tracts, by=["STATE_NAME"])
    assert {x.key: len(x) for x in pieces.layers} == {
        name.lower(): n for name, n in pd.Series(rows(do("sort", tracts, by=["NAME"]), "STATE_NAME")).value_counts().items()
    }
    again = do("sort", do("merge", list(pieces.layers)).layers[0], by=["FIPSNO"])
    before = do("sort", tracts, by=["FIPSNO"])
    assert rows(again, "FIPSNO", "HC8893") == rows(before, "FIPSNO", "HC8893")
    assert shapely.equals(again.layers[0].geometry, before.layers[0].geometry).all()


def test_overlay_with_squares_agrees_with_a_second_opinion(tracts: Layer) -> None:
    x0, y0, x1, y1 = tracts.extent()
    edge = np.linspace(0, 1, 6)
    boxes = [
        shapely.box(x0 + a * (x1 - x0), y0 + b * (y1 - y0), x0 + (a + 0.2) * (x1 - x0), y0 + (b + 0.2) * (y1 - y0))
        for a in edge[:-1]
        for b in edge[:-1]
    ]
    squares = layer_of(boxes, PLANE, "squares", cell=list(range(25)))
    both = do("overlay", tracts, other=squares, keep="both")
    theirs = geopandas.overlay(to_geopandas(tracts), to_geopandas(squares), how="intersection", keep_geom_type=True)
    area = pd.DataFrame(rows(both, "FIPSNO", "cell"), columns=["FIPSNO", "cell"])
    area["area"] = shapely.area(both.layers[0].geometry)
    mine = area.groupby(["FIPSNO", "cell"]).area.sum()
    other = theirs.area.groupby([theirs.FIPSNO, theirs.cell]).sum()
    other = other[other > 1e-3]
    assert len(mine[mine > 1e-3]) == len(other)
    for key, area in other.items():
        assert mine[key] == pytest.approx(area, rel=1e-9, abs=1e-6)
    # what lies in each square, counted with the share of each county that it holds
    counted = do("count_in_areas", squares, other=tracts, field="n", figures={"hc": "sum HC8893"})
    pairs = [sum(s.intersects(t) for t in tracts.geometry) for s in boxes]
    assert sum(rows(counted, "n")) <= sum(pairs) and len(rows(counted, "n")) == 25


def test_neighbours_simplified_together_stay_neighbours() -> None:
    layer = planar("columbus", "columbus.shp")
    shapes = shapely.coverage_simplify(layer.geometry, 0)
    whole = Layer("c", layer.table, shapely.transform(shapes, lambda xy: xy * 1000 + 500_000), PLANE)
    if not shapely.coverage_is_valid(whole.geometry):
        whole = Layer("c", whole.table, shapely.set_precision(whole.geometry, 1.0), PLANE)
    lighter = do("simplify", whole, tolerance="80 m", shared=True)
    made = lighter.layers[0].geometry
    assert len(made) == 49 and shapely.is_valid(made).all()
    assert shapely.get_num_coordinates(made).sum() < shapely.get_num_coordinates(whole.geometry).sum()
    before, after = shapely.union_all(whole.geometry), shapely.union_all(made)
    assert shapely.area(made).sum() == pytest.approx(after.area, rel=1e-3), "no gaps and no overlaps to speak of"
    assert after.area == pytest.approx(before.area, rel=0.02)


def test_nearest_agrees_with_a_tree_and_a_join_with_a_merge() -> None:
    homes = planar("baltim", "baltim.shp")
    points = shapely.get_coordinates(homes.geometry)
    half = homes.take(np.arange(0, 211, 2))
    found = do("nearest", homes, other=half, fields=["STATION"], unit="m")
    distance, at = cKDTree(points[::2]).query(points)
    name = next(n for n in found.layers[0].table.column_names if n.startswith("distance"))
    assert np.allclose(rows(found, name), distance)
    near = rows(found, "STATION_2")
    stations = np.array(rows(do("sort", homes, by=["STATION"]), "STATION"))
    assert len(stations) == 211 and sum(near[i] == half.table.column("STATION")[int(k)].as_py() for i, k in enumerate(at)) > 200
    prices = Layer("prices", homes.table.select(["STATION", "PRICE"]).slice(0, 150))
    joined = do("join_table", homes.with_table(homes.table.drop(["PRICE"])), table=prices, key="STATION")
    theirs = homes.table.to_pandas().drop(columns="PRICE").merge(prices.table.to_pandas(), on="STATION", how="left")
    mine = pd.Series(rows(joined, "PRICE"), dtype=float)
    assert mine.equals(theirs.PRICE) and sum(len(a) for a in joined.inputs[0].altered) == 61


def test_summaries_and_a_pivot_agree_with_a_data_frame() -> None:
    homes = planar("baltim", "baltim.shp")
    frame = homes.table.to_pandas()
    found = do("summarise", homes, by=["NROOM"], figures={"n": "count", "mean": "mean PRICE", "mid": "median PRICE", "sd": "sd PRICE"})
    theirs = frame.groupby("NROOM").PRICE.agg(["count", "mean", "median", "std"])
    for rooms, n, mean, mid, sd in rows(found, "NROOM", "n", "mean", "mid", "sd"):
        row = theirs.loc[rooms]
        assert n == row["count"] and mean == pytest.approx(row["mean"]) and mid == pytest.approx(row["median"])
        assert (sd is None and np.isnan(row["std"])) or sd == pytest.approx(row["std"])
    wide = do("pivot", homes, by=["NROOM"], columns="DWELL", cell="sum PRICE")
    table = frame.pivot_table("PRICE", "NROOM", "DWELL", aggfunc="sum")
    mine = wide.layers[0].table.to_pandas().set_index("NROOM")
    for column in table.columns:
        name = next(c for c in mine.columns if str(int(column)) in c)
        assert np.allclose(mine[name].fillna(0), table[column].reindex(mine.index).fillna(0))


def test_a_street_network_encloses_the_blocks_that_a_second_opinion_finds() -> None:
    streets = planar("snow_maps", "Soho_Network.shp")
    # lines are joined end to end: streets that cross without a corner are cut at their crossings first
    lines = shapely.get_parts(shapely.union_all(streets.geometry))
    blocks = do("enclose", layer_of(lines, PLANE))
    theirs = shapely.get_parts(shapely.polygonize(list(lines)))
    assert len(blocks.layers[0]) == len(theirs) > 5
    assert shapely.area(blocks.layers[0].geometry).sum() == pytest.approx(shapely.area(theirs).sum(), rel=1e-9)
    gaps = do("find_gaps", streets)
    ends = np.concatenate([shapely.get_coordinates(shapely.get_point(streets.geometry, n)) for n in (0, -1)])
    _, times = np.unique(ends, axis=0, return_counts=True)
    loose = int((times == 1).sum())
    assert f"{loose:,} loose end" in said(gaps)


def test_buffers_hulls_and_centres_of_real_shapes(tracts: Layer) -> None:
    ring = do("buffer", tracts, distance="2 km")
    assert (shapely.area(ring.layers[0].geometry) > shapely.area(tracts.geometry)).all()
    assert shapely.contains_properly(ring.layers[0].geometry, tracts.geometry).all()
    inward = do("buffer", tracts, distance="-2 km")
    assert sum(aside(inward).values()) + len(inward.layers[0]) == 78
    hull = do("hull", tracts, around="group")
    assert hull.layers[0].geometry[0].equals(shapely.convex_hull(shapely.union_all(tracts.geometry)))
    centres = do("centre_points", tracts, where="on")
    assert shapely.contains(tracts.geometry, centres.layers[0].geometry).all()
    outlines = do("outlines", tracts)
    assert shapely.length(outlines.layers[0].geometry).sum() == pytest.approx(shapely.length(tracts.geometry).sum(), rel=1e-12)
