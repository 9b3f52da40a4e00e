"""What the trials share: projects with every kind of delivery, whole command-line processes, and what must hold after each."""

from __future__ import annotations

import json
import os
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Generator, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.layer import Layer
from eskret.formats import geopackage

ESKRET = [sys.executable, "-m", "eskret"]
OLD, NEW = 40, 55
"""Rows that the source has at first, and later."""


def areas(count: int, key: str = "beds", first: int = 0) -> Layer:
    """Squares with a number and a text."""
    numbers = np.arange(first, first + count)
    shapes = shapely.box(numbers * 10.0, 0.0, numbers * 10.0 + 5, 5.0)
    table = pa.table({"id": numbers, "kind": ["ab"[n % 2] for n in numbers]})
    return Layer(key, table, shapes, "EPSG:32626")


def source(home: Path, count: int, first: int = 0) -> None:
    """The file that the workflow reads, with so many areas."""
    path = home / "in.gpkg"
    new = path.with_name("new.gpkg")
    new.unlink(missing_ok=True)
    with geopackage.writing(new) as container:
        container.add(areas(count, first=first), "beds")
    new.replace(path)


def theirs(path: Path, rows: int = 5, mode: str = "delete") -> None:
    """A GeoPackage of somebody else's: a layer, a table that is no layer, and a layer to append to."""
    with geopackage.writing(path) as container:
        container.add(areas(rows, "theirs"), "theirs")
        container.add(areas(10, "log"), "log")
    with closing(sqlite3.connect(path)) as db, db:
        db.execute("CREATE TABLE notes (t TEXT)")
        db.execute("INSERT INTO notes VALUES ('mine')")
    with closing(sqlite3.connect(path)) as db:
        db.execute(f"PRAGMA journal_mode = {mode}").fetchall()


@dataclass
class Kind:
    """A kind of delivery: the steps that save, and how many rows each of its outputs has before and after."""

    name: str
    steps: str
    expect: dict[str, tuple[int | None, int]]
    shared: Sequence[str] = ()
    mode: str = "delete"
    command: Callable[[Path], list[str]] = field(default=lambda home: ["run", str(home / "w.toml"), "--fresh", "-q"])


def _save(id: str, to: str, **more: object) -> str:
    lines = [f'\n[[steps]]\nid = "{id}"\nuse = "save"\nfrom = "in"\nto = "{to}"']
    lines += [f"{n} = {json.dumps(v)}" for n, v in more.items()]
    return "\n".join(lines) + "\n"


KINDS = [
    Kind("own container", _save("a", "out/own.gpkg"), {"out/own.gpkg:beds": (OLD, NEW)}),
    Kind(
        "files",
        _save("a", "out/a.geojson", index=True) + _save("b", "out/b.csv") + _save("c", "out/c.fgb"),
        {"out/a.geojson": (OLD, NEW), "out/b.csv": (OLD, NEW), "out/c.fgb": (OLD, NEW)},
    ),
    Kind("shapefile", _save("a", "out/a.shp"), {"out/a.shp": (OLD, NEW), "out/a.dbf": (OLD, NEW)}),
    Kind(
        "shared container",
        _save("a", "out/all.gpkg") + _save("b", "out/b.geojson"),
        {"out/all.gpkg:beds": (OLD, NEW), "out/b.geojson": (OLD, NEW)},
        ("out/all.gpkg",),
    ),
    Kind(
        "shared container, write-ahead",
        _save("a", "out/all.gpkg") + _save("b", "out/b.geojson"),
        {"out/all.gpkg:beds": (OLD, NEW), "out/b.geojson": (OLD, NEW)},
        ("out/all.gpkg",),
        "wal",
    ),
    Kind(
        "two shared containers",
        _save("a", "out/all.gpkg") + _save("b", "out/more.gpkg"),
        {"out/all.gpkg:beds": (OLD, NEW), "out/more.gpkg:beds": (OLD, NEW)},
        ("out/all.gpkg", "out/more.gpkg"),
    ),
    Kind(
        "appended rows",
        _save("a", "out/all.gpkg", name="log", if_exists="append") + _save("b", "out/b.geojson"),
        {"out/all.gpkg:log": (10, 10 + NEW), "out/b.geojson": (OLD, NEW)},
        ("out/all.gpkg",),
    ),
    Kind(
        "rows by key",
        _save("a", "out/all.gpkg", name="log", if_exists="update", key=["id"]) + _save("b", "out/b.geojson"),
        {"out/all.gpkg:log": (10, NEW), "out/b.geojson": (OLD, NEW)},
        ("out/all.gpkg",),
    ),
    Kind("appended to a file", _save("a", "out/a.geojson", if_exists="append"), {"out/a.geojson": (OLD, OLD + NEW)}),
]


def make(home: Path, kind: Kind) -> None:
    """A project that has run once; its source has become another since."""
    (home / "out").mkdir(parents=True)
    for name in kind.shared:
        theirs(home / name, mode=kind.mode)
    source(home, OLD)
    head = 'eskret = 1\ntitle = "Trial"\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["in.gpkg"]\n'
    steps = kind.steps.replace('"if_exists = "append"', '"')
    first = (
        steps
        if "append" not in steps and "update" not in steps
        else "\n".join(part for part in steps.split("\n\n") if "if_exists" not in part)
    )
    if kind.name == "appended to a file":
        first = _save("a", "out/a.geojson")
    (home / "w.toml").write_text(head + first)
    done = subprocess.run([*ESKRET, "run", str(home / "w.toml"), "-q"], capture_output=True, text=True)
    assert done.returncode == 0, (kind.name, done.stderr)
    (home / "w.toml").write_text(head + steps)
    source(home, NEW)


def rows(path: Path, layer: str = "") -> int | None:
    """How many rows an output has, told by plain means and not by what is tried; None where it is not there."""
    if not path.exists():
        return None
    if path.suffix == ".gpkg":
        with closing(sqlite3.connect(path)) as db:
            assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)], path
            if not db.execute("SELECT 1 FROM gpkg_contents WHERE table_name = ?", (layer,)).fetchone():
                return None
            count = db.execute(f'SELECT count(*) FROM "{layer}"').fetchone()[0]
            assert db.execute(f"SELECT rtreecheck('rtree_{layer}_geom')").fetchone() == ("ok",)
            assert db.execute(f'SELECT count(*) FROM "rtree_{layer}_geom_rowid"').fetchone()[0] == count
            return int(count)
    if path.suffix == ".geojson":
        return len(json.loads(path.read_text())["features"])
    if path.suffix == ".csv":
        return len(path.read_text().splitlines()) - 1
    if path.suffix == ".dbf":
        return int.from_bytes(path.read_bytes()[4:8], "little")
    import pyogrio

    return int(pyogrio.read_info(path, force_feature_count=True)["features"])


def state(home: Path, kind: Kind) -> str:
    """``old``, ``new``, or what is wrong."""
    found = {}
    for name, (old, new) in kind.expect.items():
        file, _, layer = name.partition(":")
        count = rows(home / file, layer)
        found[name] = "old" if count == old else "new" if count == new else f"{count} rows"
    for name in kind.shared:
        if rows(home / name, "theirs") != 5:
            return f"{name}: the others' layer is not as it was"
        with closing(sqlite3.connect(home / name)) as db:
            if db.execute("SELECT t FROM notes").fetchall() != [("mine",)]:
                return f"{name}: the others' table is not as it was"
            if db.execute("PRAGMA journal_mode").fetchone()[0] != kind.mode:
                return f"{name}: its journal mode is another"
    states = set(found.values())
    return states.pop() if len(states) == 1 else f"mixed: {found}"


def left_behind(home: Path) -> Generator[str, None, None]:
    """Staged files, marks, journals and locks that should be gone."""
    data = Path(os.environ["XDG_DATA_HOME"]) / "eskret"
    for path in [*home.rglob(".eskret-*"), *data.glob("transactions/*")]:
        yield str(path)
    for folder in data.glob("kept/*"):
        if not (folder / "change.json").exists():
            yield str(folder)
    for path in home.rglob("*"):
        if path.name.endswith((".new", "-journal")):
            yield str(path)
