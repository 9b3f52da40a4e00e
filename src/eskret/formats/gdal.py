"""The one place where the library that reads most vector formats is fetched: when it is first needed, and no heavier
than the process asks for."""

from __future__ import annotations

import sys
import threading
from typing import Any

_lock = threading.Lock()
_lean = False


def be_lean() -> None:
    """Leave the data frame libraries out, which take longer to import than a small run takes.

    For processes of which nobody asks for frames: the command line's and the worker's. A process that holds somebody's
    own Python must not call it.
    """
    global _lean
    _lean = True


def library() -> Any:
    """pyogrio, with its errors."""
    with _lock:
        if "pyogrio" not in sys.modules and _lean and "pandas" not in sys.modules:
            # it looks whether they can be imported, and does without where they cannot
            for name in ("pandas", "geopandas"):
                sys.modules[name] = None  # type: ignore[assignment]
            try:
                import pyogrio
            finally:
                for name in ("pandas", "geopandas"):
                    sys.modules.pop(name, None)
        import pyogrio
        import pyogrio.errors

        return pyogrio
