"""KML, GML, GeoJSON text sequences, GeoParquet and zip archives: read as they are, refused where they are not to be trusted."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import geopandas
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import shapely

from eskret.core.layer import GeometryKind
from eskret.errors import InputError
from eskret.formats import archives, sources
from tests.conftest import MARKS

KML = """<?xml version="1.0" encoding="UTF-8"?>
<kml xmlns="http://www.opengis.net/kml/2.2"><Document>
<Folder><name>Marks</name>
<Placemark><name>A</name><description>one</description><ExtendedData><Data name="depth"><value>3.5</value></Data></ExtendedData>
<Point><coordinates>-27.1,47.2,4</coordinates></Point></Placemark>
<Placemark><name>B</name><Point><coordinates>-27.2,47.3</coordinates></Point></Placemark></Folder>
<Folder><name>Areas</name><Placemark><name>C</name><Polygon><outerBoundaryIs><LinearRing>
<coordinates>-27,47 -26,47 -26,48 -27,47</coordinates></LinearRing></outerBoundaryIs></Polygon></Placemark></Folder>
</Document></kml>"""


@pytest.fixture
def frame() -> geopandas.GeoDataFrame:
    return geopandas.GeoDataFrame(
        {"name": ["a", None, "é"], "n": [1, 2, 3], "x": [0.5, None, 2.0]},
        geometry=[shapely.box(0, 0, 2, 1), shapely.box(5, 0, 6, 1), None],
        crs=32626,
    )


def test_folders_of_kml_are_layers_and_what_says_nothing_is_left_out(tmp_path: Path) -> None:
    path = tmp_path / "chart.kml"
    path.write_text(KML)
    marks, areas = sources.look(path)
    assert (marks.key, marks.count, marks.kind, marks.crs) == ("marks", 2, "point", "EPSG:4326")
    assert marks.names() == ["Name", "description", "depth"] and areas.kind == "area"
    layer = sources.read(path, "Marks", "m").layer
    assert layer.table.column("depth").to_pylist() == ["3.5", None]
    assert shapely.get_coordinates(layer.geometry, include_z=True)[0].tolist() == [-27.1, 47.2, 4]
    with pytest.raises(InputError, match="no folder 'Gone'. It has Marks, Areas"):
        sources.read(path, "Gone", "g")


def test_gml_is_read_and_nothing_is_left_beside_it(tmp_path: Path, frame: geopandas.GeoDataFrame) -> None:
    path = tmp_path / "beds.gml"
    frame.to_file(path, driver="GML")
    (tmp_path / "beds.xsd").unlink()
    before = {p.name for p in tmp_path.iterdir()}
    facts = sources.look(path)[0]
    layer = sources.read(path, facts.name, "beds").layer
    assert (facts.count, layer.kind, layer.crs) == (3, GeometryKind.POLYGON, "EPSG:32626")
    assert [r["name"] for r in layer.table.to_pylist()] == ["a", None, "é"] and layer.geometry[2] is None
    assert {p.name for p in tmp_path.iterdir()} == before


@pytest.mark.parametrize("name", ["a.geojsonl", "a.geojsons"])
def test_a_text_sequence(tmp_path: Path, name: str) -> None:
    """RFC 8142: a record separator before each text; without it, a text a line, as many write it."""
    mark = "\x1e" if name.endswith("s") else ""
    texts = [{"type": "Feature", "properties": {"n": n}, "geometry": {"type": "Point", "coordinates": [n, 50]}} for n in range(3)]
    (tmp_path / name).write_text("".join(f"{mark}{json.dumps(t)}\n" for t in texts))
    layer = sources.read(tmp_path / name, sources.layer_names(tmp_path / name)[0], "a").layer
    assert layer.table.column("n").to_pylist() == [0, 1, 2] and layer.crs == "EPSG:4326"
    assert shapely.get_x(layer.geometry).tolist() == [0, 1, 2]


@pytest.mark.parametrize("version", ["1.0.0", "1.1.0"])
def test_geoparquet_as_another_library_writes_it(tmp_path: Path, frame: geopandas.GeoDataFrame, version: str) -> None:
    path = tmp_path / "beds.parquet"
    frame.to_parquet(path, schema_version=version, write_covering_bbox=version == "1.1.0")
    facts = sources.look(path)[0]
    layer = sources.read(path, facts.name, facts.key).layer
    assert (facts.key, facts.count, facts.kind, facts.crs) == ("beds", 3, "area", "EPSG:32626")
    assert facts.extent == (0, 0, 6, 1) and [f.name for f in layer.fields] == facts.names() == ["name", "n", "x"]
    assert layer.geometry[2] is None and shapely.area(layer.geometry[:2]).tolist() == [2, 1]
    assert layer.table.column("n").type == pa.int64() and layer.crs == "EPSG:32626"


def test_a_parquet_file_without_geometry_is_a_table(tmp_path: Path) -> None:
    path = tmp_path / "t.parquet"
    pq.write_table(pa.table({"a": pa.array([1, 2], pa.int32()), "b": pa.array(["x", "y"]).dictionary_encode()}), path)
    layer = sources.read(path, "t", "t").layer
    assert layer.kind is GeometryKind.TABLE and [str(f.type) for f in layer.fields] == ["int64", "string"]
    assert sources.look(path)[0].count == 2


@pytest.mark.parametrize(
    ("geo", "says"),
    [
        ({"primary_column": "gone", "columns": {}}, "names a geometry column that is not there"),
        ({"primary_column": "g", "columns": {"g": {"encoding": "point"}}}, "WKB is what is read here"),
    ],
)
def test_geoparquet_of_another_kind_is_told(tmp_path: Path, geo: dict, says: str) -> None:
    table = pa.table({"g": pa.array([b"x"])}).replace_schema_metadata({"geo": json.dumps(geo)})
    pq.write_table(table, tmp_path / "a.parquet")
    with pytest.raises(InputError, match=says):
        sources.look(tmp_path / "a.parquet")


def test_a_parquet_file_says_nothing_of_the_crs_or_says_that_it_is_unknown(tmp_path: Path) -> None:
    """GeoParquet 1.1, 'crs': left out it is OGC:CRS84, null it is unknown."""
    for crs, expected in (({}, "OGC:CRS84"), ({"crs": None}, None)):
        geo = {"primary_column": "g", "columns": {"g": {"encoding": "WKB", "geometry_types": ["Point"], **crs}}}
        table = pa.table({"g": pa.array([shapely.to_wkb(shapely.Point(1, 2))])})
        pq.write_table(table.replace_schema_metadata({"geo": json.dumps(geo)}), tmp_path / "a.parquet")
        assert sources.look(tmp_path / "a.parquet")[0].crs == sources.read(tmp_path / "a.parquet", "a", "a").layer.crs == expected


@pytest.mark.parametrize("name", ["a.kml", "a.gml", "a.parquet", "a.geojsonl", "a.zip", "a.xlsx", "a.tsv"])
@pytest.mark.parametrize("content", [b"", b"\x89 nothing that anybody knows \x00\xff"])
def test_a_file_that_is_not_what_its_ending_says(tmp_path: Path, name: str, content: bytes) -> None:
    (tmp_path / name).write_bytes(content)
    if name == "a.geojsonl" and not content:
        # a text of one feature a line that has no line is a layer without rows
        (facts,) = sources.look(tmp_path / name)
        assert facts.count == 0 and len(sources.read(tmp_path / name, facts.name, "a").layer) == 0
        return
    with pytest.raises(InputError) as caught:
        for layer in sources.layer_names(tmp_path / name):
            sources.read(tmp_path / name, layer, "a")
    assert name in caught.value.sentence() and caught.value.way_out
    assert {p.name for p in tmp_path.iterdir()} == {name}


@pytest.mark.parametrize("name", ["a.kml", "a.gml"])
def test_entities_are_refused(tmp_path: Path, name: str) -> None:
    bomb = '<?xml version="1.0"?><!DOCTYPE k [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]>' + KML.split("?>", 1)[1]
    (tmp_path / name).write_text(bomb)
    with pytest.raises(InputError, match="defines entities"):
        sources.look(tmp_path / name)


@pytest.mark.parametrize("name", ["a.kml", "a.gml", "a.parquet", "a.zip"])
def test_a_file_that_was_cut_short(tmp_path: Path, frame: geopandas.GeoDataFrame, name: str) -> None:
    path = tmp_path / name
    if name.endswith("parquet"):
        frame.to_parquet(path)
    elif name.endswith("zip"):
        _zipped(path, {"a.kml": KML.encode()})
    elif name.endswith("gml"):
        frame.to_file(path, driver="GML")
    else:
        path.write_text(KML)
    path.write_bytes(path.read_bytes()[: path.stat().st_size * 2 // 3])
    with pytest.raises(InputError, match=name):
        for layer in sources.layer_names(path):
            sources.read(path, layer, "a")


# -- archives


def _zipped(path: Path, members: dict[str, bytes]) -> Path:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in members.items():
            archive.writestr(name, content)
    return path


def test_an_archive_is_read_as_a_folder(tmp_path: Path, frame: geopandas.GeoDataFrame) -> None:
    frame.to_file(tmp_path / "beds.shp")
    members = {f"data/beds.{e}": (tmp_path / f"beds.{e}").read_bytes() for e in ("shp", "shx", "dbf", "prj", "cpg")}
    path = _zipped(
        tmp_path / "all.zip",
        {**members, "marks.gpx": MARKS.encode(), "t.csv": b"a,b\n1,2\n", "readme.txt": b"hello", ".hidden.csv": b"a\n1\n"},
    )
    found = {f.name: (f.key, f.count, f.origin) for f in sources.look(path)}
    assert found["data/beds.shp"] == ("beds", 3, str(path)) and found["t.csv"] == ("t", 1, str(path))
    assert found["marks.gpx:waypoints"] == ("marks_waypoints", 3, str(path)) and len(found) == 7
    reading = sources.read(path, "data/beds.shp", "beds")
    assert reading.layer.crs == "EPSG:32626" and reading.layer.origin == str(path)
    assert sources.recording_part(path, "marks.gpx:tracks") == "tracks" and sources.recording_part(path, "t.csv") == ""
    with pytest.raises(InputError, match="it has no 'gone.shp'"):
        sources.read(path, "gone.shp", "x")


@pytest.mark.parametrize(
    ("name", "says"),
    [
        ("../../evil.csv", "would be unpacked outside"),
        ("/etc/evil.csv", "would be unpacked outside"),
        ("a/../../b.csv", "would be unpacked outside"),
        ("..\\evil.csv", "would be unpacked outside"),
        ("C:evil.csv", "outside"),
    ],
)
def test_an_archive_that_climbs_out_of_its_folder(tmp_path: Path, name: str, says: str) -> None:
    path = _zipped(tmp_path / "evil.zip", {"good.csv": b"a\n1\n", name: b"a\n1\n"})
    with pytest.raises(InputError, match=says):
        sources.look(path)
    assert [p.name for p in tmp_path.rglob("*")] == ["evil.zip"]


def test_an_archive_that_unpacks_without_end(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = _zipped(tmp_path / "bomb.zip", {"zeros.csv": b"0" * (archives.FREELY + 1)})
    with pytest.raises(InputError, match="unpacks to far more"):
        sources.look(path)
    monkeypatch.setattr(archives, "MOST_BYTES", 10)
    with pytest.raises(InputError, match="unpacks to more than"):
        sources.look(_zipped(tmp_path / "big.zip", {"a.csv": b"a\n1\n2\n3\n4\n5\n"}))
    monkeypatch.setattr(archives, "MOST_MEMBERS", 2)
    with pytest.raises(InputError, match="it holds 3 files"):
        sources.look(_zipped(tmp_path / "many.zip", {f"{n}.csv": b"a" for n in range(3)}))


def test_an_archive_that_lies_about_a_members_size(tmp_path: Path) -> None:
    path = _zipped(tmp_path / "lie.zip", {"a.csv": b"a\n" + b"1\n" * 500_000})
    raw = bytearray(path.read_bytes())
    at = raw.rfind(b"PK\x01\x02")  # its entry in the directory: size at 24
    raw[at + 24 : at + 28] = (100).to_bytes(4, "little")
    path.write_bytes(raw)
    with pytest.raises(InputError, match=r"lie.zip.*(far more|damaged)"):
        sources.look(path)


@pytest.mark.parametrize(("members", "says"), [({"a.txt": b"x"}, "holds no file that can be read"), ({"in.zip": b"PK"}, "no file")])
def test_an_archive_without_data(tmp_path: Path, members: dict, says: str) -> None:
    with pytest.raises(InputError, match=says):
        sources.look(_zipped(tmp_path / "a.zip", members))


def test_a_damaged_file_in_an_archive_is_named_by_the_archive(tmp_path: Path) -> None:
    with pytest.raises(InputError) as caught:
        sources.look(_zipped(tmp_path / "a.zip", {"bad.gpkg": b"not a database"}))
    assert "a.zip, bad.gpkg" in caught.value.sentence() and "/eskret-archives" not in caught.value.sentence()
    assert not np.any([".gpkg" in p.name for p in tmp_path.iterdir()])
