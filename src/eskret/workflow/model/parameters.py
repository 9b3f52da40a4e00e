"""Parameters: the values at the top of a workflow, their types and limits, and how one hangs on another."""

from __future__ import annotations

import datetime as dt
import difflib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from eskret.core.crs import parse_crs
from eskret.core.measure.units import parse_measure, parse_speed, parse_time
from eskret.core.naming import clean_name
from eskret.errors import CrsError, DocumentError, SettingError

TYPES = {
    "text": "text",
    "number": "number",
    "flag": "yes or no",
    "date": "date",
    "choice": "one of several",
    "file": "file",
    "folder": "folder",
    "layer": "layer of a step",
    "field": "field of a layer",
    "crs": "coordinate system",
    "measure": "figure with its unit",
}
"""The types of the workflow file, with the words for a person."""

_NEVER_EMPTIED = ("measure", "crs", "file", "folder")
"""Types of which nothing is no value: one that is there by default is not taken away by an empty text. A text may be empty, and so
may a field, where a step asks for none."""

STAND_FOR = ("layer", "step", "n", "value")
"""What names are made of beside parameters."""
KEYS = ("type", "label", "default", "choices", "choices_from", "enabled_by", "min", "max", "help")
"""What a parameter's table may hold, in the order in which it is written."""


@dataclass(frozen=True)
class ChoicesFrom:
    """Choices read from a layer: the values of a field, or, without one, the names of its fields.

    ``layer`` is a reference to a step that loads, such as ``register:districts``; ``where`` is a condition on its rows, which
    may name other parameters. Layer and field may be a parameter each: ``$which``.
    """

    layer: str
    field: str = ""
    where: str = ""

    def given(self, values: Mapping[str, Any]) -> ChoicesFrom:
        """With the layer and the field that parameters stand for.

        Raises
        ------
        DocumentError : one of them names nothing yet.
        """
        return replace(self, layer=_stood_for(self.layer, values), field=_stood_for(self.field, values))

    def to_table(self) -> dict[str, str]:
        return {k: v for k, v in (("layer", self.layer), ("field", self.field), ("where", self.where)) if v}


@dataclass(frozen=True)
class EnabledBy:
    """The parameter counts only while another one has one of these values."""

    parameter: str
    values: tuple[Any, ...] = (True,)

    def to_table(self) -> dict[str, object]:
        return {"parameter": self.parameter, "is": list(self.values)}

    def holds(self, value: Any) -> bool:
        return any(v == value or str(v) == str(value) for v in self.values)

    def words(self, title: str) -> str:
        """When it counts, as a sentence begins: ``Only when 'Split' is yes``."""
        return f"Only when '{title}' is {' or '.join(value_words(v) for v in self.values)}"


def value_words(value: Any) -> str:
    """A value as a person reads it."""
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


@dataclass(frozen=True)
class Parameter:
    """A value at the top of the workflow that steps refer to as ``$name``, ``{name}`` or ``{ parameter = "name" }``."""

    name: str
    type: str = "text"
    label: str = ""
    default: Any = ""
    choices: tuple[Any, ...] = ()
    choices_from: ChoicesFrom | None = None
    enabled_by: EnabledBy | None = None
    min: float | None = None
    max: float | None = None
    help: str = ""

    @property
    def title(self) -> str:
        return self.label or self.name.replace("_", " ").capitalize()

    def to_table(self) -> dict[str, object]:
        """Its table in the file: type and default always, the rest where it says something."""
        out: dict[str, Any] = {}
        for key in KEYS:
            value = getattr(self, key)
            if isinstance(value, ChoicesFrom | EnabledBy):
                value = value.to_table()
            if key in ("type", "default") or value not in ("", (), None):
                out[key] = list(value) if isinstance(value, tuple) else value
        return out

    def accept(self, value: object) -> object:
        """The value as the type has it. Choices that are read from a layer are not looked at here.

        Raises
        ------
        DocumentError : it is not of this type, or out of its limits.
        """
        place = f"parameter '{self.title}'"
        if value == "" and self.type in ("number", "date", "flag"):
            raise DocumentError("it has no value yet", place=place, way_out="Give it one")
        if value == "" and self.default not in ("", None) and self.type in _NEVER_EMPTIED:
            raise DocumentError("it cannot be empty", place=place, way_out=f"Give it a value, or leave it out for {self.default}")
        try:
            found = self._typed(value)
        except (TypeError, ValueError, KeyError) as error:
            words = {"number": "a number", "flag": "yes or no", "date": "a date such as 2031-09-30"}
            raise DocumentError(f"{value!r} is not {words.get(self.type, 'of type ' + self.type)}", place=place) from error
        except (CrsError, SettingError) as error:
            raise DocumentError(error.problem, place=place, way_out=error.way_out) from error
        if self.choices:
            self.accept_among(found, self.choices)
        if isinstance(found, int | float) and not isinstance(found, bool):
            if self.min is not None and found < self.min:
                raise DocumentError(f"{found:g} is less than {self.min:g}", place=place)
            if self.max is not None and found > self.max:
                raise DocumentError(f"{found:g} is more than {self.max:g}", place=place)
        return found

    def accept_among(self, value: object, choices: Sequence[object]) -> object:
        """The choice that this value is.

        Raises
        ------
        DocumentError : it is none of them; says what there is.
        """
        found = among(value, choices)
        if found is None:
            near = difflib.get_close_matches(str(value), [str(c) for c in choices], 1)
            hint = f"Did you mean {near[0]}? " if near and len(choices) > 12 else ""
            raise DocumentError(
                f"{value!r} is not one of the choices",
                place=f"parameter '{self.title}'",
                way_out=f"{hint}It can be {listed(choices)}" if choices else "There is nothing to choose from",
            )
        return found

    def _typed(self, value: object) -> object:
        if self.type == "number":
            if isinstance(value, bool):
                raise ValueError
            if isinstance(value, int | float):
                return value
            text = str(value).strip()
            return int(text) if text.lstrip("+-").isdigit() else float(text)
        if self.type == "flag":
            if isinstance(value, bool):
                return value
            return {"yes": True, "true": True, "1": True, "no": False, "false": False, "0": False}[str(value).lower()]
        if self.type == "date":
            return value if isinstance(value, dt.date) else dt.date.fromisoformat(str(value).strip())
        if self.type == "choice" and self.choices:
            found = among(value, self.choices)
            return value if found is None else found
        if self.type == "choice" and self.choices_from is not None:
            return value if isinstance(value, int | float | dt.date) else str(value)
        text = str(value)
        if self.type == "crs" and text:
            parse_crs(text)
        if self.type == "measure" and text:
            return _measure(text)
        return text


def _stood_for(text: str, values: Mapping[str, object]) -> str:
    if not text.startswith("$"):
        return text
    name = text[1:]
    if name not in values:
        raise DocumentError(f"there is no parameter '{name}'", way_out=f"There are {', '.join(values) or 'none'}")
    if not str(values[name]).strip():
        raise DocumentError(f"parameter '{name}' has no value yet", way_out="Give it one")
    return str(values[name])


def _measure(text: str) -> str:
    for parse in (parse_measure, parse_speed, parse_time):
        try:
            parse(text)
            return text
        except SettingError as error:
            wrong = error
    # of lengths and areas there are most: what they say of it helps most
    try:
        parse_measure(text)
    except SettingError as error:
        wrong = error
    raise wrong


def among(value: object, choices: Sequence[object]) -> object:
    """The choice that a value is, by itself or by its text; None for none."""
    return next(
        (c for c in choices if c == value and isinstance(c, bool) == isinstance(value, bool)),
        next((c for c in choices if str(c) == str(value)), None),
    )


def listed(values: Sequence[object], most: int = 12) -> str:
    """The first of some values, parted by commas, and how many more there are."""
    more = len(values) - most
    return ", ".join(str(v) for v in values[:most]) + (f" and {more:,} more" if more > 0 else "")


def parameter_of(name: str, values: object, place: str) -> Parameter:
    """A parameter of its table.

    Raises
    ------
    DocumentError : naming the key that is wrong.
    """
    where = f"{place}, parameter '{name}'"
    if not isinstance(values, dict):
        raise DocumentError("it must be a table", place=where, way_out=f"Write [parameters.{name}]")
    if not name or clean_name(name, keep_case=True) != name:
        raise DocumentError("its name may hold letters, digits and single underscores", place=where)
    if name in STAND_FOR:
        raise DocumentError(
            f"a parameter may not be called '{name}': in names, {{{name}}} stands for something else",
            place=where,
            way_out=f"Call it '{name}_wanted' or the like",
        )
    for key in values:
        if key not in KEYS:
            raise DocumentError(f"'{key}' is not known here", place=where, way_out=f"Known: {', '.join(KEYS)}")
    kind = values.get("type", "text")
    if not isinstance(kind, str) or kind not in TYPES:
        raise DocumentError(f"there is no type '{str(kind)[:60]}'", place=where, way_out=f"Types: {', '.join(TYPES)}")
    for key in ("label", "help"):
        if not isinstance(values.get(key, ""), str):
            raise DocumentError(f"'{key}' must be text", place=where)
    for key in ("min", "max"):
        limit = values.get(key, 0)
        if not isinstance(limit, int | float) or isinstance(limit, bool):
            raise DocumentError(f"'{key}' must be a number", place=where)
    choices = values.get("choices", ())
    if not isinstance(choices, list | tuple):
        raise DocumentError("'choices' must be a list", place=where)
    parameter = Parameter(
        name,
        kind,
        values.get("label", ""),
        values.get("default", ""),
        tuple(choices),
        _choices_from(values.get("choices_from"), where),
        _enabled_by(values.get("enabled_by"), where),
        values.get("min"),
        values.get("max"),
        values.get("help", ""),
    )
    if parameter.choices and parameter.choices_from is not None:
        raise DocumentError("it has 'choices' and 'choices_from'", place=where, way_out="Leave one of them out")
    if "default" in values and parameter.default != "":
        parameter.accept(parameter.default)
    return parameter


def _choices_from(table: object, where: str) -> ChoicesFrom | None:
    if table is None:
        return None
    known = ("layer", "field", "where")
    if not isinstance(table, dict) or not table.get("layer") or not all(isinstance(v, str) for v in table.values()):
        raise DocumentError(
            "'choices_from' must name a layer", place=where, way_out='Write choices_from = { layer = "step:layer", field = "name" }'
        )
    for key in table:
        if key not in known:
            raise DocumentError(f"'choices_from' knows no '{key}'", place=where, way_out=f"Known: {', '.join(known)}")
    return ChoicesFrom(**table)


def _enabled_by(table: object, where: str) -> EnabledBy | None:
    if table is None:
        return None
    if not isinstance(table, dict) or not isinstance(table.get("parameter"), str) or set(table) - {"parameter", "is"}:
        raise DocumentError(
            "'enabled_by' must name a parameter", place=where, way_out='Write enabled_by = { parameter = "name", is = [true] }'
        )
    values = table.get("is", [True])
    return EnabledBy(table["parameter"], tuple(values) if isinstance(values, list) else (values,))


def enabled(parameters: Sequence[Parameter], name: str, values: Mapping[str, object]) -> bool:
    """Whether a parameter counts, given everybody's value; one that hangs on one that does not count does not either."""
    known = {p.name: p for p in parameters}
    seen: set[str] = set()
    while name in known and name not in seen:
        seen.add(name)
        by = known[name].enabled_by
        if by is None:
            return True
        if by.parameter in known and not by.holds(values.get(by.parameter)):
            return False
        name = by.parameter
    return True
