"""Eskret: repeatable geoprocessing workflows, audited like accounts.

The names below are imported when they are first asked for, so that the window is on screen before heavy libraries are.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from eskret.api import Workflow, from_geopandas, operation, read, to_geopandas, write
    from eskret.core.layer import Layer
    from eskret.errors import EskretError

__version__ = "0.1.0"
_HOME = {"Layer": "eskret.core.layer", "EskretError": "eskret.errors"}

__all__ = ["EskretError", "Layer", "Workflow", "from_geopandas", "operation", "read", "to_geopandas", "write"]


def __getattr__(name: str) -> Any:
    if name not in __all__:
        raise AttributeError(f"module 'eskret' has no attribute {name!r}")
    import importlib

    return getattr(importlib.import_module(_HOME.get(name, "eskret.api")), name)
