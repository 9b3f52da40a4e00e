"""A whole workflow run in rounds: once a row of values for its parameters, all outputs committed together or round by round."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from eskret.core.accounts.account import Remark
from eskret.core.words import pluralise
from eskret.errors import DocumentError, EskretError, RehearsalError, StoppedError, TargetChangedError
from eskret.formats import sources
from eskret.operations.base import Delivered, Finding
from eskret.workflow.cache import ResultCache
from eskret.workflow.model.choices import offers
from eskret.workflow.model.document import Document
from eskret.workflow.model.iteration import Iteration, labelled
from eskret.workflow.model.parameters import Parameter, listed
from eskret.workflow.outputs.transaction import OutputTransaction
from eskret.workflow.run.engine import (
    STOPPED,
    Event,
    Run,
    RunResult,
    leftovers_of,
    recovered_remarks,
    said,
    staged_anew,
    told_beside,
    written_but,
)
from eskret.workflow.run.rehearsal import Rehearsal, rehearse
from eskret.workflow.run.step import FAILED

_WORSE = ("balanced", "look", "stopped", "failed")


@dataclass(frozen=True)
class IterationResult:
    """One round: its values, and its run, or why there is none."""

    label: str
    values: Mapping[str, Any]
    run: RunResult | None = None
    error: str = ""

    @property
    def state(self) -> str:
        return self.run.state if self.run is not None else FAILED

    def to_json(self) -> dict[str, Any]:
        missing: dict[str, Any] = {"state": FAILED, "error": self.error, "steps": []}
        told = self.run.to_json() if self.run is not None else missing
        values = {k: v if isinstance(v, bool | int | float | str) else str(v) for k, v in self.values.items()}
        return {**told, "label": self.label, "values": {**told.get("values", {}), **values}}


@dataclass(frozen=True)
class ForEachResult:
    """All rounds. The state is that of the worst."""

    state: str
    seconds: float
    rounds: tuple[IterationResult, ...]
    outputs: tuple[Delivered, ...] = ()
    remarks: tuple[Remark, ...] = ()
    error: str = ""
    started: str = ""
    title: str = ""
    unmet: bool = False
    written: bool = False

    def to_json(self) -> dict[str, Any]:
        return {
            "state": self.state,
            "seconds": round(self.seconds, 3),
            "title": self.title,
            "started": self.started,
            "rounds": [r.to_json() for r in self.rounds],
            "outputs": [o.to_json() for o in self.outputs],
            "remarks": [r.to_json() for r in self.remarks],
            "error": self.error,
            "written": self.written,
        }


def rows_for(document: Document, text: str, values: Mapping[str, Any], folder: Path) -> list[dict[str, Any]]:
    """The rows of values that somebody asks for.

    Parameters
    ----------
    text : a table (a file whose columns are parameters), ``name`` of a parameter that has choices, for all of them, or
        ``name=a,b`` for some values.
    values : of the other parameters: choices can hang on them.

    Raises
    ------
    EskretError : the table cannot be read, or there is no such parameter or nothing to choose from.
    """
    known = {p.name: p for p in document.parameters}
    name, equals, given = text.partition("=")
    name = name.strip()
    if equals and name in known:
        return [{name: v.strip()} for v in given.split(",") if v.strip()]
    if name in known:
        offer = offers(document, values, folder)[name]
        if offer.problem or not offer.choices:
            raise DocumentError(
                offer.problem.rstrip(".") or f"parameter '{name}' has no choices to go through",
                place=name,
                way_out=f"Name some values, such as {name}=a,b, or a table with a column '{name}'",
            )
        return [{name: v} for v in offer.choices]
    path = Path(text) if Path(text).is_absolute() else folder / text
    if not path.exists():
        raise DocumentError(
            f"'{text}' is neither a parameter nor a table that is there",
            way_out=f"Name a table file, or one of {listed(list(known)) or 'no parameters'}",
        )
    return rows_in(path, known)


def rows_in(path: Path, known: Mapping[str, Parameter]) -> list[dict[str, Any]]:
    """The rows of a table whose columns are parameters; an empty cell leaves the parameter as it is.

    Raises
    ------
    EskretError : it cannot be read, or a column is no parameter.
    """
    name = sources.layer_names(path)[0]
    table = sources.read(path, name, "rounds").layer.table
    for column in table.column_names:
        if column not in known:
            raise DocumentError(
                f"its column '{column}' is no parameter of this workflow",
                place=path.name,
                way_out=f"There are {', '.join(known) or 'none'}",
            )
    return [{k: v for k, v in row.items() if v is not None and v != ""} for row in table.to_pylist()]


class ForEachRun:
    """A run in rounds.

    Parameters
    ----------
    rows : values of parameters, one mapping a round.
    values : of the parameters that the rows leave alone.
    go_on : commit each round by itself and go on after one that failed; else all are committed together, or none.
    on_event : as for a run; every event also has the ``round`` it is of.
    keeping : as for a run.
    """

    def __init__(
        self,
        document: Document,
        rows: Sequence[Mapping[str, Any]],
        values: Mapping[str, Any] | None = None,
        *,
        workflow: Path | None = None,
        folder: Path | None = None,
        if_exists: str | None = None,
        go_on: bool = False,
        on_event: Callable[[Event], None] | None = None,
        result_cache: ResultCache | None = None,
    ) -> None:
        self.document = document
        self.rounds: list[Iteration] = labelled(rows) if rows else []
        self.workflow = workflow
        self.folder = folder or (workflow.parent if workflow else Path.cwd())
        self.if_exists = if_exists
        self.go_on = go_on
        self.result_cache = result_cache
        self._given = dict(values or {})
        self._tell = on_event or (lambda event: None)
        self._stop = threading.Event()
        self._current: Run | None = None
        self.runs: list[Run | None] = []
        """The run of each round so far; None for one that its rehearsal did not let begin."""

    def stop(self) -> None:
        """Ask the run to stop: the round under way, and those to come."""
        self._stop.set()
        if self._current is not None:
            self._current.stop()

    def rehearse(self) -> list[Rehearsal]:
        """Rehearse every round; two that write the same output are found.

        Raises
        ------
        DocumentError : there is no round.
        StoppedError : it was stopped.
        """
        if not self.rounds:
            raise DocumentError("there are no rounds to run", way_out="Name a table with rows, or a parameter with choices")
        transaction = OutputTransaction(self.workflow, self.folder, self.if_exists)
        found = []
        for number, one in enumerate(self.rounds):
            transaction.round = one.label
            self._tell({"event": "round_rehearsed", "round": number, "of": len(self.rounds)})
            values = {**self._given, **one.values}
            told = rehearse(
                self.document,
                values,
                workflow=self.workflow,
                folder=self.folder,
                if_exists=self.if_exists,
                watch=self._watch,
                transaction=transaction,
            )
            found.append(told)
        return found

    def _watch(self, done: int, of: int) -> None:
        if self._stop.is_set():
            raise StoppedError

    def execute(self) -> ForEachResult:
        """Rehearse all rounds, then run them one after the other.

        Raises
        ------
        RehearsalError : a rehearsal found errors, and a failing round stops the others.
        DocumentError : there is no round.
        """
        begun, started = time.perf_counter(), datetime.now(UTC).isoformat(timespec="seconds")
        told = tuple(recovered_remarks(self.folder, self.workflow))
        try:
            rehearsed = self.rehearse()
        except StoppedError as stopped:
            return self._result(STOPPED, begun, started, [], (), (), stopped.sentence())
        errors = [_of_round(f, r) for r, found in zip(self.rounds, rehearsed, strict=True) for f in found.errors]
        if errors and (not self.go_on or all(found.errors for found in rehearsed)):
            raise RehearsalError(errors)
        try:
            return self._all_rounds(begun, started, rehearsed, told, again=not self.go_on)
        except TargetChangedError as changed:
            self.runs.clear()
            return self._all_rounds(begun, started, rehearsed, (*told, staged_anew(changed)), again=False)

    def _all_rounds(
        self, begun: float, started: str, rehearsed: Sequence[Rehearsal], told: tuple[Remark, ...], again: bool
    ) -> ForEachResult:
        shared = None if self.go_on else self._transaction()
        results: list[IterationResult] = []
        outputs: list[Delivered] = []
        error, written = "", False
        try:
            for number, (one, found) in enumerate(zip(self.rounds, rehearsed, strict=True)):
                self._tell({"event": "round_started", "round": number, "label": one.label, "of": len(self.rounds)})
                result = self._round(number, one, found, shared)
                results.append(result)
                self._tell({"event": "round_finished", "round": number, **result.to_json()})
                if result.state == STOPPED or (result.state == FAILED and shared is not None):
                    why = result.run.error if result.run is not None else result.error
                    error = why if result.state == STOPPED else f"Round '{one.label}' failed. {why}"
                    break
                outputs += result.run.outputs if result.run is not None else ()
            if shared is not None and not error:
                outputs = list(shared.commit(outputs))
                written = True
                error = written_but(shared.problems) if shared.problems else ""
        except TargetChangedError as failure:
            if again:
                raise
            error = failure.sentence()
        except (EskretError, OSError) as failure:
            error = said(failure, written)[0]
        finally:
            if shared is not None and not written:
                shared.rollback()
        if shared is not None and error and not written:
            outputs = []
        states = [r.state for r in results] + ([FAILED] if error else [])
        state = max(states, key=_WORSE.index) if states else FAILED
        if any(r.state == STOPPED for r in results):
            state = STOPPED
        if state == "balanced" and any(r.look for r in told):
            state = "look"
        beside = told_beside(shared) if shared is not None else ()
        remarks = (*told, *beside, *(leftovers_of(shared or self._transaction(), outputs) if outputs else ()))
        return self._result(state, begun, started, results, outputs, remarks, error or _failures(results), written)

    def _round(self, number: int, one: Iteration, found: Rehearsal, shared: OutputTransaction | None) -> IterationResult:
        self.runs.append(None)
        if found.errors:
            return IterationResult(one.label, one.values, error=RehearsalError(found.errors).sentence())
        if shared is not None:
            shared.round = one.label
        self._current = Run(
            self.document,
            {**self._given, **one.values},
            workflow=self.workflow,
            folder=self.folder,
            if_exists=self.if_exists,
            on_event=lambda e: self._tell({**e, "round": number}),
            transaction=shared,
            checked=True,
            result_cache=self.result_cache,
        )
        self.runs[-1] = self._current
        if self._stop.is_set():
            self._current.stop()
        return IterationResult(one.label, one.values, self._current.execute())

    def _transaction(self) -> OutputTransaction:
        return OutputTransaction(self.workflow, self.folder, self.if_exists, self.document.title)

    def _result(
        self,
        state: str,
        begun: float,
        started: str,
        results: Sequence[IterationResult],
        outputs: Sequence[Delivered],
        remarks: tuple[Remark, ...],
        error: str,
        written: bool = False,
    ) -> ForEachResult:
        unmet = any(r.run is not None and r.run.unmet for r in results)
        result = ForEachResult(
            state,
            time.perf_counter() - begun,
            tuple(results),
            tuple(outputs),
            remarks,
            error,
            started,
            self.document.title,
            unmet,
            written or any(r.run is not None and r.run.written for r in results),
        )
        self._tell({"event": "rounds_finished", **result.to_json()})
        return result


def _of_round(finding: Finding, one: Iteration) -> Finding:
    return replace(finding, text=f"round '{one.label}': {finding.text}")


def _failures(results: Sequence[IterationResult]) -> str:
    failed = [r for r in results if r.state == FAILED]
    if not failed:
        return ""
    first = failed[0].run.error if failed[0].run is not None else failed[0].error
    names = ", ".join(r.label for r in failed[:8]) + (" ..." if len(failed) > 8 else "")
    return f"{len(failed)} of {pluralise(len(results), 'round')} failed ({names}); the others are saved. {failed[0].label}: {first}"
