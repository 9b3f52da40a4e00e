"""Run a workflow: plan, rehearse, run, commit.

One pool of threads; only tasks that need no other task run in it (a layer, a file). A coordinator hands tasks out as
steps become ready, proves each step's accounts when its tasks are back, and tells what happens as events. Deliveries
are committed at the very end, all together.
"""

from __future__ import annotations

import os
import threading
import time
import traceback
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextvars import copy_context
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import Any

import numpy as np
from pydantic import ValidationError

from eskret.core.account import (
    InputAccount,
    OutputAccount,
    Relation,
    Remark,
    SetAside,
    State,
    check_controls,
    check_groups,
    check_relation,
    check_rows,
    state_of,
)
from eskret.core.layer import Layer
from eskret.errors import AccountError, CheckError, EskretError, RehearsalError, StoppedError
from eskret.operations.base import (
    Context,
    Delivered,
    Delivery,
    EachLayer,
    Gathering,
    Operation,
    Outcome,
    Prepared,
    Source,
)
from eskret.operations.registry import operation_by_id, project
from eskret.operations.settings import validate
from eskret.workflow.delivery import LEFTOVER, DeliveryDesk, sweep
from eskret.workflow.document import Document, Step
from eskret.workflow.each import Each, Round, rounds_of
from eskret.workflow.references import bound, bound_step, order_of, others_of, resolve, settings_for, sources_of
from eskret.workflow.rehearsal import rehearse
from eskret.workflow.styles import sld_for

Event = dict[str, Any]
"""An event as JSON: ``event`` is its kind. run_started, step_started, progress, step_finished, run_finished."""

Keep = Callable[[str, Sequence[Layer], Sequence[Outcome], Sequence[Layer]], Mapping[str, Any]]
"""Stores a step's result: step id, layers that entered, outcomes, layers that its settings name; its answer is added to
the step_finished event."""

STOPPED = "stopped"
FAILED = "failed"


@dataclass(frozen=True)
class StepResult:
    """A step of the ledger after a run. ``error`` is empty unless it failed."""

    id: str
    use: str
    state: str
    seconds: float
    inputs: tuple[InputAccount, ...] = ()
    outputs: tuple[OutputAccount, ...] = ()
    remarks: tuple[Remark, ...] = ()
    error: str = ""

    def to_json(self) -> dict[str, Any]:
        return {
            "id": self.id, "use": self.use, "state": self.state, "seconds": round(self.seconds, 3),
            "inputs": [i.to_json() for i in self.inputs], "outputs": [o.to_json() for o in self.outputs],
            "remarks": [r.to_json() for r in self.remarks], "error": self.error,
        }  # fmt: skip


@dataclass(frozen=True)
class RunResult:
    """A run, whole: its state is the worst of its steps'."""

    state: str
    seconds: float
    steps: tuple[StepResult, ...] = ()
    outputs: tuple[Delivered, ...] = ()
    pushes: tuple[Prepared, ...] = ()
    error: str = ""
    started: str = ""
    title: str = ""
    values: Mapping[str, Any] = field(default_factory=dict)
    remarks: tuple[Remark, ...] = ()
    layers: Mapping[str, tuple[Layer, ...]] = field(default_factory=dict, repr=False)
    unmet: bool = False
    """Whether it failed because a check of the analyst's own did not hold."""

    def to_json(self) -> dict[str, Any]:
        return {
            "state": self.state, "seconds": round(self.seconds, 3), "title": self.title, "started": self.started,
            "values": {k: v if isinstance(v, bool | int | float | str) else str(v) for k, v in self.values.items()},
            "steps": [s.to_json() for s in self.steps], "outputs": [o.to_json() for o in self.outputs],
            "pushes": [p.to_json() for p in self.pushes], "remarks": [r.to_json() for r in self.remarks], "error": self.error,
        }  # fmt: skip


class Run:
    """One run of a workflow.

    Parameters
    ----------
    document, values, workflow, folder, if_exists : as for ``rehearse``.
    on_event : called with each event, from the thread that called ``execute`` or from a task's.
    keep : stores results as they come, for a window; None keeps nothing beyond what later steps need.
    hold : also hand back every step's layers in the result.
    write_nothing : run and prove everything, and leave all outputs as they are.
    given : layers that are there before any step, by the id that references call them by.
    chain : the workflow files that are using this one, the outermost first.
    desk : stage deliveries there and leave the commit to whoever brings it.
    checked : it was rehearsed by whoever runs it.
    """

    def __init__(
        self,
        document: Document,
        values: Mapping[str, Any] | None = None,
        *,
        workflow: Path | None = None,
        folder: Path | None = None,
        if_exists: str | None = None,
        on_event: Callable[[Event], None] | None = None,
        keep: Keep | None = None,
        hold: bool = False,
        write_nothing: bool = False,
        given: Mapping[str, Sequence[Layer]] | None = None,
        chain: tuple[Path, ...] = (),
        desk: DeliveryDesk | None = None,
        checked: bool = False,
    ) -> None:
        self.document = document
        self.workflow = workflow
        self.folder = folder or (workflow.parent if workflow else Path.cwd())
        self.if_exists = if_exists
        self._given = values
        self._tell = on_event or (lambda event: None)
        self._keep = keep
        self._hold = hold
        self._write_nothing = write_nothing
        self.given = {id: tuple(layers) for id, layers in (given or {}).items()}
        self.chain = chain or ((workflow.resolve(),) if workflow is not None else ())
        self._desk = desk
        self._checked = checked
        self._stop = threading.Event()
        self._steps: dict[str, StepResult] = {}

    def stop(self) -> None:
        """Ask the run to stop; it does before the next task, or within one where that asks."""
        self._stop.set()

    def execute(self) -> RunResult:
        """Rehearse, run and commit. Never raises for what a person can mend: the result says it.

        Raises
        ------
        RehearsalError : the rehearsal found errors; nothing was run.
        """
        with project(self.folder):
            return self._execute()

    def _execute(self) -> RunResult:
        begun, started = time.perf_counter(), datetime.now(UTC).isoformat(timespec="seconds")
        if not self._checked:
            sweep(self._target_folders())
            try:
                self._rehearse()
            except StoppedError as stopped:
                seconds = time.perf_counter() - begun
                return RunResult(STOPPED, seconds, error=stopped.sentence(), started=started, title=self.document.title)
        values = self.document.values(self._given)
        document = bound(self.document, values)
        desk = self._desk or DeliveryDesk(self.workflow, self.folder, self.if_exists, self.document.title)
        self._tell({"event": "run_started", "steps": [s.id for s in self.document.steps if not s.off]})
        state, error, unmet = FAILED, "", False
        outputs: tuple[Delivered, ...] = ()
        prepared: tuple[Prepared, ...] = ()
        remarks: tuple[Remark, ...] = ()
        made: dict[str, tuple[Layer, ...]] = dict(self.given)
        try:
            coordinator = _Coordinator(self, document, desk, values, made)
            delivered = coordinator.run()
            self._check_stop(0, 0)
            if self._desk is not None:
                outputs = tuple(delivered)
            elif not self._write_nothing:
                outputs = desk.commit(delivered)
                remarks = leftovers_of(desk, outputs)
            prepared = tuple(coordinator.prepared)
            looks = any(s.state == State.LOOK for s in self._steps.values())
            state = State.LOOK if looks else State.BALANCED
        except StoppedError as stopped:
            state, error = STOPPED, stopped.sentence()
        except CheckError as failure:
            error, unmet = failure.sentence(), True
        except EskretError as failure:
            error = failure.sentence()
        except OSError as failure:
            error = f"{failure.filename or 'The disk'}: {failure.strerror}. Nothing was written."
        finally:
            if self._desk is None:
                desk.rollback()
        order = [s.id for s in self.document.steps]
        result = RunResult(
            str(state), time.perf_counter() - begun,
            tuple(self._steps[i] for i in order if i in self._steps), outputs, prepared, error, started, self.document.title,
            values, remarks, made if self._hold else {}, unmet,
        )  # fmt: skip
        self._tell({"event": "run_finished", **result.to_json()})
        return result

    def _rehearse(self) -> None:
        found = rehearse(
            self.document, self._given, workflow=self.workflow, folder=self.folder, if_exists=self.if_exists,
            watch=self._check_stop, chain=self.chain,
            given={id: [x.facts() for x in layers] for id, layers in self.given.items()},
        )  # fmt: skip
        if found.errors:
            raise RehearsalError(found.errors)

    def _check_stop(self, done: int, of: int) -> None:
        if self._stop.is_set():
            raise StoppedError

    def _target_folders(self) -> list[Path]:
        folders = {self.folder}
        for step in self.document.steps:
            to = step.settings.get("to")
            if isinstance(to, str) and "{" not in to:
                folders.add((self.folder / to).parent)
        return sorted(folders)


def leftovers_of(desk: DeliveryDesk, outputs: Sequence[Delivered]) -> tuple[Remark, ...]:
    """What earlier runs wrote and this one did not, as remarks."""
    return tuple(
        Remark(f"{p.name}{', layer ' + repr(n) if n else ''} is {LEFTOVER} and stays as it is")
        for p, n in desk.leftovers(outputs)
    )


class _Coordinator:
    """Hands out tasks, collects outcomes, proves accounts. Lives for one run, in one thread."""

    def __init__(
        self, run: Run, document: Document, desk: DeliveryDesk, values: Mapping[str, Any],
        made: dict[str, tuple[Layer, ...]],
    ) -> None:  # fmt: skip
        self.run_ = run
        self.document = document
        self.desk = desk
        self.values = values
        self.made = made
        self.fields = {p.name: str(values[p.name]) for p in self.document.parameters if p.type == "field"}
        self.delivered: list[Delivered] = []
        self.prepared: list[Prepared] = []
        self.waiting = order_of(self.document, run.given)
        self.consumers = {
            s.id: sum(any(r.step == s.id for r in sources_of(t)) for t in self.document.steps)
            for s in self.document.steps
        }

    def run(self) -> list[Delivered]:
        workers = max(2, os.cpu_count() or 2)
        with ThreadPoolExecutor(workers, thread_name_prefix="eskret") as pool:
            open_steps: dict[Future[Sequence[Outcome]], tuple[_StepRun, int]] = {}
            # each task puts itself here when it is done: to ask all of thousands again and again takes the square of them
            done: SimpleQueue[Future[Sequence[Outcome]]] = SimpleQueue()
            try:
                while self.waiting or open_steps:
                    self.run_._check_stop(0, 0)
                    for id in [i for i in self.waiting if self._ready(i)]:
                        self.waiting.remove(id)
                        step_run = self._begin(id)
                        for number, task in enumerate(step_run.tasks):
                            future = pool.submit(copy_context().run, task)  # which project it is of goes along
                            open_steps[future] = (step_run, number)
                            future.add_done_callback(done.put)
                        if not step_run.tasks:
                            self._finish(step_run)
                    try:
                        future = done.get(timeout=0.2)
                    except Empty:
                        continue
                    step_run, number = open_steps.pop(future)
                    step_run.take(number, future)
                    if step_run.complete:
                        self._finish(step_run)
            except BaseException:
                # tasks that did not begin never will; those that did see the stop at their next look
                self.run_._stop.set()
                for future in open_steps:
                    future.cancel()
                raise
        return self.delivered

    def _ready(self, id: str) -> bool:
        return all(r.step in self.made for r in sources_of(self.document.step(id)))

    def _begin(self, id: str) -> _StepRun:
        step = self.document.step(id)
        step_run = _StepRun(self, step)
        if not step.off:
            self.run_._tell({"event": "step_started", "step": id})
            step_run.prepare()
        return step_run

    def _finish(self, step_run: _StepRun) -> None:
        step = step_run.step
        if step.off:
            self.made[step.id] = tuple(step_run.entering)
        else:
            result, outcomes = step_run.settle()
            entered = step_run.entering
            entering = {x.key: x for x in entered}
            outcomes = [_traced(o, step.id, entering) for o in outcomes]
            self.made[step.id] = tuple(layer for o in outcomes for layer in o.layers)
            self.delivered += [d for o in outcomes for d in o.delivered]
            self.prepared += [p for o in outcomes for p in o.prepared]
            self.run_._steps[step.id] = result
            others = [x for layers in others_of(step, None, self.made)[0].values() for x in layers]
            extra = self.run_._keep(step.id, entered, outcomes, others) if self.run_._keep else {}
            self.run_._tell({"event": "step_finished", **result.to_json(), **extra})
            if result.error:
                raise CheckError(result.error.rstrip("."))
        for reference in {r.step for r in sources_of(step)} - set(self.run_.given):
            self.consumers[reference] -= 1
            if not self.consumers[reference] and not self.run_._hold:
                self.made[reference] = ()


def _traced(outcome: Outcome, step: str, entering: Mapping[str, Layer]) -> Outcome:
    """The outcome with its layers on the line of those they were made of."""
    of = {a.layer: entering[a.layer] for a in outcome.inputs if a.setting == "from" and a.layer in entering}
    first = next(iter(of.values()), None)
    return replace(outcome, layers=tuple(x.made_by(step, of.get(x.key, first)) for x in outcome.layers))


@dataclass(frozen=True)
class _Part:
    """A step as it is done in one round, or the whole of one that has none: what enters it under the keys it has in the
    round, and the values it sees."""

    step: Step
    values: Mapping[str, Any]
    entering: tuple[Layer, ...]
    round: Round | None = None

    def own_key(self, key: str) -> str:
        """The key that a layer has outside the round."""
        return key.removesuffix(f"_{self.round.label}") if self.round is not None else key


class _StepRun:
    """One step on its way."""

    def __init__(self, owner: _Coordinator, step: Step) -> None:
        self.owner = owner
        self.step = step
        self.parts: list[_Part] = []
        self.tasks: list[Callable[[], Sequence[Outcome]]] = []
        self.part_of: list[tuple[_Part, tuple[Layer, ...]]] = []
        self.results: dict[int, Sequence[Outcome]] = {}
        self.begun = time.perf_counter()
        self._told = 0.0
        self._first_failure: EskretError | None = None
        self._failed_rounds = 0
        self.operation: Operation
        if step.off or step.each is None:
            self.parts = [_Part(step, owner.values, tuple(resolve(step, owner.made)[0]))]

    @property
    def entering(self) -> list[Layer]:
        return [layer for part in self.parts for layer in part.entering]

    def _make_rounds(self, each: Each) -> None:
        """One part a round."""
        for one in rounds_of(each, self.owner.made):
            values = {**self.owner.values, **one.values}
            step = bound_step(self.step, values)
            entering = tuple(x.with_key(one.key(x.key)) for x in resolve(step, self.owner.made)[0])
            self.parts.append(_Part(step, values, entering, one))

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

        def task(entering: Sequence[Layer], do: Callable[[], Sequence[Outcome]]) -> None:
            self.part_of.append((part, tuple(entering)))
            self.tasks.append(do)

        if isinstance(operation, EachLayer):

            def one(layer: Layer) -> Sequence[Outcome]:
                settings, context = self._settings(part, layer.key)
                return [operation.run(layer, settings, context)]

            for layer in part.entering:
                task([layer], partial(one, layer))
            return
        settings, context = self._settings(part, None)
        if isinstance(operation, Source):
            for source in operation.parts(settings, context):
                task([], partial(operation.read, source, settings, context))
        elif isinstance(operation, Gathering):
            task(part.entering, lambda: [operation.run(part.entering, settings, context)])
        elif isinstance(operation, Delivery):
            task(part.entering, lambda: operation.deliver(part.entering, settings, context))

    def _settings(self, part: _Part, key: str | None) -> tuple[Any, Context]:
        owner = self.owner
        own = None if key is None else part.own_key(key)
        values = settings_for(part.step, own, part.values)
        totals = tuple(values.pop("totals", ()))
        context = Context(
            owner.run_.folder, self.step.id, part.values, owner.fields, owner.document.crs or None, totals,
            self._watch, owner.desk, owner.document.path_parameters(), others_of(part.step, own, owner.made)[0],
            lambda layer, name: sld_for(owner.document, layer, name), owner.run_.chain,
        )  # fmt: skip
        try:
            return self.operation.Settings(**values), context
        except ValidationError:
            return validate(self.operation.Settings, values), context  # says in words what is wrong

    def _watch(self, done: int, of: int) -> None:
        self.owner.run_._check_stop(done, of)
        now = time.perf_counter()
        if now - self._told > 0.1:
            self._told = now
            self.owner.run_._tell(
                {"event": "progress", "step": self.step.id, "tasks": len(self.tasks), "tasks_done": len(self.results),
                 "done": done, "of": of, "seconds": now - self.begun}
            )  # fmt: skip

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
            failure = _plain(error, self.operation)
            self._first_failure = self._first_failure or failure
            self._failed_rounds += 1
            self.results[number] = [_failed_round(failure, part.round, entering)]

    def _failed(self, error: Exception, one: Round | None = None) -> EskretError:
        failure = _plain(error, self.operation)
        failure.at(f"step '{self.step.id}'" + (f", round '{one.label}'" if one is not None else ""))
        self._record(FAILED, (), failure.sentence())
        return failure

    def _record(self, state: str, outcomes: Sequence[Outcome], error: str = "", tell: bool = True) -> StepResult:
        result = StepResult(
            self.step.id, self.step.use, state, time.perf_counter() - self.begun,
            _once(i for o in outcomes for i in o.inputs), tuple(x for o in outcomes for x in o.outputs),
            tuple(dict.fromkeys(r for o in outcomes for r in o.remarks)), error,
        )  # fmt: skip
        self.owner.run_._steps[self.step.id] = result
        if error and tell:
            self.owner.run_._tell({"event": "step_finished", **result.to_json()})
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
        return operation.gather(mine, settings, context)


def _raise(error: EskretError) -> Sequence[Outcome]:
    raise error


def _in_round(outcome: Outcome, one: Round) -> Outcome:
    """An outcome whose layers are called after their round."""

    def key(name: str) -> str:
        return name if not name or name.endswith(f"_{one.label}") else one.key(name)

    return replace(
        outcome, layers=tuple(x.with_key(key(x.key)) for x in outcome.layers),
        inputs=tuple(replace(i, layer=key(i.layer)) if i.first else i for i in outcome.inputs),
        outputs=tuple(replace(o, layer=key(o.layer)) for o in outcome.outputs),
        remarks=tuple(replace(r, layer=key(r.layer) if r.layer else one.label) for r in outcome.remarks),
    )  # fmt: skip


def _failed_round(error: EskretError, one: Round, entering: Sequence[Layer]) -> Outcome:
    """What is told of a round that failed while the others go on: all that entered it is set aside."""
    reason = f"its round failed: {error.problem}"
    inputs = [
        InputAccount("from", x.key, len(x), SetAside.from_reasons([(reason, np.arange(len(x)))])) for x in entering
    ]
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


def _plain(error: Exception, operation: Operation) -> EskretError:
    """Any failure as one a person can read; a fault of the program says where it is."""
    if isinstance(error, EskretError):
        return error
    if isinstance(error, MemoryError):
        return EskretError(
            "there is not enough memory", way_out="Close other programs, or work on fewer layers at a time"
        )
    if isinstance(error, OSError):
        what = {28: "the disk is full", 13: "access is denied", 2: "the file is gone"}.get(error.errno or 0, str(error))
        return EskretError(what, place=str(error.filename or ""), way_out="Mend that and run again")
    where = traceback.extract_tb(error.__traceback__)[-1]
    return EskretError(
        f"'{operation.id}' failed with a fault of the program: {type(error).__name__}: {error} "
        f"({Path(where.filename).name}, line {where.lineno})",
        way_out="Nothing was written; please report it",
    )


def run_on_layer(operation: Operation, layer: Layer, settings: Mapping[str, Any], values: Mapping[str, Any]) -> Outcome:
    """Do an operation straight on one layer, accounts proved.

    Raises
    ------
    EskretError : a setting is wrong, or the operation cannot be done.
    """
    if not isinstance(operation, EachLayer):
        raise EskretError(f"'{operation.id}' does not work on a layer alone", way_out="Use it in a workflow")
    context = Context(Path.cwd(), operation.id, values)
    outcome = operation.run(layer, validate(operation.Settings, settings), context)
    prove(outcome, operation.relation)
    return outcome
