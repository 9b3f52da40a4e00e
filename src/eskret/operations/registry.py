"""Find operations: each module in a phase's folder holds one, and is met by being there."""

from __future__ import annotations

import importlib
import inspect
import pkgutil
from collections.abc import Generator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from functools import cache, lru_cache
from pathlib import Path
from typing import Any

from eskret.core.words import did_you_mean
from eskret.errors import DocumentError
from eskret.operations.base import Operation, Phase


@lru_cache(maxsize=1)
def _places() -> dict[str, str]:
    """The module of every operation by its id, which it is called after; none of them is imported for it."""
    found = {}
    for phase in Phase:
        package = f"eskret.operations.{phase.lower()}"
        modules = pkgutil.iter_modules(importlib.import_module(package).__path__)
        found.update({m.name: f"{package}.{m.name}" for m in modules})
    return {**found, **_FROM_ABOVE}


_FROM_ABOVE: dict[str, str] = {}


def add_from_above(id: str, module: str) -> None:
    """Make an operation known that needs what stands above this floor; its module is imported when it is first used."""
    _FROM_ABOVE[id] = module
    _places.cache_clear()
    all_operations.cache_clear()


@cache
def _made(module: str) -> Operation:
    for _, thing in inspect.getmembers(importlib.import_module(module), inspect.isclass):
        if thing.__module__ == module and issubclass(thing, Operation) and not inspect.isabstract(thing):
            return thing()
    raise TypeError(f"{module} holds no operation")


@lru_cache(maxsize=1)
def all_operations() -> dict[str, Operation]:
    """Every operation by its id, in the order of the phases."""
    order = list(Phase)
    found = sorted((_made(m) for m in _places().values()), key=lambda o: (order.index(o.phase), o.menu_order, o.title))
    return {o.id: o for o in found}


OWN = "own:"
"""What the ids of operations of the analyst's own begin with."""

_project: ContextVar[Path | None] = ContextVar("project", default=None)
_own_found: dict[str, Any] = {}


def find_own_with(module: str) -> None:
    """Say which module finds the operations that a project has of its own: with a function ``own_operation(folder, id)``
    and one ``own_operations(folder)``."""
    _own_found["module"] = module


def offer_own(operations: Sequence[Operation] | None, problem: str = "") -> None:
    """Take these for the operations of the project's own, whatever its folder has: for a process that only shows them.

    Parameters
    ----------
    problem : why there may be others that cannot be used, as part of a sentence.
    """
    _own_found["problem"] = problem
    _own_found["offered"] = None if operations is None else {o.id: o for o in operations}


@contextmanager
def project(folder: Path | None) -> Generator[None, None, None]:
    """Within it, operations of the analyst's own are those of this folder."""
    token = _project.set(folder)
    try:
        yield
    finally:
        _project.reset(token)


def own_operations() -> list[Operation]:
    """The operations of the project's own that can be used now."""
    offered = _own_found.get("offered")
    if offered is not None:
        return list(offered.values())
    folder = _project.get()
    if folder is None or "module" not in _own_found:
        return []
    found: list[Operation] = importlib.import_module(_own_found["module"]).own_operations(folder)
    return found


def _own_by_id(name: str) -> Operation:
    offered = _own_found.get("offered")
    if offered is not None and name in offered:
        known: Operation = offered[name]
        return known
    folder = _project.get()
    if offered is not None or folder is None or "module" not in _own_found:
        problem = _own_found.get("problem") if offered is not None else ""
        if problem:
            raise DocumentError(f"the operation '{name}' cannot be used now: {problem}")
        raise DocumentError(
            f"there is no operation '{name}' in this project", way_out="Operations of your own stand in the folder 'operations'"
        )
    found: Operation = importlib.import_module(_own_found["module"]).own_operation(folder, name)
    return found


def operation_by_id(name: str) -> Operation:
    """The operation of this id; the others are not imported for it.

    Raises
    ------
    DocumentError : there is none; says what there is.
    """
    if name.startswith(OWN):
        return _own_by_id(name)
    if name not in _places():
        hint = did_you_mean(name, _places(), "'eskret operations' lists them, and finds them by what they do")
        raise DocumentError(f"there is no operation '{name}'", way_out=hint)
    return _made(_places()[name])
