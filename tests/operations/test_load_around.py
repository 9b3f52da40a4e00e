"""Of files only what meets the box around another layer is taken; everything else is counted."""

from __future__ import annotations

import zipfile
from pathlib import Path
from typing import Any

import geopandas
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import shapely

import eskret
from eskret import Workflow
from eskret.core.layer import Certainty, chunks
from eskret.formats import parquet
from eskret.workflow.model import document
from eskret.workflow.run.engine import Run
from eskret.workflow.run.rehearsal import rehearse

BOX = shapely.box(2_000, 2_000, 4_500, 3_500)


def shapes(kind: str, chance: np.random.Generator) -> list[Any]:
    x, y = chance.uniform(0, 8_000, (2, 90))
    made: dict[str, list[Any]] = {
        "points": [shapely.Point(a, b) for a, b in zip(x, y, strict=True)],
        "lines": [shapely.LineString([(a, b), (a + 900, b + 700), (a + 1_500, b)]) for a, b in zip(x, y, strict=True)],
        "areas": [shapely.Point(a, b).buffer(600, quad_segs=3) for a, b in zip(x, y, strict=True)],
    }
    found = made[kind]
    found[0] = shapely.Point(2_000, 2_000) if kind == "points" else shapely.affinity.translate(found[0], 0, 0)
    if kind == "areas":
        # its box meets the other one, its shape does not; and the other way about, one that only touches
        found[1] = shapely.Polygon([(4_000, 3_520), (5_000, 3_400), (5_000, 3_600)]).difference(BOX.buffer(30))
        found[2] = shapely.box(4_500, 3_500, 5_000, 4_000)
    found[5] = None
    return found


def workflow(folder: Path, file: str, more: str = "") -> Path:
    path = folder / "w.toml"
    path.write_text(
        f'eskret = 1\ntitle = "Around"\n{more}[[steps]]\nid = "here"\nuse = "load"\nfiles = ["here.gpkg"]\n'
        f'[[steps]]\nid = "all"\nuse = "load"\nfiles = ["{file}"]\naround = "here"\n'
    )
    return path


def result(path: Path) -> tuple[dict[str, Any], Any]:
    kept: dict[str, Any] = {}

    def keep(step: str, entering: Any, outcomes: Any, others: Any = ()) -> dict[str, Any]:
        kept[step] = [x.load() if hasattr(x, "load") else x for o in outcomes for x in o.layers]
        return {}

    told = Run(document.read(path), workflow=path, keep=keep).execute().to_json()
    assert told["error"] == "", told["error"]
    (layer,) = kept["all"]
    return told, layer


@pytest.mark.parametrize("large", [False, True])
@pytest.mark.parametrize("ending", [".gpkg", ".fgb", ".shp", ".geojson", ".parquet", ".zip"])
@pytest.mark.parametrize("kind", ["points", "lines", "areas"])
def test_what_meets_the_box_is_taken_and_the_rest_counted(
    kind: str, ending: str, large: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    crs = 3035 if ending != ".geojson" else 4326
    frame = geopandas.GeoDataFrame({"n": range(90)}, geometry=shapes(kind, np.random.default_rng(3)), crs=3035)
    if ending == ".fgb":
        frame.loc[5, "geometry"] = frame.geometry[6]  # whose index has no place for none
    if crs == 4326:
        frame = frame.set_geometry(frame.geometry.affine_transform([0.001, 0, 0, 0.001, 0, 0]).set_crs(4326, allow_override=True))
    here = BOX if crs == 3035 else shapely.affinity.affine_transform(BOX, [0.001, 0, 0, 0.001, 0, 0])
    geopandas.GeoDataFrame({"name": ["here"]}, geometry=[here.boundary], crs=crs).to_file(tmp_path / "here.gpkg", layer="here")
    file = tmp_path / f"a{ending}"
    if ending == ".zip":
        frame.to_file(tmp_path / "a.gpkg", layer="a")
        with zipfile.ZipFile(file, "w") as archive:
            archive.write(tmp_path / "a.gpkg", "a.gpkg")
    elif ending == ".parquet":
        monkeypatch.setattr(chunks, "CHUNK", 20)
        eskret.write(eskret.Layer("a", pa.table({"n": frame["n"]}), frame.geometry.to_numpy(), "EPSG:3035"), file)
    else:
        frame.to_file(file)
    if large:
        monkeypatch.setattr(chunks, "CHUNK", 7)
        monkeypatch.setattr(chunks, "LARGE", 10)
    told, layer = result(workflow(tmp_path, file.name))
    wanted = np.flatnonzero(shapely.intersects(frame.geometry.to_numpy(), here))
    assert sorted(layer.table["n"].to_pylist()) == wanted.tolist() and len(wanted) > 3
    (account,) = told["steps"][1]["inputs"]
    rest = [{"reason": "does not meet the box around 'here'", "count": 90 - len(wanted)}]
    assert (account["rows"], account["used"], account["set_aside"]) == (90, len(wanted), rest)


def test_groups_of_rows_that_lie_elsewhere_are_not_read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(chunks, "CHUNK", 10)
    frame = geopandas.GeoDataFrame({"n": range(100)}, geometry=[shapely.Point(100 * n, 0) for n in range(100)], crs=3035)
    eskret.write(eskret.Layer("a", pa.table({"n": frame["n"]}), frame.geometry.to_numpy(), "EPSG:3035"), tmp_path / "a.parquet")
    geopandas.GeoDataFrame(geometry=[shapely.box(3_050, -5, 3_350, 5)], crs=3035).to_file(tmp_path / "here.gpkg", layer="here")
    read: list[int] = []
    batches = parquet._Stream.batches

    def count(self: Any, rows: int) -> Any:
        for batch in batches(self, rows):
            read.append(batch.num_rows)
            yield batch

    monkeypatch.setattr(parquet._Stream, "batches", count)
    told, layer = result(workflow(tmp_path, "a.parquet"))
    assert pq.ParquetFile(tmp_path / "a.parquet").metadata.num_row_groups == 10
    assert layer.table["n"].to_pylist() == [31, 32, 33] and sum(read) == 10
    assert told["steps"][1]["inputs"][0]["rows"] == 100


@pytest.mark.parametrize("large", [False, True])
def test_nothing_there_and_nothing_to_be_around(large: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    frame = geopandas.GeoDataFrame({"n": range(30)}, geometry=[shapely.Point(100 * n, 0) for n in range(30)], crs=3035)
    frame.to_file(tmp_path / "a.gpkg", layer="a")
    if large:
        monkeypatch.setattr(chunks, "CHUNK", 7)
        monkeypatch.setattr(chunks, "LARGE", 10)
    for here in (shapely.box(-900, -900, -800, -800), None):
        geopandas.GeoDataFrame({"n": [1]}, geometry=[here], crs=3035).to_file(tmp_path / "here.gpkg", layer="here")
        told, layer = result(workflow(tmp_path, "a.gpkg"))
        assert len(layer) == 0 and layer.table.column_names == ["n"]
        assert told["steps"][1]["inputs"][0]["set_aside"] == [{"reason": "does not meet the box around 'here'", "count": 30}]


def test_the_box_is_drawn_in_the_system_of_the_file_and_rows_come_to_that_of_the_workflow(tmp_path: Path) -> None:
    here = shapely.box(-28.75, 38.4, -28.5, 38.6)
    geopandas.GeoDataFrame(geometry=[here], crs=4326).to_file(tmp_path / "here.gpkg", layer="here")
    lonlat = np.random.default_rng(1).uniform((-29.5, 38.0), (-28.0, 39.0), (300, 2))
    frame = geopandas.GeoDataFrame({"n": range(300)}, geometry=shapely.points(lonlat), crs=4326).to_crs(32626)
    frame.to_file(tmp_path / "a.gpkg", layer="a")
    _, layer = result(workflow(tmp_path, "a.gpkg", 'crs = "EPSG:3857"\n'))
    west, south, east, north = geopandas.GeoSeries([here], crs=4326).to_crs(32626).total_bounds
    xy = shapely.get_coordinates(frame.geometry.to_numpy())
    inner = (xy[:, 0] > west) & (xy[:, 0] < east) & (xy[:, 1] > south) & (xy[:, 1] < north)
    taken = set(layer.table["n"].to_pylist())
    assert set(np.flatnonzero(inner).tolist()) <= taken and len(taken) < inner.sum() + 20 and layer.crs == "EPSG:3857"
    assert set(np.flatnonzero(shapely.covers(here, shapely.points(lonlat))).tolist()) <= taken


@pytest.mark.parametrize("wide", [20_000.0, 900_000.0])
def test_nothing_within_is_lost_where_the_edges_of_the_box_bend(wide: float, tmp_path: Path) -> None:
    """A straight edge of a plane is a bow in degrees: what lies just within it, between any two corners, is within."""
    west = 500_000 - 0.37 * wide  # so that the bow is highest between two places that are asked for
    box = shapely.box(west, 5_000_000, west + wide, 5_000_000 + wide)
    geopandas.GeoDataFrame({"a": [1]}, geometry=[box], crs=32626).to_file(tmp_path / "here.gpkg", layer="here")
    edge = shapely.line_interpolate_point(box.exterior, np.linspace(0, 1, 1_999), normalized=True)
    geopandas.GeoDataFrame({"n": range(1_999)}, geometry=edge, crs=32626).to_crs(4326).to_file(tmp_path / "a.gpkg", layer="a")
    assert len(result(workflow(tmp_path, "a.gpkg"))[1]) == 1_999


def test_a_rehearsal_tells_what_can_be_told(tmp_path: Path) -> None:
    geopandas.GeoDataFrame(geometry=[BOX], crs=3035).to_file(tmp_path / "here.gpkg", layer="here")
    geopandas.GeoDataFrame({"n": [1]}, geometry=[shapely.Point(0, 0)], crs=3035).to_file(tmp_path / "a.gpkg", layer="a")
    path = workflow(tmp_path, "a.gpkg")
    told = rehearse(document.read(path), folder=tmp_path)
    (facts,) = told.steps["all"].leaving
    assert not told.errors and (facts.count, facts.certainty, facts.extent) == (1, Certainty.AT_MOST, None)
    path.write_text(path.read_text().replace('"here.gpkg"', '"here.csv"'))
    (tmp_path / "here.csv").write_text("a\n1\n")
    assert any("is a table, which has no place" in f.text for f in rehearse(document.read(path), folder=tmp_path).findings)


def test_one_without_a_system_cannot_be_told_to_lie_around_another(tmp_path: Path) -> None:
    geopandas.GeoDataFrame(geometry=[BOX], crs=3035).to_file(tmp_path / "here.gpkg", layer="here")
    geopandas.GeoDataFrame({"n": [1]}, geometry=[shapely.Point(0, 0)]).to_file(tmp_path / "a.gpkg", layer="a")
    path = workflow(tmp_path, "a.gpkg")
    error = Run(document.read(path), workflow=path).execute().error
    assert "it has no coordinate system" in error and "Say it where the layer is loaded" in error


@pytest.mark.parametrize("ending", [".gpkg", ".fgb", ".geojson", ".geojsons", ".parquet"])
def test_shapes_without_any_field_are_read_and_numbered(ending: str, tmp_path: Path) -> None:
    """As masks and outlines often are: that is no damage."""
    squares = [shapely.box(n, 40, n + 1, 41) for n in range(3)]
    frame = geopandas.GeoDataFrame(geometry=squares, crs=4326)
    frame.to_parquet(tmp_path / f"a{ending}") if ending == ".parquet" else frame.to_file(
        tmp_path / f"a{ending}", **({"driver": "GeoJSONSeq"} if ending == ".geojsons" else {})
    )
    path = tmp_path / "w.toml"
    path.write_text(
        f'eskret = 1\ntitle = "Bare"\n[[steps]]\nid = "all"\nuse = "load"\nfiles = ["a{ending}"]\n'
        '[[steps]]\nid = "some"\nuse = "keep"\nfrom = "all"\nwhere = "number <> 2"\n'
    )
    told, layer = result(path)
    assert layer.table.to_pylist() == [{"number": 1}, {"number": 2}, {"number": 3}]
    assert [r["text"] for r in told["steps"][0]["remarks"]] == ["its features have no fields; they are numbered"]
    assert told["steps"][1]["outputs"][0]["rows"] == 2
    assert not rehearse(document.read(path), folder=tmp_path).errors


def test_layers_that_are_named_hold_for_recordings_too_and_what_has_none_of_them_is_told(
    demo: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(demo)
    workflow = Workflow()
    workflow.load("tracks", files=["field/2031-09/*.gpx"], layers=["tracks"])
    rehearsed, result = workflow.rehearse(), workflow.run(record=False)
    assert sorted(result["tracks"]) == ["boat_a_tracks", "boat_b_tracks"]
    says = "marks.gpx: nothing taken, since no layer there is among those asked for"
    assert [r.text for r in result["tracks"].remarks].count(says) == 1
    assert any(says in f.text for f in rehearsed.findings)
    # of two containers, the one that has it
    one = Workflow()
    one.load("beds", files=["register/register.gpkg", "chart/harbour.gpkg"], layers=["lease_beds"])
    result = one.run(record=False)
    assert list(result["beds"]) == ["lease_beds"] and "harbour.gpkg: nothing taken" in result["beds"].remarks[-1].text
