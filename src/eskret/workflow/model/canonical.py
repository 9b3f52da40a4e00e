"""The one canonical form of a workflow file."""

from __future__ import annotations

from collections.abc import Generator, Mapping
from typing import TYPE_CHECKING

import tomlkit

if TYPE_CHECKING:
    from eskret.workflow.model.document import Comments, Document, Step

HEADS = ("title", "summary", "help", "keywords", "author", "limits", "crs", "names")
"""What stands at the top of the file, in its order."""

Place = tuple[str, ...]
"""Where something stands in the file: ``("steps", "piles", "where")``."""


def text_of(document: Document, version: int) -> str:
    """The whole file."""
    return "".join(_emit(document, version))


def _emit(document: Document, version: int) -> Generator[str, None, None]:
    notes = document.comments
    yield from _line(("eskret",), version, notes)
    for name in HEADS:
        value = getattr(document, name)
        if value:
            yield from _line((name,), list(value) if isinstance(value, tuple) else value, notes)
    for parameter in document.parameters:
        path: Place = ("parameters", parameter.name)
        yield "\n"
        yield from _head(f"[parameters.{_key(parameter.name)}]", path, notes)
        for key, value in parameter.to_table().items():
            yield from _line((*path, key), value, notes)
    for step in document.steps:
        yield "\n"
        yield from _step(step, notes)
    if document.map:
        yield "\n"
        yield from _head("[map]", ("map",), notes)
        if document.map.lines != "grid":
            yield from _line(("map", "lines"), document.map.lines, notes)
        if document.map.layers:
            yield from _line(("map", "layers"), [x.to_table() for x in document.map.layers], notes)
    if notes.end:
        yield "\n"
        yield from (comment + "\n" for comment in notes.end)


def _step(step: Step, notes: Comments) -> Generator[str, None, None]:
    path: Place = ("steps", step.id)
    yield from _head("[[steps]]", path, notes)
    yield from _line((*path, "id"), step.id, notes)
    if step.heading:
        yield from _line((*path, "heading"), step.heading, notes)
    yield from _line((*path, "use"), step.use, notes)
    if step.source:
        source = step.source[0] if len(step.source) == 1 else list(step.source)
        yield from _line((*path, "from"), source, notes)
    for name, value in step.settings.items():
        yield from _line((*path, name), value, notes)
    if step.each is not None:
        yield from _line((*path, "each"), step.each.to_table(), notes)
    if step.result:
        yield from _line((*path, "result"), True, notes)
    if step.off:
        yield from _line((*path, "off"), True, notes)
    if step.note:
        yield from _line((*path, "note"), step.note, notes)
    styles = {key: style.to_table() for key, style in step.style.items()}
    for kind, tables in (("layer", step.layer), ("style", styles)):
        for key, values in tables.items():
            yield "\n"
            inner: Place = (*path, kind, key)
            yield from _head(f"[steps.{kind}.{_key(key)}]", inner, notes, "  ")
            for name, value in values.items():
                yield from _line((*inner, name), value, notes, "  ")


def _head(text: str, path: Place, notes: Comments, indent: str = "") -> Generator[str, None, None]:
    yield from (f"{indent}{c}\n" for c in notes.before.get(path, ()))
    behind = notes.behind.get(path)
    yield f"{indent}{text}{'  ' + behind if behind else ''}\n"


def _line(path: Place, value: object, notes: Comments, indent: str = "") -> Generator[str, None, None]:
    yield from (f"{indent}{c}\n" for c in notes.before.get(path, ()))
    behind = notes.behind.get(path)
    yield f"{indent}{_key(path[-1])} = {toml_value(value)}{'  ' + behind if behind else ''}\n"


def _key(name: str) -> str:
    return name if name and all(c.isascii() and (c.isalnum() or c in "_-") for c in name) else tomlkit.string(name).as_string()


def toml_value(value: object) -> str:
    """A value as TOML: lists that are long spread over lines, tables stay inline."""
    if isinstance(value, Mapping):
        return "{ " + ", ".join(f"{_key(str(k))} = {toml_value(v)}" for k, v in value.items()) + " }"
    if isinstance(value, list | tuple):
        items = [toml_value(v) for v in value]
        flat = "[" + ", ".join(items) + "]"
        return flat if len(flat) <= 100 else "[\n" + "".join(f"    {i},\n" for i in items) + "]"
    if isinstance(value, str) and "\n" in value and "'''" not in value:
        return tomlkit.string(value, multiline=True).as_string()
    return tomlkit.item(value).as_string()
