"""Reading vector files: types kept, names made to differ, bad files told in a sentence and never half read."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import geopandas
import numpy as np
import pyogrio
import pytest
import shapely

from eskret.core.layer import GeometryKind
from eskret.errors import EskretError, InputError, StoppedError
from eskret.formats import sources, vector
from eskret.formats.geopackage import reader
from eskret.formats.reading import Texts

FORMATS = ["a.gpkg", "a.shp", "a.geojson", "a.fgb"]


@pytest.fixture
def frame() -> geopandas.GeoDataFrame:
    return geopandas.GeoDataFrame(
        {"whole": [1, 2, 3], "text": ["a", None, "é"], "number": [1.5, None, 2.5], "flag": [True, False, True]},
        geometry=shapely.box([0, 10, 20], 0, [5, 15, 25], 5),
        crs=32626,
    )


@pytest.mark.parametrize("file", FORMATS)
def test_facts_are_known_before_reading_and_hold_after(tmp_path: Path, frame: geopandas.GeoDataFrame, file: str) -> None:
    path = tmp_path / file
    frame.to_file(path)
    facts = sources.look(path)[0]
    layer = sources.read(path, facts.name, facts.key).layer
    assert (facts.count, facts.kind, facts.key) == (3, GeometryKind.POLYGON, "a")
    assert facts.crs == layer.crs == "EPSG:32626"
    assert [(f.name, f.type) for f in facts.fields] == [(f.name, f.type) for f in layer.fields]
    found = {r["whole"]: r for r in layer.table.to_pylist()}
    assert found[2]["text"] is None and found[3]["text"] == "é" and found[2]["number"] is None
    assert layer.geometry is not None and shapely.area(layer.geometry).sum() == pytest.approx(75)


def test_fields_that_differ_only_in_case_are_told_apart(tmp_path: Path) -> None:
    path = tmp_path / "case.geojson"
    path.write_text(
        '{"type":"FeatureCollection","features":[{"type":"Feature","properties":{"Name":"a","name":"b","NAME":"c"},'
        '"geometry":{"type":"Point","coordinates":[1,2]}}]}'
    )
    reading = sources.read(path, "case", "case")
    assert reading.layer.table.to_pylist() == [{"Name": "a", "name_2": "b", "NAME_3": "c"}]
    assert sum("differs from another only in case" in r.text for r in reading.remarks) == 2
    assert [f.name for f in sources.look(path)[0].fields] == ["Name", "name_2", "NAME_3"]


@pytest.mark.parametrize("file", FORMATS)
@pytest.mark.parametrize("damage", ["empty", "cut", "noise"])
def test_damaged_files_are_told_by_name(tmp_path: Path, frame: geopandas.GeoDataFrame, file: str, damage: str) -> None:
    path = tmp_path / file
    geopandas.GeoDataFrame({"n": range(500)}, geometry=shapely.points(np.arange(500), 0), crs=32626).to_file(path)
    raw = path.read_bytes()
    path.write_bytes({"empty": b"", "cut": raw[: len(raw) // 2], "noise": b"\x07nonsense" * 50}[damage])
    with pytest.raises(InputError) as caught:
        for facts in sources.look(path):
            sources.read(path, facts.name, facts.key)
    told = caught.value.sentence()
    assert str(path) in told and told.endswith(".") and len(told) < 400


@pytest.mark.parametrize(("suffix", "what"), [(".shx", "the index of its shapes"), (".dbf", "the table of its attributes")])
def test_a_shapefile_without_a_companion(tmp_path: Path, frame: geopandas.GeoDataFrame, suffix: str, what: str) -> None:
    path = tmp_path / "a.shp"
    frame.to_file(path)
    path.with_suffix(suffix).unlink()
    with pytest.raises(InputError, match=f"a{suffix} is missing, {what}"):
        sources.look(path)


def test_a_shapefile_without_prj_has_no_crs_and_says_so(tmp_path: Path, frame: geopandas.GeoDataFrame) -> None:
    path = tmp_path / "a.shp"
    frame.to_file(path)
    path.with_suffix(".prj").unlink()
    assert sources.look(path)[0].crs is None
    assert sources.read(path, "a", "a").layer.crs is None


def test_an_encoding_can_be_named(tmp_path: Path) -> None:
    path = tmp_path / "old.shp"
    geopandas.GeoDataFrame({"name": ["Brücke"]}, geometry=[shapely.Point(0, 0)], crs=32626).to_file(path, encoding="cp1252")
    path.with_suffix(".cpg").unlink()
    assert sources.read(path, "old", "old", Texts("cp1252")).layer.table.column("name").to_pylist() == ["Brücke"]


def test_times_keep_their_zone(tmp_path: Path) -> None:
    path = tmp_path / "t.gpkg"
    moment = dt.datetime(2031, 9, 3, 10, tzinfo=dt.UTC)
    pyogrio.write_dataframe(geopandas.GeoDataFrame({"at": [moment]}, geometry=[shapely.Point(0, 0)], crs=4326), path)
    assert sources.read(path, "t", "t").layer.table.column("at").to_pylist() == [moment]


def test_reading_can_be_stopped_between_batches(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "many.gpkg"
    geopandas.GeoDataFrame({"n": range(3000)}, geometry=shapely.points(np.arange(3000), 0), crs=32626).to_file(path)
    monkeypatch.setattr(reader, "SMALL", 0)
    monkeypatch.setattr(vector, "BATCH", 500)
    seen: list[int] = []

    def watch(done: int, of: int) -> None:
        seen.append(done)
        if done >= 1000:
            raise StoppedError

    with pytest.raises(StoppedError):
        sources.read(path, "many", "many", watch=watch)
    assert seen == [500, 1000]


def test_finding_files(tmp_path: Path) -> None:
    for name in ("b/2.gpx", "b/1.gpx", "b/notes.txt", "b/.hidden.gpx", "b/w.outputs.json", "b/c/3.geojson"):
        path = tmp_path / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text("x")

    def names(*patterns: str) -> list[str]:
        return [p.relative_to(tmp_path).as_posix() for p in sources.find_files(patterns, tmp_path)]

    assert names("b") == ["b/1.gpx", "b/2.gpx"]
    assert names("b/*.gpx", "b/2.gpx") == ["b/1.gpx", "b/2.gpx"]
    assert names("**/*.geojson") == ["b/c/3.geojson"]
    for pattern, says in (("b/*.shp", "no readable file matches"), ("no.gpx", "no such file"), ("b/notes.txt", "cannot be read")):
        with pytest.raises(EskretError, match=says):
            names(pattern)
    (tmp_path / "void").mkdir()
    with pytest.raises(InputError, match="no readable file in this folder"):
        names("void")
