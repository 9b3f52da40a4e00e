"""Settings as texts in a cell, and back: what can be typed into a sheet."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from eskret.operations.settings import SQL_KINDS, SettingInfo

KINDS = frozenset(
    {
        "text",
        "number",
        "whole",
        "flag",
        "choice",
        "template",
        "condition",
        "expression",
        "query",
        "measure",
        "crs",
        "field",
        "fields",
        "patterns",
        "layer",
        "file",
    }
)
"""Kinds of settings that a cell can hold."""
_LISTS = ("fields", "patterns")
_YES, _NO = "yes", "no"


def choices_of(info: SettingInfo) -> tuple[str, ...]:
    """What a cell offers to choose from."""
    if info.kind == "flag":
        return (_YES, _NO)
    return tuple(info.choices.values()) if info.kind == "choice" else ()


def to_text(info: SettingInfo, value: Any) -> str:
    """A value as a cell shows it."""
    if value is None:
        return ""
    if isinstance(value, dict) and set(value) == {"parameter"}:
        return f"${value['parameter']}"
    if isinstance(value, bool):
        return _YES if value else _NO
    if isinstance(value, list | tuple):
        return ", ".join(map(str, value))
    return str(info.choices.get(value, value)) if info.kind == "choice" else str(value)


def parameters_named(values: list[object]) -> list[object]:
    """A list in which a parameter stands as it is typed: ``$name``."""
    return [f"${v['parameter']}" if isinstance(v, dict) and set(v) == {"parameter"} else v for v in values]


def parameters_meant(values: list[object], names: Collection[str]) -> list[object]:
    """The list as the file has it, of one with parameters as they are typed; only what is the name of one is meant so."""
    return [{"parameter": v[1:]} if isinstance(v, str) and v.startswith("$") and v[1:] in names else v for v in values]


def from_text(info: SettingInfo, text: str) -> object:
    """What was typed as a value; what cannot be one stays a text, which the rehearsal then refuses."""
    text = text.strip()
    if text.startswith("$") and text[1:].isidentifier() and info.kind not in (*SQL_KINDS, "template"):
        return {"parameter": text[1:]}
    if info.kind in _LISTS:
        return [t.strip() for t in text.split(",") if t.strip()]
    if info.kind == "flag":
        return {_YES: True, "true": True, "1": True, _NO: False, "false": False, "0": False}.get(text.lower(), text)
    if info.kind == "choice":
        return next((k for k, words in info.choices.items() if text in (k, words)), text)
    if info.kind in ("whole", "number"):
        try:
            return int(text) if info.kind == "whole" else float(text)
        except ValueError:
            return text
    return text
