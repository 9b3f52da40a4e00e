"""The one place where the library that reads most vector formats is fetched: when it is first needed, and no heavier
than the process asks for."""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Generator
from contextlib import contextmanager
from importlib.abc import MetaPathFinder
from typing import Any

import pyarrow as pa

_lock = threading.Lock()
_unsynced = 0
_settled = False
_FRAMES = ("pandas", "geopandas")


def be_lean() -> None:
    """Leave the data frame libraries out, which take longer to import than a small run takes.

    The reader of vector formats and the library for tables both look whether they are there whenever they turn numbers
    into arrays, and do without where they are not. For processes of which nobody asks for frames: the command line's and
    the worker's. A process that holds somebody's own Python must not call it, or call ``with_frames`` before that runs.
    """
    # what the library says beside its errors goes nowhere: whoever reads a file says what is wrong with it
    os.environ.setdefault("CPL_LOG", os.devnull)
    # the library for settings would look through everything installed for additions to itself
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "1")
    if "pandas" in sys.modules:
        return
    # the library for tables asks once from compiled code, which takes a module that is None for one that is there
    absent = _Absent()
    sys.meta_path.insert(0, absent)
    try:
        _ = pa.lib._pandas_api.have_pandas
    finally:
        sys.meta_path.remove(absent)
    for name in _FRAMES:
        sys.modules.setdefault(name, None)  # type: ignore[arg-type]


class _Absent(MetaPathFinder):
    """Says of the data frame libraries that they are not there."""

    def find_spec(self, fullname: str, path: object, target: object = None) -> None:
        if fullname in _FRAMES:
            raise ModuleNotFoundError(f"No module named '{fullname}'", name=fullname)


def with_frames() -> None:
    """Let the data frame libraries be imported again."""
    for name in _FRAMES:
        if name in sys.modules and sys.modules[name] is None:
            del sys.modules[name]


def library() -> Any:
    """pyogrio, with its errors."""
    with _lock:
        global _settled
        import pyogrio
        import pyogrio.errors

        if not _settled:
            # its own way to columns of FlatGeobuf reads beyond its memory where a feature has no shape, and can end the process
            pyogrio.set_gdal_config_options({"OGR_FLATGEOBUF_STREAM_BASE_IMPL": "YES"})
            _settled = True
        return pyogrio


@contextmanager
def unsynced() -> Generator[None, None, None]:
    """Within it, the library does not wait for the disk at every step of writing a database: for files that are staged, and
    synced once before they are committed. Everybody else's writing in this process is as careful as ever."""
    global _unsynced
    there = library()
    with _lock:
        _unsynced += 1
        there.set_gdal_config_options({"OGR_SQLITE_SYNCHRONOUS": "OFF"})
    try:
        yield
    finally:
        with _lock:
            _unsynced -= 1
            if not _unsynced:
                there.set_gdal_config_options({"OGR_SQLITE_SYNCHRONOUS": None})
