"""A step's settings as they count: parameters with their values put in, as a person reads them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import Any

from eskret.core.expression import as_written, tokens
from eskret.core.naming import fill_known
from eskret.operations.base import Operation, as_in_paths
from eskret.operations.settings import SQL_KINDS, setting_info, with_lists
from eskret.workflow.model.document import Document, Step

_TEMPLATES = ("template", "target", "file", "files")
"""Kinds of settings that every operation fills in; braces in a text may stand for themselves."""


def settings_shown(document: Document, step: Step, operation: Operation, values: Mapping[str, object] | None) -> dict[str, object]:
    """The settings of a step for a person.

    Parameters
    ----------
    values : of parameters, in place of their defaults; None for the workflow as such, where a parameter is told by its name as
        conditions have it: ``$gap``. One that has no value is told so too.
    """
    known: dict[str, Any] = {}
    if values is not None:
        known = {p.name: values.get(p.name, p.default) for p in document.parameters}
        known = {name: value for name, value in known.items() if value not in ("", None)}
    fields = {p.name for p in document.parameters if p.type == "field"}
    paths = document.path_parameters()
    infos = setting_info(operation.Settings)
    out = {}
    for name, value in step.settings.items():
        kind = infos[name].kind if name in infos else ""
        out[name] = _shown(value, kind, known, fields, paths)
    return with_lists(operation.Settings, out)


def _shown(value: object, kind: str, known: Mapping[str, object], fields: set[str], paths: frozenset[str]) -> object:
    if isinstance(value, Mapping):
        if set(value) == {"parameter"}:
            return known.get(value["parameter"], f"${value['parameter']}")
        return {k: _shown(v, kind, known, fields, paths) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_shown(v, kind, known, fields, paths) for v in value]
    if not isinstance(value, str):
        return value
    if kind in SQL_KINDS:
        return "".join(
            _written(known[t.text[1:]], t.text[1:] in fields) if t.kind == "parameter" and t.text[1:] in known else t.text
            for t in tokens(value)
        )
    if kind == "layer" and value.startswith("$"):
        return known.get(value[1:], value)
    if kind == "target":
        known = as_in_paths(value, known, paths)
    return fill_known(value, known) if kind in _TEMPLATES else value


def _written(value: object, field: bool) -> str:
    """A value as a condition has it."""
    if field:
        return as_written(str(value))
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, int | float):
        return f"{value:g}" if isinstance(value, float) else str(value)
    if isinstance(value, dt.date):
        return f"DATE '{value.isoformat()}'"
    return "'" + str(value).replace("'", "''") + "'"
