"""Choices that a parameter takes from a layer: what there is to choose, and whether a value is among it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.expression import parse_condition, truth
from eskret.core.layer import LayerFacts
from eskret.errors import DocumentError, EskretError
from eskret.operations.base import Finding, Source
from eskret.operations.registry import operation_by_id, project
from eskret.operations.sentences import join_words as in_list
from eskret.operations.settings import validate
from eskret.workflow.model.contexts import context_of
from eskret.workflow.model.document import Document
from eskret.workflow.model.edits import uses_of
from eskret.workflow.model.parameters import ChoicesFrom, Parameter, enabled, value_words
from eskret.workflow.model.references import Reference, settings_for

MOST = 5_000
"""More values than anybody chooses from."""


@dataclass(frozen=True)
class Offer:
    """What a form offers for a parameter: its choices (None where any value will do), whether it counts now, and why not or
    what is wrong."""

    choices: tuple[Any, ...] | None = None
    enabled: bool = True
    why: str = ""
    problem: str = ""


def check(document: Document) -> list[Finding]:
    """What is wrong with how parameters hang on each other and on layers, whatever their values."""
    known = {p.name: p for p in document.parameters}
    out = []
    for parameter in document.parameters:
        for problem in (_by_problem(parameter, known), _from_problem(parameter, document)):
            if problem:
                out.append(_finding(parameter, problem))
    return out


def _finding(parameter: Parameter, problem: str) -> Finding:
    return Finding.error(f"Parameter '{parameter.title}': {problem}", f"parameter.{parameter.name}")


def _by_problem(parameter: Parameter, known: Mapping[str, Parameter]) -> str:
    seen, by = [parameter.name], parameter.enabled_by
    while by is not None:
        if by.parameter not in known:
            return f"it hangs on '{by.parameter}', and there is no such parameter."
        if by.parameter in seen:
            return "it hangs on itself, by way of others." if len(seen) > 1 else "it hangs on itself."
        seen.append(by.parameter)
        by = known[by.parameter].enabled_by
    return ""


def _from_problem(parameter: Parameter, document: Document) -> str:
    of = parameter.choices_from
    if of is None:
        return ""
    by_name = {p.name: p for p in document.parameters}
    if of.layer.startswith("$"):
        by = by_name.get(of.layer[1:])
        if by is None:
            return f"its choices are of parameter '{of.layer[1:]}', and there is no such parameter."
        if by.type != "layer":
            return f"its choices are of parameter '{by.name}', which is no layer."
        if by.default == "":
            return ""  # which layer is known once it has a value
        id = Reference.parse(str(by.default)).step
    else:
        id = Reference.parse(of.layer).step
    step = next((s for s in document.steps if s.id == id), None)
    if step is None:
        return f"its choices are of step '{id}', and there is no such step."
    try:
        source = isinstance(operation_by_id(step.use), Source)
    except EskretError:
        source = False
    if not source:
        return f"its choices are of step '{id}', which does not load layers. Take them from one that does."
    if any(s == id for s, _ in uses_of(document, parameter.name)):
        return f"its choices are of step '{id}', which itself uses the parameter. Load what there is to choose from in a step of its own."
    return ""


def choices_in(of: ChoicesFrom, made: Mapping[str, Sequence[LayerFacts]], values: Mapping[str, object]) -> list[object]:
    """The values to choose from, sorted, each once, from what a rehearsal knows of the layers.

    Raises
    ------
    EskretError : the layer or the field is not there, or the condition is wrong.
    """
    of = of.given(values)
    reference = Reference.parse(of.layer)
    layers = [f for f in made.get(reference.step, ()) if reference.means(f)]
    if not layers:
        raise DocumentError(f"'{of.layer}' names no layer that is there")
    if not of.field:
        return list(dict.fromkeys(n for f in layers for n in f.names()))
    found: list[Any] = []
    for facts in layers:
        if of.field not in facts.names():
            raise DocumentError(f"{facts.key} has no field '{of.field}'", way_out=f"It has {', '.join(facts.names())}")
        table = facts.values([of.field, *(n for n in facts.names() if of.where and n != of.field)])
        if table is None:
            raise DocumentError(f"the values of '{of.field}' are known only once it ran")
        if of.where:
            condition = parse_condition(of.where, table.schema, values)
            table = table.filter(pa.array(truth(condition, table, values)[0]))
        found += pc.unique(table.column(of.field).combine_chunks()).to_pylist()
    once = dict.fromkeys(v for v in found if v is not None and v != "")
    return sorted(once, key=lambda v: (isinstance(v, str), v))[:MOST]


def findings_of(document: Document, made: Mapping[str, Sequence[LayerFacts]], values: Mapping[str, object]) -> list[Finding]:
    """Parameters whose value is not among the choices that their layer offers."""
    out = []
    for parameter in document.parameters:
        of = parameter.choices_from
        if of is None or not enabled(document.parameters, parameter.name, values):
            continue
        try:
            of = of.given(values)
            if not made.get(Reference.parse(of.layer).step):
                continue
            parameter.accept_among(values[parameter.name], choices_in(of, made, values))
        except DocumentError as error:
            text = error.sentence() if error.place else _finding(parameter, error.sentence()).text
            out.append(Finding.error(_capital(text), f"parameter.{parameter.name}"))
        except EskretError as error:
            out.append(_finding(parameter, error.sentence()))
    return out


def foretell_alone(document: Document, id: str, values: Mapping[str, object], folder: Path) -> tuple[LayerFacts, ...]:
    """The facts of the layers that a step which loads will leave, without looking at any other step.

    Raises
    ------
    EskretError : it cannot load them.
    """
    step = next((s for s in document.steps if s.id == id), None)
    if step is None:
        raise DocumentError(f"there is no step '{id}'", way_out=f"There are {in_list([s.id for s in document.steps], 8)}")
    operation = operation_by_id(step.use)
    if not isinstance(operation, Source):
        raise DocumentError("it does not load layers", place=f"step '{id}'", step=id, way_out="Take choices from one that does")
    given = {p.name: values[p.name] for p in document.parameters}
    context = context_of(document, id, given, folder)
    settings = settings_for(step, None, given)
    return operation.forecast(validate(operation.Settings, settings), context).layers


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def offers(document: Document, values: Mapping[str, object], folder: Path) -> dict[str, Offer]:
    """What a form offers for every parameter, with these values of the others, by name. Reads only what choices need."""
    with project(folder):
        return _offers(document, values, folder)


def _offers(document: Document, values: Mapping[str, object], folder: Path) -> dict[str, Offer]:
    settled = {p.name: _or_default(p, values) for p in document.parameters}
    known = {p.name: p for p in document.parameters}
    broken = {f.setting.removeprefix("parameter."): f.text for f in check(document)}
    made: dict[str, Sequence[LayerFacts]] = {}
    out = {}
    for parameter in document.parameters:
        by = parameter.enabled_by
        on = enabled(document.parameters, parameter.name, settled)
        why = by.words(known[by.parameter].title) if by is not None and by.parameter in known else ""
        problem = broken.get(parameter.name, "")
        choices: tuple[Any, ...] | None = parameter.choices or None
        if parameter.choices_from is not None and not problem:
            try:
                of = parameter.choices_from.given(settled)
                id = Reference.parse(of.layer).step
                if id not in made:
                    made[id] = foretell_alone(document, id, settled, folder)
                choices = tuple(choices_in(of, made, settled))
            except EskretError as error:
                problem = error.sentence()
        out[parameter.name] = Offer(choices, on, why, problem)
    return out


def _or_default(parameter: Parameter, values: Mapping[str, object]) -> object:
    try:
        return parameter.accept(values.get(parameter.name, parameter.default))
    except DocumentError:
        return parameter.default


def row_words(values: Mapping[str, object]) -> str:
    """Values of parameters in one line: ``district North, year 2031``."""
    return ", ".join(f"{n} {value_words(v)}" for n, v in values.items())
