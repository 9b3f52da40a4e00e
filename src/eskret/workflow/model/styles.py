"""Which style a layer has: the one said nearest to it on its line, at the step that made it or at one before."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from eskret.core.layer import Layer, matches
from eskret.core.style.classes import breaks_of
from eskret.core.style.legend import numbers_of
from eskret.core.style.style import CLASSES, Style
from eskret.errors import EskretError
from eskret.formats.sld import sld_text
from eskret.operations.registry import operation_by_id
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.map_spec import OnMap

Line = Sequence[tuple[str, str]]
"""Steps that a layer came through with its key at each, the last one first; see ``Layer.line``."""


def style_for(document: Document, line: Line) -> Style:
    """The style of a layer that came along this line; what its step's operation would have it drawn like, where nobody said
    anything from there on; else the usual one."""
    steps = {s.id: s for s in document.steps}
    for id, key in line:
        step = steps.get(id)
        if step is None:
            continue
        said = said_at(step, key)
        found = step.style[said] if said is not None else proposed(step)
        if found is not None:
            return found
    return Style()


def said_at(step: Step, key: str) -> str | None:
    """The entry of a step's styles that is about a layer: its own, else a pattern that it matches."""
    if key in step.style:
        return key
    return next((pattern for pattern in step.style if matches(pattern, key)), None)


def proposed(step: Step) -> Style | None:
    """How the step's operation would have its layers drawn."""
    try:
        return operation_by_id(step.use).default_style(step.settings)
    except EskretError:
        return None


def with_style(step: Step, key: str, style: Style | None) -> Step:
    """The step with this style for a layer or a pattern; None takes it out."""
    styles = {k: v for k, v in step.style.items() if k != key}
    return replace(step, style=styles if style is None else {**styles, key: style})


def begins(document: Document, line: Line) -> tuple[str, str]:
    """The first place on a layer's line: where it came in."""
    there = {s.id for s in document.steps}
    return next(((id, key) for id, key in reversed(list(line)) if id in there), ("", ""))


def put_on_map(document: Document, layers: Sequence[OnMap]) -> Document:
    """The document with these layers kept on the map, each once."""
    once: dict[tuple[str, str, str], OnMap] = {}
    for layer in layers:
        once.setdefault(layer.place, layer)
    return replace(document, map=replace(document.map, layers=tuple(once.values())))


def sld_for(document: Document, layer: Layer, name: str) -> str:
    """The style of a layer of a run as OGC SLD, for the name that it is saved under."""
    style = style_for(document, layer.provenance)
    held = style.field in layer.table.column_names
    column = layer.table.schema.field(style.field).type if held else None
    breaks: Sequence[float] = ()
    if style.by == CLASSES and held:
        numbers = numbers_of(layer.table.column(style.field))
        if style.method == "own":
            breaks = style.breaks
        elif numbers is not None:
            breaks = breaks_of(numbers, style.method, style.count)
    return sld_text(style, name, str(layer.kind), column, breaks)
