"""Whole workflows, files in and files out, beside the script an analyst would write with GeoPandas: the same features, the
same attributes, areas to 1e-9."""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path

import geopandas as gpd
import numpy as np
import pandas as pd
import pytest
import shapely

from eskret import Workflow
from eskret.workflow.run.engine import RunResult
from tests.length import turns

CRS = "EPSG:32626"
SIDE = 30


@pytest.fixture(scope="module")
def data(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A coverage of 900 leaning quadrilaterals whose edges have corners in common, an area of many corners, marks, a table."""
    folder = tmp_path_factory.mktemp("data")
    rng = np.random.default_rng(7)
    line = np.linspace(0, 9000, SIDE + 1)
    corners = np.stack(np.meshgrid(line, line, indexing="ij"), -1)
    corners += rng.uniform(-60, 60, corners.shape)
    a, b = corners[:-1, :-1].reshape(-1, 2), corners[1:, :-1].reshape(-1, 2)
    c, d = corners[1:, 1:].reshape(-1, 2), corners[:-1, 1:].reshape(-1, 2)
    at = np.linspace(0, 1, 4)[None, :, None]

    def edge(p: np.ndarray, q: np.ndarray) -> np.ndarray:
        return p[:, None] * (1 - at) + q[:, None] * at

    rings = np.concatenate([edge(a, b)[:, :-1], edge(b, c)[:, :-1], edge(d, c)[:, ::-1][:, :-1], edge(a, d)[:, ::-1]], 1)
    count = SIDE**2
    beds = gpd.GeoDataFrame(
        {
            "id": np.arange(count),
            "licence": [f"L {n // 90:02}/{'ab'[n % 2]}" for n in range(count)],
            "tonnes": rng.integers(1, 1000, count),
            "label": [f"Bed {n} (é)" if n % 50 else None for n in range(count)],
        },
        geometry=shapely.polygons(rings),
        crs=CRS,
    )
    beds.to_file(folder / "beds.gpkg", layer="beds")
    turn = np.linspace(0, 2 * np.pi, 400, endpoint=False)
    far = 3000 + 600 * np.sin(9 * turn)
    area = shapely.Polygon(np.column_stack([4500 + far * np.cos(turn), 4500 + far * np.sin(turn)]))
    gpd.GeoDataFrame({"name": ["area"]}, geometry=[area], crs=CRS).to_file(folder / "area.gpkg", layer="area")
    marks = gpd.GeoDataFrame({"n": range(3000)}, geometry=gpd.points_from_xy(*rng.uniform(0, 9000, (2, 3000))), crs=CRS)
    marks.to_file(folder / "marks.gpkg", layer="marks")
    table = pd.DataFrame({"bed": rng.permutation(count)[: count - 40], "landed": rng.uniform(0, 5, count - 40).round(3)})
    table.to_csv(folder / "landings.csv", index=False)
    return folder


def run(data: Path, folder: Path, *, area: bool = False, table: bool = False) -> tuple[Workflow, object]:
    """A workflow that loads what is asked for, and its load step."""
    flow = Workflow()
    files = ["beds.gpkg", *(["area.gpkg"] if area else []), *(["landings.csv"] if table else [])]
    loaded = flow.load("in", files=[str(data / f) for f in files])
    flow.path = folder / "w.toml"
    return flow, loaded


def finish(flow: Workflow, step: object, target: Path) -> RunResult:
    flow.save("out", step, to=str(target))
    result = flow.run(hold=False)
    assert result.state in ("balanced", "look"), result.error
    return result


def frames(data: Path) -> tuple[gpd.GeoDataFrame, gpd.GeoDataFrame, pd.DataFrame]:
    return gpd.read_file(data / "beds.gpkg"), gpd.read_file(data / "area.gpkg"), pd.read_csv(data / "landings.csv")


def same(mine: gpd.GeoDataFrame, theirs: gpd.GeoDataFrame, key: str) -> None:
    """The same features by key: attributes equal, areas to 1e-9, shapes on each other."""
    mine, theirs = mine.set_index(key).sort_index(), theirs.set_index(key).sort_index()
    assert list(mine.index) == list(theirs.index)
    for column in theirs.columns.drop("geometry"):
        pd.testing.assert_series_equal(mine[column], theirs[column], check_names=False, check_dtype=False)
    assert np.allclose(mine.area, theirs.area, rtol=1e-9, atol=1e-6)
    apart = shapely.area(shapely.symmetric_difference(mine.geometry.values, theirs.geometry.values))
    assert apart.max() < 1e-4


def test_clip(data: Path, tmp_path: Path) -> None:
    flow, loaded = run(data, tmp_path, area=True)
    result = finish(flow, flow.clip("cut", loaded["beds"], to="in:area"), tmp_path / "o.gpkg")
    beds, area, _ = frames(data)
    theirs = gpd.clip(beds, area)
    same(gpd.read_file(tmp_path / "o.gpkg"), theirs, "id")
    account = result.steps[1].inputs[0]
    assert account.rows == 900 and len(account.set_aside) == 900 - len(theirs)
    cut = sum(len(a) for a in account.altered)
    before = beds.set_index("id").area
    assert cut == (before[theirs.id].to_numpy() - theirs.area.to_numpy() > 1e-6).sum() > 50, "as many as lost something"


def test_dissolve(data: Path, tmp_path: Path) -> None:
    flow, loaded = run(data, tmp_path)
    finish(flow, flow.dissolve("one", loaded, by=["licence"], figures={"tonnes": "sum tonnes"}), tmp_path / "o.gpkg")
    beds, _, _ = frames(data)
    theirs = beds.dissolve("licence", aggfunc={"tonnes": "sum"}).reset_index()
    same(gpd.read_file(tmp_path / "o.gpkg"), theirs, "licence")


def test_split(data: Path, tmp_path: Path) -> None:
    flow, loaded = run(data, tmp_path)
    result = finish(flow, flow.split("pieces", loaded, by=["licence"]), tmp_path / "o.gpkg")
    beds, _, _ = frames(data)
    values = set(beds.licence)
    assert sorted(o.layer for o in result.outputs) == sorted(values) and len(values) == 20
    for value in values:
        same(gpd.read_file(tmp_path / "o.gpkg", layer=value), beds[beds.licence == value], "id")


def test_join(data: Path, tmp_path: Path) -> None:
    flow, loaded = run(data, tmp_path, table=True)
    joined = flow.join_table("with", loaded["beds"], table="in:landings", key="id", table_key="bed")
    result = finish(flow, joined, tmp_path / "o.gpkg")
    beds, _, landings = frames(data)
    theirs = beds.merge(landings, left_on="id", right_on="bed", how="left").drop(columns="bed")
    mine = gpd.read_file(tmp_path / "o.gpkg")
    same(mine[[c for c in mine.columns if c != "bed"]], theirs, "id")
    assert sum(len(a) for a in result.steps[1].inputs[0].altered) == 40


def test_chain(data: Path, tmp_path: Path) -> None:
    flow, loaded = run(data, tmp_path, area=True, table=True)
    cut = flow.clip("cut", loaded["beds"], to="in:area")
    joined = flow.join_table("with", cut, table="in:landings", key="id", table_key="bed")
    last = flow.dissolve("one", joined, by=["licence"], figures={"landed": "sum landed"})
    finish(flow, last, tmp_path / "o.gpkg")
    beds, area, landings = frames(data)
    theirs = gpd.clip(beds, area).merge(landings, left_on="id", right_on="bed", how="left")
    same(gpd.read_file(tmp_path / "o.gpkg"), theirs.dissolve("licence", aggfunc={"landed": "sum"}).reset_index(), "licence")


def test_place_and_geojson(data: Path, tmp_path: Path) -> None:
    flow = Workflow()
    loaded = flow.load("in", files=[str(data / "marks.gpkg"), str(data / "area.gpkg")])
    flow.path = tmp_path / "w.toml"
    finish(flow, flow.keep_by_place("inside", loaded["marks"], to="in:area", relation="within"), tmp_path / "o.geojson")
    marks, area = gpd.read_file(data / "marks.gpkg"), gpd.read_file(data / "area.gpkg")
    theirs = marks[marks.within(area.geometry.iloc[0])].to_crs(4326)
    mine = gpd.read_file(tmp_path / "o.geojson")
    assert list(mine.n) == list(theirs.n) and mine.crs.to_epsg() == 4326
    assert np.abs(shapely.get_coordinates(mine.geometry) - shapely.get_coordinates(theirs.geometry)).max() < 1e-6
    assert json.loads((tmp_path / "o.geojson").read_text())["type"] == "FeatureCollection"


def test_thousands_of_layers_flow_on_as_one_set(tmp_path: Path) -> None:
    """Half as many pieces through three more steps, under names that only differ by case or by what the naming rule takes away."""
    count = turns(2000, 1000)
    shapes = shapely.box(np.arange(count) * 10.0, 0, np.arange(count) * 10.0 + 8, 8)
    values = [f"{'Piece' if n % 4 else 'piece'} {n // 2} / {n // 2}" for n in range(count)]
    values = [v if n % 2 else values[n + 1].upper() if n % 20 == 0 else values[n + 1] for n, v in enumerate(values)]
    beds = gpd.GeoDataFrame({"v": values, "n": range(count)}, geometry=shapes, crs=CRS)
    beds.to_file(tmp_path / "beds.gpkg", layer="beds")
    flow = Workflow()
    flow.path = tmp_path / "w.toml"
    pieces = flow.split("pieces", flow.load("in", files=[str(tmp_path / "beds.gpkg")]), by=["v"])
    wide = flow.buffer("wide", flow.measure("sized", pieces, what=["area"]), distance="1 m")
    result = finish(flow, wide, tmp_path / "o.gpkg")
    by_id = {s.id: s for s in result.steps}
    different = len(set(values))
    assert [len(by_id[i].outputs) for i in ("pieces", "sized", "wide")] == [different] * 3
    assert sum(o.rows for o in by_id["wide"].outputs) == count
    names = [o.layer for o in result.outputs]
    assert len({n.casefold() for n in names}) == len(names) == different, "numbered where they would be the same"
    with sqlite3.connect(tmp_path / "o.gpkg") as db:
        assert db.execute("SELECT count(*) FROM gpkg_contents").fetchone()[0] == different
        assert db.execute("PRAGMA integrity_check").fetchone()[0] == "ok"
        total = sum(db.execute(f'SELECT count(*), sum(n) FROM "{n}"').fetchone()[1] for n in names)
    assert total == sum(range(count))
