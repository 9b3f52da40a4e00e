"""The workflow file as a JSON Schema (draft 2020-12), from which editors complete and check: made from the operations' settings."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields
from types import NoneType, UnionType
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from eskret.core.naming import AS_TYPED, TIDY
from eskret.core.style.ramps import RAMPS
from eskret.core.style.style import METHODS, Style
from eskret.operations.base import Operation
from eskret.operations.registry import OWN, all_operations, own_operations
from eskret.operations.settings import default_of, setting_info
from eskret.workflow.model import canonical, parameters
from eskret.workflow.model.document import VERSION
from eskret.workflow.model.map_spec import LINES

DRAFT = "https://json-schema.org/draft/2020-12/schema"
_TEXT: Mapping[str, Any] = {"type": "string"}
_TEXTS: Mapping[str, Any] = {"type": "array", "items": {"type": "string"}}
_HEADS = {
    "title": "What the workflow is called.",
    "summary": "What it makes, in a sentence.",
    "help": "How it is used.",
    "keywords": "Words under which it is found.",
    "author": "Who wrote it.",
    "limits": "What it cannot do, or only so far.",
    "crs": "The coordinate system that every layer is brought to as it comes in, such as EPSG:32626.",
    "names": "Whether layers are saved under the names they have, or under tidy ones.",
}
_PROPERTIES: Mapping[str, Mapping[str, Any]] = {
    "id": {**_TEXT, "pattern": "^[a-z0-9_]+$", "description": "The step's own name; others refer to it."},
    "heading": {**_TEXT, "description": "A heading above it in the ledger."},
    "from": {"anyOf": [_TEXT, _TEXTS], "description": "What enters: a step, step:layer, step:pattern, or a list of these."},
    "note": {**_TEXT, "description": "A remark of the author's."},
    "off": {"type": "boolean", "description": "Switched off: what enters goes on as it is."},
    "result": {"type": "boolean", "description": "What it makes is what the workflow hands on where it is a step of another."},
    "layer": {"type": "object", "additionalProperties": {"type": "object"}, "description": "Settings of single layers, by their keys."},
    "style": {"type": "object", "additionalProperties": {"$ref": "#/$defs/style"}, "description": "How layers are drawn, by their keys."},
    "each": {"$ref": "#/$defs/each"},
}


def schema() -> dict[str, Any]:
    """The whole schema, with the project's own operations where a project is at hand."""
    known = [*all_operations().values(), *own_operations()]
    heads: dict[str, Any] = {name: {**_TEXT, "description": _HEADS[name]} for name in canonical.HEADS}
    heads["keywords"] = {**_TEXTS, "description": _HEADS["keywords"]}
    heads["names"]["enum"] = [AS_TYPED, TIDY]
    return {
        "$schema": DRAFT,
        "title": "A workflow of Eskret",
        "type": "object",
        "required": ["eskret"],
        "additionalProperties": False,
        "properties": {
            "eskret": {"const": VERSION, "description": "The version of the file. It stands first."},
            **heads,
            "parameters": {"type": "object", "additionalProperties": {"$ref": "#/$defs/declared"}, "description": "Values asked for."},
            "steps": {"type": "array", "items": {"$ref": "#/$defs/step"}, "description": "What is done, from the first to the last."},
            "map": _map(),
        },
        "$defs": {
            "step": _step(known),
            "stands_for": {
                "type": "object",
                "required": ["parameter"],
                "properties": {"parameter": {**_TEXT, "description": "The parameter whose value it is."}},
                "additionalProperties": False,
            },
            "declared": _declared(),
            "style": _style(),
            "each": _each(),
        },
    }


def _step(known: list[Operation]) -> dict[str, Any]:
    uses = [{"const": o.id, "description": o.summary} for o in known]
    return {
        "type": "object",
        "required": ["id", "use"],
        "properties": {"use": {"anyOf": [*uses, {"type": "string", "pattern": f"^{OWN}"}]}},
        "allOf": [_settings_of(o) for o in known],
    }


def _settings_of(operation: Operation) -> dict[str, Any]:
    """What a step of this operation may say."""
    settings = {name: _setting(operation, name) for name in setting_info(operation.Settings)}
    return {
        "if": {"properties": {"use": {"const": operation.id}}},
        "then": {
            "properties": {"use": True, **_PROPERTIES, "totals": {**_TEXTS, "description": "Fields whose sums are followed."}, **settings},
            "required": [n for n in settings if operation.Settings.model_fields[n].is_required()],
            "additionalProperties": False,
        },
    }


def _setting(operation: Operation, name: str) -> dict[str, Any]:
    info = setting_info(operation.Settings)[name]
    declared = _declared_as(operation.Settings.model_fields[name].annotation)
    told = f"{info.label}. {info.help}".strip()
    if info.choices:
        told += " " + "; ".join(f"{value}: {words}" for value, words in info.choices.items() if value)
    out: dict[str, Any] = {"description": told, "anyOf": [declared, {"$ref": "#/$defs/stands_for"}]}
    default = default_of(operation.Settings, name)
    if not operation.Settings.model_fields[name].is_required() and default not in ("", None, [], {}):
        out["default"] = default
    return out


def _declared_as(declared: Any) -> dict[str, Any]:
    """The schema of a Python type."""
    origin, args = get_origin(declared), get_args(declared)
    if origin is Annotated:
        return _declared_as(args[0])
    if origin is Literal:
        return {"enum": list(args)}
    if origin in (Union, UnionType):
        return {"anyOf": [_declared_as(a) for a in args if a is not NoneType]}
    if origin is list:
        one = _declared_as(args[0])
        several: dict[str, Any] = {"type": "array", "items": _or_parameter(one)}
        return {"anyOf": [several, one]} if one.get("type") == "string" or "enum" in one or not one else several
    if origin in (dict, Mapping):
        return {"type": "object", "additionalProperties": _or_parameter(_declared_as(args[1]))}
    plain = {str: "string", bool: "boolean", int: "integer", float: "number"}.get(declared)
    return {"type": plain} if plain else {}


def _or_parameter(one: dict[str, Any]) -> dict[str, Any]:
    return {"anyOf": [one, {"$ref": "#/$defs/stands_for"}]} if one else {}


def _declared() -> dict[str, Any]:
    """A parameter."""
    told: dict[str, Any] = {
        "type": {"enum": list(parameters.TYPES), "description": "; ".join(f"{t}: {words}" for t, words in parameters.TYPES.items())},
        "label": {**_TEXT, "description": "What the form calls it."},
        "default": {"description": "Its value where none is given."},
        "choices": {"type": "array", "description": "What it can be."},
        "choices_from": {
            "type": "object",
            "required": ["layer"],
            "properties": {"layer": _TEXT, "field": _TEXT, "where": _TEXT},
            "additionalProperties": False,
            "description": "The values of a field of a layer that a step loads, or, without a field, the names of its fields.",
        },
        "enabled_by": {
            "type": "object",
            "required": ["parameter"],
            "properties": {"parameter": _TEXT, "is": {"type": "array"}},
            "additionalProperties": False,
            "description": "It counts only while another parameter has one of these values.",
        },
        "min": {"type": "number"},
        "max": {"type": "number"},
        "help": {**_TEXT, "description": "What is said of it in the form."},
    }
    return {"type": "object", "properties": {key: told[key] for key in parameters.KEYS}, "additionalProperties": False}


def _style() -> dict[str, Any]:
    told: dict[str, Any] = {
        "by": {"enum": ["one", "values", "classes"]},
        "colour": {**_TEXT, "pattern": "^#[0-9A-Fa-f]{6}$"},
        "field": {**_TEXT, "description": "The field whose values or classes are told apart."},
        "colours": {"type": "object", "additionalProperties": {**_TEXT, "pattern": "^#[0-9A-Fa-f]{6}$"}},
        "method": {"enum": list(METHODS)},
        "count": {"type": "integer"},
        "breaks": {"type": "array", "items": {"type": "number"}},
        "ramp": {"enum": list(RAMPS)},
        "turned": {"type": "boolean"},
        "label": {**_TEXT, "description": "The field written beside features."},
        "size": {"type": "number", "minimum": 0, "maximum": 60},
        "width": {"type": "number", "minimum": 0, "maximum": 20},
        "opacity": {"type": "integer", "minimum": 0, "maximum": 100},
    }
    return {"type": "object", "properties": {f.name: told[f.name] for f in fields(Style)}, "additionalProperties": False}


def _each() -> dict[str, Any]:
    return {
        "description": "Done in rounds: once a layer, once a value of a field, or once a row of a table.",
        "oneOf": [
            _table(["layers", "as"], layers=_TEXT, **{"as": _TEXT}, go_on={"type": "boolean"}),
            _table(["values", "field"], values=_TEXT, field=_TEXT, **{"as": _TEXT}, go_on={"type": "boolean"}),
            _table(["rows"], rows=_TEXT, go_on={"type": "boolean"}),
        ],
    }


def _map() -> dict[str, Any]:
    flag = {"type": "boolean"}
    layer = _table([], step=_TEXT, file=_TEXT, layer=_TEXT, over=flag, off=flag, style={"$ref": "#/$defs/style"})
    return _table([], lines={"enum": list(LINES)}, layers={"type": "array", "items": layer})


def _table(required: list[str], **properties: Any) -> dict[str, Any]:
    return {"type": "object", "required": required, "properties": properties, "additionalProperties": False}
