"""Changes to a document; each gives a new one and leaves the old as it was."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from eskret.core.naming import clean_name, number_collisions
from eskret.errors import DocumentError
from eskret.workflow.document import Comments, Document, Parameter, Path_, Step
from eskret.workflow.references import with_references


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
    comments = Comments(
        {moved(p): c for p, c in old.before.items()}, {moved(p): c for p, c in old.behind.items()}, old.end
    )
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
    if any(p.name == name for p in document.parameters):
        kept = tuple(replace(p, **changes) if p.name == name else p for p in document.parameters)
        return replace(document, parameters=kept)
    return replace(document, parameters=(*document.parameters, Parameter(name, **changes)))
