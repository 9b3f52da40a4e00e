"""Run a workflow: plan, rehearse, run, commit.

One pool of threads; only tasks that need no other task run in it (a layer, a file). A coordinator hands tasks out as
steps become ready, proves each step's accounts when its tasks are back, and tells what happens as events. Deliveries
are committed at the very end, all together.
"""

from __future__ import annotations

import errno
import os
import threading
import time
from collections.abc import Callable, Collection, Generator, Iterable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager, nullcontext
from contextvars import copy_context
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import Any

from eskret.core.accounts.account import Remark, State
from eskret.core.layer import Layer
from eskret.core.memory import Room, give_back, may_take
from eskret.errors import CheckError, Code, EskretError, RehearsalError, SettingError, StoppedError, TargetChangedError
from eskret.operations.base import Context, Delivered, Delivery, EachLayer, Gathering, Level, Operation, Outcome, PreparedPush
from eskret.operations.registry import operation_by_id, project
from eskret.operations.settings import layer_settings, validate
from eskret.workflow.cache import ResultCache, materialise
from eskret.workflow.cache.cached_layer import CachedLayer, LayerHandle, on_disk, spill, weight_of
from eskret.workflow.cache.spool import Spools
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.references import bound, dependents, order_of, others_of, sources_of
from eskret.workflow.outputs.recovery import recover
from eskret.workflow.outputs.transaction import LEFTOVER, OutputTransaction
from eskret.workflow.run.links import RowLinks
from eskret.workflow.run.rehearsal import rehearse
from eskret.workflow.run.rehearsal_memo import remember_passed, was_passed
from eskret.workflow.run.step import FAILED, MANY, StepResult, StepRun, prove

Event = dict[str, Any]
"""An event as JSON: ``event`` is its kind. run_started, step_started, progress, step_finished, run_finished."""

Keep = Callable[[str, Sequence[LayerHandle], Sequence[Outcome], Sequence[LayerHandle]], Mapping[str, Any]]
"""Stores a step's result: step id, layers that entered, outcomes, layers that its settings name; its answer is added to
the step_finished event."""

STOPPED = "stopped"


@dataclass(frozen=True)
class RunResult:
    """A run, whole: its state is the worst of its steps'."""

    state: str
    seconds: float
    steps: tuple[StepResult, ...] = ()
    outputs: tuple[Delivered, ...] = ()
    pushes: tuple[PreparedPush, ...] = ()
    error: str = ""
    started: str = ""
    title: str = ""
    values: Mapping[str, Any] = field(default_factory=dict)
    remarks: tuple[Remark, ...] = ()
    layers: Mapping[str, tuple[Layer, ...]] = field(default_factory=dict, repr=False)
    unmet: bool = False
    """Whether it failed because a check of the analyst's own did not hold."""
    written: bool = False
    """Whether the outputs are in their places. After that a run can only be *written, but ...*: ``error`` then says what."""
    code: Code = Code.GENERAL
    """What ``error`` is about, for programs."""
    held: Sequence[tuple[Delivered, CachedLayer]] = field(default=(), repr=False)
    """What was delivered, with its features as they lie in the cache; of what is not kept there, nothing. Where somebody else
    commits, it is filled in once that is done."""

    def to_json(self) -> dict[str, Any]:
        return {
            "state": self.state,
            "seconds": round(self.seconds, 3),
            "title": self.title,
            "started": self.started,
            "values": {k: v if isinstance(v, bool | int | float | str) else str(v) for k, v in self.values.items()},
            "steps": [s.to_json() for s in self.steps],
            "outputs": [o.to_json() for o in self.outputs],
            "pushes": [p.to_json() for p in self.pushes],
            "remarks": [r.to_json() for r in self.remarks],
            "error": self.error,
            "written": self.written,
            "code": str(self.code),
        }


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
    transaction : stage deliveries there and leave the commit to whoever brings it.
    checked : it was rehearsed by whoever runs it.
    figures_alone : make figures and nothing else, after an edit: nothing is delivered, recovered or remembered, what asks a service or is
        code of somebody's own is not done, and each step is done whose own branch is sound. What is given are the steps that the
        rehearsal found wrong.
    links : takes down which row came of which; every layer is then had whole.
    records : as an ``OutputTransaction`` has it, of a workflow not saved yet.
    keeping : where results are kept and taken up again; None does everything anew and keeps nothing.
    """

    def __init__(
        self,
        document: Document,
        values: Mapping[str, object] | None = None,
        *,
        workflow: Path | None = None,
        folder: Path | None = None,
        if_exists: str | None = None,
        on_event: Callable[[Event], None] | None = None,
        keep: Keep | None = None,
        hold: bool = False,
        write_nothing: bool = False,
        given: Mapping[str, Sequence[LayerHandle]] | None = None,
        chain: tuple[Path, ...] = (),
        transaction: OutputTransaction | None = None,
        checked: bool = False,
        figures_alone: Collection[str] | None = None,
        result_cache: ResultCache | None = None,
        links: RowLinks | None = None,
        records: Path | None = None,
    ) -> None:
        self.document = document
        self.workflow = workflow
        self.folder = folder or (workflow.parent if workflow else Path.cwd())
        self.if_exists = if_exists
        self.values = values
        self.tell = on_event or (lambda event: None)
        self.keep = keep
        self.hold = hold
        self._write_nothing = write_nothing or figures_alone is not None
        self.figures_alone = figures_alone
        self.given = {id: tuple(layers) for id, layers in (given or {}).items()}
        self.chain = chain or ((workflow.resolve(),) if workflow is not None else ())
        self._transaction = transaction
        self.shared = transaction is not None
        self._checked = checked or figures_alone is not None
        self.result_cache = result_cache
        self.links = links
        self.records = records
        self._stop = threading.Event()
        self.steps: dict[str, StepResult] = {}

    def stop(self) -> None:
        """Ask the run to stop; it does before the next task, or within one where that asks."""
        self._stop.set()

    def execute(self) -> RunResult:
        """Rehearse, run and commit. Never raises for what a person can mend: the result says it.

        Raises
        ------
        RehearsalError : the rehearsal found errors; nothing was run.
        """
        with project(self.folder), self.result_cache.at_work() if self.result_cache is not None else nullcontext():
            return self._execute()

    def _execute(self) -> RunResult:
        begun, started = time.perf_counter(), datetime.now(UTC).isoformat(timespec="seconds")
        told: tuple[Remark, ...] = ()
        if not self._checked:
            told = tuple(recovered_remarks(self.folder, self.workflow))
            try:
                if not was_passed(self):
                    self._rehearse()
            except StoppedError as stopped:
                seconds = time.perf_counter() - begun
                return RunResult(STOPPED, seconds, error=stopped.sentence(), started=started, title=self.document.title, code=Code.STOPPED)
        try:
            result = self._once(begun, started, told, again=self._transaction is None)
        except TargetChangedError as changed:
            # somebody wrote into an output while the steps ran: all is staged anew, once, from what is there now
            self.steps.clear()
            result = self._once(begun, started, (*told, staged_anew(changed)), again=False)
        self.tell({"event": "run_finished", **result.to_json()})
        return result

    def _once(self, begun: float, started: str, told: tuple[Remark, ...], again: bool) -> RunResult:
        """Run all steps and commit.

        Parameters
        ----------
        again : let whoever called know where somebody changed an output meanwhile, so that it can be done once more.

        Raises
        ------
        TargetChangedError : somebody did.
        """
        values = self.document.values(self.values)
        document = bound(self.document, values)
        transaction = self._transaction or OutputTransaction(self.workflow, self.folder, self.if_exists, self.document.title, self.records)
        self.tell({"event": "run_started", "steps": [s.id for s in self.document.steps if not s.off]})
        state, error, unmet, code, written = FAILED, "", False, Code.GENERAL, False
        outputs: tuple[Delivered, ...] = ()
        prepared: tuple[PreparedPush, ...] = ()
        remarks = told
        made: dict[str, tuple[LayerHandle, ...]] = dict(self.given)
        held: list[tuple[Delivered, CachedLayer]] = []
        spools = Spools()
        try:
            coordinator = Coordinator(self, document, transaction, values, made, spools)
            held = coordinator.held
            places = {s.id: n for n, s in enumerate(self.document.steps)}
            # in the order of the steps, whichever of them was ready first
            delivered = sorted(coordinator.run(), key=lambda d: places.get(d.step, -1))
            self.check_stop(0, 0)
            if self._transaction is not None:
                outputs = tuple(delivered)
                self._transaction.then.append(coordinator.keep_delivered)
            elif not self._write_nothing:
                outputs = transaction.commit(delivered)
                # from here on nothing undoes it: what goes wrong is told beside it
                written = True
                coordinator.keep_delivered(outputs)
                remarks += (*told_beside(transaction), *leftovers_of(transaction, outputs))
            prepared = tuple(coordinator.prepared)
            looks = any(s.state == State.LOOK for s in self.steps.values())
            state = State.LOOK if looks or any(r.look for r in remarks) else State.BALANCED
            if any(s.state == FAILED for s in self.steps.values()):
                state = FAILED  # of figures alone, whose other branches went on
            if transaction.problems:
                state, error, code = FAILED, written_but(transaction.problems), Code.INCOMPLETE
        except StoppedError as stopped:
            state, error, code = STOPPED, stopped.sentence(), Code.STOPPED
        except CheckError as failure:
            error, unmet, code = failure.sentence(), True, failure.code
        except TargetChangedError as failure:
            if again:
                spools.drop()
                raise
            error, code = failure.sentence(), failure.code
        except (EskretError, OSError) as failure:
            error, code = said(failure, written)
        finally:
            if self._transaction is None and not written:
                transaction.rollback()
        layers = {n: tuple(map(materialise, x)) for n, x in made.items()} if self.hold else {}
        spools.drop()
        held[:] = [(d, x) for d, x in held if x.home.exists()]
        order = [s.id for s in self.document.steps]
        result = RunResult(
            str(state),
            time.perf_counter() - begun,
            tuple(self.steps[i] for i in order if i in self.steps),
            outputs,
            prepared,
            error,
            started,
            self.document.title,
            values,
            remarks,
            layers,
            unmet,
            written,
            code,
            held,
        )
        if state in (State.BALANCED, State.LOOK) and not self._checked and not self._write_nothing:
            remember_passed(self, coordinator.reads)
        return result

    def _rehearse(self) -> None:
        found = rehearse(
            self.document,
            self.values,
            workflow=self.workflow,
            folder=self.folder,
            if_exists=self.if_exists,
            watch=self.check_stop,
            chain=self.chain,
            given={id: [x.facts() for x in layers] for id, layers in self.given.items()},
            records=self.records,
        )
        if found.errors:
            raise RehearsalError(found.errors)

    def check_stop(self, done: int, of: int) -> None:
        if self._stop.is_set():
            raise StoppedError


def said(failure: EskretError | OSError, written: bool) -> tuple[str, Code]:
    """A failure as a sentence, with its code; after the commit point as one that says that everything is written."""
    if isinstance(failure, EskretError):
        text, code = failure.sentence(), failure.code
    else:
        text, code = f"{failure.filename or 'The disk'}: {failure.strerror or failure}.", Code.GENERAL
        if failure.errno == errno.ENOSPC:
            code = Code.DISK_FULL
    if written:
        return f"Everything was written, but: {text}", Code.INCOMPLETE
    return text if isinstance(failure, EskretError) else f"{text} Nothing was written.", code


def staged_anew(changed: TargetChangedError) -> Remark:
    """What is told of a run all of whose outputs were staged once more."""
    return Remark(
        f"{changed.place or 'An output'} was changed by somebody else while this run was under way; all outputs were staged anew, "
        "from what is there now",
        look=True,
        code=Code.STAGED_ANEW,
    )


def told_beside(transaction: OutputTransaction) -> tuple[Remark, ...]:
    """What went wrong beside a commit whose outputs are all in place."""
    return tuple(Remark(f"Written, but {path}: {why}", look=True, code=Code.INCOMPLETE) for path, why in transaction.told)


def written_but(problems: Sequence[tuple[Path, str]]) -> str:
    """What a commit could not complete, as a sentence."""
    path, why = problems[0]
    more = f", and {len(problems) - 1} more" if len(problems) > 1 else ""
    return f"Written, but not all of it is done: {path}: {why}{more}. 'eskret recover {path.parent}' completes it."


def recovered_remarks(folder: Path, workflow: Path | None) -> list[Remark]:
    """Complete what a crash cut short, and say so."""
    found = recover(folder, workflow)
    return [Remark(text, look=True, code=Code.NOT_RECOVERED if one.left else Code.RECOVERED) for one in found for text in one.sentences()]


def leftovers_of(transaction: OutputTransaction, outputs: Sequence[Delivered]) -> tuple[Remark, ...]:
    """What earlier runs wrote and this one did not, as remarks."""
    return tuple(
        Remark(f"{p.name}{', layer ' + repr(n) if n else ''} is {LEFTOVER} and stays as it is", code=Code.LEFTOVER)
        for p, n in transaction.leftovers(outputs)
    )


class Coordinator:
    """Hands out tasks, collects outcomes, proves accounts. Lives for one run, in one thread."""

    def __init__(
        self,
        run: Run,
        document: Document,
        transaction: OutputTransaction,
        values: Mapping[str, object],
        made: dict[str, tuple[LayerHandle, ...]],
        spools: Spools,
    ) -> None:
        self.run_ = run
        self.document = document
        self.transaction = transaction
        self.values = values
        self.made = made
        self.fields = {p.name: str(values[p.name]) for p in self.document.parameters if p.type == "field"}
        self.delivered: list[Delivered] = []
        self.prepared: list[PreparedPush] = []
        self.held: list[tuple[Delivered, CachedLayer]] = []
        self.reads: dict[str, set[Path] | None] = {}
        """The files that each step was seen to read; None for one of which that cannot be told."""
        self.staged: list[tuple[str, Sequence[Outcome], Sequence[LayerHandle]]] = []
        self.spools = spools
        self.memory = Room(may_take())
        self.resident: dict[str, int] = {}
        """Bytes of the large layers in memory that each step has left there."""
        self.left: set[str] = set()
        """Steps that are not done, where figures alone are made."""
        self.waiting = order_of(self.document, run.given)
        if run.figures_alone is not None:
            self._leave({*run.figures_alone, *(s.id for s in self.document.steps if not s.off and not (makes_figures(s) or stands(s)))})
        self.consumers = {s.id: sum(any(r.step == s.id for r in sources_of(t)) for t in self.document.steps) for s in self.document.steps}

    def run(self) -> list[Delivered]:
        workers = max(2, os.cpu_count() or 2)
        with ThreadPoolExecutor(workers, thread_name_prefix="eskret") as pool:
            open_steps: dict[Future[Sequence[Outcome]], tuple[StepRun, int]] = {}
            # each task puts itself here when it is done: to ask all of thousands again and again takes the square of them
            done: SimpleQueue[Future[Sequence[Outcome]]] = SimpleQueue()
            try:
                while self.waiting or open_steps:
                    self.run_.check_stop(0, 0)
                    for id in [i for i in self.waiting if self._ready(i)]:
                        self.waiting.remove(id)
                        with self._by_itself(id):
                            step_run = self._begin(id)
                        if id in self.left:
                            continue
                        for number, task in enumerate(step_run.tasks):
                            future = pool.submit(copy_context().run, task)  # which project it is of goes along
                            open_steps[future] = (step_run, number)
                            future.add_done_callback(done.put)
                        if not step_run.tasks:
                            with self._by_itself(id):
                                self._finish(step_run)
                    try:
                        future = done.get(timeout=0.2)
                    except Empty:
                        continue
                    step_run, number = open_steps.pop(future)
                    if step_run.step.id in self.left:
                        continue  # another of its tasks failed
                    with self._by_itself(step_run.step.id):
                        step_run.take(number, future)
                        if step_run.complete:
                            self._finish(step_run)
            except BaseException:
                # tasks that did not begin never will; those that did see the stop at their next look
                self.run_.stop()
                for future in open_steps:
                    future.cancel()
                raise
        return self.delivered

    @contextmanager
    def _by_itself(self, id: str) -> Generator[None, None, None]:
        """Where figures alone are made, a step that fails takes only those along that come from it; what it said was told already."""
        try:
            yield
        except StoppedError:
            raise
        except (EskretError, OSError):
            if self.run_.figures_alone is None:
                raise
            self._leave({id})

    def _leave(self, ids: Iterable[str]) -> None:
        """Do not do these steps, nor any that takes from one of them."""
        self.left |= dependents(self.document, ids)
        self.waiting = [i for i in self.waiting if i not in self.left]

    def keep_delivered(self, outputs: Sequence[Delivered]) -> None:
        """Keep what was delivered, now that it is in its place."""
        known = {(d.path, d.layer, d.step): d for d in outputs}
        result_cache = self.run_.result_cache
        for key, outcomes, entering in self.staged if result_cache is not None else ():
            assert result_cache is not None
            told = [replace(o, delivered=tuple(known.get((d.path, d.layer, d.step), d) for d in o.delivered)) for o in outcomes]
            result_cache.put(key, told, entering)
            for outcome in told:
                first = on_disk(outcome.layers[0]) if outcome.layers else None
                self.held += [(d, first) for d in outcome.delivered if first is not None and first.home.exists()]

    def _ready(self, id: str) -> bool:
        return all(r.step in self.made for r in sources_of(self.document.step(id)))

    def _begin(self, id: str) -> StepRun:
        step = self.document.step(id)
        step_run = StepRun(self, step)
        if not step.off:
            self.run_.tell({"event": "step_started", "step": id})
            step_run.prepare()
        return step_run

    def _finish(self, step_run: StepRun) -> None:
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
            for outcome in outcomes:
                first: LayerHandle | None = outcome.layers[0] if outcome.layers else None
                if isinstance(first, CachedLayer):
                    self.held += [(d, first.release()) for d in outcome.delivered]
            self.run_.steps[step.id] = result
            others = [x for layers in others_of(step, None, self.made)[0].values() for x in layers]
            extra = self.run_.keep(step.id, entered, outcomes, others) if self.run_.keep else {}
            self.run_.tell({"event": "step_finished", **result.to_json(), **extra})
            if result.error:
                raise CheckError(result.error.rstrip("."))
        for reference in {r.step for r in sources_of(step)} - set(self.run_.given):
            self.consumers[reference] -= 1
            if not self.consumers[reference] and not self.run_.hold:
                self.made[reference] = ()
                self.resident.pop(reference, None)
        self._let_go(step.id)
        chunked = any(isinstance(x, CachedLayer) and x.chunked for x in (*step_run.entering, *self.made[step.id]))
        step_run.let_go()
        if chunked:
            give_back()

    def _let_go(self, id: str) -> None:
        """What a step left goes to disk where the layers that later steps need would take too much of the memory."""
        large = [x for x in self.made[id] if isinstance(x, Layer) and len(x) >= MANY]
        size = sum(map(weight_of, large))
        if large and sum(self.resident.values()) + size > self.memory.size // 4:
            self.made[id] = tuple(spill(x, self.spools.place()) if isinstance(x, Layer) and len(x) >= MANY else x for x in self.made[id])
        elif size:
            self.resident[id] = size


def makes_figures(step: Step) -> bool:
    """Whether a step can be done for its figures alone: it delivers nothing, asks nobody, and is no code that may do anything."""
    try:
        operation = operation_by_id(step.use)
    except EskretError:
        return False
    return operation.only_figures and not isinstance(operation, Delivery)


def stands(step: Step) -> bool:
    """Whether what a step last made stands for it where figures alone are made."""
    try:
        return operation_by_id(step.use).stands
    except EskretError:
        return False


def _traced(outcome: Outcome, step: str, entering: Mapping[str, LayerHandle]) -> Outcome:
    """The outcome with its layers on the line of those they were made of."""
    of = {a.layer: entering[a.layer] for a in outcome.inputs if a.setting == "from" and a.layer in entering}
    first = next(iter(of.values()), None)
    return replace(outcome, layers=tuple(x.with_provenance(step, of.get(x.key, first)) for x in outcome.layers))


def run_on_layers(operation: Operation, layers: Sequence[Layer], settings: Mapping[str, object], values: Mapping[str, object]) -> Outcome:
    """Do an operation straight on layers: foretold as in a workflow, done, its accounts proved.

    Parameters
    ----------
    layers : one, or for an operation that gathers them as many as there are.
    settings : the operation's; one that names a layer of another step takes a layer, or several in a list.

    Raises
    ------
    RehearsalError : it is known beforehand that it cannot be done so.
    CheckError : it is a check, and does not hold.
    EskretError : a setting is wrong, or the operation cannot be done.
    """
    if not isinstance(operation, EachLayer | Gathering):
        raise EskretError(f"'{operation.id}' does not work on layers alone", way_out="Use it in a workflow")
    if isinstance(operation, EachLayer) and len(layers) != 1:
        raise EskretError(f"'{operation.id}' works on one layer at a time, and {len(layers)} were given", way_out="Call it for each")
    given, others = _with_layers(operation, settings)
    checked = validate(operation.Settings, given)
    context = Context(Path.cwd(), operation.id, values, others=others)
    known = replace(context, others={name: [x.facts() for x in layers] for name, layers in others.items()})
    facts = [x.facts() for x in layers]
    told = operation.forecast(facts[0], checked, known) if isinstance(operation, EachLayer) else operation.forecast(facts, checked, known)
    errors = [f for f in told.findings if f.level is Level.ERROR]
    if errors:
        raise RehearsalError(errors)
    outcome = operation.run(layers[0], checked, context) if isinstance(operation, EachLayer) else operation.run(layers, checked, context)
    prove(outcome, operation.relation)
    if outcome.failed:
        raise CheckError(outcome.failed, way_out="Mend the layer, or let the check only tell")
    return outcome


def _with_layers(operation: Operation, settings: Mapping[str, object]) -> tuple[dict[str, object], dict[str, tuple[Layer, ...]]]:
    """Settings in which a layer stands by its key, and the layers by setting."""
    given, others = dict(settings), {}
    for name in layer_settings(operation.Settings):
        value = settings.get(name)
        if value is None or (isinstance(value, str) and not value):
            continue
        layers = tuple(value) if isinstance(value, list | tuple) else (value,)
        if not layers or not all(isinstance(x, Layer) for x in layers):
            raise SettingError(f"'{name}' takes a layer, and {value!r} is none", setting=name, way_out="Give it one: eskret.read(...)")
        given[name], others[name] = layers[0].key, layers
    return given, others
