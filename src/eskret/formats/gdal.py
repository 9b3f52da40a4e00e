"""The one place where the library that reads most vector formats is fetched: when it is first needed, and no heavier
than the process asks for."""

from __future__ import annotations

import sys
import threading
from importlib.abc import MetaPathFinder
from typing import Any

_lock = threading.Lock()
_lean = _settled = False


def be_lean() -> None:
    """Leave the data frame libraries out, which take longer to import than a small run takes.

    For processes of which nobody asks for frames: the command line's and the worker's. A process that holds somebody's
    own Python must not call it.
    """
    global _lean
    _lean = True


class _Without(MetaPathFinder):
    """Says of some modules that they are not there, to the thread that made it; the others go on as before."""

    def __init__(self, *names: str) -> None:
        self._names = names
        self._thread = threading.get_ident()

    def find_spec(self, fullname: str, path: Any, target: Any = None) -> None:
        if fullname in self._names and threading.get_ident() == self._thread:
            raise ModuleNotFoundError(f"No module named '{fullname}'", name=fullname)


def library() -> Any:
    """pyogrio, with its errors."""
    with _lock:
        if "pyogrio" not in sys.modules and _lean and "pandas" not in sys.modules:
            # it looks whether they can be imported, and does without where they cannot
            without = _Without("pandas", "geopandas")
            sys.meta_path.insert(0, without)
            try:
                import pyogrio
            finally:
                sys.meta_path.remove(without)
        import pyogrio
        import pyogrio.errors

        global _settled
        if not _settled:
            # files are staged, and synced once before they are committed
            pyogrio.set_gdal_config_options({"OGR_SQLITE_SYNCHRONOUS": "OFF"})
            _settled = True
        return pyogrio
