"""Large layers a chunk at a time: each worked on and proved by itself, what leaves written to disk, the accounts added up."""

from __future__ import annotations

import math
import os
from collections import deque
from collections.abc import Callable, Generator, Iterable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing
from contextvars import copy_context
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

import numpy as np

from eskret.core.accounts.account import Altered, ControlTotal, InputAccount, OutputAccount, Relation, Remark, SetAside, added_up
from eskret.core.ahead import ahead
from eskret.core.layer import Layer
from eskret.errors import Code
from eskret.formats.reading import Watch
from eskret.operations.base import Context, EachLayer, Outcome, Source
from eskret.workflow.cache.cached_layer import CachedLayer, weight_of
from eskret.workflow.cache.spool import Spool

_ROOM = 256 << 20
"""Bytes of chunks that are worked on at a time, at most."""

Prove = Callable[[Outcome], None]
T = TypeVar("T")


def run_in_chunks(
    operation: EachLayer, layer: CachedLayer, settings: object, context: Context, home: Path, prove: Prove, room: int = _ROOM
) -> Outcome:
    """Do an operation on a layer that lies on disk in chunks.

    Parameters
    ----------
    home : a folder of its own for what leaves.
    prove : of each chunk's outcome, with its lineage, before that is dropped.
    room : bytes that chunks may take that are worked on at a time; one is, however large.

    Raises
    ------
    EskretError : the operation failed, or its accounts disagree.
    """
    inner = replace(context, whole=layer.facts())

    def work(chunk: Layer, done: int) -> Outcome:
        context.watch(done, len(layer))
        return operation.run(chunk, settings, replace(inner, watch=_within(context.watch, done, len(layer))))

    def outcomes() -> Generator[Outcome, None, None]:
        """In the order of the chunks, several of which are worked on at a time, as far as there is room for them."""
        under_way: deque[tuple[Future[Outcome], int]] = deque()
        done = weight = 0
        with ThreadPoolExecutor(os.cpu_count() or 2) as pool, closing(ahead(layer.chunks())) as coming:
            try:
                for chunk in coming:
                    mine = weight_of(chunk)
                    while under_way and (len(under_way) > (os.cpu_count() or 2) or weight + mine > min(room, _ROOM)):
                        future, less = under_way.popleft()
                        weight -= less
                        yield future.result()
                    under_way.append((pool.submit(copy_context().run, work, chunk, done), mine))
                    weight += mine
                    done += len(chunk)
                while under_way:
                    yield under_way.popleft()[0].result()
            finally:
                for future, _ in under_way:
                    future.cancel()

    return gathered(outcomes(), home, prove)


def read_in_chunks(
    operation: Source, part: object, settings: object, context: Context, home: Callable[[], Path | None], prove: Prove
) -> Outcome | None:
    """Do a task of a source in chunks; None where it is to be done whole."""
    coming = operation.chunks(part, settings, context)
    place = home() if coming is not None else None
    return None if coming is None or place is None else gathered(coming, place, prove)


def gathered(outcomes: Iterable[Outcome], home: Path, prove: Prove) -> Outcome:
    """Outcomes of chunks as one: its layer on disk, its accounts added up."""
    spool, whole = Spool(home), Merged()
    with closing(ahead(outcomes)) as coming:
        for outcome in coming:
            prove(outcome)
            (layer,) = outcome.layers
            spool.add(layer)
            whole.add(outcome)
    return whole.outcome(spool.close())


def _within(watch: Watch, done: int, of: int) -> Watch:
    """Hears of progress within a chunk what it is of the whole."""
    return lambda mine, _: watch(done + mine, of)


class Merged:
    """The accounts of chunks, added up in their order."""

    def __init__(self) -> None:
        self._inputs: dict[tuple[str, str], list[InputAccount]] = {}
        self._outputs: list[OutputAccount] = []
        self._remarks: list[Remark] = []
        self._relation: Relation | None = None
        self._failed = ""

    def add(self, outcome: Outcome) -> None:
        """The accounts of the next chunk."""
        for account in outcome.inputs:
            self._inputs.setdefault((account.setting, account.layer), []).append(account)
        self._outputs += outcome.outputs
        self._remarks = added_up(self._remarks, outcome.remarks)
        self._relation = outcome.relation or self._relation
        self._failed = self._failed or outcome.failed

    def outcome(self, layer: CachedLayer) -> Outcome:
        """All of it, with the layer that was made. Lineage was proved chunk by chunk, and is not kept."""
        inputs = tuple(_input(accounts) if accounts[0].first else _other(accounts) for accounts in self._inputs.values())
        remarks = [r for r in self._remarks if not len(layer) or r.code is not Code.NOTHING_LEFT]
        layers: tuple[Layer, ...] = (layer,)  # type: ignore[assignment]
        return Outcome(layers, inputs, (_output(self._outputs),), None, tuple(remarks), relation=self._relation, failed=self._failed)


def _input(accounts: Sequence[InputAccount]) -> InputAccount:
    """Rows one behind the other."""
    starts = np.concatenate([[0], np.cumsum([a.rows for a in accounts])])
    reasons: dict[str, int] = {}
    rows, codes = [], []
    altered: dict[tuple[str, str], list[tuple[np.ndarray, np.ndarray | None]]] = {}
    for start, one in zip(starts, accounts, strict=False):
        numbers = np.array([reasons.setdefault(r, len(reasons)) for r in one.set_aside.reasons], np.int16)
        if len(one.set_aside):
            rows.append(one.set_aside.rows + start)
            codes.append(numbers[one.set_aside.codes])
        for change in one.altered:
            altered.setdefault((change.what, change.unit), []).append((change.rows + start, change.amounts))
    aside = SetAside(np.concatenate(rows), np.concatenate(codes), tuple(reasons)) if rows else SetAside()
    changes = tuple(
        Altered(what, np.concatenate([r for r, _ in parts]), _joined([a for _, a in parts]), unit)
        for (what, unit), parts in altered.items()
    )
    return replace(accounts[0], rows=int(starts[-1]), set_aside=aside, altered=changes)


def _joined(amounts: Sequence[np.ndarray | None]) -> np.ndarray | None:
    there = [a for a in amounts if a is not None]
    return np.concatenate(there) if len(there) == len(amounts) else None


def _other(accounts: Sequence[InputAccount]) -> InputAccount:
    """The rows of a layer that a setting names: unused is what no chunk used."""
    first = accounts[0]
    if any(not len(a.set_aside) for a in accounts):
        return replace(first, set_aside=SetAside())
    rows = first.set_aside.rows
    for one in accounts[1:]:
        rows = np.intersect1d(rows, one.set_aside.rows, assume_unique=True)
    kept = np.isin(first.set_aside.rows, rows, assume_unique=True)
    return replace(first, set_aside=SetAside(first.set_aside.rows[kept], first.set_aside.codes[kept], first.set_aside.reasons))


def _output(accounts: Sequence[OutputAccount]) -> OutputAccount:
    totals: dict[tuple[str, str], list[float]] = {}
    controls: dict[tuple[str, str], list[ControlTotal]] = {}
    for one in accounts:
        for name, value, unit in one.totals:
            totals.setdefault((name, unit), []).append(value)
        for control in one.controls:
            controls.setdefault((control.name, control.unit), []).append(control)
    return OutputAccount(
        accounts[0].layer,
        sum(a.rows for a in accounts),
        tuple((name, math.fsum(values), unit) for (name, unit), values in totals.items()),
        tuple(_control(found) for found in controls.values()),
        accounts[0].like,
    )


def _control(found: Sequence[ControlTotal]) -> ControlTotal:
    if found[0].worst:
        return max(found, key=lambda c: abs(float(c.expected) - float(c.found)))
    return replace(found[0], expected=_sum([c.expected for c in found]), found=_sum([c.found for c in found]))


def _sum(figures: Iterable[T]) -> T:
    there = list(figures)
    return math.fsum(there) if any(isinstance(f, float) for f in there) else sum(there[1:], there[0])  # type: ignore
