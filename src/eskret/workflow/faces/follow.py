"""Follow features through a workflow: it is done for its figures alone, with a note of which row came of which."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from eskret.core.expression import parse_condition, truth
from eskret.core.layer import Layer
from eskret.core.words import pluralise, strip_markup
from eskret.errors import InputError, StoppedError
from eskret.operations.sentences import join_words
from eskret.workflow.faces.ledger import sentence
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.references import Reference, bound, order_of
from eskret.workflow.run.engine import STOPPED, Run, makes_figures
from eskret.workflow.run.links import Place, RowLinks, Station, way
from eskret.workflow.run.step import FAILED

if TYPE_CHECKING:
    import pandas as pd

MOST = 10_000
"""Features that are followed at a time, at most: of more one asks what became of the layer, and that the ledger says."""
SHOWN = 8
"""Fields, and rows of a station, that are told in words."""


@dataclass(frozen=True)
class Followed:
    """The way of some features: stations in the order of the steps, and the layers they are rows of."""

    document: Document
    stations: tuple[Station, ...]
    layers: Mapping[Place, Layer]
    left: tuple[str, ...] = ()
    """Steps that were not done for it, since they failed, ask a service, or are a workflow or code of somebody's own: the way ends
    before them."""

    def table(self) -> pa.Table:
        """A row for each row of each station: ``station`` and ``step`` by number, ``layer``, ``row`` (from 1), ``what`` (came of,
        asked for, became, set aside, saved), ``by`` (the step that set it aside, or saved it), ``reason`` or file, ``fields`` as JSON."""
        out: dict[str, list[Any]] = {n: [] for n in ("station", "step", "id", "layer", "row", "what", "by", "reason", "fields")}
        passed = False
        for number, station in enumerate(self.stations, 1):
            passed = passed or station.here
            what = "set aside" if station.reason else "asked for" if station.here else "became" if passed else "came of"
            told = [(what, station.by, station.reason)]
            told += [("saved", step.id, str(step.settings.get("to", ""))) for step in self.saving(station) if passed]
            for row in station.rows.tolist():
                for word, by, reason in told:
                    values = (number, self.document.index(station.place[0]) + 1, *station.place, row + 1, word, by, reason)
                    for name, value in zip(out, (*values, json.dumps(self.fields(station, row), default=str)), strict=True):
                        out[name].append(value)
        return pa.table(out)

    def frame(self) -> pd.DataFrame:
        """The table as a frame of pandas."""
        return self.table().to_pandas()

    def fields(self, station: Station, row: int) -> dict[str, Any]:
        """A row's fields by name."""
        layer = self.layers.get(station.place)
        return {} if layer is None else layer.table.slice(row, 1).to_pylist()[0]

    def before(self, number: int) -> dict[str, Any] | None:
        """The fields that a station's row had one station before on its own line: the last single row of a layer of the same key, else
        of the step before; None where there is none."""
        place = self.stations[number].place
        single = [s for s in self.stations[:number] if len(s.rows) == 1 and not s.reason]
        same = [s for s in single if s.place[1] == place[1]]
        found = same[-1:] or [s for s in single[-1:] if s.place[0] != place[0]]
        return self.fields(found[0], int(found[0].rows[0])) if found else None

    def saving(self, station: Station) -> list[Step]:
        """The steps that save the layer of a station."""
        if station.by:
            return []
        layer, id = self.layers.get(station.place), station.place[0]
        saves = [s for s in self.document.steps if s.use in ("save", "publish") and not s.off]
        return [s for s in saves if layer is not None and any(r.step == id and r.means(layer) for r in map(Reference.parse, s.source))]

    def lines(self) -> list[str]:
        """The way in words, a station after another."""
        out: list[str] = []
        passed = False
        for place_in_way, station in enumerate(self.stations):
            passed = passed or station.here
            before = self.before(place_in_way)
            id, key = station.place
            number = self.document.index(station.by or id) + 1
            rows = ", ".join(f"{r + 1:,}" for r in station.rows[:SHOWN].tolist())
            more = f" and {len(station.rows) - SHOWN:,} more" if len(station.rows) > SHOWN else ""
            where = f"{'row' if len(station.rows) == 1 else 'rows'} {rows}{more} of {key}"
            if station.reason:
                out.append(f"{number:>3}  {self.words(station.by)}\n     {where}: set aside, {station.reason}")
                continue
            out.append(f"{number:>3}  {self.words(id)}\n     {where}{'   <- asked for' if station.here else ''}")
            fields = self.fields(station, int(station.rows[0])) if len(station.rows) == 1 else None
            if fields is not None:
                changed = [n for n in fields if before is None or n not in before or before[n] != fields[n]]
                shown = changed if before is not None else list(fields)
                told = ", ".join(f"{n} = {'no value' if fields[n] is None else fields[n]}" for n in shown[:SHOWN])
                rest = f" and {pluralise(len(shown) - SHOWN, 'more field')}" if len(shown) > SHOWN else ""
                if told:
                    out.append(f"     {'changed: ' if before is not None else ''}{told}{rest}")
            if passed:
                out += [f"     saved by step {s.id} to {s.settings.get('to', s.settings.get('dataset', ''))}" for s in self.saving(station)]
        return [*out, *([self.remark()] if self.left else [])]

    def remark(self) -> str:
        """That the way ends before some steps; empty where it does not."""
        if not self.left:
            return ""
        why = "what asks a service, is a workflow or code of its own, or failed, is not done"
        return f"Not followed through {join_words(self.left, 6)}: {why}."

    def words(self, id: str) -> str:
        """A step as a sentence."""
        return strip_markup(sentence(self.document, self.document.step(id), {}))


def follow(
    document: Document,
    name: str,
    where: str = "",
    rows: Sequence[int] | None = None,
    values: Mapping[str, object] | None = None,
    *,
    source: bool = False,
    workflow: Path | None = None,
    folder: Path | None = None,
    on_event: Callable[[dict[str, Any]], None] | None = None,
    begun: Callable[[Run], None] | None = None,
) -> Followed:
    """Follow features of a layer, back to what they came of and on to what came of them. Nothing is written.

    Parameters
    ----------
    name : a step, ``step:layer``, or the key of a layer; of a step that saves, what it saves.
    where : a condition that holds for the features; all for none.
    rows : positions of the features instead.
    source : look for the layer from the first step on, not from the last.

    Raises
    ------
    InputError : there is no such layer, or none or too many of its features are meant.
    EskretError : the workflow cannot be run that far.
    """
    links = RowLinks()
    given = document.values(values)
    run = Run(document, values, workflow=workflow, folder=folder, hold=True, checked=True, figures_alone=(), links=links, on_event=on_event)
    if begun is not None:
        begun(run)
    result = run.execute()
    if result.state == STOPPED:
        raise StoppedError(result.error)
    layers = {(id, layer.key): layer for id, made in result.layers.items() for layer in made}
    place = _place(document, layers, name, source, result.error)
    layer = layers[place]
    if rows is None:
        asked = np.arange(len(layer))
        if where.strip():
            asked = np.flatnonzero(truth(parse_condition(where, layer.table.schema, given), layer.table, given)[0])
    else:
        asked = np.asarray(rows, np.int64)
    if not len(asked) or len(asked) > MOST:
        many = f"{len(asked):,} features are meant, and {MOST:,} can be followed at a time"
        said = many if len(asked) else "no feature meets the condition"
        raise InputError(said, place=f"{place[0]}:{place[1]}", way_out="Say in the condition which ones you mean")
    order = order_of(bound(document, given))
    done = {s.id for s in result.steps if s.state != FAILED}
    left = tuple(s.id for s in document.steps if not s.off and s.id not in done and s.use not in ("save", "publish"))
    return Followed(document, tuple(way(links.by_step, order, place, asked)), layers, left)


def _place(document: Document, layers: Mapping[Place, Layer], name: str, source: bool, error: str) -> Place:
    ids = [s.id for s in document.steps]
    reference = Reference.parse(name)
    if reference.step in ids:
        step = document.step(reference.step)
        asked = [Reference.parse(s) for s in step.source] if not makes_figures(step) else [reference]
        found = [p for p, layer in layers.items() if any(p[0] == r.step and r.means(layer) for r in asked)]
    else:
        found = [p for p in layers if p[1] == name]
        at = {id: n for n, id in enumerate(ids)}
        found = sorted(found, key=lambda p: at.get(p[0], -1))[: 1 if source else None][-1:]
    if len(found) == 1:
        return found[0]
    there = join_words([f"{id}:{key}" for id, key in (found or layers)], 8)
    if not layers:
        raise InputError("no step left a layer", place=name, way_out=error or "Rehearse, to see what is wrong")
    said = f"it stands for {len(found)} layers" if found else "there is no such step or layer"
    raise InputError(said, place=name, way_out=f"Name one of {there}")
