"""An operation as a Python function: its signature, the text that ``help()`` shows, and the stub that editors complete from."""

from __future__ import annotations

import inspect
import textwrap
from collections.abc import Mapping, Sequence
from functools import lru_cache
from pathlib import Path
from types import UnionType
from typing import Annotated, Literal, Union, get_args, get_origin

from eskret.operations.base import Operation
from eskret.operations.registry import all_operations
from eskret.operations.settings import default_of, setting_info

_WIDE = 100
_HANDLE = "StepHandle | str"
_PLAIN = {str: "str", int: "int", float: "float", bool: "bool"}
_STUB = '''"""The operations as methods of a workflow. Made by ``make handbook`` from their settings; a test holds it current."""

from collections.abc import Iterable, Mapping, Sequence
from typing import Literal, TypedDict, Unpack

from eskret.workflow.faces.handles import ParameterHandle, StepHandle

class StepProperties(TypedDict, total=False):
    """What every step may say of itself, as in the file."""

    heading: str
    note: str
    off: bool
    layer: Mapping[str, Mapping[str, object]]
    style: Mapping[str, Mapping[str, object]]
    each: Mapping[str, object]
    result: bool
    totals: Sequence[str]

class OperationMethods:
'''


@lru_cache(maxsize=256)
def help_of(operation: Operation) -> str:
    """What ``help()`` shows: the summary, how it is used, and every setting with what it can be."""
    parts = [operation.summary, *_paragraphs(operation.help)]
    settings = []
    for name, info in setting_info(operation.Settings).items():
        default = default_of(operation.Settings, name)
        required = operation.Settings.model_fields[name].is_required()
        more = "must be given" if required else f"default {default!r}"
        about = [f"{info.label}. {info.help}".strip()]
        about += [f"{value!r}: {words}" for value, words in info.choices.items()]
        kind = _type_text(operation, name)
        if "Literal" in kind:
            kind = "some of these" if kind.startswith("Sequence") else "one of these"
        settings.append(f"{name} : {kind}, {more}")
        settings += [textwrap.fill(line, _WIDE, initial_indent="    ", subsequent_indent="    ") for line in about]
    if settings:
        parts.append("\n".join(["Parameters", "----------", *settings]))
    return "\n\n".join(p for p in parts if p)


def _paragraphs(text: str) -> Sequence[str]:
    return [textwrap.fill(p, _WIDE) for p in text.split("\n\n")]


@lru_cache(maxsize=256)
def signature_of(operation: Operation, first: tuple[inspect.Parameter, ...], a_layer: str = _HANDLE) -> inspect.Signature:
    """The settings of an operation as parameters that are given by name, behind those that come first.

    Parameters
    ----------
    a_layer : what a setting takes that names a layer.
    """
    out = list(first)
    # what has the name of one that comes first cannot be given by name there
    for name in [n for n in setting_info(operation.Settings) if n not in {p.name for p in first}]:
        required = operation.Settings.model_fields[name].is_required()
        default = inspect.Parameter.empty if required else default_of(operation.Settings, name)
        out.append(
            inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=_type_text(operation, name, a_layer))
        )
    return inspect.Signature([*out, inspect.Parameter("properties", inspect.Parameter.VAR_KEYWORD)])


def _type_text(operation: Operation, name: str, a_layer: str = _HANDLE) -> str:
    """What a setting takes, as it is written in an annotation."""
    if setting_info(operation.Settings)[name].kind in ("layer", "layers"):
        return a_layer if setting_info(operation.Settings)[name].kind == "layer" else f"Mapping[str, {a_layer}]"
    return _text_of(operation.Settings.model_fields[name].annotation)


def _text_of(declared: object) -> str:
    origin, args = get_origin(declared), get_args(declared)
    if origin is Annotated:
        return _text_of(args[0])
    if origin is Literal:
        return f"Literal[{', '.join(map(repr, args))}]"
    if origin in (Union, UnionType):
        return " | ".join(_text_of(a) for a in args)
    if origin in (list, tuple, Sequence):
        one = _text_of(args[0])
        # a single text is the list of it
        return f"Sequence[{one}]" if "Literal" not in one else f"Sequence[{one}] | {one}"
    if origin in (dict, Mapping):
        return f"Mapping[str, {_text_of(args[1])}]"
    if declared is type(None):
        return "None"
    return _PLAIN.get(declared, "object") if isinstance(declared, type) else "object"


def stub_text() -> str:
    """The stub of the class whose methods the operations are."""
    return _STUB + "\n".join(_method(o) for o in all_operations().values())


def _method(operation: Operation) -> str:
    given = []
    for name in setting_info(operation.Settings):
        required = operation.Settings.model_fields[name].is_required()
        given.append(f"        {name}: {_type_text(operation, name)} | ParameterHandle{'' if required else ' = ...'},")
    entering = "StepHandle | str | Iterable[StepHandle | str]"
    lines = [
        f"    def {operation.id}(",
        "        self,",
        "        id: str,",
        f"        entering: {entering} = ...," if operation.has_input else "        entering: tuple[()] = ...,",
        "        /,",
        *(["        *,", *given] if given else []),
        "        **properties: Unpack[StepProperties],",
        "    ) -> StepHandle:",
        *textwrap.indent(f'"""{help_of(operation)}\n"""'.replace("\\", "\\\\"), "        ").splitlines(),
        "",
    ]
    return "\n".join(line.rstrip() for line in lines)


def stub_path() -> Path:
    """Where the stub is kept."""
    return Path(__file__).with_name("operation_methods.pyi")


def write_stub() -> None:
    """Write the stub anew."""
    stub_path().write_text(stub_text(), encoding="utf-8")
