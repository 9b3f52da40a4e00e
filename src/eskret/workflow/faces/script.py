"""A workflow as a Python script that rebuilds it, to the byte."""

from __future__ import annotations

import datetime as dt
import keyword
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from eskret.core.naming import AS_TYPED, number_collisions
from eskret.operations.registry import all_operations, operation_by_id
from eskret.operations.settings import wrongly_said
from eskret.workflow.model.canonical import HEADS
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.parameters import Parameter
from eskret.workflow.model.references import Reference, order_of, reference_settings, reference_tables

_OWN = ("workflow", "sys", "datetime", "Workflow", "eskret")


@dataclass(frozen=True)
class Scripted:
    """A document as Python. ``places`` gives the first and the last line (from 1) of each step's call."""

    text: str
    places: Mapping[str, tuple[int, int]]


def to_script(document: Document, file: str) -> str:
    """Python that builds this document and writes it.

    Parameters
    ----------
    file : the name the script writes to when it is run without one.
    """
    return scripted(document, file).text


def scripted(document: Document, file: str) -> Scripted:
    """Python that builds this document and writes it, and where each step stands in it.

    Raises
    ------
    DocumentError : a step takes from one that is not there.
    """
    order_of(document)  # a script cannot name a step that is not there
    taken = [*_OWN, *keyword.kwlist]
    ids = number_collisions([_variable(s.id) for s in document.steps], limit=200, taken=taken)
    steps = {s.id: v for s, v in zip(document.steps, ids, strict=True)}
    names = number_collisions([_variable(p.name) for p in document.parameters], limit=200, taken=[*taken, *ids])
    parameters = {p.name: v for p, v in zip(document.parameters, names, strict=True)}
    body = [_opening(document)]
    body += [_parameter(p, parameters[p.name]) for p in document.parameters]
    built: set[str] = set()
    inside: dict[str, tuple[int, int]] = {}
    for step in document.steps:
        if step.heading:
            body.append(f"\n# {_printable(step.heading)}\n")
        call = _step(step, steps, parameters, built)
        before = sum(part.count("\n") for part in body)
        inside[step.id] = (before + 1, before + call.count("\n"))
        body.append(call)
        built.add(step.id)
    if document.map:
        layers = _value([x.to_table() for x in document.map.layers], {})
        body.append(f"\nworkflow.map({layers}, {document.map.lines!r})\n")
    body += _comments(document)
    text = "".join(body)
    imports = "import sys\n" + ("import datetime\n" if "datetime." in text else "")
    head = f'"""{_docstring(document)}"""\n\n{_sorted(imports)}\nfrom eskret import Workflow\n\n'
    above = head.count("\n")
    return Scripted(
        f"{head}{text}\nworkflow.write(sys.argv[1] if len(sys.argv) > 1 else {file!r})\n",
        {id: (above + first, above + last) for id, (first, last) in inside.items()},
    )


def _sorted(imports: str) -> str:
    return "".join(sorted(imports.splitlines(keepends=True)))


def _docstring(document: Document) -> str:
    text = _printable(document.title) or "A workflow."
    return text.replace("\\", "\\\\").replace('"""', "'''").rstrip('"')


def _printable(text: str) -> str:
    return "".join(c for c in " ".join(text.split()) if c.isprintable())


def _variable(name: str) -> str:
    """A name that Python takes; a step may begin with a digit."""
    return name if name.isidentifier() else f"step_{name}" if f"step_{name}".isidentifier() else "step"


def _opening(document: Document) -> str:
    heads = {k: getattr(document, k) for k in HEADS}
    # a workflow built in Python leaves names as they are, where it says nothing else
    heads["names"] = "" if document.names == AS_TYPED else document.names
    given = [f"{k}={_value(v, {})}" for k, v in heads.items() if v or (k == "names" and not document.names)]
    return _call("workflow", "Workflow", given)


def _parameter(parameter: Parameter, variable: str) -> str:
    given = [repr(parameter.name)]
    given += [f"{key}={_value(value, {})}" for key, value in parameter.to_table().items()]
    return _call(variable, "workflow.parameter", given)


def _step(step: Step, steps: Mapping[str, str], parameters: Mapping[str, str], built: set[str]) -> str:
    given = [repr(step.id)]
    sources = [_reference(r, steps, built) for r in step.source]
    if len(sources) == 1:
        given.append(sources[0])
    elif sources:
        given.append("[" + ", ".join(sources) + "]")
    others, tables = reference_settings(step), reference_tables(step)

    def value(name: str, given: Any) -> str:
        if name in others and isinstance(given, str):
            return _reference(given, steps, built)
        if name in tables and isinstance(given, Mapping):
            inner = (
                f"{str(k)!r}: {_reference(v, steps, built) if isinstance(v, str) else _value(v, parameters)}" for k, v in given.items()
            )
            return "{" + ", ".join(inner) + "}"
        return _value(given, parameters)

    settings: dict[str, Any] = dict(step.settings)
    extra = {"heading": step.heading, "off": step.off, "note": step.note, "layer": dict(step.layer)}
    extra["style"] = {key: style.to_table() for key, style in step.style.items()}
    extra |= {"each": step.each.to_table() if step.each is not None else {}, "result": step.result}
    # one name that Python does not take as a word, and all go in as a table: their order is the file's
    if all(k.isidentifier() and k.isascii() and not keyword.iskeyword(k) and k not in extra for k in settings):
        given += [f"{k}={value(k, v)}" for k, v in settings.items()]
    else:
        given.append(f"**{_value(settings, parameters)}")
    given += [f"{k}={_value(v, parameters)}" for k, v in extra.items() if v]
    known = step.use in all_operations() and not wrongly_said(operation_by_id(step.use).Settings, step.settings)
    # a method refuses what cannot be; a step that is not right yet is built all the same
    method = f"workflow.{step.use}" if known else "workflow.step"
    if method == "workflow.step":
        given.insert(0, repr(step.use))
    return _call(steps[step.id], method, given)


def _reference(text: str, steps: Mapping[str, str], built: set[str]) -> str:
    reference = Reference.parse(text)
    if str(reference) != text or reference.step not in built:
        return repr(text)
    name = steps[reference.step]
    return name if reference.pattern == "*" else f"{name}[{reference.pattern!r}]"


def _value(value: object, parameters: Mapping[str, str]) -> str:
    if isinstance(value, Mapping):
        if set(value) == {"parameter"} and value["parameter"] in parameters:
            return parameters[value["parameter"]]
        return "{" + ", ".join(f"{str(k)!r}: {_value(v, parameters)}" for k, v in value.items()) + "}"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(_value(v, parameters) for v in value) + "]"
    if isinstance(value, dt.date | dt.time):
        return repr(value)
    if isinstance(value, str):
        return repr(str(value))
    return repr(value)


def _comments(document: Document) -> list[str]:
    """Comments of the file, told to the builder, since the script's own are its own."""
    notes = document.comments
    out = []
    for path in dict.fromkeys([*notes.before, *notes.behind]):
        given = [repr(path)]
        if path in notes.before:
            given.append(f"before={list(notes.before[path])!r}")
        if path in notes.behind:
            given.append(f"behind={notes.behind[path]!r}")
        out.append(f"workflow.comment({', '.join(given)})\n")
    if notes.end:
        out.append(f"workflow.comment((), before={list(notes.end)!r})\n")
    return ["\n", *out] if out else []


def _call(variable: str, function: str, given: list[str]) -> str:
    flat = f"{variable} = {function}({', '.join(given)})\n"
    if len(flat) <= 110:
        return flat
    return f"{variable} = {function}(\n" + "".join(f"    {g},\n" for g in given) + ")\n"
