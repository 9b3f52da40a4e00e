"""Whether the program is well on this machine: versions, formats, places that it writes, room, and a trial of every format."""

from __future__ import annotations

import os
import platform
import shutil
import sqlite3
import stat
import tempfile
from collections.abc import Callable, Generator
from dataclasses import dataclass
from importlib import metadata
from pathlib import Path

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.files.log import log_path
from eskret.core.files.user_state import cache_place, data_place, state_place
from eskret.core.layer import Layer
from eskret.core.unforeseen import as_sentence
from eskret.formats import sources
from eskret.formats.known import WRITTEN, format_to_write
from eskret.formats.open_elsewhere import is_open_elsewhere

_LIBRARIES = ("shapely", "pyogrio", "pyproj", "numpy", "pyarrow", "duckdb", "PySide6-Essentials")
_LEAST_ROOM = 1 << 30


@dataclass(frozen=True)
class CheckResult:
    """One thing that was looked at, what was found, and whether it is as it should be."""

    what: str
    found: str
    well: bool = True


def check_up() -> Generator[CheckResult, None, None]:
    """Look at everything, one thing after the other."""
    yield CheckResult("Eskret", f"{metadata.version('eskret')}, Python {platform.python_version()}, {platform.platform()}")
    yield CheckResult("SQLite", sqlite3.sqlite_version, sqlite3.sqlite_version_info >= (3, 35))
    for name in _LIBRARIES:
        try:
            yield CheckResult(name, metadata.version(name))
        except metadata.PackageNotFoundError:
            yield CheckResult(name, "is not installed", False)
    yield from _places()
    yield from _trials()
    yield from _fonts()


def _places() -> Generator[CheckResult, None, None]:
    for what, place in (("data", data_place()), ("cache", cache_place()), ("state", state_place())):
        if not place.exists():
            yield CheckResult(f"{what} folder", f"{place} is not there yet")
            continue
        mode = stat.S_IMODE(place.stat().st_mode)
        writable = os.access(place, os.W_OK)
        words = f"{place}, {'can be written' if writable else 'cannot be written'}"
        others = mode & 0o077
        yield CheckResult(
            f"{what} folder", words + (f", and others may look into it ({mode:o})" if others else ""), writable and not others
        )
    yield CheckResult("log", str(log_path()))
    for what, place in (("home", Path.home()), ("temporary folder", Path(tempfile.gettempdir()))):
        free = shutil.disk_usage(place).free
        yield CheckResult(f"room in {what}", f"{free / 1e9:,.1f} GB", free > _LEAST_ROOM)
    with tempfile.NamedTemporaryFile() as one:
        one.flush()
        path = Path(one.name)
        seen = is_open_elsewhere(path)
    told = "is told by the system" if seen else "is not told: a file in use might be taken for free"
    yield CheckResult("a file that is open", told, seen)


def _trials() -> Generator[CheckResult, None, None]:
    """Write a small layer in each format and read it again."""
    points = np.asarray(shapely.points(np.array([[-27.2, 47.1], [-27.3, 47.2]])))
    layer = Layer("trial", pa.table({"name": ["a", "ü"], "n": [1, 2]}), points, "EPSG:4326")
    with tempfile.TemporaryDirectory(prefix="eskret-trial-") as folder:
        for ending in WRITTEN:
            yield CheckResult(f"format {ending}", *_outcome(lambda e=ending: _tried(Path(folder) / f"trial{e}", layer)))  # type: ignore[misc]


def _tried(path: Path, layer: Layer) -> str:
    format_to_write(path).write_one(path, layer, "trial")
    name = sources.layer_names(path)[0]
    back = sources.read(path, name, name).layer
    called = next((c for c in back.table.column_names if c.casefold() == "name"), "")  # a format may have a name of its own
    names = back.table.column(called).to_pylist() if called else []
    if len(back) != 2 or sorted(names) != ["a", "ü"]:
        raise ValueError(f"{len(back)} of 2 features came back, with {names}")
    return "written and read"


def _outcome(trial: Callable[[], str]) -> tuple[str, bool]:
    try:
        return trial(), True
    except Exception as error:
        return as_sentence(error, after="It is only a trial").problem, False


def _fonts() -> Generator[CheckResult, None, None]:
    home = Path(__file__).parents[2] / "desktop" / "resources" / "fonts"
    found = sorted(p.name for p in home.glob("*.ttf"))
    yield CheckResult("fonts", f"{len(found)} of its own" if found else f"missing in {home}", bool(found))
    display = os.environ.get("WAYLAND_DISPLAY") or os.environ.get("DISPLAY") or os.environ.get("QT_QPA_PLATFORM")
    yield CheckResult("display", display or "none: workflows run on the command line")
