"""The settings of an operation: one pydantic model that drives form, help, command line, Python and checking."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal, cast, get_args, get_origin

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator
from pydantic.fields import FieldInfo

from eskret.core.crs import parse_crs
from eskret.core.words import did_you_mean
from eskret.errors import CrsError, SettingError


class OperationSettings(BaseModel):
    """Base of every settings model: immutable, and a name it does not know is an error."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    totals: list[str] = []
    """Fields whose sums are carried through the step beside count, length and area; every operation has it."""

    @model_validator(mode="before")
    @classmethod
    def _texts_as_lists(cls, values: object) -> object:
        return with_lists(cls, values) if isinstance(values, Mapping) else values


@dataclass(frozen=True)
class SettingInfo:
    """What a form needs to know of a setting beside its type.

    ``kind`` picks the editor: text, number, whole, flag, choice, choices, files, target, condition, template, patterns,
    crs, layer (a reference to layers of another step), layers (a table of such references), fields (of the layers that
    enter), measure, cells, features, shapes, pairs, box. ``choices`` maps values to what a person reads. ``shown_when`` names
    another setting and the values of it for which this one matters. ``of`` names the setting whose layer a field is one of;
    empty for the layers that enter.
    ``tables`` says that a layer may be a table too. ``rare`` ones stand behind the others in a form, since most never need them.
    """

    label: str
    help: str
    kind: str
    choices: Mapping[str, str] = field(default_factory=dict)
    shown_when: tuple[str, tuple[Any, ...]] | None = None
    example: str = ""
    of: str = ""
    tables: bool = False
    rare: bool = False


def _known_crs(value: str) -> str:
    if value:
        try:
            parse_crs(value)
        except CrsError as error:
            raise ValueError(error.sentence()) from error
    return value


KnownCrs = Annotated[str, AfterValidator(_known_crs)]
"""The type of a setting that names a coordinate system; empty where it may be."""


SQL_KINDS = ("condition", "expression", "query")
"""Kinds of settings that are texts in SQL."""


def setting(
    label: str,
    *,
    help: str,
    kind: str = "text",
    default: Any = ...,
    choices: Mapping[str, str] | None = None,
    shown_when: tuple[str, tuple[Any, ...]] | None = None,
    example: str = "",
    of: str = "",
    tables: bool = False,
    rare: bool = False,
    **limits: Any,
) -> Any:
    """Declare a setting. ``limits`` are pydantic's (``ge``, ``le``, ``min_length`` ...)."""
    info = SettingInfo(label, help, kind, choices or {}, shown_when, example, of, tables, rare)
    return Field(default=default, json_schema_extra={"info": cast(Any, info)}, **limits)


def setting_info(model: type[OperationSettings]) -> dict[str, SettingInfo]:
    """The settings of a model in their order, but for those that every operation has."""
    return {name: _info(f) for name, f in model.model_fields.items() if name not in OperationSettings.model_fields}


def _info(declared: FieldInfo) -> SettingInfo:
    extra = declared.json_schema_extra
    assert isinstance(extra, dict), "declare settings with setting()"
    return cast(SettingInfo, extra["info"])


def layer_settings(model: type[OperationSettings]) -> tuple[str, ...]:
    """Names of the settings that refer to layers of other steps."""
    return tuple(name for name, info in setting_info(model).items() if info.kind == "layer")


def layer_tables(model: type[OperationSettings]) -> tuple[str, ...]:
    """Names of the settings that are tables of references to layers of other steps."""
    return tuple(name for name, info in setting_info(model).items() if info.kind == "layers")


def default_of(model: type[OperationSettings], name: str) -> object:
    """The default of a setting, or None where it must be given."""
    declared = model.model_fields[name]
    return None if declared.is_required() else declared.get_default(call_default_factory=True)


def with_lists(model: type[OperationSettings], values: Mapping[str, object]) -> dict[str, object]:
    """Values with a single text as the list of one that its setting takes: so a parameter can stand for it. An empty text is an
    empty list."""
    out = dict(values)
    for name, value in values.items():
        if isinstance(value, str) and name in model.model_fields and _lists_texts(model.model_fields[name].annotation):
            out[name] = [value] if value else []
    return out


def _lists_texts(declared: object) -> bool:
    if get_origin(declared) is not list:
        return False
    (of,) = get_args(declared)
    return of in (str, Any) or get_origin(of) is Literal


def validate(model: type[OperationSettings], values: Mapping[str, Any]) -> OperationSettings:
    """A model of these values.

    Raises
    ------
    SettingError : the first thing that is wrong.
    """
    problems = problems_of(model, values)
    if problems:
        raise problems[0]
    return model(**values)


def wrongly_said(model: type[OperationSettings], values: Mapping[str, Any]) -> Sequence[SettingError]:
    """What is wrong with the values that are given, whatever is still missing; of one that a parameter stands for, nothing is known."""
    given = {name: value for name, value in values.items() if not _stands_for(value)}
    return [p for p in problems_of(model, with_lists(model, given)) if p.setting in given]


def _stands_for(value: Any) -> bool:
    if isinstance(value, Mapping):
        return "parameter" in value or any(map(_stands_for, value.values()))
    return isinstance(value, list | tuple) and any(map(_stands_for, value))


def problems_of(model: type[OperationSettings], values: Mapping[str, Any]) -> Sequence[SettingError]:
    """Everything that is wrong with these values, in sentences."""
    try:
        model(**values)
    except ValidationError as error:
        # a name that is not known explains one that is missing, so it comes first
        found = sorted(error.errors(), key=lambda one: one["type"] != "extra_forbidden")
        return [_plain(model, cast(Mapping[str, Any], one)) for one in found]
    return []


def _plain(model: type[OperationSettings], problem: Mapping[str, Any]) -> SettingError:
    name = str(problem["loc"][0]) if problem["loc"] else ""
    if problem["type"] == "extra_forbidden":
        hint = did_you_mean(name, model.model_fields, f"It has {', '.join(setting_info(model))}")
        return SettingError(f"there is no setting '{name}' in this operation", setting=name, way_out=hint)
    infos = setting_info(model)
    label = infos[name].label if name in infos else name or "This"
    shown = repr(problem["input"])
    shown = shown if len(shown) <= 80 else f"{shown[:80]} ..."
    if problem["type"] == "missing":
        return SettingError(f"'{label}' is not filled in", setting=name, way_out=infos[name].help.split(". ")[0])
    choices = infos[name].choices if name in infos else {}
    if problem["type"] in ("literal_error", "enum") and choices:
        return SettingError(f"'{label}' cannot be {shown}", setting=name, way_out=f"It can be {', '.join(choices)}")
    message = _in_words(problem)
    return SettingError(f"'{label}' cannot be {shown}: {message[:1].lower()}{message[1:]}", setting=name)


_WANTED = {
    "string_type": "it must be a text",
    "list_type": "it must be a list",
    "tuple_type": "it must be a list",
    "dict_type": "it must be a table",
    "model_type": "it must be a table",
    "bool_type": "it must be yes or no (true, false)",
    "bool_parsing": "it must be yes or no (true, false)",
    "int_type": "it must be a whole number",
    "int_parsing": "it must be a whole number",
    "int_from_float": "it must be a whole number",
    "int_parsing_size": "it is too large",
    "float_type": "it must be a number",
    "float_parsing": "it must be a number",
    "finite_number": "it must be a number with an end",
    "date_type": "it must be a date such as 2031-09-30",
    "date_parsing": "it must be a date such as 2031-09-30",
    "date_from_datetime_parsing": "it must be a date such as 2031-09-30",
}
_LIMITS = {
    "greater_than_equal": ("ge", "the least is {}"),
    "greater_than": ("gt", "it must be more than {}"),
    "less_than_equal": ("le", "the most is {}"),
    "less_than": ("lt", "it must be less than {}"),
    "multiple_of": ("multiple_of", "it must be a multiple of {}"),
    "string_pattern_mismatch": ("pattern", "it must be written as {}"),
}


def _in_words(problem: Mapping[str, Any]) -> str:
    """What is wrong with a value, without the words of the library that checks it."""
    kind, limits = str(problem["type"]), problem.get("ctx", {})
    if kind in _WANTED:
        return _WANTED[kind]
    if kind in _LIMITS:
        name, says = _LIMITS[kind]
        return says.format(limits.get(name))
    if kind in ("string_too_short", "too_short"):
        least = limits.get("min_length", 1)
        return "it is empty" if least == 1 else f"at least {least} are wanted"
    if kind in ("string_too_long", "too_long"):
        return f"at most {limits.get('max_length')} are wanted"
    if kind in ("literal_error", "enum"):
        return f"it can be {limits.get('expected')}"
    return str(problem["msg"]).removeprefix("Value error, ")
