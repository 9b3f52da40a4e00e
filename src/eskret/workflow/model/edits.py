"""Changes to a document; each gives a new one and leaves the old as it was."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from eskret.core.naming import clean_name, number_collisions
from eskret.errors import DocumentError
from eskret.workflow.model.document import Comments, Document, Path_, Step
from eskret.workflow.model.parameters import Parameter
from eskret.workflow.model.references import with_references


def add_step(document: Document, step: Step, at: int | None = None) -> Document:
    """Put a step in at a position (default: the end); its id is made unique."""
    name = number_collisions([clean_name(step.id) or step.use], taken=[s.id for s in document.steps])[0]
    steps = list(document.steps)
    steps.insert(len(steps) if at is None else at, replace(step, id=name))
    return replace(document, steps=tuple(steps))


def replace_step(document: Document, id: str, step: Step) -> Document:
    """Exchange a step for another form of it, under the same id."""
    return replace(document, steps=tuple(step if s.id == id else s for s in document.steps))


def remove_step(document: Document, id: str) -> Document:
    """Take a step out; references to it are taken out with it."""
    steps = []
    for step in document.steps:
        if step.id != id:
            steps.append(with_references(step, lambda r: None if r.partition(":")[0] == id else r))
    shown = tuple(x for x in document.map.layers if x.step != id)
    return replace(document, steps=tuple(steps), map=replace(document.map, layers=shown))


def rename_step(document: Document, id: str, name: str) -> Document:
    """Give a step another id; references follow.

    Raises
    ------
    DocumentError : the name is empty or taken.
    """
    new = clean_name(name)
    if not new:
        raise DocumentError(f"'{name}' leaves no name", way_out="Use letters or digits")
    if new != id and any(s.id == new for s in document.steps):
        raise DocumentError(f"there is a step '{new}' already", way_out="Choose another name")

    def follow(reference: str) -> str:
        step, colon, rest = reference.partition(":")
        return new + colon + rest if step == id else reference

    steps = tuple(replace(with_references(s, follow), id=new if s.id == id else s.id) for s in document.steps)

    def moved(path: Path_) -> Path_:
        return ("steps", new, *path[2:]) if path[:2] == ("steps", id) else path

    old = document.comments
    comments = Comments({moved(p): c for p, c in old.before.items()}, {moved(p): c for p, c in old.behind.items()}, old.end)
    shown = tuple(replace(x, step=new) if x.step == id else x for x in document.map.layers)
    return replace(document, steps=steps, comments=comments, map=replace(document.map, layers=shown))


def move_step(document: Document, id: str, by: int) -> Document:
    """Move a step up (-1) or down (1); at the ends it stays."""
    steps = list(document.steps)
    i = document.index(id)
    j = min(max(i + by, 0), len(steps) - 1)
    steps.insert(j, steps.pop(i))
    return replace(document, steps=tuple(steps))


def set_parameter(document: Document, name: str, **changes: Any) -> Document:
    """Change a parameter, or add it where there is none of this name."""
    known = next((p for p in document.parameters if p.name == name), Parameter(name))
    return put_parameter(document, replace(known, **changes))


def put_parameter(document: Document, parameter: Parameter) -> Document:
    """Exchange the parameter of this name, or add it at the end."""
    if any(p.name == parameter.name for p in document.parameters):
        kept = tuple(parameter if p.name == parameter.name else p for p in document.parameters)
        return replace(document, parameters=kept)
    return replace(document, parameters=(*document.parameters, parameter))


def move_parameter(document: Document, name: str, by: int) -> Document:
    """Move a parameter up (-1) or down (1); at the ends it stays."""
    all_ = list(document.parameters)
    i = next(n for n, p in enumerate(all_) if p.name == name)
    j = min(max(i + by, 0), len(all_) - 1)
    all_.insert(j, all_.pop(i))
    return replace(document, parameters=tuple(all_))


def remove_parameter(document: Document, name: str) -> Document:
    """Take a parameter out. A setting that it gave as a whole has its value from then on; texts that name it stay, and the
    rehearsal says where."""
    gone = next(p for p in document.parameters if p.name == name)

    def put(value: Any) -> Any:
        return gone.default if value == {"parameter": name} else value

    steps = tuple(_with_values(s, put) for s in document.steps)
    left = tuple(
        replace(p, enabled_by=None) if p.enabled_by is not None and p.enabled_by.parameter == name else p
        for p in document.parameters
        if p.name != name
    )
    return replace(document, parameters=left, steps=steps)


def rename_parameter(document: Document, name: str, new: str) -> Document:
    """Give a parameter another name; settings, conditions, templates and other parameters follow.

    Raises
    ------
    DocumentError : the name is empty or taken.
    """
    clean = clean_name(new, keep_case=True)
    if not clean:
        raise DocumentError(f"'{new}' leaves no name", way_out="Use letters or digits")
    if clean != name and any(p.name == clean for p in document.parameters):
        raise DocumentError(f"there is a parameter '{clean}' already", way_out="Choose another name")
    in_text = re.compile(rf"(?<=\$){re.escape(name)}(?!\w)|(?<=\{{){re.escape(name)}(?=\}})")

    def put(value: Any) -> Any:
        if value == {"parameter": name}:
            return {"parameter": clean}
        return in_text.sub(clean, value) if isinstance(value, str) else value

    def follow(p: Parameter) -> Parameter:
        by, of = p.enabled_by, p.choices_from
        if by is not None and by.parameter == name:
            by = replace(by, parameter=clean)
        if of is not None:
            of = replace(of, layer=put(of.layer), field=put(of.field), where=put(of.where))
        return replace(p, name=clean if p.name == name else p.name, enabled_by=by, choices_from=of)

    def moved(path: Path_) -> Path_:
        return ("parameters", clean, *path[2:]) if path[:2] == ("parameters", name) else path

    old = document.comments
    comments = Comments({moved(p): c for p, c in old.before.items()}, {moved(p): c for p, c in old.behind.items()}, old.end)
    steps = tuple(replace(_with_values(s, put), source=tuple(map(put, s.source))) for s in document.steps)
    return replace(document, parameters=tuple(map(follow, document.parameters)), steps=steps, comments=comments)


def uses_of(document: Document, name: str) -> list[tuple[str, str]]:
    """Where a parameter is used: step and setting, in the order of the steps; of another parameter without a step."""
    in_text = re.compile(rf"\${re.escape(name)}(?!\w)|\{{{re.escape(name)}\}}")

    def holds(value: Any) -> bool:
        if isinstance(value, Mapping):
            return value == {"parameter": name} or any(map(holds, value.values()))
        if isinstance(value, list | tuple):
            return any(map(holds, value))
        return isinstance(value, str) and in_text.search(value) is not None

    out = [
        ("", p.name)
        for p in document.parameters
        if (p.enabled_by is not None and p.enabled_by.parameter == name)
        or (p.choices_from is not None and any(map(holds, (p.choices_from.layer, p.choices_from.field, p.choices_from.where))))
    ]
    for step in document.steps:
        tables = (step.settings, *step.layer.values())
        found = [k for t in tables for k, v in t.items() if holds(v)]
        out += [(step.id, k) for k in dict.fromkeys(["from"] * holds(step.source) + found)]
    return out


def _with_values(step: Step, put: Callable[[Any], Any]) -> Step:
    """The step with every value of its settings, at any depth, put through a function."""

    def deep(value: Any) -> Any:
        new = put(value)
        if new is not value and new != value:
            return new
        if isinstance(value, Mapping):
            return {k: deep(v) for k, v in value.items()}
        return [deep(v) for v in value] if isinstance(value, list | tuple) else value

    return replace(step, settings=deep(step.settings), layer={k: deep(v) for k, v in step.layer.items()})
