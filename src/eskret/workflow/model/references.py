"""References: ``step``, ``step:key`` or ``step:pattern``; what they name, and the order steps need."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from graphlib import CycleError, TopologicalSorter
from typing import Any, Protocol, TypeVar

from eskret.core.layer import Layer, LayerFacts, matches
from eskret.core.naming import number_collisions
from eskret.core.words import did_you_mean
from eskret.errors import DocumentError, EskretError
from eskret.operations.registry import operation_by_id
from eskret.operations.sentences import join_words
from eskret.operations.settings import layer_settings, layer_tables
from eskret.workflow.cache.cached_layer import LayerHandle
from eskret.workflow.model.document import Document, Step

T = TypeVar("T", Layer, LayerFacts, LayerHandle)


class _Named(Protocol):
    @property
    def key(self) -> str: ...
    @property
    def own_name(self) -> str: ...


@dataclass(frozen=True, slots=True)
class Reference:
    """A step, and a pattern for the keys of the layers that are meant."""

    step: str
    pattern: str = "*"

    @classmethod
    def parse(cls, text: str) -> Reference:
        step, colon, pattern = text.partition(":")
        return cls(step.strip(), pattern.strip() if colon else "*")

    def means(self, layer: _Named) -> bool:
        """Whether a layer of its step is meant, by its key or by the name that it came with."""
        return matches(self.pattern, layer.key) or (self.pattern != "*" and matches(self.pattern, layer.own_name))

    def __str__(self) -> str:
        return self.step if self.pattern == "*" else f"{self.step}:{self.pattern}"


def sources_of(step: Step) -> list[Reference]:
    """Everything a step takes from: what enters it, the layers that its settings name, and what its rounds are of. What a
    parameter names is left out."""
    rounds = [step.each.of] if step.each is not None else []
    return [Reference.parse(t) for t in (*step.source, *_in_settings(step), *rounds) if not t.startswith("$")]


def reference_settings(step: Step) -> tuple[str, ...]:
    """The settings of a step that name layers of other steps."""
    return _settings_of(step, layer_settings)


def reference_tables(step: Step) -> tuple[str, ...]:
    """The settings of a step that name layers of other steps by names of their own."""
    return _settings_of(step, layer_tables)


def _settings_of(step: Step, which: Callable[[Any], tuple[str, ...]]) -> tuple[str, ...]:
    try:
        return which(operation_by_id(step.use).Settings)
    except EskretError:
        return ()


def _named_in(step: Step, settings: Mapping[str, object]) -> dict[str, str]:
    """The references in a table of settings, by setting; ``layers.beds`` in a setting that is a table of them."""
    found = {n: settings.get(n) for n in reference_settings(step)}
    for name in reference_tables(step):
        table = settings.get(name)
        if isinstance(table, Mapping):
            found.update({f"{name}.{k}": v for k, v in table.items()})
    return {k: v for k, v in found.items() if isinstance(v, str) and v.strip()}


def _in_settings(step: Step) -> list[str]:
    given = [v for tables in (step.settings, *step.layer.values()) for v in _named_in(step, tables).values()]
    return list(dict.fromkeys(given))


def with_references(step: Step, follow: Callable[[str], str | None]) -> Step:
    """The step with every reference put through ``follow``; one that comes back as None is taken out."""
    names, tables = reference_settings(step), reference_tables(step)

    def table(values: Mapping[str, Any]) -> dict[str, Any]:
        out: dict[str, Any] = {}
        for k, v in values.items():
            if k in names and isinstance(v, str):
                v = follow(v)
            elif k in tables and isinstance(v, Mapping):
                v = {n: new for n, r in v.items() if (new := follow(r) if isinstance(r, str) else r) is not None}
            if v is not None:
                out[k] = v
        return out

    source = tuple(r for r in map(follow, step.source) if r is not None)
    each = step.each
    if each is not None:
        of = follow(each.of)
        each = None if of is None else replace(each, of=of)
    layer = {k: table(v) for k, v in step.layer.items()}
    return replace(step, source=source, settings=table(step.settings), layer=layer, each=each)


def others_of(step: Step, key: str | None, made: Mapping[str, Sequence[T]]) -> tuple[dict[str, tuple[T, ...]], list[tuple[str, str]]]:
    """The layers that a step's settings name, by setting, for one layer of its set (or for the set); and the
    references among them that name nothing, with their setting."""
    own = step.layer.get(key, {}) if key is not None else {}
    found: dict[str, tuple[T, ...]] = {}
    empty: list[tuple[str, str]] = []
    for name, text in _named_in(step, {**step.settings, **own}).items():
        reference = Reference.parse(text)
        found[name] = tuple(x for x in made.get(reference.step, ()) if reference.means(x))
        if not found[name]:
            empty.append((name, text))
    return found, empty


def order_of(document: Document, given: Iterable[str] = ()) -> list[str]:
    """Ids of all steps so that each comes after those it takes from; else in the document's order.

    Parameters
    ----------
    given : ids of steps that are not in the document, since their layers are there already.

    Raises
    ------
    DocumentError : a reference to no step, or a loop.
    """
    ids, there = {s.id for s in document.steps}, set(given)
    graph: dict[str, list[str]] = {}
    for step in document.steps:
        graph[step.id] = []
        for reference in sources_of(step):
            if reference.step in there:
                continue
            if reference.step not in ids:
                raise DocumentError(
                    f"it takes from '{reference.step}', and there is no such step",
                    place=f"step '{step.id}'",
                    step=step.id,
                    way_out=f"There are {', '.join(sorted(ids - {step.id})) or 'no others'}",
                )
            graph[step.id].append(reference.step)
    try:
        sorter = TopologicalSorter(graph)
        sorter.prepare()
    except CycleError as error:
        loop = " to ".join(f"'{n}'" for n in error.args[1])
        raise DocumentError(f"the steps go in a loop: {loop}", way_out="Let one of them take from an earlier step") from error
    place = {s.id: i for i, s in enumerate(document.steps)}
    out: list[str] = []
    while sorter.is_active():
        ready = sorted(sorter.get_ready(), key=place.__getitem__)
        out.extend(ready)
        sorter.done(*ready)
    return out


def bound(document: Document, values: Mapping[str, object]) -> Document:
    """The document with the layers that parameters name put in: ``from = "$beds"``, and settings that name layers.

    Raises
    ------
    DocumentError : no such parameter, or it names no layer.
    """

    steps = []
    for step in document.steps:
        try:
            steps.append(bound_step(step, values))
        except DocumentError as error:
            error.step = step.id
            raise error.at(f"step '{step.id}'") from error
    return replace(document, steps=tuple(steps))


def bound_step(step: Step, values: Mapping[str, Any]) -> Step:
    """A step with the layers that parameters name put in; what only its rounds will tell stays.

    Raises
    ------
    DocumentError : as ``bound``.
    """
    names, tables = reference_settings(step), reference_tables(step)
    later = step.each is not None

    def put(value: Any) -> Any:
        if isinstance(value, Mapping) and set(value) == {"parameter"}:
            value = f"${value['parameter']}"
        if not isinstance(value, str) or not value.startswith("$") or (later and value[1:] not in values):
            return value
        return _named(value[1:], values)

    def table(settings: Mapping[str, Any]) -> dict[str, Any]:
        out = {k: put(v) if k in names else v for k, v in settings.items()}
        for name in tables:
            if isinstance(out.get(name), Mapping):
                out[name] = {k: put(v) for k, v in out[name].items()}
        return out

    each = None if step.each is None else replace(step.each, of=put(step.each.of))
    layer = {k: table(v) for k, v in step.layer.items()}
    return replace(step, source=tuple(map(put, step.source)), settings=table(step.settings), layer=layer, each=each)


def _named(name: str, values: Mapping[str, object]) -> str:
    if name not in values:
        raise DocumentError(f"there is no parameter '{name}'", way_out=f"There are {', '.join(values) or 'none'}")
    if not str(values[name]).strip():
        raise DocumentError(f"parameter '{name}' names no layer yet", way_out="Give it one")
    return str(values[name])


def resolve(step: Step, made: Mapping[str, Sequence[T]]) -> tuple[list[T], list[str]]:
    """The layers that enter a step, each once, keys made unique, and the references that name nothing."""
    found: list[T] = []
    there: set[int] = set()
    empty: list[str] = []
    for reference in map(Reference.parse, step.source):
        hits = [layer for layer in made.get(reference.step, ()) if reference.means(layer) or getattr(layer, "open_key", False)]
        if not hits:
            empty.append(str(reference))
        found.extend(h for h in hits if id(h) not in there)
        there.update(map(id, hits))
    keys = number_collisions([layer.key for layer in found], limit=10_000)
    return [_numbered(layer, key) for layer, key in zip(found, keys, strict=True)], empty


def _numbered(layer: T, key: str) -> T:
    unnumbered = "" if layer.key == key else layer.key
    if not unnumbered and not layer.unnumbered:
        return layer
    return replace(layer, key=key, unnumbered=unnumbered)


def names_nothing(text: str, made: Mapping[str, Sequence[_Named]]) -> str:
    """What to say of a reference that names no layer: what its step has, and the nearest of these."""
    reference = Reference.parse(text)
    there = list(dict.fromkeys(layer.own_name for layer in made.get(reference.step, ())))
    says = f"'{text}' names no layer that is there at this point."
    if not there:
        return f"{says} '{reference.step}' leaves none."
    hint = did_you_mean(reference.pattern, there, shown=f"'{reference.step}:{{}}'")
    return f"{says}{hint and ' '}{hint} '{reference.step}' has {join_words(there, 8)}."


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
                raise DocumentError(f"there is no parameter '{name}'", way_out=f"There are {', '.join(values) or 'none'}")
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
