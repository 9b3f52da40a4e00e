"""Values of parameters: where they may stand, how the ledger tells them, and what Python takes them as."""

from __future__ import annotations

from pathlib import Path

import geopandas as gpd
import pytest
from shapely.geometry import Point
from typer.testing import CliRunner

from eskret import EskretError, Workflow
from eskret.cli import app

TEXT = """
eskret = 1
title = "Circles"
crs = "EPSG:32631"

[parameters.place]
type = "folder"
default = "in"

[parameters.group]
type = "field"
default = "kind"

[parameters.gap]
type = "measure"
default = "2 m"

[parameters.word]
default = "O'Neill"

[parameters.which]
type = "layer"
default = "load:marks"

[[steps]]
id = "load"
use = "load"
files = { parameter = "place" }

[[steps]]
id = "wide"
use = "buffer"
from = "$which"
distance = { parameter = "gap" }

[[steps]]
id = "kept"
use = "keep"
from = "wide"
where = "$group <> $word"

[[steps]]
id = "whole"
use = "dissolve"
from = "kept"
by = { parameter = "group" }

[[steps]]
id = "save"
use = "save"
from = "whole"
to = "out/{word}.gpkg"
"""


@pytest.fixture
def file(tmp_path: Path) -> Path:
    (tmp_path / "in").mkdir()
    marks = gpd.GeoDataFrame(
        {"kind": ["a", "a", "b"], "name": ["x", "y", "z"]}, geometry=[Point(n, 0) for n in (0, 9, 99)], crs="EPSG:32631"
    )
    marks.to_file(tmp_path / "in" / "marks.gpkg", layer="marks")
    (tmp_path / "w.toml").write_text(TEXT, encoding="utf-8")
    return tmp_path / "w.toml"


def _command(*words: object) -> tuple[int, str]:
    done = CliRunner().invoke(app, [str(w) for w in words])
    return done.exit_code, done.output


def test_a_folder_and_a_field_stand_for_lists_of_one_and_the_ledger_tells_the_values(file: Path) -> None:
    code, said = _command("run", file)
    assert code == 0, said
    for sentence in ("Load in ", "Buffer marks by 2 m", "where kind <> 'O''Neill'", "Dissolve marks by kind", "to o_neill.gpkg"):
        assert sentence in said
    assert "$" not in said and "{" not in said
    assert len(gpd.read_file(file.parent / "out" / "o_neill.gpkg")) == 2
    _, foretold = _command("rehearse", file, "--set", "gap=3 m", "--set", "group=name")
    assert "by 3 m" in foretold and "by name" in foretold


def test_an_empty_value_writes_nothing_over_a_good_output(file: Path) -> None:
    assert _command("run", file)[0] == 0
    before = (file.parent / "out" / "o_neill.gpkg").read_bytes()
    code, said = _command("run", file, "--set", "gap=")
    assert code == 2 and "'Gap': it cannot be empty" in said and "leave it out for 2 m" in said
    code, said = _command("run", file, "--set", "group=")
    assert code == 2 and "parameter 'group' names no field yet" in said
    assert (file.parent / "out" / "o_neill.gpkg").read_bytes() == before


def test_choices_follow_a_layer_and_a_field_that_are_parameters(file: Path) -> None:
    more = """
[parameters.among]
type = "choice"
default = "a"
choices_from = { layer = "$which", field = "$group" }
"""
    file.write_text(TEXT.replace("[[steps]]", more + "\n[[steps]]", 1).replace("{word}", "{among}"), encoding="utf-8")
    assert _command("rehearse", file)[0] == 0
    code, said = _command("rehearse", file, "--set", "group=name")
    assert code == 2 and "'a' is not one of the choices. It can be x, y, z" in said
    code, said = _command("rehearse", file, "--set", "which=gone:a")
    assert code == 2 and "step 'wide': it takes from 'gone', and there is no such step" in said
    assert "step 'wide': step" not in said
    code, said = _command("run", file, "--for-each", "among", "--json")
    assert code == 0 and '"among": "b"' in said


@pytest.mark.parametrize("name", ["fresh", "hold", "if_exists", "values"])
def test_python_never_takes_a_value_for_something_else(file: Path, name: str) -> None:
    file.write_text(TEXT.replace("parameters.word", f"parameters.{name}").replace("$word", f"${name}").replace("{word}", f"{{{name}}}"))
    workflow = Workflow.read(file)
    with pytest.raises(EskretError, match=rf"'{name}' is a parameter of this workflow.*Give it as values="):
        workflow.run(**{name: "b"})
    assert not (file.parent / "out").exists()
    assert workflow.run({name: "b"}).values[name] == "b"
    assert len(gpd.read_file(file.parent / "out" / "b.gpkg")) == 1


def test_python_takes_values_by_name_and_knows_the_nearest(file: Path) -> None:
    workflow = Workflow.read(file)
    assert workflow.run(word="b", fresh=True).outputs[0].features == 1
    assert workflow.rehearse({"word": "b"}).outputs[0].path.name == "b.gpkg"
    with pytest.raises(EskretError, match="no parameter 'wrod'. Did you mean 'word'"):
        workflow.run(wrod="b")
    with pytest.raises(EskretError, match="'word' is given twice"):
        workflow.run({"word": "a"}, word="b")


def test_braces_that_nothing_fills_in_are_told_as_they_are_written(file: Path) -> None:
    mark = '[[steps]]\nid = "mark"\nuse = "flag"\nfrom = "load"\nfield = "say"\nwhere = "name = $word"\nvalue = "{word}"\n'
    file.write_text(f"{TEXT}\n{mark}", encoding="utf-8")
    code, said = _command("run", file, "--set", "word=x")
    assert code == 0 and "where name = 'x' with say = {word}" in " ".join(said.split())
    made = Workflow.read(file).run(word="x").layers["mark"][0]
    assert made.table.column("say").to_pylist() == ["{word}", None, None]
