"""What Python hands back of an operation, a run and a rehearsal: layers by their keys, what was set aside, the ledger in a notebook."""

from __future__ import annotations

from collections.abc import Generator, Mapping, Sequence
from dataclasses import dataclass, field, fields
from html import escape
from typing import Any

import numpy as np

from eskret.core.accounts.account import InputAccount, OutputAccount, Remark
from eskret.core.layer import Layer
from eskret.core.layer.frames import to_frame
from eskret.core.layer.shown import headline, layer_html, table_html
from eskret.core.words import pieces, strip_markup
from eskret.errors import Code, InputError
from eskret.workflow.faces import ledger
from eskret.workflow.faces.said_once import findings_once
from eskret.workflow.model.document import Document
from eskret.workflow.run.engine import RunResult
from eskret.workflow.run.rehearsal import Rehearsal


@dataclass(frozen=True, eq=False, repr=False)
class Result(Mapping[str, Layer]):
    """What an operation or a step made: the layers that leave, by their keys, and its accounts."""

    layers: tuple[Layer, ...]
    inputs: tuple[InputAccount, ...]
    outputs: tuple[OutputAccount, ...] = ()
    remarks: tuple[Remark, ...] = ()
    entering: Mapping[str, Layer] = field(default_factory=dict, repr=False)
    """The layers that it took, by their keys, where they are at hand."""

    @property
    def layer(self) -> Layer:
        """The layer that leaves, where it is one.

        Raises
        ------
        InputError : it made several, or none.
        """
        if len(self.layers) != 1:
            way_out = f"Take one by its key: {', '.join(map(repr, list(self)[:5]))}" if self.layers else ""
            raise InputError(f"it made {len(self.layers):,} layers, not one", way_out=way_out)
        return self.layers[0]

    def __getitem__(self, key: str) -> Layer:
        for one in self.layers:
            if one.key == key or one.own_name == key:
                return one
        raise KeyError(key)

    def __iter__(self) -> Generator[str, None, None]:
        yield from (one.key for one in self.layers)

    def __len__(self) -> int:
        return len(self.layers)

    def __bool__(self) -> bool:
        return True

    def to_geopandas(self) -> Any:
        """The layer that leaves as a GeoDataFrame (a DataFrame for a plain table); with several, take one by its key first."""
        return to_frame(self.layer)

    def set_aside(self) -> Any:
        """The rows that were set aside as a frame, each with its reason; of several layers, with ``layer`` as well.

        Raises
        ------
        InputError : they were never read, as with what a load leaves out, so there are only counts.
        """
        import pandas

        frames = []
        accounts = [a for a in self.inputs if a.first]
        for account in accounts:
            aside = account.set_aside
            if account.layer not in self.entering and len(aside):
                counts = "; ".join(f"{n:,} {reason}" for reason, n in aside.counts())
                raise InputError(f"what was set aside of '{account.layer}' is not at hand: {counts}", code=Code.NO_SUCH_LAYER)
            if account.layer in self.entering:
                frame: Any = to_frame(self.entering[account.layer].take(aside.rows), index=aside.rows)
                frame["reason"] = np.array([*aside.reasons, ""], object)[aside.codes]
                if len(accounts) > 1:
                    frame["layer"] = account.layer
                frames.append(frame)
        return pandas.concat(frames) if len(frames) > 1 else frames[0] if frames else pandas.DataFrame({"reason": []})

    def reasons(self) -> dict[str, int]:
        """How many rows were set aside, by reason."""
        out: dict[str, int] = {}
        for account in self.inputs:
            for reason, count in account.set_aside.counts() if account.first else ():
                out[reason] = out.get(reason, 0) + count
        return out

    def __repr__(self) -> str:
        aside = [f"{count:,} set aside: {reason}" for reason, count in self.reasons().items()]
        return f"<Result {'; '.join([*map(headline, self.layers), *aside]) or 'no layers'}>"

    def _repr_html_(self) -> str:
        said = [f"set aside: {ledger.reason_text(reason, count)}" for reason, count in self.reasons().items()]
        said += [ledger.reason_text(a.what, len(a)) for account in self.inputs for a in account.altered if len(a)]
        said += [r.text for r in self.remarks if r.text]
        listed = "".join(f"<li>{escape(text)}</li>" for text in said)
        return "".join(layer_html(one) for one in self.layers[:_SHOWN]) + (f"<ul>{listed}</ul>" if listed else "")


_SHOWN = 5  # layers of a result that a notebook shows


@dataclass(frozen=True, repr=False)
class Ran(RunResult):
    """A run, with its steps by their ids: ``result["kept"].set_aside()``."""

    document: Document = field(default_factory=Document, repr=False)
    entered: Mapping[str, Sequence[tuple[str, tuple[str, str]]]] = field(default_factory=dict, repr=False)
    """By step, for each layer that it took: its key there, and the step and key that it came from."""

    @classmethod
    def of(cls, result: RunResult, document: Document, entered: Mapping[str, Sequence[tuple[str, tuple[str, str]]]]) -> Ran:
        """A run as Python hands it back."""
        return cls(**{f.name: getattr(result, f.name) for f in fields(result)}, document=document, entered=entered)

    def __getitem__(self, step: str) -> Result:
        found = next((s for s in self.steps if s.id == step), None)
        if found is None:
            raise KeyError(step)
        entering = {}
        for key, (source, there) in self.entered.get(step, ()):
            layer = next((x for x in self.layers.get(source, ()) if x.key == there), None)
            if layer is not None:
                entering[key] = layer
        return Result(self.layers.get(step, ()), found.inputs, found.outputs, found.remarks, entering)

    def __repr__(self) -> str:
        rows = ledger.rows(self.document, {s.id: s.to_json() for s in self.steps}, values=self.values)
        return "\n".join([*map(_line, rows), self.error or f"{self.state} in {self.seconds:.1f} s"])

    def _repr_html_(self) -> str:
        told = {s.id: s.to_json() for s in self.steps}
        ended = f"{escape(self.error)}" if self.error else f"{self.state} in {self.seconds:.1f} s"
        saved = [f"{d.path.name}{f', {d.layer}' if d.layer else ''}: {d.features:,}" for d in self.outputs if d.features is not None]
        listed = "".join(f"<li>{escape(text)}</li>" for text in saved)
        return _ledger_html(self.document, ledger.rows(self.document, told, values=self.values)) + f"<p>{ended}</p><ul>{listed}</ul>"


@dataclass(frozen=True, repr=False)
class Foretold(Rehearsal):
    """A rehearsal, as a notebook shows it."""

    document: Document = field(default_factory=Document, repr=False)
    values: Mapping[str, Any] = field(default_factory=dict, repr=False)

    @classmethod
    def of(cls, found: Rehearsal, document: Document, values: Mapping[str, Any]) -> Foretold:
        """A rehearsal as Python hands it back."""
        return cls(**{f.name: getattr(found, f.name) for f in fields(found)}, document=document, values=values)

    def _said(self) -> list[str]:
        return [f"step '{step}': {text}" if step else text for _, step, text in findings_once(list(self.findings))]

    def __repr__(self) -> str:
        head = "errors; nothing was run" if self.errors else "ready to run; nothing was written"
        return "\n".join([*map(_line, ledger.rows(self.document, {}, self.steps, self.values)), *self._said(), head])

    def _repr_html_(self) -> str:
        rows = ledger.rows(self.document, {}, self.steps, self.values)
        planned = [f"{o.action}: {o.path.name}{f', {o.layer}' if o.layer else ''}" for o in self.outputs]
        listed = "".join(f"<li>{escape(text)}</li>" for text in [*self._said(), *planned])
        head = "errors; nothing was run" if self.errors else "ready to run; nothing was written"
        return _ledger_html(self.document, rows) + f"<p>{head}</p><ul>{listed}</ul>"


def _line(row: ledger.StepRow) -> str:
    """A row of the ledger as a line of text."""
    counts = ((row.rows_in, "in"), (row.rows_out, "out"), (row.aside or None, "set aside"))
    figures = [f"{count:,} {words}" for count, words in counts if count is not None] + [row.state] * bool(row.state)
    return f"{row.number:>2}  {strip_markup(row.sentence)}" + (f": {', '.join(figures)}" if figures else "")


def _ledger_html(document: Document, rows: Sequence[ledger.StepRow]) -> str:
    """The ledger as a table."""

    def n(value: int | None) -> str:
        return "" if value is None else f"{value:,}"

    cells = []
    for row in rows:
        words = "".join(f"<b>{escape(t)}</b>" if strong else escape(t) for t, strong in pieces(row.sentence))
        more = [escape(f"{c.key}: {ledger.reason_text(reason, count)}") for c in row.children for reason, count in c.reasons]
        more += [escape(text) for text, _ in ledger.grouped_remarks(row.remarks)]
        words += "".join(f"<br><small>{text}</small>" for text in more)
        state = "off" if row.off else "foretold" if row.planned else row.state
        cells.append([str(row.number), words, n(row.rows_in), n(row.rows_out), n(row.aside or None), escape(row.total), escape(state)])
    title = f"<b>{escape(document.title)}</b>" if document.title else ""
    return title + table_html(["#", "Step", "In", "Out", "Set aside", "Control total", "State"], cells)
