"""Large layers go through in chunks: nothing that is told or written differs from what is done whole."""

from __future__ import annotations

import difflib
import errno
import json
import os
import random
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Generator, Mapping
from functools import partial
from pathlib import Path
from typing import Any

import geopandas
import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import shapely

import eskret
from eskret.core.accounts.account import Remark, added_up, told_counts, verbatim
from eskret.core.files import held_batches
from eskret.core.files.locks import FileLock
from eskret.core.files.user_state import cache_place
from eskret.core.layer import Layer, WkbArray, chunks
from eskret.errors import Code, EskretError
from eskret.formats import delimited, geopackage, parquet, sources, tables, vector
from eskret.formats.geopackage import bulk
from eskret.formats.known import format_to_write
from eskret.operations.base import EachLayer, Takes
from eskret.operations.registry import all_operations
from eskret.workflow.cache import ResultCache, spool, the_store
from eskret.workflow.cache.results import drawing_of
from eskret.workflow.model import document
from eskret.workflow.run import engine, step
from eskret.workflow.run.engine import Run
from tests.golden import drawn, record
from tests.length import turns

IN_ROWS = ("keep", "keep_by_place", "compute", "arrange_fields", "measure", "clip", "erase", "reproject", "buffer", "centre_points")
IN_ROWS += ("outlines", "corner_points", "separate_parts", "densify", "flag", "make_valid", "simplify", "nearest", "join_by_place")
IN_ROWS += ("drop_repeats", "number", "pick", "hull", "join_table", "apply_words", "snap_points")
IN_ROWS += ("fill_holes", "take_rows", "unpivot", "declare_crs", "points_along")
IN_ROWS += ("rank", "classify", "reverse_lines", "extend_lines", "offset_lines", "zones", "snap_shapes")
TABLE = "table"
"""Stands in settings for a table that another step loads."""
IN_PARTS = ("dissolve", "summarise", "gather_parts", "sort", "hull", "connect_points", "split")


@pytest.fixture
def small(monkeypatch: pytest.MonkeyPatch) -> None:
    """Chunks of five rows, for layers of more than six."""
    monkeypatch.setattr(chunks, "CHUNK", 5)
    monkeypatch.setattr(chunks, "LARGE", 6)


def told(path: Path, **more: Any) -> dict[str, Any] | str:
    """What a run says, but for times and digests of databases, which hold times."""
    try:
        result = Run(document.read(path), workflow=path, **more).execute().to_json()
    except EskretError as error:
        return error.sentence()
    for one in (result, *result["steps"]):
        one.pop("seconds")
    result.pop("started")
    for one in result["outputs"]:
        one.pop("sha256")
    return dict(json.loads(json.dumps(result), parse_float=lambda text: round(float(text), 6)))


def run_twice(path: Path, request: pytest.FixtureRequest) -> tuple[Any, Any, str, str]:
    """What is told and written of a workflow done whole, and then in chunks."""
    out = path.parent / "out"
    whole, written = told(path), record.contents(out) if out.exists() else ""
    shutil.rmtree(out, ignore_errors=True)
    path.with_suffix(".outputs.json").unlink(missing_ok=True)
    request.getfixturevalue("small")
    return whole, told(path), written, record.contents(out) if out.exists() else ""


def differing(whole: Any, chunked: Any) -> str:
    """What is not alike in what two runs say."""
    first, second = (json.dumps(x, indent=1).splitlines() for x in (whole, chunked))
    return "\n".join(difflib.unified_diff(first, second, "whole", "in chunks", n=6))


def no_memory(monkeypatch: pytest.MonkeyPatch) -> None:
    """Hardly any memory is to be taken: one task at a time, and what a step leaves is let go of at once."""
    monkeypatch.setattr(engine, "may_take", lambda: 1)
    for module, name in ((engine, "MANY"), (step, "MANY"), (step, "_MUCH")):
        monkeypatch.setattr(module, name, 0)


@pytest.mark.parametrize("number", range(turns(200, 20)))
def test_drawn_workflows_in_chunks_as_whole(
    number: int, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    if number % 2:
        no_memory(monkeypatch)
    drawn.data(tmp_path / "data")
    path = tmp_path / f"w{number}.toml"
    path.write_text(drawn.workflow(number))
    whole, chunked, written, again = run_twice(path, request)
    assert chunked == whole, differing(whole, chunked)
    assert again == written


WORDS = "field,spelling,word\n*,pile,Pile\n*,stake,(empty)\nkind,(no value),none\n"


def cases() -> Generator[tuple[str, dict[str, Any]], None, None]:
    for use in IN_ROWS:
        yield from ((use, settings) for settings in drawn.STEPS.get(use, []) if "by" not in settings)
    yield "keep_by_place", {"to": drawn.ONE, "relation": "touches"}
    yield "clip", {"to": drawn.ONE, "edge": "whole"}
    yield "clip", {"to": drawn.ONE, "sliver": "5000 m2"}
    yield "compute", {"field": "none", "value": "tonnes / (n % 4)"}
    yield "compute", {"field": "many", "value": "CASE WHEN n % 3 = 0 THEN kind || n ELSE n || '.5' END", "type": "whole"}
    yield "arrange_fields", {"types": {"kind": "whole", "tonnes": "whole", "half": "yes/no"}}
    yield "keep", {"where": "n > 1000"}
    yield "drop_repeats", {"fields": ["kind"], "geometry": True}
    yield "flag", {"field": "kind", "where": "tonnes > 20", "to": drawn.ONE, "value": "in", "others": "empty"}
    yield "hull", {"shape": "box", "around": "each"}
    yield "join_by_place", {"other": drawn.ONE, "relation": "most", "without": "aside"}
    yield "join_by_place", {"other": drawn.ONE, "several": "repeat"}
    yield "join_by_place", {"other": drawn.ONE, "several": "sum", "fields": ["tonnes", "name"]}
    yield "nearest", {"other": drawn.ONE, "within": "500 m", "without": "aside", "unit": "km"}
    yield "number", {"start": 10, "increment": -3}
    yield "pick", {"features": [1, 3, 99], "key": "n", "take": "all but these"}
    for several in ("first", "list", "sum", "rows", "repeat"):
        for without in ("keep", "aside"):
            yield "join_table", {"table": TABLE, "key": "n", "several": several, "without": without}
    yield "join_table", {"table": TABLE, "key": "kind", "table_key": "kind", "alike": ["case", "blanks"], "fields": ["landed", "code"]}
    yield "join_table", {"table": TABLE, "key": "n", "table_key": "code", "alike": ["types"]}
    yield "apply_words", {"words": "words.csv", "fields": ["kind"], "ending": "_tidy"}
    yield "snap_points", {"to": drawn.ONE, "within": "900 m"}
    yield "fill_holes", {}
    yield "points_along", {"every": "70 m", "last": True}
    yield "points_along", {"place": "shares", "shares": "0, 50, 100"}
    yield "fill_holes", {"largest": "2000 m2"}
    yield "take_rows", {"number": 3, "within": ["kind"]}
    yield "take_rows", {"which": "every", "number": 4}
    yield "take_rows", {"which": "random", "number": 7, "seed": 3}
    yield "unpivot", {"columns": ["n", "tonnes"]}
    yield "unpivot", {"columns": ["kind", "tonnes"], "empty": "keep"}
    yield "declare_crs", {"crs": "EPSG:32627", "which": "all"}
    yield "rank", {"by": "tonnes", "within": ["kind"]}
    yield "rank", {"by": "kind", "first": "least", "ties": "middle"}
    yield "classify", {"by": "tonnes", "limits": "3, 20", "write": "range"}
    yield "classify", {"by": "n", "method": "natural", "count": 4}
    yield "reverse_lines", {"where": "n % 2 = 1"}
    yield "extend_lines", {"by": "30 m", "ends": "end"}
    yield "offset_lines", {"distance": "20 m", "side": "both"}
    yield "zones", {"distances": "10, 30 m"}
    yield "snap_shapes", {"to": drawn.ONE, "within": "400 m"}
    yield "buffer", {"distance": "25 m", "side": "right"}
    yield "snap_points", {"to": drawn.ONE, "within": "300 m", "onto": "corner", "others": "aside"}


TAKES_KINDS = {"outlines": ["areas"], "points_along": ["lines"], "fill_holes": ["areas", "mixed"], "snap_points": ["points"]}
TAKES_KINDS |= {key: ["lines", "mixed"] for key in ("reverse_lines", "extend_lines", "one-sided")}
"""Kinds of layers that an operation takes, where it does not take all."""


def parts() -> Generator[tuple[str, dict[str, Any]], None, None]:
    for use in IN_PARTS:
        yield from ((use, settings) for settings in drawn.STEPS[use] if "by" in settings)
    yield "dissolve", {"by": ["n"], "parts": "apart"}
    yield "dissolve", {"by": ["kind", "half"], "empty": "group", "figures": {"all": "sum tonnes", "middle": "median n"}}
    yield "summarise", {"by": ["half"], "empty": "group", "figures": {"which": "list kind", "spread": "sd tonnes"}}
    yield "gather_parts", {"by": ["half", "kind"], "figures": {"all": "sum tonnes"}}
    yield "sort", {"by": ["kind", "half down"]}
    yield "connect_points", {"by": ["kind"], "order": "tonnes", "gap_distance": "1.5 km", "shape": "area"}
    yield "connect_points", {"by": ["kind", "tonnes"]}
    yield "split", {"by": ["n"], "name": "{layer}_{n}"}
    yield "split", {"by": ["kind"]}
    yield "sort", {"by": ["tonnes"]}
    yield "hull", {"around": "group", "by": ["half"], "shape": "circle"}


def one_step(path: Path, use: str, settings: dict[str, Any], kinds: list[str]) -> None:
    """A workflow of one step, with what it may need beside."""
    path.with_name("words.csv").write_text(WORDS)
    path.with_name("table.csv").write_text("n,kind,landed,code\n2,PILE,5,3\n2,stake,6.5,4\n3,,7,9\n77,buoy,8,\n,x,9,11\n41,pile ,1,12\n")
    named = {drawn.ONE: "one:one", TABLE: "table"}
    given = "\n".join(f"{k} = {drawn._toml(named.get(v, v) if isinstance(v, str) else v)}" for k, v in settings.items())
    path.write_text(
        f'eskret = 1\ntitle = "Rows"\n[parameters.least]\ntype = "number"\ndefault = 5\n'
        f'[[steps]]\nid = "all"\nuse = "load"\nfiles = ["data/all.gpkg"]\nlayers = {drawn._toml(kinds)}\n'
        '[[steps]]\nid = "in"\nuse = "compute"\nfrom = "all"\nfield = "half"\nvalue = "n / 7"\n'
        '[[steps]]\nid = "one"\nuse = "load"\nfiles = ["data/all.gpkg"]\nlayers = ["one"]\n'
        '[[steps]]\nid = "table"\nuse = "load"\nfiles = ["table.csv"]\n'
        f'[[steps]]\nid = "it"\nuse = "{use}"\nfrom = "in"\n{given}\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = "it"\nto = "out/w.gpkg"\n'
    )


@pytest.mark.parametrize(("use", "settings"), list(cases()), ids=str)
def test_every_operation_of_rows_in_chunks_as_whole(
    use: str, settings: dict[str, Any], tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    drawn.data(tmp_path / "data")
    path = tmp_path / "w.toml"
    one_step(path, use, settings, TAKES_KINDS.get("one-sided" if "side" in settings else use, ["points", "lines", "areas", "mixed"]))
    works: list[int] = []
    work = type(all_operations()[use]).run
    monkeypatch.setattr(type(all_operations()[use]), "run", lambda self, x, *a: [works.append(len(x)), work(self, x, *a)][1])
    whole, chunked, written, again = run_twice(path, request)
    assert isinstance(whole, dict) and not whole["error"], whole["error"]
    assert chunked == whole, differing(whole, chunked)
    assert again == written
    # of every kind that it takes in rows there were chunks
    assert works.count(5) >= 5, "nothing went through in chunks"


@pytest.mark.parametrize(("use", "settings"), list(parts()), ids=str)
def test_every_operation_of_groups_in_parts_as_whole(
    use: str, settings: dict[str, Any], tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    drawn.data(tmp_path / "data")
    path = tmp_path / "w.toml"
    one_step(path, use, settings, ["points"] if use == "connect_points" else ["points", "lines", "areas", "mixed"])
    works: list[int] = []
    work = type(all_operations()[use]).run
    monkeypatch.setattr(type(all_operations()[use]), "run", lambda self, x, *a: [works.append(len(x)), work(self, x, *a)][1])
    whole, chunked, written, again = run_twice(path, request)
    assert isinstance(whole, dict) and not whole["error"], whole["error"]
    assert chunked == whole, differing(whole, chunked)
    assert again == written
    assert len(works) > (5 if use == "connect_points" else 8), "nothing went through in parts"
    assert not list((tmp_path / "cache").rglob("*-parts")), "parts were left behind"


def test_which_operations_take_rows(tmp_path: Path) -> None:
    rows = {n for n, o in all_operations().items() if isinstance(o, EachLayer) and type(o).takes is not EachLayer.takes}
    assert rows == {*IN_ROWS, *IN_PARTS} and EachLayer.takes(all_operations()["overlay"], None, None) is Takes.WHOLE  # type: ignore[arg-type]


@pytest.mark.parametrize("figures", ["", 'figures = { all = "sum tonnes", which = "list n" }'])
@pytest.mark.parametrize("counted", ["points", "lines", "areas", "mixed"])
def test_what_is_counted_comes_in_chunks(counted: str, figures: str, tmp_path: Path, request: pytest.FixtureRequest) -> None:
    drawn.data(tmp_path / "data")
    path = tmp_path / "w.toml"
    path.write_text(
        'eskret = 1\ntitle = "Count"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/all.gpkg"]\n'
        f'[[steps]]\nid = "it"\nuse = "count_in_areas"\nfrom = "in:one"\nother = "in:{counted}"\nwhere = "meets"\n{figures}\n'
        '[[steps]]\nid = "there"\nuse = "reproject"\nfrom = "in:one"\ncrs = "EPSG:32627"\n'
        f'[[steps]]\nid = "too"\nuse = "count_in_areas"\nfrom = "there"\nother = "in:{counted}"\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = ["it", "too"]\nto = "out/w.gpkg"\nname = "{step}"\n'
    )
    whole, chunked, written, again = run_twice(path, request)
    assert isinstance(whole, dict) and whole["state"] == "look", whole
    assert chunked == whole and again == written


@pytest.mark.parametrize("layer", ["points", "lines", "areas", "mixed"])
def test_geoparquet_is_read_and_written_in_chunks_as_whole(
    layer: str, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    drawn.data(tmp_path / "data")
    there = {"title": "Rows", "licence": "CC0"}
    eskret.write(eskret.read(tmp_path / "data" / "all.gpkg", layer), tmp_path / "data" / "a.parquet")
    path = tmp_path / "w.toml"
    about = "".join(f'{k} = "{v}"\n' for k, v in there.items())
    path.write_text(
        f'eskret = 1\ntitle = "Columns"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/a.parquet"]\n'
        '[[steps]]\nid = "some"\nuse = "keep"\nfrom = "in"\nwhere = "n <> 4"\n'
        f'[[steps]]\nid = "out"\nuse = "save"\nfrom = "some"\nto = "out/w.parquet"\n{about}'
        '[[steps]]\nid = "too"\nuse = "save"\nfrom = "some"\nto = "out/w.gpkg"\n'
    )
    written: list[int] = []
    write = parquet.GeoParquet.write_chunks
    monkeypatch.setattr(parquet.GeoParquet, "write_chunks", lambda self, *a: [written.append(1), write(self, *a)][1])
    whole, chunked, _, _ = run_twice(path, request)
    assert isinstance(whole, dict) and chunked == whole and whole["error"] == "" and written == [1]
    again = eskret.read(tmp_path / "out" / "w.parquet")
    monkeypatch.undo()
    shutil.rmtree(tmp_path / "out")
    path.with_suffix(".outputs.json").unlink()
    assert isinstance(told(path), dict)
    first = eskret.read(tmp_path / "out" / "w.parquet")
    assert first.table.equals(again.table) and first.kind == again.kind and first.crs == again.crs
    assert shapely.equals_exact(first.geometry, again.geometry, 0.0)[~shapely.is_missing(first.geometry)].all()
    geo = json.loads(pq.ParquetFile(tmp_path / "out" / "w.parquet").schema_arrow.metadata[b"geo"])
    assert geo["columns"]["geometry"]["bbox"] == pytest.approx(list(first.extent() or ()))


KINDS = ("points", "lines", "areas", "mixed")
ENDINGS = (".shp", ".fgb", ".geojson", ".geojsons")


@pytest.mark.parametrize(("layer", "ending"), [(k, e) for k in KINDS for e in ENDINGS if (k, e) != ("mixed", ".shp")])
def test_files_of_one_layer_are_read_in_chunks_as_whole(
    layer: str, ending: str, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """With an empty value in the first chunk alone, a shape of another kind in the last, and what is only there beside others."""
    drawn.data(tmp_path / "data")
    eskret.write(eskret.read(tmp_path / "data" / "all.gpkg", layer), tmp_path / "data" / f"a{ending}")
    path = tmp_path / "w.toml"
    path.write_text(
        f'eskret = 1\ntitle = "Files"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/a{ending}"]\n'
        '[[steps]]\nid = "some"\nuse = "keep"\nfrom = "in"\nwhere = "n <> 4"\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = "some"\nto = "out/w.gpkg"\n'
    )
    read: list[int] = []
    reading = vector._Stream.chunks
    monkeypatch.setattr(vector._Stream, "chunks", lambda self, watch: [read.append(1), reading(self, watch)][1])
    whole, chunked, before, after = run_twice(path, request)
    assert isinstance(whole, dict) and chunked == whole and whole["error"] == "" and after == before and read == [1]


RECORDS = [
    "zone;code;depth;day;note",
    *[f"Z{n % 3};{n:03};{'+' if n % 5 == 0 else ''}{n},5;2031-02-{n % 28 + 1:02};größe {n}" for n in range(23)],
    "1;2",
    'Z1;099;1.234,5;2031-02-30;"two',
    'lines"',
    *["a;b;c;d;e;f"] * 3,
    "Z2;100;;2031-03-01;",
    "9",
]


@pytest.mark.parametrize("codec", ["utf-8", "cp1252", "mixed"])
def test_a_table_of_text_is_read_in_chunks_as_whole(
    codec: str, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Parsed some bytes at a time, held on disk, with records that are set aside between and behind the others."""
    (tmp_path / "data").mkdir()
    codecs = ["utf-8", "cp1252"] * len(RECORDS) if codec == "mixed" else [codec] * len(RECORDS)
    (tmp_path / "data" / "a.csv").write_bytes(b"".join(f"{r}\n".encode(c) for r, c in zip(RECORDS, codecs, strict=False)))
    path = tmp_path / "w.toml"
    path.write_text(
        'eskret = 1\ntitle = "Texts"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/a.csv"]\n'
        '[[steps]]\nid = "some"\nuse = "keep"\nfrom = "in"\nwhere = "zone <> \'Z0\'"\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = "some"\nto = "out/w.gpkg"\n'
    )
    whole = told(path)
    shutil.rmtree(tmp_path / "out")
    path.with_suffix(".outputs.json").unlink()
    monkeypatch.setattr(tables, "_BLOCK", 256)
    monkeypatch.setattr(held_batches, "_FEW", 0)
    tables._delimited.cache_clear()
    again, chunked, before, after = run_twice(path, request)
    assert isinstance(whole, dict) and chunked == again == whole and whole["error"] == "" and after == before
    layer = eskret.read(tmp_path / "out" / "w.gpkg")
    types = {f.name: f.type for f in layer.table.schema}
    assert types["code"] == pa.string() and types["depth"] == pa.float64() and types["day"] == pa.string(), "a 30th of February"
    assert whole["steps"][0]["inputs"][0]["rows"] == 30 and "lines" in layer.table.column("note").to_pylist()[-2]


UNTIDY = ["none", "empty", (-28.4, 38.5), (np.inf, 38.0), (-28.0, 95.0), (1e300, 1.0), (3000.0, 2.0), (179.9, 12.0), (-179.9, -12.0)]


@pytest.mark.parametrize("several", [False, True])
@pytest.mark.parametrize("untidy", [False, True])
@pytest.mark.parametrize("crs", ["EPSG:32626", "EPSG:3857", "EPSG:27700", "EPSG:3995"])
def test_points_are_brought_to_the_workflows_system_in_chunks_as_whole(
    crs: str, untidy: bool, several: bool, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """By one way for all of them, also where chunks by themselves would take another, and whatever is among them."""
    chance = np.random.default_rng(4)
    shapes: list[Any] = list(shapely.points(chance.uniform((-9.0, 49.0), (3.0, 61.0), (40, 2))))
    if untidy:
        shapes[3::4] = [None if u == "none" else shapely.Point() if u == "empty" else shapely.Point(u) for u in (*UNTIDY, "none")]
    if several:
        shapes[7] = shapely.multipoints([(-2.0, 55.0), (-1.0, 54.0)])
    (tmp_path / "data").mkdir()
    there = Layer("p", pa.table({"n": np.arange(len(shapes))}), np.array(shapes, object), "EPSG:4326")
    with geopackage.writing(tmp_path / "data" / "p.gpkg") as container:
        container.add(there, "p")
    path = tmp_path / "w.toml"
    path.write_text(
        f'eskret = 1\ntitle = "Brought"\ncrs = "{crs}"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/p.gpkg"]\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\nto = "out/w.gpkg"\n'
    )
    read: list[int] = []
    reading = vector._Stream.chunks
    monkeypatch.setattr(vector._Stream, "chunks", lambda self, watch: [read.append(1), reading(self, watch)][1])
    whole, chunked, before, after = run_twice(path, request)
    assert isinstance(whole, dict) and chunked == whole and whole["error"] == "" and after == before
    assert read == [1, 1]  # where they lie, and then they themselves


@pytest.mark.parametrize("ending", [".gpkg", ".parquet", ".csv"])
@pytest.mark.parametrize("layer", ["points", "lines", "areas", "mixed"])
def test_layers_are_saved_in_another_system_in_chunks_as_whole(
    layer: str, ending: str, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    drawn.data(tmp_path / "data")
    path = tmp_path / "w.toml"
    path.write_text(
        f'eskret = 1\ntitle = "There"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/all.gpkg"]\nlayers = ["{layer}"]\n'
        f'[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\nto = "out/w{ending}"\ncrs = "EPSG:3035"\n'
    )
    made: list[object] = []
    kind = bulk.LargeLayer if ending == ".gpkg" else type(format_to_write(Path(f"a{ending}")))
    name = "write" if ending == ".gpkg" else "write_chunks"
    write = getattr(kind, name)
    monkeypatch.setattr(kind, name, lambda self, *a: [made.append(1), write(self, *a)][1])
    whole, chunked, before, after = run_twice(path, request)
    assert isinstance(whole, dict) and chunked == whole and whole["error"] == "" and after == before
    assert made == ([] if ending == ".parquet" else [1])  # whose last word is where all of it lies
    assert whole["outputs"][0]["crs"] == "EPSG:3035"


@pytest.mark.parametrize(
    "more", ['fields = ["n", "tonnes"]', 'crs = "EPSG:3857"\nfields = ["kind"]\ntitled = true', 'measures = ["area_ha"]']
)
def test_what_is_alike_of_what_was_saved_in_chunks(more: str, tmp_path: Path, request: pytest.FixtureRequest) -> None:
    drawn.data(tmp_path / "data")
    path = tmp_path / "w.toml"
    path.write_text(
        'eskret = 1\ntitle = "Alike"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/all.gpkg"]\nlayers = ["areas"]\n'
        f'[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\nto = "out/w.gpkg"\n{more}\n'
    )
    whole, chunked, before, after = run_twice(path, request)
    assert isinstance(whole, dict) and chunked == whole and whole["error"] == "" and after == before, whole


@pytest.mark.parametrize("crs", ["", "EPSG:3035"])
def test_layers_go_into_a_section_in_chunks_as_whole(
    crs: str, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """All in the system of the section, which is that of the first where none is named."""
    drawn.data(tmp_path / "data")
    frame = geopandas.read_file(tmp_path / "data" / "all.gpkg", layer="lines")
    frame.to_crs("EPSG:32627").to_file(tmp_path / "data" / "more.gpkg", layer="more")
    path = tmp_path / "w.toml"
    path.write_text(
        'eskret = 1\ntitle = "Sea"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/all.gpkg", "data/more.gpkg"]\n'
        'layers = ["areas", "points", "more"]\n[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\nto = "out/w.gpkg"\nsection = "Sea"\n'
        + (f'crs = "{crs}"\n' if crs else "")
    )
    made: list[object] = []
    write = bulk.LargeLayer.write
    monkeypatch.setattr(bulk.LargeLayer, "write", lambda self, *a: [made.append(1), write(self, *a)][1])
    whole, chunked, before, after = run_twice(path, request)
    assert isinstance(whole, dict) and chunked == whole and whole["error"] == "" and after == before and len(made) == 3
    out = tmp_path / "out" / "w.gpkg"
    placed = {(e.section, sources.read(out, e.name, "x").layer.crs) for e in geopackage.entries(out)}
    assert placed == {("Sea", crs or "EPSG:32626")}


@pytest.mark.parametrize("layer", ["lines", "areas", "mixed"])
def test_what_is_no_points_is_brought_whole(layer: str, tmp_path: Path, request: pytest.FixtureRequest) -> None:
    drawn.data(tmp_path / "data")
    path = tmp_path / "w.toml"
    path.write_text(
        'eskret = 1\ntitle = "Brought"\ncrs = "EPSG:4326"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/all.gpkg"]\n'
        f'layers = ["{layer}"]\n[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\nto = "out/w.gpkg"\n'
    )
    whole, chunked, before, after = run_twice(path, request)
    assert isinstance(whole, dict) and chunked == whole and after == before


@pytest.mark.parametrize("layer", ["points", "lines", "areas", "mixed"])
def test_csv_is_written_in_chunks_as_whole(
    layer: str, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """To the byte."""
    drawn.data(tmp_path / "data")
    path = tmp_path / "w.toml"
    path.write_text(
        f'eskret = 1\ntitle = "Text"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/all.gpkg"]\nlayers = ["{layer}"]\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\nto = "out/w.csv"\nalso = ["out/too.csv"]\n'
    )
    written: list[int] = []
    write = delimited.Csv.write_chunks
    monkeypatch.setattr(delimited.Csv, "write_chunks", lambda self, *a: [written.append(1), write(self, *a)][1])
    whole, chunked, before, after = run_twice(path, request)
    assert isinstance(whole, dict) and chunked == whole and whole["error"] == "" and after == before and written == [1, 1]


SAVED = [(e, m) for e in (".geojson", ".geojsons") for m in ("", "native = true", 'crs = "EPSG:3857"\nnative = true', "decimals = 2")]
SAVED += [(".fgb", ""), (".fgb", 'crs = "EPSG:3035"'), (".geojson", 'title = "Beds"\nlicence = "CC0"')]


@pytest.mark.parametrize(("ending", "more"), SAVED)
@pytest.mark.parametrize("layer", ["points", "lines", "areas", "mixed"])
def test_files_of_one_layer_are_written_in_chunks_as_whole(
    layer: str, ending: str, more: str, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """To the byte, with shapes that are missing, empty or several in one."""
    drawn.data(tmp_path / "data")
    path = tmp_path / "w.toml"
    path.write_text(
        f'eskret = 1\ntitle = "Text"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/all.gpkg"]\nlayers = ["{layer}"]\n'
        f'[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\nto = "out/w{ending}"\n{more}\n'
    )
    written: list[int] = []
    kind = type(format_to_write(Path(f"a{ending}")))
    write = kind.write_chunks
    monkeypatch.setattr(kind, "write_chunks", lambda self, *a: [written.append(1), write(self, *a)][1])
    whole = told(path)
    before = (tmp_path / "out" / f"w{ending}").read_bytes()
    shutil.rmtree(tmp_path / "out")
    path.with_suffix(".outputs.json").unlink()
    request.getfixturevalue("small")
    chunked = told(path)
    assert isinstance(whole, dict) and not whole["error"], whole["error"]
    assert chunked == whole, differing(whole, chunked)
    after = (tmp_path / "out" / f"w{ending}").read_bytes()
    assert written == [1] and after == before


@pytest.mark.parametrize("crs", ["EPSG:4326", "EPSG:3832"])
def test_what_is_cut_on_the_way_into_geojson_is_looked_at_whole(crs: str, tmp_path: Path, request: pytest.FixtureRequest) -> None:
    boxes = [shapely.box(x, -18.0, x + 3.0, -16.0) for x in (160.0, 165.0, 170.0, 172.0, 174.0, 175.0, 176.0, 178.5)]
    frame = geopandas.GeoDataFrame({"n": range(8)}, geometry=boxes, crs=4326).to_crs(crs)
    frame.to_file(tmp_path / "a.gpkg", layer="a")
    path = tmp_path / "w.toml"
    path.write_text(
        'eskret = 1\ntitle = "Over"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["a.gpkg"]\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\nto = "out/w.geojson"\n'
    )
    whole, chunked, before, after = run_twice(path, request)
    assert isinstance(whole, dict) and any("cut at the antimeridian" in r["text"] for r in whole["steps"][1]["remarks"])
    assert chunked == whole and after == before


WORKFLOW = """eskret = 1
title = "Rows"
[[steps]]
id = "in"
use = "load"
files = ["all.gpkg"]
layers = ["areas"]
[[steps]]
id = "some"
use = "keep"
from = "in"
where = "n < 39"
[[steps]]
id = "bad"
use = "compute"
from = "some"
field = "x"
value = "tonnes"
[[steps]]
id = "out"
use = "save"
from = "bad"
to = "out/w.gpkg"
"""


def test_what_breaks_off_half_way_leaves_nothing(small: None, tmp_path: Path) -> None:
    """A shape in the last chunk that is damaged is set aside; a step that fails in a late chunk, or is stopped there, leaves nothing."""
    drawn.data(tmp_path / "data")
    (tmp_path / "data" / "w.toml").write_text(WORKFLOW)
    with sqlite3.connect(tmp_path / "data" / "all.gpkg") as db:
        for (trigger,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'areas'").fetchall():
            db.execute(f'DROP TRIGGER "{trigger}"')
        db.execute("UPDATE areas SET geom = substr(geom, 1, length(geom) - 9) WHERE fid = 38")
    path = tmp_path / "data" / "w.toml"
    result = Run(document.read(path), workflow=path).execute()
    (account,) = result.steps[0].inputs
    assert account.set_aside.counts() == [("its shape is damaged in the file", 1)] and account.set_aside.rows.tolist() == [37]
    assert result.outputs[0].features == 37

    stopped = Run(document.read(path), workflow=path)
    seen: list[int] = []

    def stop_late(event: dict[str, Any]) -> None:
        if event["event"] == "step_finished" and event["id"] == "some":
            seen.append(1)
            stopped.stop()

    stopped.tell = stop_late
    before = (tmp_path / "data" / "out" / "w.gpkg").read_bytes()
    assert stopped.execute().state == "stopped" and seen
    assert (tmp_path / "data" / "out" / "w.gpkg").read_bytes() == before
    assert not [p for p in cache_place("scratch").glob("spool-*") if p.is_dir()]


def test_where_nothing_can_be_kept_layers_are_held_whole_and_a_full_disk_is_said(
    small: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    drawn.data(tmp_path / "data")
    path = tmp_path / "data" / "w.toml"
    path.write_text(WORKFLOW)

    def refuse(number: int, *_: object, **__: object) -> Any:
        raise OSError(number, os.strerror(number))

    with monkeypatch.context() as full:
        full.setattr(pa.ipc, "new_file", partial(refuse, errno.ENOSPC))
        result = Run(document.read(path), workflow=path).execute()
        assert result.state == "failed" and "No space left" in result.error and "XDG_CACHE_HOME" in result.error, result.error
        assert result.code is Code.DISK_FULL and not (tmp_path / "data" / "out").exists()
        assert not [p for p in cache_place("scratch").glob("spool-*") if p.is_dir()]
    monkeypatch.setattr(spool, "scratch_folder", partial(refuse, errno.EROFS))
    result = Run(document.read(path), workflow=path).execute()
    assert result.state in ("balanced", "look") and result.outputs[0].features == 38


def test_what_a_killed_run_left_is_swept_by_the_next_that_needs_no_room(tmp_path: Path) -> None:
    drawn.data(tmp_path / "data")
    path = tmp_path / "data" / "w.toml"
    path.write_text(WORKFLOW)
    left, alive = (cache_place("scratch") / f"spool-{n}" for n in ("dead", "alive"))
    for one in (left / "2-parts" / "0", alive / "1"):
        one.mkdir(parents=True)
        (one / "table.arrow").write_bytes(b"rows")
    lock = FileLock.take(alive.with_name(f"{alive.name}.lock"))
    assert lock is not None
    Run(document.read(path), workflow=path).execute()
    assert not left.exists() and alive.exists()
    lock.release()


def test_results_of_chunks_are_taken_up_again(small: None, tmp_path: Path) -> None:
    drawn.data(tmp_path / "data")
    path = tmp_path / "data" / "w.toml"
    path.write_text(WORKFLOW)
    first = Run(document.read(path), workflow=path, result_cache=ResultCache(the_store())).execute()
    again = Run(document.read(path), workflow=path, result_cache=ResultCache(the_store())).execute()
    assert [s.reused for s in first.steps] == [0, 0, 0, 0] and [s.reused for s in again.steps] == [1, 1, 1, 1]
    path.write_text(WORKFLOW.replace("n < 39", "n < 21"))
    other = Run(document.read(path), workflow=path, result_cache=ResultCache(the_store())).execute()
    assert [s.reused for s in other.steps] == [1, 0, 0, 0] and other.outputs[0].features == 20
    assert not [p for p in cache_place("scratch").glob("spool-*") if p.is_dir()]


def test_what_a_map_draws_is_the_same_of_binary_and_of_shapes(tmp_path: Path) -> None:
    drawn.data(tmp_path / "data")
    seen = set()
    for part in [eskret.read(tmp_path / "data" / "all.gpkg", n) for n in ("points", "lines", "areas", "mixed")]:
        whole = np.flatnonzero(~(shapely.is_missing(part.geometry) | shapely.is_empty(part.geometry)))
        for rows in (whole, whole[shapely.get_num_geometries(part.geometry[whole]) == 1], whole[:0]):
            shapes = part.geometry[rows]
            binary = WkbArray.from_arrow(pa.chunked_array([pa.array(shapely.to_wkb(shapes, byte_order=1).tolist(), pa.binary())]))
            if binary is None:
                continue
            one, other = (Layer("a", part.take(rows).table, x, drawn.UTM) for x in (binary, shapes))
            for a, b in zip(drawing_of(one), drawing_of(other), strict=True):
                assert a.dtype == b.dtype and np.array_equal(a, b)
            seen.add((part.key, one.undecoded is not None))
    assert {("points", True), ("lines", True), ("areas", True)} <= seen


def test_a_layer_without_rows_is_like_one_with_rows(tmp_path: Path) -> None:
    """So that totals of layers that came the same way are added up, whatever is left of one."""
    drawn.data(tmp_path / "data")
    path = tmp_path / "data" / "w.toml"
    like = []
    for condition in ("n < 39", "n > 1000"):
        path.write_text(WORKFLOW.replace("n < 39", condition))
        result = Run(document.read(path), workflow=path).execute()
        like.append([o.like for s in result.steps for o in s.outputs])
    assert like[0] == like[1] and all(like[0])


def test_remarks_of_parts_are_those_of_the_whole() -> None:
    """However rows are parted, what is told of the parts, put together, is what is told of all of them."""
    chance = random.Random(3)
    name = "a {n} of {m|x}"

    def said(counts: list[int]) -> list[Remark]:
        many, odd, none = (sum(c % k == 0 for c in counts) for k in (2, 3, 5))
        out = [Remark.counted("{n|row has|rows have} it", "k", n=many)] if many else []
        out += [Remark("always so", "k")]
        out += [Remark.counted(f"'{verbatim(name)}': {{n|child|children}} {{n:is|are}} odd", "k", look=True, n=odd)] if odd else []
        return out + ([Remark.counted("{n:one|many} of {n}", "k", n=none)] if none else [])

    for _ in range(300):
        rows = [chance.randint(1, 40) for _ in range(chance.randint(1, 12))]
        parts, at = [], 0
        while at < len(rows):
            size = chance.randint(1, 4)
            parts.append(rows[at : at + size])
            at += size
        together: list[Remark] = []
        for part in parts:
            together = added_up(together, said(part))
        assert sorted(map(repr, together)) == sorted(map(repr, said(rows)))
    assert told_counts(f"'{verbatim(name)}'", {}) == f"'{name}'" and told_counts("{n|foot|feet}", {"n": 1_234}) == "1,234 feet"


def test_a_run_keeps_what_it_still_needs_while_another_makes_room(tmp_path: Path, small: None) -> None:
    """The store of results is emptied by the command after every step of a run whose layers lie there in chunks."""
    drawn.data(tmp_path / "data")
    path = tmp_path / "data" / "w.toml"
    path.write_text(WORKFLOW)

    def clear(event: Mapping[str, Any]) -> None:
        if event["event"] == "step_finished":
            subprocess.run([sys.executable, "-m", "eskret", "cache", "--clear"], check=True, capture_output=True)

    for end in ("", "n < 21"):  # the second time some is taken up
        path.write_text(path.read_text().replace("n < 39", end or "n < 39"))
        result = Run(document.read(path), workflow=path, result_cache=ResultCache(the_store()), on_event=clear).execute()
        assert not result.error and result.outputs, result.error
    assert [s.reused for s in result.steps] == [1, 0, 0, 0]


@pytest.mark.parametrize("use", ['clip"\nto = "in:areas', 'keep_by_place"\nto = "in:areas', 'erase"\nby = "in:areas'])
def test_what_is_told_of_the_other_layer_is_told_once(use: str, tmp_path: Path, request: pytest.FixtureRequest) -> None:
    """One of its shapes is invalid: that is not as many as there are chunks."""
    drawn.data(tmp_path / "data")
    path = tmp_path / "w.toml"
    path.write_text(
        'eskret = 1\ntitle = "Once"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["data/all.gpkg"]\n'
        f'[[steps]]\nid = "it"\nuse = "{use}"\nfrom = "in:points"\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = "it"\nto = "out/w.gpkg"\n'
    )
    whole, chunked, written, again = run_twice(path, request)
    assert isinstance(whole, dict) and any("1 invalid shape" in r["text"] for r in whole["steps"][1]["remarks"])
    assert chunked == whole and again == written
