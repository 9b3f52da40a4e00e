"""The decorator with which somebody declares an operation of their own, and what it finds out of a function or a class.

A function's first argument says what it works on: one layer (a ``GeoDataFrame`` or ``Layer``), a list of them, or, where the
first argument is a setting, nothing: then it brings a layer in. Every other argument is a setting. Annotations give the types.
"""

from __future__ import annotations

import inspect
import re
import typing
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from enum import Enum
from functools import partial
from pathlib import Path
from typing import Annotated, Any, Literal, get_args, get_origin

from pydantic import BeforeValidator, Field, create_model
from pydantic.fields import FieldInfo

from eskret.core.accounts.account import Relation
from eskret.core.layer import Layer
from eskret.core.naming import clean_name
from eskret.core.words import bold
from eskret.errors import DocumentError
from eskret.operations.base import Phase
from eskret.operations.settings import KnownCrs, OperationSettings, SettingInfo
from eskret.operations.support.setting_types import Size

EACH, ALL, NOTHING = "a layer", "layers", "nothing"
_MARK = "__eskret_operation__"


class Account:
    """What a function of somebody's own can say of its rows: an argument with this annotation gets one.

    Examples
    --------
    ``account.set_aside(frame.geometry.is_empty, "has no shape")``
    """

    def __init__(self, watch: Callable[[int, int], None] | None = None) -> None:
        self.aside: list[tuple[str, Any]] = []
        self.remarks: list[tuple[str, bool]] = []
        self._watch = watch

    def set_aside(self, rows: Any, reason: str) -> None:
        """Say why rows do not leave: by a mask as long as the layer, or by labels of its index."""
        self.aside.append((str(reason), rows))

    def remark(self, text: str, *, look: bool = False) -> None:
        """Say something in the ledger; with ``look``, as something to be seen."""
        self.remarks.append((str(text), look))

    def progress(self, done: int, of: int) -> None:
        """Say how far it is; a run that was stopped ends here."""
        if self._watch is not None:
            self._watch(int(done), int(of))


@dataclass(frozen=True)
class OwnSetting:
    """A setting as it was declared. ``choices`` may be a list, a mapping of values to words, or a function of the other
    settings' values that gives one of these."""

    label: str = ""
    help: str = ""
    default: Any = ...
    kind: str = ""
    choices: Any = None
    example: str = ""
    shown_when: tuple[str, tuple[Any, ...]] | None = None
    of: str = ""
    limits: Mapping[str, Any] = field(default_factory=dict)


def setting(
    label: str = "",
    *,
    help: str = "",
    default: Any = ...,
    kind: str = "",
    choices: Any = None,
    example: str = "",
    shown_when: tuple[str, Any] | None = None,
    of: str = "",
    **limits: Any,
) -> Any:
    """Describe a setting of an operation of your own; used as the default of an argument.

    Parameters
    ----------
    label, help, example : what the form says.
    default : its value where none is given; without one it must be given.
    kind : how it is asked for, where the type does not say: condition, crs, measure, field, fields, layer, file. A file comes
        as a whole path, from the workflow's folder where it was relative; as a ``Path`` where the annotation says so.
    choices : values to choose from: a list, ``{value: words}``, or a function of the values of all settings.
    shown_when : ``("other", value)`` or ``("other", [values])``: it matters only then.
    of : for a field: the setting that names its layer.
    limits : ge, gt, le, lt, min_length, max_length, pattern.

    Examples
    --------
    ``def grow(layer: GeoDataFrame, by: float = eskret.setting("By", help="In metres.", ge=0)) -> GeoDataFrame: ...``
    """
    known = {"ge", "gt", "le", "lt", "min_length", "max_length", "pattern", "multiple_of"}
    for name in limits:
        if name not in known:
            raise TypeError(f"setting() knows no '{name}'; limits are {', '.join(sorted(known))}")
    when = None
    if shown_when is not None:
        other, values = shown_when
        when = (other, tuple(values) if isinstance(values, list | tuple | set) else (values,))
    return OwnSetting(label, help, default, kind, choices, example, when, of, limits)


@dataclass(frozen=True)
class Declared:
    """An operation of somebody's own, as its file declares it."""

    name: str
    title: str
    phase: Phase
    doc: str
    works_on: str
    call: Callable[..., Any]
    first: str
    takes_layer: bool
    """Whether it wants an Eskret ``Layer`` instead of a ``GeoDataFrame``."""
    settings: Mapping[str, OwnSetting]
    types: Mapping[str, Any]
    also_known_as: tuple[str, ...] = ()
    version: int = 1
    author: str = ""
    limits: str = ""
    account: str = ""
    check: Callable[[Mapping[str, Any]], Any] | None = None
    reuse: bool | None = None
    relation: Relation | None = None
    """How the rows that leave relate to those that entered, where it was declared."""
    file: Path = field(default_factory=Path)
    line: int = 0

    @property
    def id(self) -> str:
        return f"own:{self.name}"

    @property
    def reused(self) -> bool:
        """Whether what it made once is taken up again while nothing changed that it is seen to hang on."""
        return self.works_on != NOTHING if self.reuse is None else self.reuse

    def infos(self) -> dict[str, SettingInfo]:
        """What a form needs to know of each setting; choices that depend on others are those for the defaults."""
        defaults = {n: "" if s.default is ... else s.default for n, s in self.settings.items()}
        return {n: self._info(n, s, defaults) for n, s in self.settings.items()}

    def kind_of(self, name: str) -> str:
        """How a setting is asked for, its choices left aside."""
        declared = self.settings[name]
        return declared.kind or _kind_of(self.types[name], declared)

    def _info(self, name: str, declared: OwnSetting, values: Mapping[str, Any]) -> SettingInfo:
        kind, choices = self.kind_of(name), _literals(self.types[name])
        if callable(declared.choices):
            kind = "choice"
            try:
                choices = self.choices(name, values)
            except Exception:
                choices = {}  # they hang on what is not given yet, such as a file
        elif declared.choices is not None:
            choices = self.choices(name, values)
        if choices:
            kind = "choice"
        label = declared.label or name.replace("_", " ").capitalize()
        return SettingInfo(label, declared.help, kind, choices, declared.shown_when, declared.example, declared.of)

    def choices(self, name: str, values: Mapping[str, Any]) -> dict[str, str]:
        """What a setting offers with these values of the others: values as texts, with words for a person."""
        found = self.settings[name].choices
        if callable(found):
            found = found({**values})
        if found is None:
            return {}
        if isinstance(found, Mapping):
            return {str(k): str(v) for k, v in found.items()}
        return {str(v): str(v) for v in found}

    def model(self) -> type[OperationSettings]:
        """The settings as a model that checks types and limits."""
        fields: dict[str, Any] = {}
        for name, info in self.infos().items():
            declared = self.settings[name]
            kind = _checked_type(self.types[name], info.kind)
            extra: dict[str, Any] = {"info": info}
            limits = dict(declared.limits)
            fields[name] = (kind, described(declared.default, extra, limits))
        return create_model("Settings", __base__=OperationSettings, **fields)


def sentence_of(title: str, infos: Mapping[str, SettingInfo], settings: Mapping[str, Any], entering: str) -> str:
    """What the ledger says of a step of an own operation: what it works on, and up to two of its settings."""
    shown = []
    for name, info in infos.items():
        value = settings.get(name)
        if info.kind in ("choice", "whole", "measure", "field") and value not in (None, ""):
            shown.append(f"{info.label.lower()} {str(value)[:24]}")
    of = f" of {bold(entering)}" if entering else ""
    return f"{title}{of}{': ' + ', '.join(shown[:2]) if shown else ''}"


def described(default: Any, extra: dict[str, Any], limits: dict[str, Any]) -> FieldInfo:
    """A field of a model of settings."""
    made: FieldInfo = Field(default=default, json_schema_extra=extra, **limits)
    return made


def _checked_type(kind: Any, asked: str) -> Any:
    if asked == "crs":
        return KnownCrs
    if asked == "measure":
        return Size
    if kind in (Any, inspect.Parameter.empty):
        return Any
    if _literals(kind):
        return Annotated[kind, BeforeValidator(partial(_one_of, _members(kind)))]
    if _is_frame(kind) or asked in ("layer", "field", "condition", "expression", "file"):
        return str
    return kind


def _members(kind: Any) -> dict[str, Any]:
    return {str(v): v for v in (get_args(kind) if get_origin(kind) is Literal else (m.value for m in kind))}


def _one_of(members: Mapping[str, Any], value: Any) -> Any:
    """A form gives texts; the member may be a number."""
    return members.get(value, value) if isinstance(value, str) else value


def _kind_of(kind: Any, declared: OwnSetting) -> str:
    if _is_frame(kind):
        return "layer"
    origin = get_origin(kind)
    if kind is bool:
        return "flag"
    if kind is int:
        return "whole"
    if kind is float:
        return "number"
    if isinstance(kind, type) and issubclass(kind, Path):
        return "file"
    if origin is list or kind is list:
        return "patterns"
    return "text"


def _literals(kind: Any) -> dict[str, str]:
    if get_origin(kind) is Literal:
        return {str(v): str(v) for v in get_args(kind)}
    if isinstance(kind, type) and issubclass(kind, Enum):
        return {str(v.value): v.name.replace("_", " ").lower() for v in kind}
    return {}


def _is_frame(kind: Any) -> bool:
    """Whether an annotation names a layer: a GeoDataFrame, a DataFrame or an Eskret Layer."""
    name = kind if isinstance(kind, str) else getattr(kind, "__name__", "")
    return kind is Layer or name.rpartition(".")[2] in ("GeoDataFrame", "DataFrame", "Layer")


def _is_layer(kind: Any) -> bool:
    name = kind if isinstance(kind, str) else getattr(kind, "__name__", "")
    return kind is Layer or name.rpartition(".")[2] == "Layer"


def operation(
    thing: Any = None,
    *,
    title: str = "",
    phase: str = "Shape",
    also_known_as: tuple[str, ...] | list[str] = (),
    version: int = 1,
    author: str = "",
    limits: str = "",
    check: Callable[[Mapping[str, Any]], Any] | None = None,
    reuse: bool | None = None,
    relation: str = "",
) -> Any:
    """Declare an operation of your own: put it above a typed function, or a class with a method ``run``.

    Parameters
    ----------
    title : what it is called in the window; else made of the name.
    phase : Gather, Choose, Shape, Describe, Check or Deliver.
    also_known_as : words under which it is found.
    version : raise it when what it makes changes.
    author, limits : for its help.
    check : gets the values of all settings, gives ``{setting: what is wrong}`` or nothing.
    reuse : whether what it made is taken up again by later runs while its settings, its layers and its code are the same.
        Where nothing is said, that of one that works on layers is; that of one that brings layers in is not, since it may
        read what nobody sees.
    relation : how the rows that leave relate to those used: kept, one for one, grouped, multiplied or new rows. The run is held to
        it. Where nothing is said, and the labels of its index do not tell which row came of which, its step asks for a look.

    Examples
    --------
    ::

        @eskret.operation(title="Grow", also_known_as=["widen"])
        def grow(layer: GeoDataFrame, by: float = eskret.setting("By", help="In metres.", ge=0)) -> GeoDataFrame:
            \"\"\"Make areas wider.\"\"\"
            return layer.set_geometry(layer.buffer(by))
    """

    def declare(target: Any) -> Any:
        declared = _declared(target, title, phase, tuple(also_known_as), version, author, limits, check)
        declared = replace(declared, reuse=reuse, relation=_relation(relation))
        setattr(target, _MARK, declared)
        return target

    return declare if thing is None else declare(thing)


def _relation(text: str) -> Relation | None:
    if not text:
        return None
    known = [r.value for r in Relation if r is not Relation.REPORT]
    if text not in known:
        raise TypeError(f"operation() knows no relation '{text}'; it can be {', '.join(known)}")
    return Relation(text)


def declared_in(thing: Any) -> Declared | None:
    """What a function or class declares, if it does."""
    found = getattr(thing, _MARK, None)
    return found if isinstance(found, Declared) else None


def _declared(target: Any, title: str, phase: str, known: tuple[str, ...], version: int, author: str, limits: str, check: Any) -> Declared:
    name = target.__name__
    place = f"operation '{name}'"
    try:
        at = Phase(phase)
    except ValueError as error:
        words = ", ".join(Phase)
        raise DocumentError(f"there is no phase '{phase}'", place=place, way_out=f"There are {words}") from error
    settings: dict[str, OwnSetting] = {}
    types: dict[str, Any] = {}
    if inspect.isclass(target):
        if not callable(getattr(target, "run", None)):
            raise DocumentError("the class has no method 'run'", place=place, way_out="Give it one that does the work")
        hints = _hints(target)
        for attribute, kind in hints.items():
            given = getattr(target, attribute, ...)
            settings[attribute] = given if isinstance(given, OwnSetting) else OwnSetting(default=given)
            types[attribute] = kind
        function = getattr(target, "run")  # noqa: B009
        skip = 1
        if check is None and callable(getattr(target, "check", None)):
            check = _method(target, "check")
    else:
        function, skip = target, 0
    hints = _hints(function)
    arguments = list(inspect.signature(function).parameters.values())[skip:]
    works_on, first, takes_layer, account = NOTHING, "", False, ""
    for position, argument in enumerate(arguments):
        kind = hints.get(argument.name, Any)
        if kind is Account or (isinstance(kind, str) and kind.endswith("Account")):
            account = argument.name
            continue
        many = get_origin(kind) in (list, tuple)
        inner = get_args(kind)[0] if many and get_args(kind) else kind
        layers = _is_frame(inner) and argument.default is inspect.Parameter.empty
        untyped = kind is Any and argument.name in ("layer", "frame", "layers", "frames")
        if position == 0 and (layers or untyped):
            works_on = ALL if many or argument.name in ("layers", "frames") else EACH
            first, takes_layer = argument.name, _is_layer(inner)
            continue
        if inspect.isclass(target):
            raise DocumentError(
                f"'run' has an argument '{argument.name}' that is no layer", place=place, way_out="Settings of a class are its attributes"
            )
        default = argument.default
        given = ... if default is inspect.Parameter.empty else default
        settings[argument.name] = given if isinstance(given, OwnSetting) else OwnSetting(default=given)
        types[argument.name] = kind
    for reserved in ("id", "use", "from", "heading", "note", "off", "layer", "style", "each", "result", "totals"):
        if reserved in settings:
            raise DocumentError(f"a setting cannot be called '{reserved}'", place=place, way_out="Choose another name")
    doc = inspect.getdoc(target) or ""
    try:
        line = inspect.getsourcelines(target)[1]
    except (OSError, TypeError):
        line = 0
    return Declared(
        clean_name(re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name)),
        title or _words_of(name),
        at,
        doc,
        works_on,
        target,
        first,
        takes_layer,
        settings,
        types,
        known,
        version,
        author,
        limits,
        account,
        check,
        line=line,
    )


def _words_of(name: str) -> str:
    return re.sub(r"(?<=[a-z0-9])(?=[A-Z])", " ", name).replace("_", " ").capitalize()


def _hints(thing: Any) -> dict[str, Any]:
    """Annotations as types; those that cannot be resolved as texts."""
    try:
        return {n: _bare(t) for n, t in typing.get_type_hints(thing, include_extras=True).items() if n != "return"}
    except Exception:
        own = getattr(thing, "__annotations__", {})
        simple = {"str": str, "int": int, "float": float, "bool": bool, "list[str]": list[str]}
        return {n: simple.get(t, t) if isinstance(t, str) else t for n, t in own.items() if n != "return"}


def _bare(kind: Any) -> Any:
    return get_args(kind)[0] if get_origin(kind) is Annotated and _is_frame(get_args(kind)[0]) else kind


def _method(target: type, name: str) -> Callable[[Mapping[str, Any]], Any]:
    def call(values: Mapping[str, Any]) -> Any:
        made = target()
        for key, value in values.items():
            setattr(made, key, value)
        return getattr(made, name)()

    return call
