"""A folder of GeoParquet files is one layer: as partitioned datasets are laid out (common practice, also of other programs)."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import geopandas
import pyarrow as pa
import pyarrow.dataset as ds
import pytest
import shapely

import eskret
from eskret.core.layer import GeometryKind
from eskret.errors import InputError
from eskret.formats import parquet, sources
from eskret.workflow.model import document
from eskret.workflow.run.engine import Run
from tests.workflow.test_shared_files import call


def workflow(folder: Path, *steps: str) -> Path:
    path = folder / "w.toml"
    path.write_text('eskret = 1\ntitle = "Parts"\n' + "".join(f"[[steps]]\n{step}\n" for step in steps))
    return path


def run(path: Path) -> dict[str, Any]:
    told = Run(document.read(path), workflow=path).execute().to_json()
    assert told["error"] == "", told["error"]
    return told


@pytest.fixture
def parted(tmp_path: Path) -> Path:
    """Written by a workflow of its own: split, and saved into folders."""
    shapes = [shapely.Point(100 * n, n % 7) for n in range(40)]
    zones = ["07", "12", "Nord/Øst", None]
    frame = geopandas.GeoDataFrame({"n": range(40), "zone": [zones[n // 10] for n in range(40)]}, geometry=shapes, crs=3035)
    frame.to_file(tmp_path / "a.gpkg", layer="a")
    path = workflow(
        tmp_path,
        'id = "in"\nuse = "load"\nfiles = ["a.gpkg"]',
        'id = "zones"\nuse = "split"\nfrom = "in"\nby = ["zone"]\nempty_as = "none"',
        'id = "out"\nuse = "save"\nfrom = "zones"\nto = "beds.parquet/zone={layer}/part.parquet"',
    )
    run(path)
    path.unlink()
    return tmp_path / "beds.parquet"


def test_a_folder_is_read_as_one_layer(parted: Path) -> None:
    (facts,) = sources.look(parted)
    assert (facts.key, facts.count, facts.kind, facts.crs, facts.names()) == ("beds", 40, GeometryKind.POINT, "EPSG:3035", ["n", "zone"])
    assert facts.extent == (0.0, 0.0, 3900.0, 6.0)
    told = run(workflow(parted.parent, 'id = "all"\nuse = "load"\nfiles = ["beds.parquet"]'))
    assert told["steps"][0]["inputs"][0]["rows"] == 40 and told["steps"][0]["outputs"][0]["rows"] == 40
    # the field stands in the files, and counts
    table = eskret.read(parted).table
    assert sorted(table["n"].to_pylist()) == list(range(40)) and table["zone"].null_count == 10
    # another reader finds the same rows
    assert ds.dataset(parted, format="parquet").count_rows() == 40
    # found in a folder and by a pattern as well
    for found in ("*.parquet", "."):
        assert parted in sources.find_files([found], parted.parent)


def test_what_only_the_folders_say_becomes_a_field(tmp_path: Path) -> None:
    table = pa.table({"n": range(6), "year": [2024, 2025] * 3, "code": ["01", "02", None] * 2, "what": ["a b/ø", "c"] * 3})
    shapes = pa.array([shapely.to_wkb(shapely.Point(n, n)) for n in range(6)])
    geo = {"version": "1.0.0", "primary_column": "geometry", "columns": {"geometry": {"encoding": "WKB", "geometry_types": ["Point"]}}}
    table = table.append_column("geometry", shapes).replace_schema_metadata({"geo": json.dumps(geo)})
    layout = ds.partitioning(pa.schema([("year", pa.int64()), ("code", pa.string()), ("what", pa.string())]), flavor="hive")
    ds.write_dataset(table, tmp_path / "a.parquet", format="parquet", partitioning=layout)
    (tmp_path / "a.parquet" / "_SUCCESS").touch()
    found = eskret.read(tmp_path / "a.parquet").table
    assert [str(f.type) for f in found.schema] == ["int64", "int64", "string", "string"]
    wanted = [[n, 2024 + n % 2, ["01", "02", None][n % 3], ["a b/ø", "c"][n % 2]] for n in range(6)]
    assert sorted(list(r.values()) for r in found.to_pylist()) == wanted


ODD = [(["7", "-3", "0"], "int64"), (["07"], "string"), (["--5"], "string"), (["٣"], "string"), (["1" * 30, "2"], "string")]


@pytest.mark.parametrize(("values", "kind"), ODD)
def test_what_folders_say_is_a_number_only_where_it_is_written_as_one(values: list[str], kind: str, tmp_path: Path) -> None:
    for value in values:
        (tmp_path / "a.parquet" / f"v={value}").mkdir(parents=True)
        eskret.write(eskret.Layer("x", pa.table({"n": [1]})), tmp_path / "a.parquet" / f"v={value}" / "p.parquet")
    column = eskret.read(tmp_path / "a.parquet").table["v"]
    assert str(column.type) == kind and sorted(map(str, column.to_pylist())) == sorted(values)


def test_only_the_files_around_are_read(parted: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    geopandas.GeoDataFrame({"a": [1]}, geometry=[shapely.box(1_250, 0, 1_450, 9)], crs=3035).to_file(parted.parent / "here.gpkg")
    read: list[int] = []
    made = parquet._Stream._with_folders
    monkeypatch.setattr(parquet._Stream, "_with_folders", lambda self, b, p: [read.append(b.num_rows), made(self, b, p)][1])
    told = run(
        workflow(
            parted.parent,
            'id = "here"\nuse = "load"\nfiles = ["here.gpkg"]',
            'id = "all"\nuse = "load"\nfiles = ["beds.parquet"]\naround = "here"',
        )
    )
    (account,) = told["steps"][1]["inputs"]
    assert (account["rows"], account["used"]) == (40, 2) and read == [10]


def test_files_that_are_not_alike_are_no_layer(parted: Path) -> None:
    eskret.write(eskret.Layer("x", pa.table({"other": [1]})), parted / "zone=12" / "more.parquet")
    with pytest.raises(InputError, match="are not those of") as found:
        sources.look(parted)
    assert "more.parquet" in found.value.place
    for file in parted.rglob("*.parquet"):
        file.unlink()
    with pytest.raises(InputError, match="no file of rows"):
        sources.look(parted)


def test_a_changed_file_of_a_folder_is_read_again(parted: Path) -> None:
    path = workflow(parted.parent, 'id = "all"\nuse = "load"\nfiles = ["beds.parquet"]')
    assert "40" in call("run", path, cwd=parted.parent).stdout
    (parted / "zone=12" / "part.parquet").unlink()
    assert "30" in call("run", path, cwd=parted.parent).stdout


def test_a_pack_takes_the_folder_as_it_is_wherever_it_lies(parted: Path, tmp_path_factory: pytest.TempPathFactory) -> None:
    """Its files are called alike."""
    elsewhere = tmp_path_factory.mktemp("far")
    for near in (True, False):
        home = parted.parent if near else elsewhere
        path = workflow(home, f'id = "all"\nuse = "load"\nfiles = ["{"beds.parquet" if near else parted}"]')
        call("pack", path, "--out", home / "p.zip", cwd=home)
        call("unpack", home / "p.zip", home / "there", cwd=home)
        assert "40" in call("run", home / "there" / "w.toml", cwd=home).stdout
        assert len(list((home / "there").rglob("*.parquet"))) == 5  # four, and the folder


def test_a_layer_is_not_saved_in_place_of_a_folder(parted: Path) -> None:
    path = workflow(parted.parent, 'id = "a"\nuse = "load"\nfiles = ["a.gpkg"]', 'id = "o"\nuse = "save"\nfrom = "a"\nto = "beds.parquet"')
    assert "this is a folder" in call("run", path, cwd=parted.parent, code=2).stderr and len(list(parted.rglob("*.parquet"))) == 4
