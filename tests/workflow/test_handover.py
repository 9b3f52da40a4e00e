"""Packing and unpacking: what goes along, where it lands, what is missing, and packs that mean harm."""

from __future__ import annotations

import json
import shutil
import sqlite3
import zipfile
from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

from eskret import read, write
from eskret.cli import app
from eskret.errors import DeliveryError, InputError
from eskret.user_operations import trust
from eskret.workflow.handover.gather import CODE, INPUT, WORKFLOW, gather
from eskret.workflow.handover.pack import LIST, missing_in, pack, unpack
from eskret.workflow.model import document
from eskret.workflow.run.engine import Run
from tests.conftest import points

TEXT = """eskret = 1
title = "Handed over"

[parameters.list]
type = "file"
default = "{elsewhere}/words.csv"

[[steps]]
id = "in"
use = "load"
files = ["data/*.gpkg", "{elsewhere}/more.shp"]

[[steps]]
id = "inner"
use = "workflow"
file = "{elsewhere}/inner.toml"

[[steps]]
id = "near"
use = "workflow"
file = "sub/near.toml"

[[steps]]
id = "mine"
use = "own:mine"
from = "in:places"

[[steps]]
id = "out"
use = "save"
from = ["mine", "inner", "near"]
to = "out/all.gpkg"
"""
INNER = 'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["{file}"]\n'
CODE_TEXT = (
    "import geopandas\nimport eskret\n\n@eskret.operation\ndef mine(layer: geopandas.GeoDataFrame) -> geopandas.GeoDataFrame:\n"
    "    return layer\n"
)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    home, other = tmp_path / "home", tmp_path / "elsewhere"
    for place in (home / "data", home / "sub", home / "operations", other):
        place.mkdir(parents=True)
    write(points({"n": [1, 2, 3]}), home / "data" / "places.gpkg", "places")
    write(points({"n": [4]}), home / "sub" / "near.gpkg", "near")
    write(points({"n": [5]}), other / "more.shp")
    write(points({"n": [6]}), other / "inside.gpkg", "inside")
    (other / "words.csv").write_text("from,to\na,b\n")
    (home / "operations" / "mine.py").write_text(CODE_TEXT)
    (home / "w.toml").write_text(TEXT.replace("{elsewhere}", str(other)))
    (other / "inner.toml").write_text(INNER.replace("{file}", "inside.gpkg"))
    (home / "sub" / "near.toml").write_text(INNER.replace("{file}", "near.gpkg"))
    trust.trust(home)
    return home


def run(path: Path) -> Any:
    result = Run(document.read(path), workflow=path).execute()
    assert not result.error
    return result


def test_all_that_a_workflow_needs_goes_along_and_paths_stay_relative(folder: Path, tmp_path: Path) -> None:
    found = gather(folder / "w.toml")
    assert found.main == "w.toml" and not found.problems
    assert {n: p.role for n, p in found.pieces.items()} == {
        "w.toml": WORKFLOW,
        "data/places.gpkg": INPUT,
        "inputs/more.shp": INPUT,
        "inputs/more.dbf": INPUT,
        "inputs/more.shx": INPUT,
        "inputs/more.prj": INPUT,
        "inputs/more.cpg": INPUT,
        "inputs/words.csv": INPUT,
        "workflows/inner/inner.toml": WORKFLOW,
        "workflows/inner/inside.gpkg": INPUT,
        "sub/near.toml": WORKFLOW,
        "sub/near.gpkg": INPUT,
        "operations/mine.py": CODE,
    }
    text = found.pieces["w.toml"].text
    assert text is not None and str(tmp_path) not in text and '"data/*.gpkg", "inputs/more.shp"' in text
    assert 'default = "inputs/words.csv"' in text and found.pieces["sub/near.toml"].text is None
    pack(found, tmp_path / "p.zip")
    before = run(folder / "w.toml")
    # on another machine: nothing of where it came from is there
    shutil.rmtree(folder)
    shutil.rmtree(tmp_path / "elsewhere")
    done = unpack(tmp_path / "p.zip", tmp_path / "new")
    assert done.workflow == tmp_path / "new" / "w.toml" and not done.missing and done.code == ("operations/mine.py",)
    assert len(done.written) == 13 and trust.is_trusted(tmp_path / "new")  # the same code was allowed before
    after = run(done.workflow)
    assert [(o.layer, o.features) for o in after.outputs] == [(o.layer, o.features) for o in before.outputs]


def test_what_is_left_out_is_asked_for_by_name(folder: Path, tmp_path: Path) -> None:
    pack(gather(folder / "w.toml"), tmp_path / "p.zip", inputs=False)
    missing = {m.name: m for m in missing_in(tmp_path / "p.zip")}
    assert missing["data/places.gpkg"].layers == ("places",) and missing["data/places.gpkg"].asked_by == ("in",)
    assert "read by in" in missing["inputs/more.shp"].sentence() and len(missing) == 9
    done = CliRunner().invoke(app, ["unpack", str(tmp_path / "p.zip"), str(tmp_path / "new")])
    assert done.exit_code == 0 and "Missing: data/places.gpkg" in done.output and "eskret trust" in done.output
    other = tmp_path / "elsewhere"
    shutil.copy(folder / "sub" / "near.gpkg", tmp_path / "another.gpkg")
    given = {
        "data/places.gpkg": folder / "data" / "places.gpkg",
        "inputs/more.shp": other / "more.shp",
        "workflows/inner/inside.gpkg": tmp_path / "another.gpkg",
    }
    again = unpack(tmp_path / "p.zip", tmp_path / "new", given=given)
    assert [m.name for m in again.missing] == ["inputs/words.csv", "sub/near.gpkg"]
    assert any("another.gpkg is not the file that was packed" in n for n in again.notes)
    assert read(tmp_path / "new" / "inputs" / "more.shp").table.num_rows == 1
    with pytest.raises(InputError, match="none of its missing inputs"):
        unpack(tmp_path / "p.zip", tmp_path / "new", given={"x": other / "more.shp"})


def test_unpacking_is_whole_or_not_at_all(folder: Path, tmp_path: Path) -> None:
    pack(gather(folder / "w.toml"), tmp_path / "p.zip")
    new = tmp_path / "new"
    (new / "data").mkdir(parents=True)
    (new / "data" / "places.gpkg").write_text("mine")
    with pytest.raises(DeliveryError, match="1 file there and others than in the pack: data/places.gpkg"):
        unpack(tmp_path / "p.zip", new)
    assert sorted(p.name for p in new.rglob("*")) == ["data", "places.gpkg"]
    unpack(tmp_path / "p.zip", new, replace=True)
    assert len(unpack(tmp_path / "p.zip", new).written) == 13  # what is there already is no hindrance
    # one that was changed on its way
    with zipfile.ZipFile(tmp_path / "p.zip") as old, zipfile.ZipFile(tmp_path / "bad.zip", "w") as bad:
        for name in old.namelist():
            bad.writestr(name, old.read(name).replace(b"return layer", b"return other"))
    with pytest.raises(InputError, match="not as it was packed"):
        unpack(tmp_path / "bad.zip", tmp_path / "bad")
    assert not (tmp_path / "bad").exists()


@pytest.mark.parametrize("name", ["../evil.py", "/evil.py", "a/../../evil.py", "a\\evil.py", ""])
def test_a_pack_writes_nowhere_else(tmp_path: Path, name: str) -> None:
    told = {
        "eskret_pack": 1,
        "workflow": "w.toml",
        "files": [
            {"path": "w.toml", "role": "workflow", "size": 1, "sha256": "", "along": True},
            {"path": name, "role": "input", "size": 1, "sha256": "", "along": True},
        ],
    }
    with zipfile.ZipFile(tmp_path / "p.zip", "w") as file:
        file.writestr("w.toml", "x")
        file.writestr(name or "x", "x")
        file.writestr(LIST, json.dumps(told))
    with pytest.raises(InputError, match="write outside its folder"):
        unpack(tmp_path / "p.zip", tmp_path / "new")
    assert not (tmp_path / "evil.py").exists() and not (tmp_path / "new").exists()


def test_what_is_no_pack_is_said(tmp_path: Path) -> None:
    (tmp_path / "x.zip").write_text("no")
    with pytest.raises(InputError, match="this is no pack"):
        unpack(tmp_path / "x.zip", tmp_path / "new")
    with zipfile.ZipFile(tmp_path / "y.zip", "w") as file:
        file.writestr(LIST, json.dumps({"eskret_pack": 2, "workflow": "w.toml", "files": []}))
    with pytest.raises(InputError, match="later version"):
        unpack(tmp_path / "y.zip", tmp_path / "new")


def test_what_a_database_has_not_folded_in_goes_along(folder: Path, tmp_path: Path) -> None:
    db = sqlite3.connect(folder / "data" / "places.gpkg", isolation_level=None)
    db.execute("PRAGMA journal_mode = WAL")
    db.execute("UPDATE gpkg_contents SET description = 'late'")
    pack(gather(folder / "w.toml"), tmp_path / "p.zip")
    db.close()
    unpack(tmp_path / "p.zip", tmp_path / "new")
    with sqlite3.connect(tmp_path / "new" / "data" / "places.gpkg") as packed:
        assert packed.execute("SELECT description FROM gpkg_contents").fetchall() == [("late",)]
    packed.close()


def test_what_cannot_be_packed_is_named(folder: Path, tmp_path: Path) -> None:
    (folder / "data" / "places.gpkg").unlink()
    done = CliRunner().invoke(app, ["pack", str(folder / "w.toml"), "-o", str(tmp_path / "p.zip")])
    assert done.exit_code == 2 and "no readable file matches 'data/*.gpkg'" in done.output.replace("\n", " ")
    assert not (tmp_path / "p.zip").exists()
    done = CliRunner().invoke(app, ["pack", str(folder / "w.toml"), "-o", str(tmp_path / "p.zip"), "--without-inputs"])
    assert done.exit_code == 0 and (tmp_path / "p.zip").exists()
