"""Run an operation as the engine does: forecast first, accounts proved after."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.layer import Layer
from eskret.errors import EskretError
from eskret.operations import operation_by_id
from eskret.operations.base import Context, EachLayer, Gathering, Level, Outcome
from eskret.operations.settings import layer_settings, validate
from eskret.workflow.run.step import prove

UTM = "EPSG:32626"
E, N = 560_000.0, 5_200_000.0


def layer_of(shapes: list | np.ndarray, crs: str | None = UTM, key: str = "a", **fields) -> Layer:
    """A layer of these shapes, numbered in ``n`` where no field is given."""
    table = pa.table(fields or {"n": pa.array(range(len(shapes)), pa.int64())})
    return Layer(key, table, np.array([*shapes, None], object)[:-1], crs)


def table_of(key: str = "t", **fields) -> Layer:
    return Layer(key, pa.table(fields))


def do(use: str, layer: Layer | list[Layer], folder: Path | None = None, **settings) -> Outcome:
    """An operation's outcome, its accounts proved. A layer given for a setting is the one that it names."""
    operation = operation_by_id(use)
    named = [n for n in layer_settings(operation.Settings) if isinstance(settings.get(n), Layer | list)]
    others = {n: settings[n] if isinstance(settings[n], list) else [settings[n]] for n in named}
    model = validate(operation.Settings, {**settings, **dict.fromkeys(named, "other")})
    context = Context(folder or Path.cwd(), use, others=others)
    facts = Context(folder or Path.cwd(), use, others={n: [x.facts() for x in v] for n, v in others.items()})
    single = isinstance(operation, EachLayer)
    told = operation.forecast(layer.facts() if single else [x.facts() for x in layer], model, facts)  # type: ignore[union-attr, arg-type]
    assert not [f.text for f in told.findings if f.level is Level.ERROR]
    outcome = operation.run(layer, model, context)  # type: ignore[attr-defined]
    prove(outcome, operation.relation)
    return outcome


def whatever_comes(operation: EachLayer | Gathering, layer: Layer, wanted: dict, named: dict[str, Layer]) -> Outcome | None:
    """What an operation makes of a layer, its accounts proved; None where it says in a sentence why it makes nothing.

    ``named`` are the layers that settings may name.
    """
    others = {k: [named[v]] for k, v in wanted.items() if isinstance(v, str) and v in named}
    model, context = validate(operation.Settings, wanted), Context(step="made", others=others)
    told = Context(step="made", others={k: [x.facts() for x in v] for k, v in others.items()})
    single = isinstance(operation, EachLayer)
    forecast = operation.forecast(layer.facts() if single else [layer.facts()], model, told)  # type: ignore[arg-type]
    if any(f.level is Level.ERROR for f in forecast.findings):
        return None
    try:
        outcome = operation.run(layer if single else [layer], model, context)  # type: ignore[arg-type]
    except EskretError as error:
        assert error.sentence().endswith((".", "?"))
        return None
    prove(outcome, operation.relation)
    (mine,) = [a for a in outcome.inputs if a.first]
    assert mine.rows == len(layer) == mine.used + len(mine.set_aside)
    return outcome


def refused(use: str, layer: Layer, **settings) -> str:
    """What a rehearsal says is wrong."""
    operation = operation_by_id(use)
    named = [n for n in layer_settings(operation.Settings) if isinstance(settings.get(n), Layer | list)]
    others = {n: [x.facts() for x in (settings[n] if isinstance(settings[n], list) else [settings[n]])] for n in named}
    model = validate(operation.Settings, {**settings, **dict.fromkeys(named, "other")})
    told = operation.forecast(layer.facts(), model, Context(others=others))  # type: ignore[attr-defined]
    return " ".join(f.text for f in told.findings if f.level is Level.ERROR)


def aside(outcome: Outcome, which: int = 0) -> dict[str, int]:
    return dict(outcome.inputs[which].set_aside.counts())


def said(outcome: Outcome) -> str:
    return "\n".join(r.text for r in outcome.remarks)


def rows(outcome: Outcome, *fields: str) -> list:
    found = [outcome.layers[0].table.column(f).to_pylist() for f in fields]
    return found[0] if len(fields) == 1 else list(zip(*found, strict=True))


def square(x: float, y: float, side: float = 1000.0) -> shapely.Geometry:
    return shapely.box(E + x, N + y, E + x + side, N + y + side)
