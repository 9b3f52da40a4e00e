"""Questions about stored layers, asked while somebody types or looks."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from eskret.errors import ExpressionError
from eskret.process.jobs.job import Answer, Work, job
from eskret.process.jobs.running import Values
from eskret.workflow.cache.stored import StoredLayer

UNASKED = 8.0
"""Seconds that an expression may take which is tried while somebody types it."""
Stored = dict[str, Any]
"""Where a stored layer lies, and what it is."""


@job("count")
def count(work: Work, layer: Stored, where: str, values: Values) -> Answer:
    """How many rows of a stored layer a condition would keep."""
    from eskret.core.expression import parse_condition, truth

    table = StoredLayer(layer).table
    true, _ = truth(parse_condition(where, table.schema, values), table, values, UNASKED)
    return {"kept": int(true.sum()), "of": len(true)}


@job("compute")
def compute(work: Work, layer: Stored, value: str, values: Values) -> Answer:
    """What an expression gives for the first rows of a stored layer."""
    from eskret.core.expression import evaluate, parse
    from eskret.core.layer import type_word

    table = StoredLayer(layer).table
    expression = parse(value, table.column_names)
    try:
        column = evaluate(expression, table.slice(0, 6), values, UNASKED)
    except ExpressionError as error:
        return {"wrong": f"The first rows cannot be worked out: {error.problem}.", "values": [], "of": table.num_rows}
    shown = [v if v is None or isinstance(v, bool | int | float) else str(v) for v in column.to_pylist()]
    return {"values": shown, "of": table.num_rows, "type": type_word(column.type)}


@job("values")
def values_of(work: Work, layers: list[Stored], field: str, most: int) -> Answer:
    """The most frequent values of a field over stored layers, with counts."""
    import pyarrow as pa

    from eskret.core.tables.profile import values_with_counts

    tables = [StoredLayer(info).table for info in layers]
    columns = [t.column(field) for t in tables if field in t.column_names]
    if len({c.type for c in columns}) > 1:
        columns = [c.cast(pa.string()) for c in columns]
    whole = pa.chunked_array([chunk for c in columns for chunk in c.chunks], columns[0].type) if columns else None
    found = values_with_counts(whole, most) if whole is not None else []
    shown = [[v if isinstance(v, bool | int | float) else str(v), n] for v, n in found]
    return {"values": shown, "empty": whole.null_count if whole is not None else 0}


@job("classes")
def classes(work: Work, layer: Stored, field: str, method: str, count: int) -> Answer:
    """The limits between classes of a field of a stored layer."""
    from eskret.core.style.classes import breaks_of
    from eskret.core.style.legend import numbers_of

    numbers = numbers_of(StoredLayer(layer).table.column(field))
    return {"breaks": [] if numbers is None else list(breaks_of(numbers, method, count))}


@job("profile")
def profiled(work: Work, layer: Stored) -> Answer:
    """What the fields of a stored layer hold."""
    from eskret.core.tables.profile import profile

    names = ("name", "word", "nulls", "distinct", "least", "greatest")
    found = profile(StoredLayer(layer).table)
    return {"fields": [{**{n: getattr(p, n) for n in names}, "sample": list(p.sample)} for p in found]}


@job("sketch")
def sketch(work: Work, step: str, settings: dict[str, Any], crs: str, store: Path) -> Answer:
    """Store what was drawn, as its step would leave it."""
    from eskret.operations.base import Context
    from eskret.operations.registry import operation_by_id
    from eskret.operations.settings import validate
    from eskret.workflow.cache.results import ResultStore

    operation: Any = operation_by_id("sketch")
    outcome = operation.read(None, validate(operation.Settings, settings), Context(step=step, crs=crs or None))[0]
    return {"layer": ResultStore(store).put(outcome.layers[0])}


@job("find_crs")
def find_crs(work: Work, words: str, recent: list[str], most: int) -> Answer:
    """Coordinate systems that fit some words, with unit and area of use."""
    from eskret.core.crs_search import find

    found = [(known, known.facts()) for known in find(words, recent, most)]
    return {"found": [{"code": k.code, "name": k.name, "area": k.area, "unit": f.unit, "bounds": f.bounds} for k, f in found]}
