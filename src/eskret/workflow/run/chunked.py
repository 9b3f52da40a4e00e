"""Large layers a chunk or a part at a time: each worked on and proved by itself, what leaves written to disk, the accounts added up."""

from __future__ import annotations

import math
import os
import shutil
from collections import deque
from collections.abc import Callable, Generator, Iterable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import closing
from contextvars import copy_context
from dataclasses import replace
from itertools import pairwise
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from eskret.core.accounts.account import Altered, ControlTotal, InputAccount, OutputAccount, Relation, Remark, SetAside, added_up
from eskret.core.ahead import ahead
from eskret.core.layer import Layer
from eskret.core.layer import chunks as chunking
from eskret.core.words import PER_CENT
from eskret.errors import Code
from eskret.formats.reading import Watch
from eskret.operations.base import Context, EachLayer, Once, Outcome, Source
from eskret.workflow.cache.cached_layer import CachedLayer, LayerHandle, spill, weight_of
from eskret.workflow.cache.spool import Spool

_ROOM = 256 << 20
"""Bytes of chunks that are worked on at a time, at most."""
_PARTS = 100
"""Parts of a layer at most: each takes three open files while they are put down."""

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
    inner = replace(context, whole=layer.facts(), large=layer, once=Once())

    def work(chunk: Layer, done: int) -> Outcome:
        context.watch(done, len(layer))
        return operation.run(chunk, settings, replace(inner, begins=done, watch=_within(context.watch, done, len(layer))))

    return _gathered(_at_work(work, ((chunk, None) for chunk in layer.chunks()), room), home, prove)


def run_in_parts(
    operation: EachLayer, layer: CachedLayer, settings: object, context: Context, home: Path, prove: Prove, room: int = _ROOM
) -> Outcome:
    """Do an operation on a layer that lies on disk in parts of rows that belong together, which are put down there first.

    Parameters
    ----------
    home, prove, room : as ``run_in_chunks`` has them.

    Raises
    ------
    EskretError : the operation failed, or its accounts disagree.
    """
    part, groups = _parts(operation.places(layer, settings))
    inner, twice = replace(context, whole=layer.facts(), large=layer, once=Once()), 2 * len(layer)
    ends = np.cumsum(np.bincount(part))
    asked = operation.fields_asked(settings)
    some = [n for n in layer.field_names if n in asked] if asked is not None and set(asked) <= set(layer.field_names) else None

    def work(one: Layer, done: int) -> Outcome:
        # what is read and put down counts as much as what is then worked on
        context.watch(len(layer) + done, twice)
        group = int(groups[np.searchsorted(ends, done, side="right")])
        return operation.run(one, settings, replace(inner, group=group, watch=_within(context.watch, len(layer) + done, twice)))

    def parts() -> Generator[tuple[Layer, np.ndarray], None, None]:
        rows = np.argsort(part, kind="stable")
        bounds = np.concatenate([[0], ends])
        mine = [rows[a:b] for a, b in pairwise(bounds.tolist())]
        if some is not None:
            whole = layer.of_fields(some)
            yield from ((whole.take(one), one) for one in mine)
            return
        yield from zip(_parted(layer, part, home.with_name(f"{home.name}-parts"), context.watch), mine, strict=True)

    return _gathered(_at_work(work, parts(), room), home, prove, operation.makes_many)


def _at_work(
    work: Callable[[Layer, int], Outcome], layers: Iterable[tuple[Layer, np.ndarray | None]], room: int
) -> Generator[tuple[Outcome, np.ndarray | None], None, None]:
    """Outcomes in the order of the layers, several of which are worked on at a time, as far as there is room for them: each is told
    how many rows were before it."""
    under_way: deque[tuple[Future[Outcome], int, np.ndarray | None]] = deque()
    done = weight = 0
    with ThreadPoolExecutor(os.cpu_count() or 2) as pool, closing(ahead(layers)) as coming:
        try:
            for one, rows in coming:
                mine = weight_of(one)
                while under_way and (len(under_way) > (os.cpu_count() or 2) or weight + mine > min(room, _ROOM)):
                    future, less, at = under_way.popleft()
                    weight -= less
                    yield future.result(), at
                under_way.append((pool.submit(copy_context().run, work, one, done), mine, rows))
                weight += mine
                done += len(one)
            while under_way:
                future, _, at = under_way.popleft()
                yield future.result(), at
        finally:
            for future, _, _ in under_way:
                future.cancel()


def _parts(places: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """For each row the part that it goes with (int16): groups one behind the other, about so many rows in each; rows of no group
    with the first. And the first group of each part."""
    most = max(chunking.CHUNK, -(-len(places) // _PARTS))
    ends = np.cumsum(np.bincount(places[places >= 0])) if (places >= 0).any() else np.ones(1, np.int64)
    _, first, part = np.unique((ends - 1) // most, return_index=True, return_inverse=True)
    return np.where(places >= 0, part[places], 0).astype(np.int16), first


def _parted(layer: CachedLayer, part: np.ndarray, home: Path, watch: Watch) -> Generator[Layer, None, None]:
    """The parts of a layer, one after another, each with its rows in their order; they lie on disk meanwhile."""
    home.mkdir(parents=True)
    try:
        count = int(part.max()) + 1
        spools = [Spool(home / str(number), max(1, chunking.CHUNK // count)) for number in range(count)]
        done = 0
        for chunk in layer.chunks():
            watch(done, 2 * len(layer))
            mine = part[done : done + len(chunk)]
            order = np.argsort(mine, kind="stable")
            there, starts = np.unique(mine[order], return_index=True)
            sorted_ = chunk if len(there) == 1 else chunk.take(order)
            for number, begin, end in zip(there.tolist(), starts.tolist(), [*starts[1:].tolist(), len(chunk)], strict=True):
                spools[number].add(sorted_.slice(begin, end))
            done += len(chunk)
        for spool in spools:
            one = spool.close()
            yield replace(one, kind=layer.kind).load()
            shutil.rmtree(one.home, ignore_errors=True)  # which is mapped for as long as somebody uses it
    finally:
        shutil.rmtree(home, ignore_errors=True)


def read_in_chunks(
    operation: Source, part: object, settings: object, context: Context, home: Callable[[], Path | None], prove: Prove
) -> Outcome | None:
    """Do a task of a source in chunks; None where it is to be done whole."""
    coming = operation.chunks(part, settings, context)
    place = home() if coming is not None else None
    return None if coming is None or place is None else gathered(coming, place, prove)


def gathered(outcomes: Iterable[Outcome], home: Path, prove: Prove) -> Outcome:
    """Outcomes of chunks as one: its layer on disk, its accounts added up."""
    return _gathered(((outcome, None) for outcome in outcomes), home, prove)


def _gathered(outcomes: Iterable[tuple[Outcome, np.ndarray | None]], home: Path, prove: Prove, many: bool = False) -> Outcome:
    """With the rows of the whole that each is of, where they do not stand one behind the other; of ``many`` each layer by itself."""
    whole = Merged()
    spool = None if many else Spool(home)
    made: list[LayerHandle] = []
    with closing(ahead(outcomes)) as coming:
        for outcome, rows in coming:
            prove(outcome)
            for layer in outcome.layers:
                if spool is not None:
                    spool.add(layer)
                else:
                    made.append(_put_down(layer, home / str(len(made))))
            whole.add(outcome, rows)
    return whole.outcome([spool.close()] if spool is not None else made)


def _put_down(layer: Layer, home: Path) -> LayerHandle:
    """A layer of several that leave: on disk, in chunks where it is large by itself."""
    if len(layer) <= chunking.large(weight_of(layer) / max(1, len(layer))):
        return spill(layer, home)
    home.parent.mkdir(exist_ok=True)
    spool = Spool(home)
    spool.add(layer)
    return spool.close()


def _within(watch: Watch, done: int, of: int) -> Watch:
    """Hears of progress within a chunk what it is of the whole."""
    return lambda mine, _: watch(done + mine, of)


class Merged:
    """The accounts of chunks, added up in their order."""

    def __init__(self) -> None:
        self._inputs: dict[tuple[str, str], list[tuple[InputAccount, np.ndarray | None]]] = {}
        self._outputs: list[OutputAccount] = []
        self._remarks: list[Remark] = []
        self._relation: Relation | None = None
        self._failed = ""

    def add(self, outcome: Outcome, rows: np.ndarray | None = None) -> None:
        """The accounts of the next chunk, or of a part that is made of these rows."""
        for account in outcome.inputs:
            aside = account.set_aside
            # places in a chunk are small numbers: of many millions of rows they are there until the last one comes
            small = replace(account, set_aside=replace(aside, rows=aside.rows.astype(np.uint32))) if account.first else account
            self._inputs.setdefault((account.setting, account.layer), []).append((small, rows))
        self._outputs += outcome.outputs
        self._remarks = added_up(self._remarks, outcome.remarks)
        self._relation = outcome.relation or self._relation
        self._failed = self._failed or outcome.failed

    def outcome(self, made: Sequence[LayerHandle]) -> Outcome:
        """All of it, with what was made. Lineage was proved chunk by chunk, and is not kept."""
        inputs = tuple(_input(found) if found[0][0].first else _other([a for a, _ in found]) for found in self._inputs.values())
        nothing = not any(len(layer) for layer in made)
        remarks = [r for r in self._remarks if nothing or r.code is not Code.NOTHING_LEFT]
        layers: tuple[Any, ...] = tuple(made)
        outputs = (_output(self._outputs),) if len({o.layer for o in self._outputs}) <= 1 else _outputs(self._outputs)
        return Outcome(layers, inputs, outputs, None, tuple(remarks), relation=self._relation, failed=self._failed).told()


def _input(found: Sequence[tuple[InputAccount, np.ndarray | None]]) -> InputAccount:
    """Rows one behind the other, or where they are said to stand."""
    starts = np.concatenate([[0], np.cumsum([a.rows for a, _ in found])])
    reasons: dict[str, int] = {}
    rows: list[_Rows] = []
    codes: list[np.ndarray | None] = []
    unread: dict[str, int] = {}
    altered: dict[tuple[str, str], list[tuple[_Rows, np.ndarray | None, np.ndarray | None]]] = {}
    for start, (one, at) in zip(starts.tolist(), found, strict=False):
        numbers = np.array([reasons.setdefault(r, len(reasons)) for r in one.set_aside.reasons], np.int16)
        for reason, number in one.set_aside.unread:
            unread[reason] = unread.get(reason, 0) + number
        if len(one.set_aside.rows):
            rows.append((one.set_aside.rows, start, at))
            codes.append(numbers[one.set_aside.codes])
        for change in one.altered:
            altered.setdefault((change.what, change.unit), []).append(((change.rows, start, at), change.amounts, change.where))
    aside = SetAside(*_in_order(rows, codes), tuple(reasons)) if rows else SetAside()
    aside = replace(aside, unread=tuple(unread.items()))
    changes = []
    for (what, unit), parts in altered.items():
        places, of = [place for place, _, _ in parts], [where for _, _, where in parts]
        in_order, amounts = _in_order(places, [amounts for _, amounts, _ in parts])
        changes.append(Altered(what, in_order, amounts, unit, _in_order(places, of)[1]))
    return replace(found[0][0], rows=int(starts[-1]), set_aside=aside, altered=tuple(changes))


_Rows = tuple[np.ndarray, int, np.ndarray | None]
"""Places in a chunk that begins at this row, or in a part that is made of these rows."""


def _in_order(parts: Sequence[_Rows], values: Sequence[np.ndarray | None]) -> tuple[np.ndarray, Any]:
    """Rows of chunks or parts, ascending (int64), with what belongs to them where all have it."""
    whole = np.empty(sum(len(rows) for rows, _, _ in parts), np.int64)
    begin = 0
    for rows, start, at in parts:
        mine = whole[begin : begin + len(rows)]
        mine[:] = rows if at is None else at[rows]
        if at is None:
            mine += start
        begin += len(rows)
    there = [v for v in values if v is not None]
    told = np.concatenate(there) if len(there) == len(values) else None
    if all(at is None for _, _, at in parts):
        return whole, told  # chunks stand one behind the other
    order = np.argsort(whole, kind="stable")
    return whole[order], told[order] if told is not None else None


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
    totals: dict[tuple[str, str], list[tuple[float, int]]] = {}
    controls: dict[tuple[str, str], list[ControlTotal]] = {}
    for one in accounts:
        for name, value, unit in one.totals:
            totals.setdefault((name, unit), []).append((value, one.rows))
        for control in one.controls:
            controls.setdefault((control.name, control.unit), []).append(control)
    return OutputAccount(
        accounts[0].layer,
        sum(a.rows for a in accounts),
        tuple(
            (name, _share(found) if unit == PER_CENT else math.fsum(v for v, _ in found), unit) for (name, unit), found in totals.items()
        ),
        tuple(_control(found) for found in controls.values()),
        accounts[0].like,
    )


def _outputs(accounts: Sequence[OutputAccount]) -> tuple[OutputAccount, ...]:
    """Of layers that were made each of one part: their controls together, with the first."""
    together = _output(accounts).controls
    return tuple(replace(account, controls=together if n == 0 else ()) for n, account in enumerate(accounts))


def _share(found: Sequence[tuple[float, int]]) -> float:
    """Per cent of all rows, from those of some each."""
    return 100.0 * sum(round(share * rows / 100) for share, rows in found) / sum(rows for _, rows in found)


def _control(found: Sequence[ControlTotal]) -> ControlTotal:
    if found[0].worst:
        return max(found, key=lambda c: abs(float(c.expected) - float(c.found)))
    return replace(found[0], expected=_sum([c.expected for c in found]), found=_sum([c.found for c in found]))


def _sum(figures: Iterable[T]) -> T:
    there = list(figures)
    return math.fsum(there) if any(isinstance(f, float) for f in there) else sum(there[1:], there[0])  # type: ignore
