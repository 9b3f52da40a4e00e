"""Two runs of earlier side by side: what they were given, what every step made of it, and what they left."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.layer import Layer
from eskret.core.words import strip_markup
from eskret.errors import InputError
from eskret.operations.base import Context, Outcome
from eskret.operations.registry import operation_by_id
from eskret.operations.settings import validate
from eskret.workflow.faces import ledger
from eskret.workflow.history.runs import Output, Runs, Whole

SAME, DIFFERS, GONE, NEW, UNKNOWN = "the same", "differs", "only earlier", "only later", "cannot be told"


@dataclass(frozen=True)
class StepPair:
    """A step in both runs; of one that is only in one of them, None in the other."""

    id: str
    sentence: str
    earlier: ledger.StepRow | None
    later: ledger.StepRow | None

    @property
    def differs(self) -> bool:
        """Whether the figures are others."""
        return _figures(self.earlier) != _figures(self.later)


@dataclass(frozen=True)
class OutputPair:
    """An output in both runs. ``shown`` says whether the features of both are still kept, so that they can be compared."""

    name: str
    earlier: Output | None
    later: Output | None
    state: str
    shown: bool


@dataclass(frozen=True)
class Compared:
    """Two runs. ``values`` are those that differ: name, earlier, later; ``text`` is how the workflow was changed, as lines
    with a sign before them."""

    values: tuple[tuple[str, str, str], ...]
    text: tuple[str, ...]
    steps: tuple[StepPair, ...]
    outputs: tuple[OutputPair, ...]


def compare(earlier: Whole, later: Whole, runs: Runs) -> Compared:
    """Put two runs side by side."""
    before, after = earlier.told.get("values", {}), later.told.get("values", {})
    names = [*after, *(n for n in before if n not in after)]
    values = tuple((n, str(before.get(n, "")), str(after.get(n, ""))) for n in names if before.get(n) != after.get(n))
    lines: Sequence[str] = ()
    if earlier.text != later.text:
        lines = [
            x
            for x in difflib.unified_diff(earlier.text.splitlines(), later.text.splitlines(), lineterm="", n=1)
            if not x.startswith(("---", "+++", "@@"))
        ]
    return Compared(values, tuple(lines), _steps(earlier, later), _outputs(earlier, later, runs))


def _rows(run: Whole) -> dict[str, ledger.StepRow]:
    return {r.id: r for r in ledger.rows(run.document, {s["id"]: s for s in run.told.get("steps", ())}, values=run.told.get("values", {}))}


def _steps(earlier: Whole, later: Whole) -> tuple[StepPair, ...]:
    before, after = _rows(earlier), _rows(later)
    order = [*after]
    for place, id in enumerate(before):
        if id not in after:
            order.insert(min(place, len(order)), id)
    return tuple(StepPair(id, strip_markup((after.get(id) or before[id]).sentence), before.get(id), after.get(id)) for id in order)


def _figures(row: ledger.StepRow | None) -> tuple[Any, ...]:
    return () if row is None else (row.layers, row.rows_in, row.rows_out, row.aside, row.total, row.state)


def _outputs(earlier: Whole, later: Whole, runs: Runs) -> tuple[OutputPair, ...]:
    before = {(o.path, o.layer): o for o in earlier.outputs}
    after = {(o.path, o.layer): o for o in later.outputs}
    out = []
    for key in [*after, *(k for k in before if k not in after)]:
        a, b = before.get(key), after.get(key)
        some = b or a
        assert some is not None
        shown = a is not None and b is not None and runs.layer(earlier.kept.id, a) is not None and runs.layer(later.kept.id, b) is not None
        out.append(OutputPair(some.name, a, b, _state(a, b), shown))
    return tuple(out)


def _state(a: Output | None, b: Output | None) -> str:
    if a is None or b is None:
        return NEW if a is None else GONE
    mine, theirs = (a.content, b.content) if a.layer else (a.sha256, b.sha256)
    if not mine or not theirs:
        return UNKNOWN
    return SAME if mine == theirs else DIFFERS


def keys_for(earlier: Layer, later: Layer) -> list[str]:
    """Fields that tell the features of both layers apart: filled, and no value twice."""
    both = [n for n in later.table.column_names if n in earlier.table.column_names]
    return [n for n in both if _tells(later, n) and _tells(earlier, n)]


def _tells(layer: Layer, name: str) -> bool:
    column = layer.table.column(name)
    if pa.types.is_floating(column.type) or column.null_count or not len(column):
        return False
    return int(pc.count_distinct(column).as_py()) == len(column)


def difference(runs: Runs, earlier: Whole, later: Whole, path: str, layer: str, key: str | None = None) -> tuple[Outcome, list[str], str]:
    """What was added, removed and changed in an output between two runs.

    Parameters
    ----------
    key : the field that tells features apart; empty for by shape, None for the first that can.

    Returns
    -------
    tuple : the outcome of comparing, the fields that could be the key, and the one that was.

    Raises
    ------
    InputError : the features of one of them are not kept any more.
    """
    found = []
    for run in (earlier, later):
        output = next((o for o in run.outputs if (o.path, o.layer) == (path, layer)), None)
        kept = runs.layer(run.kept.id, output) if output is not None else None
        if kept is None:
            raise InputError(
                f"the features that run {run.kept.id} left there are not kept any more",
                way_out="Its figures are; run it again to have its features",
            )
        found.append(kept.load())
    before, after = found
    keys = keys_for(before, after)
    chosen = (keys[0] if keys else "") if key is None else key
    operation: Any = operation_by_id("compare")
    settings = {"earlier": "earlier", "key": [chosen] if chosen else []}
    context = Context(step="compare", others={"earlier": (before,)})
    return operation.run(after, validate(operation.Settings, settings), context), keys, chosen
