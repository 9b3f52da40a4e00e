"""One step of a run on its way: its tasks, what was made before taken up again, its accounts proved."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable, Generator, Iterable, Mapping, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from pydantic import ValidationError

from eskret.core.accounts.account import (
    InputAccount,
    OutputAccount,
    Relation,
    Remark,
    SetAside,
    check_controls,
    check_groups,
    check_relation,
    check_rows,
    state_of,
)
from eskret.core.files.datasets import files_of
from eskret.core.layer import Layer
from eskret.core.unforeseen import as_sentence
from eskret.core.words import moment
from eskret.errors import AccountError, Action, CheckError, Code, EskretError, StoppedError
from eskret.operations.base import Context, Delivery, EachLayer, Gathering, Operation, Outcome, Source, Takes
from eskret.operations.registry import operation_by_id
from eskret.operations.settings import validate
from eskret.services.tokens import origin_of
from eskret.workflow.cache import materialise
from eskret.workflow.cache.cached_layer import CachedLayer, LayerHandle, on_disk, weight_of
from eskret.workflow.model.contexts import context_of
from eskret.workflow.model.document import Step
from eskret.workflow.model.iteration import ForEach, Iteration, rounds_of
from eskret.workflow.model.references import bound_step, others_of, resolve, settings_for, with_parameters
from eskret.workflow.model.styles import sld_for
from eskret.workflow.run.chunked import read_in_chunks, run_in_chunks, run_in_parts
from eskret.workflow.run.consent import stranger
from eskret.workflow.run.needs import READ

if TYPE_CHECKING:
    from eskret.workflow.cache import ResultCache
    from eskret.workflow.run.engine import Coordinator

FAILED = "failed"
MANY = 20_000
_MUCH = 50_000_000
"""Rows of a layer, and bytes of a task, from which on it is asked whether there is room for it."""

Do = Callable[[Sequence[LayerHandle], Any, Context], Sequence[Outcome]]
"""Does a task, with the layers that enter, settings and context."""


@dataclass(frozen=True)
class StepResult:
    """A step of the ledger after a run. ``error`` is empty unless it failed; ``reused`` of its ``tasks`` were not done again,
    since nothing had changed that they hang on."""

    id: str
    use: str
    state: str
    seconds: float
    inputs: tuple[InputAccount, ...] = ()
    outputs: tuple[OutputAccount, ...] = ()
    remarks: tuple[Remark, ...] = ()
    error: str = ""
    reused: int = 0
    tasks: int = 0

    def to_json(self) -> dict[str, Any]:
        return {
            "id": self.id,
            "use": self.use,
            "state": self.state,
            "seconds": round(self.seconds, 3),
            "reused": self.reused,
            "tasks": self.tasks,
            "inputs": [i.to_json() for i in self.inputs],
            "outputs": [o.to_json() for o in self.outputs],
            "remarks": [r.to_json() for r in self.remarks],
            "error": self.error,
        }


@dataclass(frozen=True)
class _Part:
    """A step as it is done in one round, or the whole of one that has none: what enters it under the keys it has in the
    round, and the values it sees."""

    step: Step
    values: Mapping[str, Any]
    entering: tuple[LayerHandle, ...]
    round: Iteration | None = None

    def own_key(self, key: str) -> str:
        """The key that a layer has outside the round."""
        return key.removesuffix(f"_{self.round.label}") if self.round is not None else key

    def of_layer(self) -> dict[str, dict[str, Any]]:
        """The settings of single layers, parameters put in, by the keys that they have in the round."""
        return {
            self.round.key(k) if self.round is not None else k: {n: with_parameters(v, self.values) for n, v in own.items()}
            for k, own in self.step.layer.items()
        }


class _Loaded(Mapping[str, Sequence[Layer]]):
    """Layers that settings name, read when somebody asks for them."""

    def __init__(self, found: Mapping[str, Sequence[LayerHandle]]) -> None:
        self.found = found
        self._there: dict[str, Sequence[Layer]] = {}  # for as long as the task is at work: it asks for each of its chunks

    def __getitem__(self, name: str) -> Sequence[Layer]:
        if name not in self._there:
            self._there[name] = tuple(map(materialise, self.found[name]))
        return self._there[name]

    def __iter__(self) -> Generator[str, None, None]:
        yield from self.found

    def __len__(self) -> int:
        return len(self.found)


class StepRun:
    """One step on its way."""

    def __init__(self, owner: Coordinator, step: Step) -> None:
        self.owner = owner
        self.step = step
        self.parts: list[_Part] = []
        self.tasks: list[Callable[[], Sequence[Outcome]]] = []
        self.part_of: list[tuple[_Part, tuple[LayerHandle, ...]]] = []
        self.reused: set[int] = set()
        self.keys: dict[int, str | None] = {}
        self.results: dict[int, Sequence[Outcome]] = {}
        self.begun = time.perf_counter()
        self._told = 0.0
        self._first_failure: EskretError | None = None
        self._failed_rounds = 0
        self.operation: Operation
        if step.off or step.each is None:
            self.parts = [_Part(step, owner.values, tuple(resolve(step, owner.made)[0]))]

    @property
    def entering(self) -> list[LayerHandle]:
        return [layer for part in self.parts for layer in part.entering]

    def _make_rounds(self, each: ForEach) -> None:
        """One part a round."""
        for one in rounds_of(each, self.owner.made):
            values = {**self.owner.values, **one.values}
            step = bound_step(self.step, values)
            entering = tuple(x.with_key(one.key(x.key)) for x in resolve(step, self.owner.made)[0])
            self.parts.append(_Part(step, values, entering, one))

    def let_go(self) -> None:
        """Hold no layer any more: tasks know the step and it knows them, so that they would stay until somebody tidies up."""
        self.tasks.clear()
        self.results.clear()
        self.part_of.clear()
        self.parts.clear()

    def prepare(self) -> None:
        """Make the tasks.

        Raises
        ------
        EskretError : the settings do not fit what is there now.
        """
        self.operation = operation_by_id(self.step.use)
        try:
            if self.step.each is not None:
                self._make_rounds(self.step.each)
            for part in self.parts:
                self._prepare_or_tell(part)
        except Exception as error:
            raise self._failed(error) from error

    def _prepare_or_tell(self, part: _Part) -> None:
        """Make a part's tasks; one that cannot be made, where the others go on, becomes a task that says so."""
        begun = len(self.tasks)
        try:
            self._prepare(part)
        except EskretError as error:
            if not self._goes_on(part):
                raise
            del self.tasks[begun:], self.part_of[begun:]
            self.part_of.append((part, part.entering))
            self.tasks.append(partial(_raise, error))

    def _goes_on(self, part: _Part) -> bool:
        return part.round is not None and self.step.each is not None and self.step.each.go_on

    def _prepare(self, part: _Part) -> None:
        operation = self.operation

        def task(entering: Sequence[LayerHandle], key: str | None, do: Do, source: Any = None) -> None:
            number = len(self.tasks)
            self.part_of.append((part, tuple(entering)))
            self.tasks.append(partial(self._once, number, part, key, do, source))

        if isinstance(operation, EachLayer):
            for layer in part.entering:
                task([layer], layer.key, partial(self._each, operation))
            return
        settings, context = self._settings(part, None)
        if isinstance(operation, Source):
            for source in operation.parts(settings, context):
                task([], None, partial(self._read, operation, source), source)
        elif isinstance(operation, Gathering):
            task(part.entering, None, lambda layers, s, c: [operation.run(list(map(materialise, layers)), s, c)])
        elif isinstance(operation, Delivery):
            task(part.entering, None, partial(_deliver, operation))

    def _each(self, operation: EachLayer, layers: Sequence[LayerHandle], settings: Any, context: Context) -> Sequence[Outcome]:
        (layer,) = layers
        whole = self.owner.run_.links is not None  # of chunks nobody could say which row came of which
        taken = _taken(operation, layer, settings) if isinstance(layer, CachedLayer) and not whole else Takes.WHOLE
        place = self.owner.spools.place() if taken is not Takes.WHOLE else None
        if isinstance(layer, CachedLayer) and place is not None:
            run = run_in_parts if taken is Takes.PARTS else run_in_chunks
            return [run(operation, layer, settings, context, place, self._prove, self.owner.memory.size // 4)]
        return [operation.run(materialise(layer), settings, context)]

    def _read(self, operation: Source, source: Any, _: Sequence[LayerHandle], settings: Any, context: Context) -> Sequence[Outcome]:
        whole = read_in_chunks(operation, source, settings, context, self.owner.spools.place, self._prove)
        return operation.read(source, settings, context) if whole is None else [whole]

    def _prove(self, outcome: Outcome) -> None:
        prove(outcome, self.operation.relation)

    def _once(self, number: int, part: _Part, key: str | None, do: Do, source: Any) -> Sequence[Outcome]:
        """Do a task, unless it was done before and nothing has changed that it hangs on."""
        settings, context = self._settings(part, key)
        entering = self.part_of[number][1]
        result_cache = self.owner.run_.result_cache
        digest = self._digest(part, key, settings, context, entering, source) if result_cache is not None else None
        self.keys[number] = digest
        last = None
        if self.operation.stands and result_cache is not None and digest is None:
            last = self._digest(part, key, settings, context, entering, source, reads=())
        if self.operation.stands and self.owner.run_.figures_alone is not None:
            return self._as_of_last(result_cache, last)
        if result_cache is not None and digest is not None:
            found = result_cache.get(digest)
            if found is not None:
                found = self._still_there(found)
            if found is not None:
                self.reused.add(number)
                return found
        self._check_reach(settings, context)
        look = partial(self.owner.run_.check_stop, 0, 0)
        with self.owner.memory.take(self._needs(entering, settings, context, source), look):
            outcomes = _with_likeness(do(entering, settings, context), entering)
        if self.owner.run_.links is not None:
            named = outcomes if part.round is None else [_in_round(o, part.round) for o in outcomes]
            self.owner.run_.links.record(self.step.id, entering, named, context.handles)
        if result_cache is not None and last is not None:
            outcomes = list(result_cache.put_last(last, outcomes))
        if result_cache is not None and digest is not None:
            if isinstance(self.operation, Delivery):
                # it is there only once the run has succeeded; until then its rows need not be in memory
                lean: list[Outcome] = [replace(o, layers=tuple(on_disk(x) or x for x in o.layers)) for o in outcomes]  # type: ignore[misc]
                self.owner.staged.append((digest, lean, [on_disk(x) or x for x in entering]))
            else:
                outcomes = list(result_cache.put(digest, outcomes, entering))
        return outcomes

    def _as_of_last(self, result_cache: ResultCache | None, key: str | None) -> Sequence[Outcome]:
        """What the task last made, told as such.

        Raises
        ------
        EskretError : it was not done yet with these settings.
        """
        found = result_cache.get_last(key) if result_cache is not None and key is not None else None
        there = self._still_there(found[0]) if found is not None else None
        if found is None or there is None:
            raise EskretError("it was not done yet with these settings", place=self.step.id, way_out="Run the workflow once")
        said = Remark(f"as it was on {moment(found[1])}; a run asks again", there[0].layers[0].key if there[0].layers else "")
        return [replace(there[0], remarks=(*there[0].remarks, said)), *there[1:]]

    def _needs(self, entering: Sequence[LayerHandle], settings: Any, context: Context, source: Any) -> int:
        """About how many bytes of memory a task takes: of large layers that it has whole."""
        operation = self.operation
        if isinstance(operation, Source):
            return self._needs_of_files(operation, settings, context, source)
        whole = [
            x
            for x in entering
            if not (isinstance(x, CachedLayer) and x.chunked)
            or not (operation.reads_chunks if isinstance(operation, Delivery) else _taken(operation, x, settings) is not Takes.WHOLE)
        ]
        size = sum(weight_of(x) for x in whole if len(x) >= MANY)
        return size if size > _MUCH else 0

    def _needs_of_files(self, operation: Source, settings: Any, context: Context, source: Any) -> int:
        try:
            files = operation.part_inputs(source, settings, context) or ()
            size = sum(p.stat().st_size for path in files for p in files_of(path) if p.is_file())
        except (EskretError, OSError):
            return 0  # reading them says it
        # a file of many layers is read by as many tasks
        return READ * size // max(1, len(self.tasks)) if size > _MUCH else 0

    def _check_reach(self, settings: Any, context: Context) -> None:
        """Ask no service that nobody has allowed: which one it is may have been known only now.

        Raises
        ------
        EskretError : nobody has.
        """
        run = self.owner.run_
        reach = self.operation.reach(settings, context)
        if reach is not None and stranger(run.chain[0] if run.chain else run.workflow, reach):
            raise EskretError(
                f"nobody has allowed this workflow to ask {origin_of(reach.address)}",
                way_out="Say once that it may: in the window, or with --allow",
                code=Code.STRANGE_SERVICE,
                action=Action.ALLOW,
            )

    def _digest(
        self,
        part: _Part,
        key: str | None,
        settings: Any,
        context: Context,
        entering: Sequence[LayerHandle],
        source: Any,
        reads: Sequence[Path] | None = None,
    ) -> str | None:
        operation, result_cache, run = self.operation, self.owner.run_.result_cache, self.owner.run_
        assert result_cache is not None
        more: Any = repr(source)
        try:
            if reads is None:
                reads = (
                    operation.part_inputs(source, settings, context)
                    if isinstance(operation, Source)
                    else operation.reads(settings, context)
                )
            self._saw(reads)
            if isinstance(operation, Delivery):
                if run.if_exists not in (None, "own", "replace"):
                    return None
                # whose output it is, and how it is drawn
                passed = {id for x in entering for id, _ in x.provenance}
                styles = [[s.id, repr(s.style)] for s in self.owner.document.steps if s.id in passed]
                more = [str(run.workflow), str(run.folder), run.document.title, styles, [x.provenance for x in entering]]
            own = None if key is None else part.own_key(key)
            others = others_of(part.step, own, self.owner.made)[0]
            given = settings_for(part.step, own, part.values)
            if key is None and part.step.layer:
                more = [more, part.of_layer()]
        except (EskretError, OSError):
            return None  # the task itself says it
        return result_cache.key(operation, given, context, entering, others, reads, more)

    def _saw(self, reads: Sequence[Path] | None) -> None:
        known = self.owner.reads.setdefault(self.step.id, set())
        if reads is None or known is None:
            self.owner.reads[self.step.id] = None
        else:
            known.update(reads)

    def _still_there(self, found: list[Outcome]) -> list[Outcome] | None:
        """What was delivered before, if every file is still as this workflow left it; else None."""
        if not isinstance(self.operation, Delivery):
            return found
        outputs = self.owner.transaction.outputs
        files = {one.path for outcome in found for one in outcome.delivered}
        if not all(outputs.whole(path) for path in files):
            return None
        out = []
        for outcome in found:
            delivered = []
            for one in outcome.delivered:
                record = outputs.record(one.path)
                if record is None:
                    return None
                if record.layers.get(one.layer) != one.content if one.layer else record.sha256 != one.sha256:
                    return None
                delivered.append(replace(one, sha256=record.sha256, written=False))
            out.append(replace(outcome, delivered=tuple(delivered)))
        return out

    def _settings(self, part: _Part, key: str | None) -> tuple[Any, Context]:
        owner = self.owner
        own = None if key is None else part.own_key(key)
        values = settings_for(part.step, own, part.values)
        named = others_of(part.step, own, owner.made)[0]
        context = context_of(
            owner.document,
            self.step.id,
            part.values,
            owner.run_.folder,
            watch=self._watch,
            transaction=owner.transaction,
            others=_Loaded(named),
            handles=named,
            chain=owner.run_.chain,
            sld_of=lambda layer, name: sld_for(owner.document, layer, name),
            of_layer=part.of_layer() if key is None else {},
        )
        try:
            settings = self.operation.Settings(**values)
        except ValidationError:
            settings = validate(self.operation.Settings, values)  # says in words what is wrong
        return settings, replace(context, totals=tuple(settings.totals))

    def _watch(self, done: int, of: int) -> None:
        self.owner.run_.check_stop(done, of)
        now = time.perf_counter()
        if now - self._told > 0.1:
            self._told = now
            self.owner.run_.tell(
                {
                    "event": "progress",
                    "step": self.step.id,
                    "tasks": len(self.tasks),
                    "tasks_done": len(self.results),
                    "done": done,
                    "of": of,
                    "seconds": now - self.begun,
                }
            )

    @property
    def complete(self) -> bool:
        return len(self.results) == len(self.tasks)

    def take(self, number: int, future: Future[Sequence[Outcome]]) -> None:
        """Take a task's answer.

        Raises
        ------
        EskretError : the task failed; the step's result says it.
        """
        part, entering = self.part_of[number]
        try:
            found = future.result()
            self.results[number] = found if part.round is None else [_in_round(o, part.round) for o in found]
            self._watch(0, 0)
        except StoppedError:
            raise
        except Exception as error:
            if part.round is None or not self._goes_on(part):
                raise self._failed(error, part.round) from error
            failure = as_sentence(error, self.operation.id)
            self._first_failure = self._first_failure or failure
            self._failed_rounds += 1
            self.results[number] = [_failed_round(failure, part.round, entering)]

    def _failed(self, error: Exception, one: Iteration | None = None) -> EskretError:
        failure = as_sentence(error, self.operation.id)
        failure.step = self.step.id
        failure.at(f"step '{self.step.id}'" + (f", round '{one.label}'" if one is not None else ""))
        self._record(FAILED, (), failure.sentence())
        return failure

    def _record(self, state: str, outcomes: Sequence[Outcome], error: str = "", tell: bool = True) -> StepResult:
        result = StepResult(
            self.step.id,
            self.step.use,
            state,
            time.perf_counter() - self.begun,
            _once(i for o in outcomes for i in o.inputs),
            tuple(x for o in outcomes for x in o.outputs),
            tuple(dict.fromkeys(r for o in outcomes for r in o.remarks)),
            error,
            len(self.reused),
            len(self.tasks),
        )
        self.owner.run_.steps[self.step.id] = result
        if error and tell:
            self.owner.run_.tell({"event": "step_finished", **result.to_json()})
        return result

    def settle(self) -> tuple[StepResult, Sequence[Outcome]]:
        """Prove the accounts and state them.

        Raises
        ------
        AccountError : they disagree.
        """
        if self._first_failure is not None and self._failed_rounds == len(self.results):
            raise self._failed(self._first_failure)
        outcomes: Sequence[Outcome] = [o for n in sorted(self.results) for o in self.results[n]]
        if isinstance(self.operation, Source):
            outcomes = [o for part in self.parts for o in self._gathered(self.operation, part)]
        try:
            for outcome in outcomes:
                prove(outcome, self.operation.relation)
        except AccountError as error:
            self._record(FAILED, outcomes, error.at(f"step '{self.step.id}'").sentence())
            raise
        failed = [o.failed for o in outcomes if o.failed]
        if failed:
            more = f" (and {len(failed) - 1} more)" if len(failed) > 1 else ""
            unmet = CheckError(failed[0] + more, place=f"step '{self.step.id}'", way_out="Nothing was written")
            return self._record(FAILED, outcomes, unmet.sentence(), tell=False), outcomes
        return self._record(state_of([r for o in outcomes for r in o.remarks]), outcomes), outcomes

    def _gathered(self, operation: Source, part: _Part) -> Sequence[Outcome]:
        mine = [o for n, (p, _) in enumerate(self.part_of) if p is part for o in self.results[n]]
        settings, context = self._settings(part, None)
        if type(operation).gather is Source.gather:
            return mine
        gathered = operation.gather(
            [replace(o, layers=tuple(map(materialise, o.layers))) for o in mine] if operation.joins(settings) else mine, settings, context
        )
        if self.owner.run_.result_cache is not None:
            keys = [self.keys.get(n) for n, (p, _) in enumerate(self.part_of) if p is part]
            layers = [x for o in gathered for x in o.layers]
            self.owner.run_.result_cache.mark_gathered(layers, keys, [self.step.id, str(settings)])
        return gathered


def _with_likeness(outcomes: Sequence[Outcome], entering: Sequence[LayerHandle]) -> list[Outcome]:
    """Outcomes with what makes layers alike, so that totals of unlike ones are not added up."""
    entered = {x.key: x for x in entering}
    first = next(iter(entering), None)

    def like(outcome: Outcome, key: str) -> str:
        made: Sequence[LayerHandle] = outcome.layers
        written = next((f for f in outcome.written if f.key == key), None)
        if written is not None and key in entered:
            names, line = written.names(), entered[key].provenance
            return _digest((str(written.kind), written.crs, names, [step for step, _ in line]))
        layer = next((x for x in reversed(made) if x.key == key), entered.get(key))  # which may have no rows
        if layer is None:
            return ""
        line = layer.provenance or (first.provenance if first is not None else ())
        return _digest((str(layer.kind), layer.crs, layer.field_names, [step for step, _ in line]))

    return [replace(o, outputs=tuple(replace(x, like=like(o, x.layer)) for x in o.outputs), written=()) for o in outcomes]


def _digest(told: tuple[object, ...]) -> str:
    return hashlib.sha256(repr(told).encode()).hexdigest()[:16]


def _deliver(operation: Delivery, layers: Sequence[LayerHandle], settings: Any, context: Context) -> Sequence[Outcome]:
    given = [x if operation.reads_chunks and isinstance(x, CachedLayer) and x.chunked else materialise(x) for x in layers]
    return operation.deliver(given, settings, context)


def _taken(operation: Operation, layer: CachedLayer, settings: Any) -> Takes:
    """How a layer that lies on disk is taken: in chunks or parts only where it lies there so; one without rows has no parts."""
    if not layer.chunked or not isinstance(operation, EachLayer):
        return Takes.WHOLE
    found = operation.takes(layer.facts(), settings)
    return found if len(layer) or found is not Takes.PARTS else Takes.WHOLE


def _raise(error: EskretError) -> Sequence[Outcome]:
    raise error


def _in_round(outcome: Outcome, one: Iteration) -> Outcome:
    """An outcome whose layers are called after their round."""

    def key(name: str) -> str:
        return name if not name or name.endswith(f"_{one.label}") else one.key(name)

    return replace(
        outcome,
        layers=tuple(x.with_key(key(x.key)) for x in outcome.layers),
        inputs=tuple(replace(i, layer=key(i.layer)) if i.first else i for i in outcome.inputs),
        outputs=tuple(replace(o, layer=key(o.layer)) for o in outcome.outputs),
        remarks=tuple(replace(r, layer=key(r.layer) if r.layer else f"round {one.label}") for r in outcome.remarks),
    )


def _failed_round(error: EskretError, one: Iteration, entering: Sequence[LayerHandle]) -> Outcome:
    """What is told of a round that failed while the others go on: all that entered it is set aside."""
    reason = f"its round failed: {error.problem}"
    inputs = [InputAccount.of(x, SetAside.from_reasons([(reason, np.arange(len(x)))])) for x in entering]
    remark = Remark(f"round '{one.label}' failed: {error.sentence()}", look=True)
    return Outcome(inputs=tuple(inputs), lineage=np.empty(0, np.int64), remarks=(remark,), relation=Relation.REPORT)


def prove(outcome: Outcome, relation: Relation) -> None:
    """Prove an outcome's accounts.

    Raises
    ------
    AccountError : naming the layer and the figures.
    """
    lineage = outcome.lineage
    if outcome.into is not None:
        check_groups(outcome.into, sum(o.rows for o in outcome.outputs), outcome.inputs[0].layer)
        lineage = np.flatnonzero(outcome.into >= 0)
    for number, account in enumerate(outcome.inputs):
        check_rows(account, lineage if number == 0 else None)
    first = [a for a in outcome.inputs if a.first]
    used = sum(a.used for a in first)
    out = sum(o.rows for o in outcome.outputs)
    if first:
        settled = outcome.relation or (Relation.KEPT if relation is Relation.NEW else relation)
        check_relation(settled, used, out, outcome.inputs[0].layer)
    for layer, told in zip(outcome.layers, outcome.outputs, strict=False):
        if len(layer) != told.rows:
            raise AccountError(f"{len(layer)} rows left and {told.rows} were told", place=layer.key)
    check_controls(outcome.outputs)


def _once(accounts: Iterable[InputAccount]) -> tuple[InputAccount, ...]:
    """Accounts of a step; a layer that several tasks looked at through a setting is told once."""
    out: dict[Any, InputAccount] = {}
    for number, account in enumerate(accounts):
        out.setdefault(number if account.first else (account.setting, account.layer), account)
    return tuple(out.values())
