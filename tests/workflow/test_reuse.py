"""Nothing done twice: what is taken up again, what is not, and that it is the same as doing it anew."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from eskret import Workflow, read, write
from eskret.core.layer import GeometryKind, Layer
from eskret.formats import geopackage
from eskret.user_operations import trust
from eskret.workflow.cache import CachedLayer, ResultCache, Store, cached_layer
from eskret.workflow.model import document
from eskret.workflow.run.engine import Run, RunResult
from eskret.workflow.run.foreach import ForEachRun
from tests.conftest import points, squares
from tests.length import examples

TEXT = """eskret = 1

[parameters.least]
type = "number"
default = 3

[parameters.name]
type = "text"
default = "x"

[[steps]]
id = "in"
use = "load"
files = ["*.gpkg"]

[[steps]]
id = "some"
use = "keep"
from = "in:places"
where = "n >= $least"

[[steps]]
id = "round"
use = "buffer"
from = "some"
distance = "2 m"

[[steps]]
id = "cut"
use = "clip"
from = "in:squares"
to = "round"

[[steps]]
id = "out"
use = "save"
from = ["cut", "some"]
to = "out/all.gpkg"
name = "{name}_{layer}"

[[steps]]
id = "web"
use = "save"
from = "some"
to = "out/{layer}.shp"
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    write(points({"n": list(range(20)), "t": [None, *"abcdefghijklmnopqrs"]}), tmp_path / "places.gpkg", "places")
    write(squares(30), tmp_path / "squares.gpkg", "squares")
    (tmp_path / "w.toml").write_text(TEXT)
    return tmp_path


@pytest.fixture
def store(tmp_path: Path) -> Store:
    return Store(tmp_path / "kept" / "results")


def run(folder: Path, store: Store | None, fresh: bool = False, file: str = "w.toml", **values: Any) -> RunResult:
    result_cache = ResultCache(store, fresh=fresh) if store is not None else None
    path = folder / file
    result = Run(document.read(path), values, workflow=path, hold=True, result_cache=result_cache).execute()
    assert result.error == ""
    return result


def redone(result: RunResult) -> list[str]:
    return [s.id for s in result.steps if s.reused != s.tasks]


def edit(folder: Path, old: str, new: str, name: str = "w.toml") -> None:
    text = (folder / name).read_text()
    assert old in text
    (folder / name).write_text(text.replace(old, new))


def told(result: RunResult) -> list[Any]:
    """The accounts of a run without times and without what was reused."""
    steps = [{k: v for k, v in s.to_json().items() if k not in ("seconds", "reused")} for s in result.steps]
    outputs = [{k: v for k, v in o.to_json().items() if k not in ("sha256", "written")} for o in result.outputs]
    return [steps, outputs]


def same(a: Layer, b: Layer) -> None:
    assert (a.key, a.name, a.crs, a.kind, a.origin, dict(a.titles)) == (b.key, b.name, b.crs, b.kind, b.origin, dict(b.titles))
    assert a.table.equals(b.table) and a.table.schema.equals(b.table.schema)
    assert a.has_geometry == b.has_geometry and (a.ids is None) == (b.ids is None)
    assert a.ids is None or np.array_equal(a.ids, np.asarray(b.ids))
    if a.has_geometry:
        assert shapely.to_wkb(a.geometry, flavor="iso").tolist() == shapely.to_wkb(b.geometry, flavor="iso").tolist()


def test_a_second_run_does_nothing_and_touches_nothing(folder: Path, store: Store) -> None:
    first = run(folder, store)
    assert len(redone(first)) == 6 and all(o.written for o in first.outputs)
    before = {p: (p.stat().st_mtime_ns, p.read_bytes()) for p in sorted((folder / "out").iterdir())}
    second = run(folder, store)
    assert redone(second) == [] and not any(o.written for o in second.outputs)
    assert told(second) == told(first) and [o.sha256 for o in second.outputs] == [o.sha256 for o in first.outputs]
    assert {p: (p.stat().st_mtime_ns, p.read_bytes()) for p in sorted((folder / "out").iterdir())} == before
    for id, layers in first.layers.items():
        for a, b in zip(layers, second.layers[id], strict=True):
            same(a, b)
    assert redone(run(folder, store, fresh=True)) == redone(first)
    assert redone(run(folder, store)) == []


def test_only_what_hangs_on_a_change_is_done_again(folder: Path, store: Store) -> None:
    run(folder, store)
    edit(folder, '"2 m"', '"3 m"')
    assert redone(run(folder, store)) == ["round", "cut", "out"]
    assert redone(run(folder, store, least=5)) == ["some", "round", "cut", "out", "web"]
    assert redone(run(folder, store, least=5, name="y")) == ["out"]  # only a name has it
    # a file that is only younger is the same file; one with other rows is not
    os.utime(folder / "squares.gpkg")
    assert redone(run(folder, store, least=5, name="y")) == []
    (folder / "squares.gpkg").unlink()
    write(squares(31), folder / "squares.gpkg", "squares")
    changed = run(folder, store, least=5, name="y")
    assert redone(changed) == ["in", "cut", "out"] and changed.steps[0].reused == 1
    # a file that comes to where a pattern looks
    write(squares(3), folder / "more.gpkg", "more")
    assert redone(run(folder, store, least=5, name="y"))[0] == "in"
    # a label for people changes nothing that is computed
    edit(folder, 'id = "round"\n', 'id = "round"\nheading = "Wider"\nnote = "why"\n')
    assert redone(run(folder, store, least=5, name="y")) == []


def test_outputs_that_are_not_as_they_were_left_are_saved_again(folder: Path, store: Store) -> None:
    run(folder, store)
    (folder / "out" / "places.dbf").unlink()
    assert redone(run(folder, store)) == ["web"] and (folder / "out" / "places.dbf").exists()
    (folder / "out" / "all.gpkg").unlink()
    assert redone(run(folder, store)) == ["out"]
    assert geopackage.layer_list(folder / "out" / "all.gpkg") == ["x_squares", "x_places"]
    # another layer of one file is written by another step: what was there stays, and counts as there
    with (folder / "w.toml").open("a") as file:
        file.write('\n[[steps]]\nid = "too"\nuse = "save"\nfrom = "round"\nto = "out/all.gpkg"\nname = "round"\n')
    assert redone(run(folder, store)) == ["too"]
    assert sorted(geopackage.layer_list(folder / "out" / "all.gpkg")) == ["round", "x_places", "x_squares"]
    assert redone(run(folder, store)) == []
    # where it hangs on what is there, it is done every time
    edit(folder, 'name = "round"\n', 'name = "round"\nif_exists = "append"\n')
    assert redone(run(folder, store)) == ["too"] == redone(run(folder, store))


def test_a_run_that_failed_has_delivered_nothing(folder: Path, store: Store) -> None:
    first = run(folder, store)
    edit(folder, 'name = "{name}_{layer}"', 'name = "z_{layer}"')
    with (folder / "w.toml").open("a") as file:
        file.write('\n[[steps]]\nid = "test"\nuse = "check"\nfrom = "some"\nthat = "condition"\nwhere = "n < 4"\n')
    path = folder / "w.toml"
    failed = Run(document.read(path), workflow=path, result_cache=ResultCache(store)).execute()
    assert failed.error and geopackage.layer_list(folder / "out" / "all.gpkg") == ["x_squares", "x_places"]
    edit(folder, "n < 4", "n < 400")
    assert redone(run(folder, store)) == ["out", "test"]
    assert {"z_squares", "z_places"} <= set(geopackage.layer_list(folder / "out" / "all.gpkg"))
    assert len(first.outputs) == 3


EDITS = [
    ('"2 m"', '"3 m"'),
    ('"3 m"', '"2 m"'),
    ("n >= $least", "n > $least"),
    ("n > $least", "n >= $least"),
    ('from = "some"\ndistance', 'from = "in:places"\ndistance'),
    ("default = 3", "default = 8"),
    ('from = ["cut", "some"]', 'from = ["some", "cut"]'),
    ('"3 m"', '"300 m"'),
]


@settings(max_examples=examples(12), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.sampled_from(EDITS), min_size=1, max_size=5))
def test_whatever_was_edited_it_is_as_if_done_anew(folder: Path, store: Store, steps: list[tuple[str, str]]) -> None:
    (folder / "w.toml").write_text(TEXT)
    for old, new in steps:
        text = (folder / "w.toml").read_text()
        (folder / "w.toml").write_text(text.replace(old, new))
        mine = run(folder, store)
        rows = {n: read(folder / "out/all.gpkg", n) for n in ("x_squares", "x_places")}
        anew = run(folder, None)
        assert told(mine) == told(anew)
        for name, layer in rows.items():
            same(layer, read(folder / "out/all.gpkg", name))


def test_operations_of_ones_own_are_done_again_when_their_code_changes(folder: Path, store: Store) -> None:
    code = (
        "import eskret, geopandas, shapely\n\n@eskret.operation\ndef move(layer: geopandas.GeoDataFrame) -> "
        "geopandas.GeoDataFrame:\n    return layer.set_geometry(layer.translate(1, 0))\n\n@eskret.operation(phase='Gather')\n"
        "def made() -> geopandas.GeoDataFrame:\n    return geopandas.GeoDataFrame({'a': [1]}, "
        "geometry=[shapely.Point(1, 2)], crs=32626)\n"
    )
    (folder / "operations").mkdir()
    (folder / "operations" / "mine.py").write_text(code)
    (folder / "own.toml").write_text(
        'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["places.gpkg"]\n[[steps]]\nid = "moved"\nuse = "own:move"\n'
        'from = "in"\n[[steps]]\nid = "made"\nuse = "own:made"\n'
    )
    trust.trust(folder, written_here=True)
    run(folder, store, file="own.toml")
    assert redone(run(folder, store, file="own.toml")) == ["made"]  # it may read what nobody sees
    (folder / "operations" / "mine.py").write_text(code.replace("(1, 0)", "(2, 0)").replace("='Gather'", "='Gather', reuse=True"))
    assert redone(run(folder, store, file="own.toml")) == ["moved", "made"]
    assert redone(run(folder, store, file="own.toml")) == []


def test_workflows_inside_and_rounds(folder: Path, store: Store) -> None:
    (folder / "outer.toml").write_text(
        'eskret = 1\n[[steps]]\nid = "all"\nuse = "workflow"\nfile = "w.toml"\n\n'
        'each = { values = "few", field = "n", as = "n" }\nvalues = { least = { parameter = "n" } }\n'
        '[[steps]]\nid = "in"\nuse = "load"\nfiles = ["places.gpkg"]\n'
        '[[steps]]\nid = "few"\nuse = "keep"\nfrom = "in"\nwhere = "n < 4"\n'
    )
    first = run(folder, store, file="outer.toml")
    assert redone(first) == ["all", "in", "few"] and first.steps[0].tasks == 4
    assert redone(run(folder, store, file="outer.toml")) == []
    edit(folder, '"2 m"', '"1 m"')
    assert redone(run(folder, store, file="outer.toml")) == ["all"]
    write(squares(3), folder / "more.gpkg", "more")  # where the inner one looks
    assert redone(run(folder, store, file="outer.toml")) == ["all"]
    rows = [{"least": 1, "name": "a"}, {"least": 2, "name": "b"}]
    edit(folder, 'to = "out/{layer}.shp"', 'to = "out/{name}_{layer}.shp"')
    for times in range(2):
        path = folder / "w.toml"
        result = ForEachRun(document.read(path), rows, workflow=path, result_cache=ResultCache(store)).execute()
        assert result.error == ""
        assert [redone(r.run) == [] for r in result.rounds if r.run is not None] == [times == 1] * 2
        assert all(o.sha256 for o in result.outputs)


# -- layers on disk


def shapes(z: bool, missing: bool) -> np.ndarray:
    array = np.array([shapely.Point(1, 2), shapely.LineString([(0, 0), (1, 1)]), shapely.box(0, 0, 1, 1)], object)
    if z:
        array = shapely.force_3d(array, 7.5)
    if missing:
        array[1] = None
    return array


@pytest.mark.parametrize("shape", ["none", "plain", "z", "missing", "empty"])
def test_a_layer_comes_back_as_it_went(tmp_path: Path, shape: str) -> None:
    table = pa.table({"n": [1, None, 3], "t": ["ä", "", None], "when": pa.array([1, 2, None], pa.timestamp("us", "UTC"))})
    geometry = None if shape == "none" else shapes(shape == "z", shape == "missing")
    layer = Layer(
        "k", table, geometry, None if shape == "none" else "EPSG:32626", "Näme", "/a/b.gpkg", {"n": "Number"}, ids=np.array([5, 7, 9])
    )
    if shape == "empty":
        layer = layer.take(np.empty(0, np.int64))
    facts: Mapping[str, Any] = cached_layer.write(layer, tmp_path / "a", [])
    back = CachedLayer.from_facts(facts, tmp_path / "a", "m")
    assert len(back) == len(layer) and back.with_key("other").load().key == "other"
    loaded = back.load()
    same(loaded, layer)
    assert cached_layer.mark_of(loaded) == "m" and cached_layer.mark_of(loaded.with_key("z")) == "m"
    assert cached_layer.mark_of(loaded.with_table(loaded.table.slice(0, len(loaded)))) is None  # whose rows are others now
    assert cached_layer.mark_of(replace(loaded, kind=GeometryKind.MIXED) if layer.has_geometry else loaded) == "m"
    # what is shared with a layer that lies there is not written again
    more = cached_layer.write(loaded.with_table(loaded.table.append_column("m", pa.nulls(len(loaded)))), tmp_path / "b", [loaded])
    assert more["rows"] == len(layer)
    if layer.has_geometry:
        assert (tmp_path / "b" / cached_layer.SHAPES).stat().st_ino == (tmp_path / "a" / cached_layer.SHAPES).stat().st_ino


def test_room_is_made_by_what_was_used_longest_ago(folder: Path, store: Store) -> None:
    run(folder, store)
    count, size = store.size()
    assert count > 6 and size > 1000
    for entry in sorted(store.folder.glob("??/*/entry.json"))[: count // 2]:
        os.utime(entry, (1, 1))
    store.set_limit(size - 1)
    assert 0 < store.size()[0] < count and store.size()[1] < size
    store.set_limit(10 * size)
    # what is not whole is done again, and what cannot be kept is no harm
    for entry in store.folder.glob("??/*/entry.json"):
        entry.write_bytes(entry.read_bytes()[:10])
    assert len(redone(run(folder, store))) == 6
    assert redone(run(folder, store)) == []
    store.clear()
    assert store.size() == (0, 0)
    store.set_limit(0)
    run(folder, store)
    assert len(redone(run(folder, store))) == 6 and store.size() == (0, 0)


def test_a_workflow_does_not_read_its_own_outputs_by_a_pattern(tmp_path: Path) -> None:
    """Else every run would have more to read than the last, and balance: what it wrote is left out, told, and read where it is named."""
    write(squares(3, key="beds"), tmp_path / "beds.gpkg", "beds")
    (tmp_path / "marks.csv").write_text("n,x,y\n1,560000,5200000\n")
    path = tmp_path / "w.toml"
    head = 'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = [%s]\n'
    rest = (
        '[[steps]]\nid = "marks"\nuse = "load_coordinates"\nfiles = ["*.csv"]\ncrs = "EPSG:32626"\nx = "x"\ny = "y"\n'
        '[[steps]]\nid = "file"\nuse = "save"\nfrom = "in"\nto = "all.gpkg"\n'
        '[[steps]]\nid = "beside"\nuse = "save"\nfrom = "in"\nto = "beds.gpkg"\nname = "again_{layer}"\n'
        '[[steps]]\nid = "text"\nuse = "save"\nfrom = "marks"\nto = "copy.csv"\n'
    )

    def run(files: str) -> tuple[list[int], str]:
        path.write_text(head % files + rest)
        result = Run(document.read(path), workflow=path).execute()
        said = " ".join(r.text for s in result.steps for r in s.remarks)
        return [len(s.outputs) and sum(o.rows for o in s.outputs) for s in result.steps[:2]], said

    assert run('"*.gpkg"') == ([3, 1], "")
    for _ in range(2):
        rows, said = run('"*.gpkg"')
        assert rows == [3, 1]
        assert "all.gpkg: 'beds' left out, since this workflow wrote it" in said
        assert "beds.gpkg: 'again_beds' left out" in said and "copy.csv: left out" in said
    assert run('"beds.gpkg"')[0] == [3, 1], "of a container the layers of others"
    found = Workflow.read(path).rehearse()
    assert any("Name it by itself" in f.text for f in found.findings)
    assert run('"all.gpkg"')[0][0] == 3, "what is named by itself is read"
