"""References: ``step``, ``step:key`` or ``step:pattern``; what they name, and the order steps need."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from graphlib import CycleError, TopologicalSorter
from typing import Any, TypeVar

from eskret.core.layer import Layer, LayerFacts, matches
from eskret.core.naming import number_collisions
from eskret.errors import DocumentError
from eskret.workflow.document import Document, Step

T = TypeVar("T", Layer, LayerFacts)


@dataclass(frozen=True, slots=True)
class Reference:
    """A step, and a pattern for the keys of the layers that are meant."""

    step: str
    pattern: str = "*"

    @classmethod
    def parse(cls, text: str) -> Reference:
        step, colon, pattern = text.partition(":")
        return cls(step.strip(), pattern.strip() if colon else "*")

    def __str__(self) -> str:
        return self.step if self.pattern == "*" else f"{self.step}:{self.pattern}"


def sources_of(step: Step) -> list[Reference]:
    """What enters a step, as it says."""
    return [Reference.parse(text) for text in step.source]


def order_of(document: Document) -> list[str]:
    """Ids of all steps so that each comes after those it takes from; else in the document's order.

    Raises
    ------
    DocumentError : a reference to no step, or a loop.
    """
    ids = {s.id for s in document.steps}
    graph: dict[str, list[str]] = {}
    for step in document.steps:
        graph[step.id] = []
        for reference in sources_of(step):
            if reference.step not in ids:
                raise DocumentError(
                    f"it takes from '{reference.step}', and there is no such step", place=f"step '{step.id}'",
                    way_out=f"There are {', '.join(sorted(ids - {step.id})) or 'no others'}",
                )  # fmt: skip
            graph[step.id].append(reference.step)
    try:
        sorter = TopologicalSorter(graph)
        sorter.prepare()
    except CycleError as error:
        loop = " to ".join(f"'{n}'" for n in error.args[1])
        raise DocumentError(
            f"the steps go in a loop: {loop}", way_out="Let one of them take from an earlier step"
        ) from error
    place = {s.id: i for i, s in enumerate(document.steps)}
    out: list[str] = []
    while sorter.is_active():
        ready = sorted(sorter.get_ready(), key=place.__getitem__)
        out.extend(ready)
        sorter.done(*ready)
    return out


def resolve(step: Step, made: Mapping[str, Sequence[T]]) -> tuple[list[T], list[str]]:
    """The layers that enter a step, each once, keys made unique, and the references that name nothing."""
    found: list[T] = []
    empty: list[str] = []
    for reference in sources_of(step):
        hits = [layer for layer in made.get(reference.step, ()) if matches(reference.pattern, layer.key)]
        if not hits:
            empty.append(str(reference))
        found.extend(h for h in hits if not any(h is f for f in found))
    keys = number_collisions([layer.key for layer in found], limit=10_000)
    return [
        layer if layer.key == key else replace(layer, key=key) for layer, key in zip(found, keys, strict=True)
    ], empty


def with_parameters(value: Any, values: Mapping[str, Any]) -> Any:
    """A setting's value with ``{ parameter = "name" }`` put in, at any depth.

    Raises
    ------
    DocumentError : no such parameter.
    """
    if isinstance(value, Mapping):
        if set(value) == {"parameter"}:
            name = value["parameter"]
            if name not in values:
                raise DocumentError(
                    f"there is no parameter '{name}'", way_out=f"There are {', '.join(values) or 'none'}"
                )
            return values[name]
        return {k: with_parameters(v, values) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [with_parameters(v, values) for v in value]
    return value


def settings_for(step: Step, key: str | None, values: Mapping[str, Any]) -> dict[str, Any]:
    """A step's settings for one layer (or for the set, without a key), parameters put in."""
    own = step.layer.get(key, {}) if key is not None else {}
    return {name: with_parameters(value, values) for name, value in {**step.settings, **own}.items()}


def dependents(document: Document, ids: Iterable[str]) -> set[str]:
    """Steps that take, directly or not, from any of these; these included."""
    out = set(ids)
    for id in order_of(document):
        if any(r.step in out for r in sources_of(document.step(id))):
            out.add(id)
    return out
