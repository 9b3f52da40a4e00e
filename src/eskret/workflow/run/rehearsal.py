"""Rehearse: check the whole chain and foretell its outputs from metadata, without reading a geometry or writing."""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from eskret.core.crs import parse_crs, same_crs
from eskret.core.layer import LayerFacts
from eskret.core.unforeseen import as_sentence
from eskret.core.words import byte_words
from eskret.errors import Action, Code, CrsError, DocumentError, EskretError, StoppedError
from eskret.operations.base import (
    Context,
    Delivery,
    EachLayer,
    Finding,
    Forecast,
    Gathering,
    Level,
    Operation,
    PlannedOutput,
    ServiceAccess,
    Source,
    has_errors,
)
from eskret.operations.registry import operation_by_id, project
from eskret.operations.settings import problems_of
from eskret.services.tokens import origin_of
from eskret.workflow.model import choices
from eskret.workflow.model.contexts import context_of
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.iteration import foretold_rounds, renamed
from eskret.workflow.model.references import (
    bound,
    bound_step,
    names_nothing,
    order_of,
    others_of,
    resolve,
    settings_for,
    sources_of,
    with_parameters,
)
from eskret.workflow.outputs.recovery import pending_elsewhere, recover
from eskret.workflow.outputs.transaction import LEFTOVER, OutputTransaction
from eskret.workflow.run.consent import may_replace, outside, stranger
from eskret.workflow.run.needs import A_FEATURE, Needs, leaves_in_chunks, weigh

OUTSIDE = "Say once that it may save there: in the window, or with --allow-outside"
_HEAVY = 5_000_000
"""Bytes of a layer from which on it is asked what a step needs for it."""
REACHES = "Say once that it may: in the window, or with --allow HOST"


@dataclass(frozen=True)
class StepForecast:
    """What a rehearsal found of one step: the facts that enter, those that leave, outputs; ``known`` is False where
    an earlier error leaves nothing to foretell from."""

    entering: tuple[LayerFacts, ...] = ()
    leaving: tuple[LayerFacts, ...] = ()
    outputs: tuple[PlannedOutput, ...] = ()
    known: bool = True


@dataclass(frozen=True)
class Rehearsal:
    """The whole of it. ``findings`` are in the order of the steps."""

    findings: tuple[Finding, ...] = ()
    steps: Mapping[str, StepForecast] = field(default_factory=dict)
    seconds: float = 0.0
    unapproved: tuple[ServiceAccess, ...] = ()
    """Services that it may not reach yet."""
    shared: tuple[Path, ...] = ()
    """Files that it may not replace yet, since they are not the user's alone."""

    @property
    def errors(self) -> list[Finding]:
        return [f for f in self.findings if f.level is Level.ERROR]

    @property
    def outputs(self) -> list[PlannedOutput]:
        return [o for s in self.steps.values() for o in s.outputs]

    def to_json(self) -> dict[str, Any]:
        return {
            "state": "errors" if self.errors else "ready",
            "seconds": round(self.seconds, 3),
            "findings": [f.to_json() for f in self.findings],
            "steps": [
                {
                    "id": id,
                    "leaving": [
                        {"layer": x.key, "features": x.count, "certainty": x.certainty, "geometry": x.kind, "crs": x.crs} for x in s.leaving
                    ],
                }
                for id, s in self.steps.items()
            ],
            "outputs": [{"path": str(o.path), "layer": o.layer, "action": o.action, "features": o.features} for o in self.outputs],
        }


def rehearse(
    document: Document,
    values: Mapping[str, Any] | None = None,
    *,
    workflow: Path | None = None,
    folder: Path | None = None,
    if_exists: str | None = None,
    watch: Callable[[int, int], None] | None = None,
    given: Mapping[str, Sequence[LayerFacts]] | None = None,
    chain: tuple[Path, ...] = (),
    transaction: OutputTransaction | None = None,
    records: Path | None = None,
) -> Rehearsal:
    """Rehearse a workflow.

    Parameters
    ----------
    values : for parameters; the rest take their defaults.
    workflow : its file, where it has one: outputs are remembered beside it.
    folder : where relative paths start; by default the file's folder.
    if_exists : overrules the steps' own choice.
    watch : called as (done, of) by steps; may raise StoppedError.
    given : facts of layers that are there before any step, by the id that references call them by.
    chain : the workflow files that are using this one, the outermost first.
    transaction : where outputs are settled, if several rehearsals are of one run.
    records : as an ``OutputTransaction`` has it, of a workflow not saved yet.
    """
    base = folder or (workflow.parent if workflow else Path.cwd())
    with project(base):
        return _rehearse(document, values, workflow, base, if_exists, watch, given, chain, transaction, records)


def _rehearse(
    document: Document,
    values: Mapping[str, Any] | None,
    workflow: Path | None,
    base: Path,
    if_exists: str | None,
    watch: Callable[[int, int], None] | None,
    given: Mapping[str, Sequence[LayerFacts]] | None,
    chain: tuple[Path, ...],
    transaction: OutputTransaction | None,
    records: Path | None,
) -> Rehearsal:
    started = time.perf_counter()
    findings: list[Finding] = []
    if not chain and transaction is None:  # whoever uses it as a step, or rehearses several rounds, has done it
        for one in recover(base, workflow):
            code = Code.NOT_RECOVERED if one.left else Code.RECOVERED
            findings += [Finding.look(text, code=code) for text in one.sentences()]
    chain = chain or ((workflow.resolve(),) if workflow is not None else ())
    try:
        settled = document.values(values)
        findings += choices.check(document)
        document = bound(document, settled)
        order = order_of(document, given or ())
        if document.crs:
            parse_crs(document.crs)
    except (DocumentError, CrsError) as error:
        finding = Finding.of(error)
        return Rehearsal((finding,), {}, time.perf_counter() - started)
    transaction = transaction or OutputTransaction(workflow, base, if_exists, records=records)
    made: dict[str, Sequence[LayerFacts]] = dict(given or {})
    steps: dict[str, StepForecast] = {}
    broken: set[str] = set()
    needs = Needs()
    unapproved: list[ServiceAccess] = []
    for id in order:
        step = document.step(id)
        blocked = any(r.step in broken for r in sources_of(step))
        if step.off:
            entering = tuple(resolve(step, made)[0])
            made[id] = entering
            steps[id] = StepForecast(entering, entering, known=not blocked)
            if blocked:
                broken.add(id)
            continue
        context = context_of(document, id, settled, base, transaction=transaction, chain=chain)
        if watch is not None:
            context = replace(context, watch=watch)
        # what a workflow asks that is used as a step, the one that uses it is asked for
        entered, forecast, more = _rounds(step, blocked, context, made, _Strange(chain[0] if chain else workflow, unapproved))
        unapproved.extend(forecast.unapproved)
        findings.extend(replace(f, step=f.step or id) for f in more)
        leaving, outputs = tuple(replace(f, step=id) for f in forecast.layers), forecast.outputs
        if not blocked and not has_errors(more):
            leaving, outputs = _weighed(needs, step, entered, leaving, outputs, settled, made)
        made[id] = leaving
        failed = blocked or has_errors(more)
        if failed or not forecast.known:
            broken.add(id)
        steps[id] = StepForecast(entered, leaving, outputs, not blocked and forecast.known)
    findings += choices.findings_of(document, made, settled)
    position = {s.id: n for n, s in enumerate(document.steps)}
    findings.sort(key=lambda f: position.get(f.step, -1))
    planned = [o for s in steps.values() for o in s.outputs]
    findings += [*_room(planned), *needs.findings()]
    for elsewhere in outside(workflow, base, [p.path for p in planned]):
        text = f"{elsewhere} lies outside the workflow's own folder. {OUTSIDE}"
        findings.append(Finding.error(text, "outside", code=Code.OUTSIDE_FOLDER, action=Action.ALLOW))
    shared = [p for p in transaction.shared if not may_replace(workflow, p)]
    for path in shared:
        text = f"{path}: {transaction.shared[path]}. Say once that it may be replaced: in the window, or with --allow-outside"
        findings.append(Finding.error(text, "outside", code=Code.SHARED_FILE, action=Action.ALLOW))
    told = pending_elsewhere(sorted(transaction.folders))
    findings += [Finding.look(text, code=Code.CUT_SHORT_ELSEWHERE) for text in told]
    if planned and not broken:
        for path, layer in transaction.leftovers(planned):
            what = f"{path.name}, layer '{layer}'" if layer else path.name
            text = f"{what} is {LEFTOVER} and stays as it is."
            findings.append(Finding.note(text, code=Code.LEFTOVER))
    return Rehearsal(tuple(findings), steps, time.perf_counter() - started, tuple(unapproved), tuple(shared))


def _weighed(
    needs: Needs,
    step: Step,
    entering: Sequence[LayerFacts],
    leaving: tuple[LayerFacts, ...],
    outputs: tuple[PlannedOutput, ...],
    values: Mapping[str, Any],
    made: Mapping[str, Sequence[LayerFacts]],
) -> tuple[tuple[LayerFacts, ...], tuple[PlannedOutput, ...]]:
    """What leaves a step and what it writes, with how heavy it is; what it needs for that is noted."""
    try:
        others = others_of(step, None, made)[0]
        if not any(weigh(f) > _HEAVY for f in (*entering, *leaving, *(x for named in others.values() for x in named))):
            return leaving, outputs
        operation = operation_by_id(step.use)
        settings = {f.key: _model(operation, step, f.key, values) for f in entering} if isinstance(operation, EachLayer) else {}
    except (EskretError, ValueError):
        return leaving, outputs  # of a round; its steps say themselves what is wrong
    leaving = leaves_in_chunks(operation, leaving, entering, settings)
    needs.add(step.id, operation, entering, others, leaving, settings)
    rows = sum(f.count or 0 for f in entering)
    each = sum(weigh(f) for f in entering) / rows if rows else 0.0
    return leaving, tuple(replace(o, weight=each) for o in outputs)


class _Strange:
    """Looks out for services that nobody has allowed this workflow yet."""

    def __init__(self, workflow: Path | None, found: list[ServiceAccess]) -> None:
        self._workflow = workflow
        self._found = found

    @staticmethod
    def reaches(step: Step) -> bool:
        """Whether an operation is one that asks a service."""
        try:
            return type(operation_by_id(step.use)).reach is not Operation.reach
        except EskretError:
            return False

    def findings(self, step: Step, context: Context) -> list[Finding]:
        """The service that a step may not reach yet, if any, as an error."""
        reach = self._reach(step, context)
        if reach is None or not stranger(self._workflow, reach):
            return []
        self._found.append(reach)
        text = _stranger_words(reach)
        return [Finding.error(text, "service", step=step.id, code=Code.STRANGE_SERVICE, action=Action.ALLOW)]

    @staticmethod
    def _reach(step: Step, context: Context) -> ServiceAccess | None:
        """The service that a step reaches for; None where it reaches for none or its settings are wrong."""
        try:
            operation = operation_by_id(step.use)
            values = settings_for(step, None, context.values)
            wrong = problems_of(operation.Settings, values)
            return None if wrong else operation.reach(operation.Settings(**values), context)
        except EskretError:
            return None


def _stranger_words(reach: ServiceAccess) -> str:
    if reach.changes:
        what = f"This workflow wants to change what is published at {origin_of(reach.address)}"
    else:
        what = f"This workflow wants to fetch from {origin_of(reach.address)}"
    token = f", and to send it what the environment variable '{reach.variable}' holds" if reach.variable else ""
    return f"{what}{token}. {REACHES}"


def _rounds(
    step: Step, blocked: bool, context: Context, made: Mapping[str, Sequence[LayerFacts]], strange: _Strange
) -> tuple[tuple[LayerFacts, ...], Forecast, list[Finding]]:
    """A step as a whole: what enters it, what it will make, what there is to say; of one with rounds, of all of them."""
    if step.each is None or blocked:
        entering, empty = resolve(step, made)
        refused = [] if blocked else strange.findings(step, context)
        if refused:
            return tuple(entering), Forecast(), refused
        forecast, told = _guarded(step, entering, empty, blocked, context, context.values, made)
        return tuple(entering), forecast, told
    try:
        rounds = foretold_rounds(step.each, made)
    except EskretError as error:
        return (), Forecast(), [Finding.of(error, setting="each")]
    if rounds is None and strange.reaches(step):
        text = f"Which services it reaches is known only once '{step.each.of}' was made, so nobody can allow it before."
        return (), Forecast(), [Finding.error(text, "each")]
    if rounds is None:
        text = f"How often it is done is known only once '{step.each.of}' was made."
        return (), Forecast(known=False), [Finding.note(text, "each")]
    entered: list[LayerFacts] = []
    parts: list[Forecast] = []
    findings: list[Finding] = []
    failing = 0
    for one in rounds:
        values = {**context.values, **one.values}
        mine = bound_step(step, values)
        refused = strange.findings(mine, replace(context, values=values))
        if refused:
            return tuple(entered), Forecast(), refused
        found, empty = resolve(mine, made)
        entering = renamed(found, one)
        own = replace(mine, layer={one.key(k): v for k, v in mine.layer.items()})
        forecast, more = _guarded(own, entering, empty, blocked, replace(context, values=values), values, made)
        leaving = [f if f.key.endswith(f"_{one.label}") else replace(f, key=one.key(f.key)) for f in forecast.layers]
        entered += entering
        parts.append(replace(forecast, layers=tuple(leaving)))
        said = {f.text for f in findings}
        bad = has_errors(more)
        failing += bad
        if bad and step.each.go_on:
            more = [replace(f, level=Level.LOOK, text=f"Round '{one.label}' will fail: {f.text}", code=Code.ROUND_FAILS) for f in more]
        findings += [f for f in more if f.text not in said]
    if failing == len(rounds):
        findings = [replace(f, level=Level.ERROR) for f in findings]
    together = Forecast(
        tuple(x for p in parts for x in p.layers),
        (),
        tuple(x for p in parts for x in p.outputs),
        all(p.known for p in parts),
        tuple(dict.fromkeys(s for p in parts for s in p.unapproved)),
    )
    return tuple(entered), together, findings


def _guarded(step: Step, *more: Any) -> tuple[Forecast, list[Finding]]:
    """A step's forecast; what nobody foresaw is an error of the step, and the others are rehearsed all the same."""
    try:
        return _step(step, *more)
    except StoppedError:
        raise
    except Exception as error:
        return Forecast(), [Finding.of(as_sentence(error, step.use))]


def _step(
    step: Step,
    entering: list[LayerFacts],
    empty: list[str],
    blocked: bool,
    context: Context,
    given: Mapping[str, Any],
    made: Mapping[str, Sequence[LayerFacts]],
) -> tuple[Forecast, list[Finding]]:
    findings: list[Finding] = []
    try:
        operation = operation_by_id(step.use)
        findings += _settings_findings(operation, step, given)
    except EskretError as error:
        return Forecast(), [Finding.of(error)]
    if operation.has_input:
        if not step.source:
            findings.append(Finding.error("No layers enter this step. Say which ones.", "from"))
        elif not blocked:
            for reference in empty:
                text = names_nothing(reference, made)
                findings.append(Finding.error(text, "from", code=Code.NO_SUCH_LAYER))
    if not blocked:
        findings += _other_findings(step, entering, made)
    if findings or (blocked and sources_of(step)):
        return Forecast(), findings
    for key in step.layer:
        if all(f.key != key for f in entering):
            findings.append(Finding.look(f"There are settings for '{key}', and no such layer enters.", layer=key))
    if step.layer:
        context = replace(context, of_layer={k: {n: with_parameters(v, given) for n, v in own.items()} for k, own in step.layer.items()})
    try:
        if isinstance(operation, Source):
            context = replace(context, others=others_of(step, None, made)[0])
            forecast = operation.forecast(_model(operation, step, None, given), context)
        elif isinstance(operation, EachLayer):
            parts = [
                operation.forecast(f, _model(operation, step, f.key, given), replace(context, others=others_of(step, f.key, made)[0]))
                for f in entering
            ]
            said = [
                replace(x, layer=x.layer or f.key) if f.key in step.layer else x
                for f, p in zip(entering, parts, strict=True)
                for x in p.findings
            ]
            forecast = Forecast(
                tuple(x for p in parts for x in p.layers),
                tuple(said),
                tuple(x for p in parts for x in p.outputs),
                all(p.known for p in parts),
            )
        elif isinstance(operation, Gathering):
            context = replace(context, others=others_of(step, None, made)[0])
            forecast = operation.forecast(entering, _model(operation, step, None, given), context)
        elif isinstance(operation, Delivery):
            model = _model(operation, step, None, given)
            findings += _mixed_crs(entering, model)
            forecast = operation.forecast(entering, model, context)
        else:
            raise TypeError(f"{operation.id} is of no known shape")
    except StoppedError:
        raise
    except EskretError as error:
        return Forecast(), [*findings, Finding.of(error)]
    return forecast, [*findings, *forecast.findings]


def _other_findings(step: Step, entering: Sequence[LayerFacts], made: Mapping[str, Sequence[LayerFacts]]) -> list[Finding]:
    """References in settings that name nothing."""
    out: dict[str, Finding] = {}
    for key in (None, *(f.key for f in entering if f.key in step.layer)):
        for name, reference in others_of(step, key, made)[1]:
            text = names_nothing(reference, made)
            out[text] = Finding.error(text, name.partition(".")[0], code=Code.NO_SUCH_LAYER)
    return list(out.values())


def _settings_findings(operation: Operation, step: Step, given: Mapping[str, Any]) -> list[Finding]:
    out: list[Finding] = []
    allowed = operation.single
    if allowed is not None:
        for one, own in step.layer.items():
            for name in own:
                if name not in allowed:
                    text = f"'{name}' cannot be set for '{one}' alone: this step sees the whole set at once."
                    out.append(Finding.error(text, name, layer=one))
    for key in (None, *step.layer):
        values = settings_for(step, key, given)
        for problem in problems_of(operation.Settings, values):
            found = Finding.of(problem, layer=key or "")
            if all(f.text != found.text for f in out):
                out.append(found)
    return out


def _model(operation: Operation, step: Step, key: str | None, given: Mapping[str, Any]) -> Any:
    return operation.Settings(**settings_for(step, key, given))


def _mixed_crs(entering: Sequence[LayerFacts], settings: Any) -> list[Finding]:
    """That layers are delivered in several coordinate systems; not where the step itself brings them together."""
    if getattr(settings, "crs", "") or getattr(settings, "section", ""):
        return []
    known = [f.crs for f in entering if f.kind != "table" and f.crs]
    if any(not same_crs(known[0], c) for c in known[1:]):
        names = ", ".join(dict.fromkeys(known))
        return [Finding.look(f"The layers are in different coordinate systems ({names}).")]
    return []


def _room(planned: Sequence[PlannedOutput]) -> list[Finding]:
    """Whether the disks have room, by a rough measure: what features weigh where they come from, and what is there to be copied."""
    out = []
    for folder in {_existing(p.path.parent) for p in planned}:
        here = [p for p in planned if _existing(p.path.parent) == folder]
        needed = int(sum((p.features or 0) * (p.weight or A_FEATURE) for p in here))
        needed += sum(p.stat().st_size for p in {h.path for h in here} if p.exists())
        free = shutil.disk_usage(folder).free
        if needed > free:
            out.append(
                Finding.error(
                    f"{folder}: about {byte_words(needed)} are needed and {byte_words(free)} are free. Make room or choose another folder.",
                    code=Code.NO_ROOM,
                )
            )
    return out


def _existing(folder: Path) -> Path:
    while not folder.exists() and folder != folder.parent:
        folder = folder.parent
    return Path(os.fspath(folder))
