"""Eskret: repeatable geoprocessing workflows, audited like accounts.

The names below are imported when they are first asked for, so that the window is on screen before heavy libraries are.
"""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from eskret.api import Workflow, from_geopandas, read, to_geopandas, use, write
    from eskret.core.layer import Layer
    from eskret.errors import EskretError
    from eskret.user_operations.declare import Account, operation, setting

__version__ = "0.1.0"
_OWN = "eskret.user_operations.declare"
_HOME = {"Layer": "eskret.core.layer", "EskretError": "eskret.errors", "operation": _OWN, "setting": _OWN, "Account": _OWN}

__all__ = ["Account", "EskretError", "Layer", "Workflow", "from_geopandas", "operation", "read", "setting", "to_geopandas", "use", "write"]


def __getattr__(name: str) -> object:
    if name not in __all__:
        raise AttributeError(f"module 'eskret' has no attribute {name!r}")
    import importlib

    return getattr(importlib.import_module(_HOME.get(name, "eskret.api")), name)
