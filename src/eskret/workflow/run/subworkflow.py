"""A workflow used as an operation: its parameters are the settings, what it marks as its result is the set that leaves."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark, Role
from eskret.core.layer import Layer
from eskret.core.measure.totals import totals_of
from eskret.core.naming import number_collisions
from eskret.core.words import bold, pluralise
from eskret.errors import CheckError, DocumentError, EskretError
from eskret.operations.base import Context, Delivery, Finding, Forecast, Level, Outcome, Phase, Source
from eskret.operations.registry import OWN, operation_by_id, project
from eskret.operations.settings import OperationSettings, setting, validate
from eskret.user_operations.trust import code_in
from eskret.workflow.cache.result_cache import cache_at_work
from eskret.workflow.model import document as documents
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.parameters import value_words
from eskret.workflow.model.references import Reference, bound, settings_for, sources_of
from eskret.workflow.run.engine import Run
from eskret.workflow.run.rehearsal import rehearse
from eskret.workflow.run.step import FAILED

GIVEN = "given_"
"""What the layers that are given to a parameter are called inside, before its name."""


class UseWorkflow(Source):
    """Use another workflow as one step.

    Its parameters are the settings here, those that are layers included; what it marks as its result leaves this step, in
    memory. Where nothing is marked, that is what it would save. Files are not written and nothing is published by it. With
    rounds it is done once a layer, once a value or once a row of a table.
    """

    id = "workflow"
    only_figures = False  # it may save
    title = "Use a workflow"
    phase = Phase.GATHER
    menu_order = 90
    relation = Relation.NEW
    also_known_as = (
        "nested",
        "inside another workflow",
        "run another workflow",
        "subroutine",
        "reuse steps",
        "chain of steps",
        "repeat",
        "for each",
        "for each value",
        "repeat for each district",
        "batch",
        "loop",
    )

    class Settings(OperationSettings):
        file: str = setting(
            "Workflow",
            kind="workflow",
            example="district.toml",
            min_length=1,
            help="The file of the workflow to use. It stays as it is; its parameters are filled in below.",
        )
        values: dict[str, Any] = setting(
            "Its parameters", kind="values", default={}, help="A value for each parameter; the rest have the file's."
        )
        layers: dict[str, str] = setting(
            "Its layers",
            kind="layers",
            default={},
            help="For each parameter that is a layer: a layer of this workflow to use in its place.",
        )

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        file = str(settings.get("file") or "…")
        given = {**settings.get("values", {}), **settings.get("layers", {})}
        shown = [f"{k} {_shown(v)}" for k, v in list(given.items())[:3]]
        return f"Use {bold(Path(file).name)}{' with ' + ', '.join(shown) if shown else ''}"

    def forecast(self, settings: Settings, context: Context) -> Forecast:
        path, document = inner_of(settings.file, context)
        given = {GIVEN + n: context.other_facts(f"layers.{n}") for n in settings.layers}
        found = rehearse(
            without_deliveries(document),
            _values(document, settings),
            workflow=path,
            watch=context.watch,
            given=given,
            chain=(*context.chain, path),
        )
        findings = [
            Finding(f.level, f"{path.name}{', step ' + repr(f.step) if f.step else ''}: {f.text}", setting=_setting_of(f.setting))
            for f in found.findings
            if f.level is not Level.NOTE
        ]
        steps = result_steps(document)
        leaving = [(f, patterns) for id, patterns in steps.items() if id in found.steps for f in found.steps[id].leaving]
        known = all(id in found.steps and found.steps[id].known for id in steps)
        kept = [f for f, patterns in leaving if any(Reference("", p).means(f) for p in patterns)]
        keys = number_collisions([f.key for f in kept], limit=10_000)
        facts = tuple(replace(f, key=k, peek=None) for f, k in zip(kept, keys, strict=True))
        return Forecast(facts, tuple(findings), known=known or bool(found.errors), unapproved=found.unapproved)

    def reads(self, settings: Settings, context: Context) -> Sequence[Path] | None:
        path, document = inner_of(settings.file, context)
        inner = without_deliveries(document)
        values = inner.values(_values(document, settings))
        chain, out = (*context.chain, path), [path]
        with project(path.parent):
            for step in bound(inner, values).steps:
                if step.off:
                    continue
                operation = operation_by_id(step.use)
                try:
                    own = validate(operation.Settings, settings_for(step, None, values))
                except EskretError:
                    return None  # it hangs on the round, or on a layer's own settings
                there = Context(path.parent, step.id, values, crs=inner.crs or None, chain=chain)
                files = operation.reads(own, there)
                if files is None:
                    return None
                out += files
                if step.use.startswith(OWN):
                    out += code_in(path.parent)
        return out

    def parts(self, settings: Settings, context: Context) -> Sequence[None]:
        return [None]

    def read(self, part: None, settings: Settings, context: Context) -> Sequence[Outcome]:
        path, document = inner_of(settings.file, context)
        given = {GIVEN + n: context.other_layers(f"layers.{n}") for n in settings.layers}
        run = Run(
            without_deliveries(document),
            _values(document, settings),
            workflow=path,
            hold=True,
            write_nothing=True,
            given=given,
            chain=(*context.chain, path),
            on_event=lambda event: context.watch(0, 0),
            result_cache=cache_at_work(),
        )
        result = run.execute()
        if result.unmet:
            raise CheckError(f"{path.name}: {result.error}")
        if result.state == FAILED or result.error:
            raise EskretError(f"{path.name}: {result.error}")
        kept: list[Layer] = []
        for id, patterns in result_steps(document).items():
            kept += [x for x in result.layers.get(id, ()) if any(Reference("", p).means(x) for p in patterns)]
        keys = number_collisions([x.key for x in kept], limit=10_000)
        layers = tuple(x if x.key == k else x.with_key(k) for x, k in zip(kept, keys, strict=True))
        inputs = tuple(InputAccount(Role.FILES, x.key, len(x)) for name in settings.layers for x in context.other_layers(f"layers.{name}"))
        outputs = tuple(OutputAccount(x.key, len(x), totals_of(x, context.totals)) for x in layers)
        return [Outcome(layers, inputs, outputs, None, tuple(_told(result)), relation=Relation.REPORT)]


def _told(result: Any) -> list[Remark]:
    """What the inner ledger has to say: what was set aside and what asks for a look, by step."""
    steps = [s for s in result.steps if s.use]
    out = [Remark(f"{pluralise(len(steps), 'step')} of '{result.title}' balanced")]
    for step in steps:
        aside: dict[str, int] = {}
        for account in step.inputs:
            if account.first:
                for reason, rows in account.set_aside.counts():
                    aside[reason] = aside.get(reason, 0) + rows
        out += [Remark(f"{step.id}: {rows:,} set aside, {reason}") for reason, rows in aside.items()]
        out += [Remark(f"{step.id}: {r.text}", look=True) for r in step.remarks if r.look]
    return out


def inner_of(file: str, context: Context) -> tuple[Path, Document]:
    """The file of a workflow that is used, and the document in it.

    Raises
    ------
    DocumentError : it is not there, no workflow, or uses the one that uses it.
    """
    path = context.path(context.fill(file)).resolve()
    if path in context.chain:
        names = [p.name for p in (*context.chain[context.chain.index(path) :], path)]
        raise DocumentError(f"the workflows use each other in a loop: {' to '.join(names)}", way_out="Let one of them do without")
    return path, documents.read(path)


def _values(document: Document, settings: Any) -> dict[str, Any]:
    known = {p.name: p for p in document.parameters}
    for name in settings.layers:
        if name in known and known[name].type != "layer":
            raise DocumentError(f"parameter '{known[name].title}' is no layer", way_out="Give its value among its parameters instead")
    return {**settings.values, **{n: GIVEN + n for n in settings.layers}}


def _setting_of(inner: str) -> str:
    return "values" if inner.startswith("parameter.") else "file"


def _shown(value: object) -> str:
    return f"${value['parameter']}" if isinstance(value, Mapping) and set(value) == {"parameter"} else value_words(value)


def _delivers(step: Step) -> bool:
    try:
        return isinstance(operation_by_id(step.use), Delivery)
    except EskretError:
        return False


def without_deliveries(document: Document) -> Document:
    """The document with everything that writes or publishes switched off."""
    steps = tuple(replace(s, off=True) if _delivers(s) else s for s in document.steps)
    return replace(document, steps=steps)


def result_steps(document: Document) -> dict[str, list[str]]:
    """The steps whose layers a workflow gives when it is used by another, with patterns of their keys: those marked; else
    what enters its deliveries; else what leaves its last steps."""
    marked = {s.id: ["*"] for s in document.steps if s.result}
    if marked:
        return marked
    out: dict[str, list[str]] = {}
    for step in document.steps:
        if _delivers(step) and not step.off:
            for reference in map(Reference.parse, step.source):
                out.setdefault(reference.step, []).append(reference.pattern)
    if out:
        return out
    taken = {r.step for s in document.steps for r in sources_of(s)}
    return {s.id: ["*"] for s in document.steps if s.id not in taken and not s.off}
