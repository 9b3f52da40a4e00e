"""Operations made of what somebody declared: frames in, frames out, and what became of every row."""

from __future__ import annotations

import traceback
from abc import ABC
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any, ClassVar

import numpy as np

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark, SetAside
from eskret.core.layer import Layer, LayerFacts
from eskret.core.layer.frames import from_frame, to_frame
from eskret.core.measure.totals import totals_of
from eskret.core.words import pluralise
from eskret.errors import EskretError, SettingError, StoppedError
from eskret.formats import gdal
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Gathering, Operation, Outcome, Source
from eskret.operations.settings import setting_info
from eskret.operations.support.to_workflow_crs import bring
from eskret.user_operations.altered import changed
from eskret.user_operations.declare import ALL, EACH, Account, Declared, sentence_of
from eskret.user_operations.failures import exception_words

FIRST_LABEL = 1 << 40
"""Rows are labelled from here, so that an index that was made anew is never taken for theirs."""


class OwnOperation(Operation, ABC):
    """What operations of somebody's own share."""

    declared: ClassVar[Declared]
    only_figures = False  # it may do anything
    hash: str = ""
    """Of all the code of its project: what one file makes may hang on another."""

    def reads(self, settings: Any, context: Context) -> Sequence[Path] | None:
        return super().reads(settings, context) if self.declared.reused else None

    def code_digest(self) -> str:
        return self.hash

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        return sentence_of(self.title, self.declared.infos(), settings, entering)

    def choices_with(self, settings: Mapping[str, Any]) -> dict[str, dict[str, str]]:
        """What the settings whose choices hang on others offer with these values, by setting."""
        declared = self.declared
        given = {n: s.default for n, s in declared.settings.items() if s.default is not ...}
        values = self._whole_paths({n: settings.get(n, given.get(n, "")) for n in declared.settings})
        return {n: self._told(partial(declared.choices, n, values)) for n, s in declared.settings.items() if callable(s.choices)}

    def wrong(self, settings: Any) -> dict[str, str]:
        """What is wrong with the settings beyond their types: by choices that hang on others, by the check."""
        values = self._whole_paths(_values(settings))
        out = {}
        for name, declared in self.declared.settings.items():
            if callable(declared.choices):
                known = self._told(partial(self.declared.choices, name, values))
                if known and str(values[name]) not in known:
                    out[name] = f"{values[name]!r} is not one of the choices. It can be {', '.join(known)}"
        check = self.declared.check
        if check is not None and not out:
            found = self._told(lambda: check(values))
            if isinstance(found, str) and found:
                out[""] = found
            elif isinstance(found, Mapping):
                out.update({str(k): str(v) for k, v in found.items() if v})
        return out

    def _whole_paths(self, values: dict[str, Any], context: Context | None = None) -> dict[str, Any]:
        """Values with files as whole paths, from the workflow's folder, wherever the program was started. That is the one in
        which the code's own folder lies."""
        at = context or Context(self.declared.file.resolve().parent.parent)
        out = dict(values)
        for name in out:
            if self.declared.kind_of(name) == "file" and isinstance(out.get(name), str) and out[name]:
                path = at.path(at.fill(out[name]) if context else out[name])
                kind = self.declared.types.get(name)
                out[name] = path if isinstance(kind, type) and issubclass(kind, Path) else str(path)
        return out

    def _told(self, work: Callable[[], Any]) -> Any:
        """Do something of somebody's own; what it raises names the file and the line.

        Raises
        ------
        EskretError : it failed.
        """
        try:
            return work()
        except (EskretError, StoppedError):
            raise
        except Exception as error:
            raise failure(error, self.declared.file) from error

    def _foretold(self, settings: Any, context: Context) -> Forecast:
        found = [Finding.error(f"{text[:1].upper()}{text[1:]}".rstrip(".") + ".", name) for name, text in self.wrong(settings).items()]
        if not found:
            found = [Finding.note("What it will make is known only once it ran.")]
        return Forecast((), tuple(found), known=False)

    def _call(self, first: Any, settings: Any, context: Context) -> tuple[dict[str, Any], Account]:
        """Call it. What it gave comes as frames or layers by name; an empty name for one that has none."""
        wrong = self.wrong(settings)
        if wrong:
            name, text = next(iter(wrong.items()))
            raise SettingError(text, setting=name)
        declared = self.declared
        account = Account(context.watch)
        given = self._whole_paths(_values(settings), context)
        for name in given:
            if declared.kind_of(name) == "layer" and given[name]:
                layers = context.other_layers(name)
                given[name] = to_frame(layers[0]) if layers else None
        more = {declared.account: account} if declared.account else {}

        def work() -> Any:
            if isinstance(declared.call, type):
                made = declared.call()
                for name, value in given.items():
                    setattr(made, name, value)
                arguments = {declared.first: first} if declared.first else {}
                return made.run(**arguments, **more)
            arguments = {declared.first: first} if declared.first else {}
            return declared.call(**arguments, **given, **more)

        found = self._told(work)
        if isinstance(found, Mapping):
            return {str(k): v for k, v in found.items()}, account
        if isinstance(found, list | tuple):
            return {f"{n}": v for n, v in enumerate(found, 1)}, account
        if found is None:
            raise EskretError(
                "it gave nothing back", place=_place(declared), way_out="Let it return a GeoDataFrame, a DataFrame or a Layer"
            )
        return {"": found}, account

    def _layers(self, found: Mapping[str, Any], key: str, crs: str | None) -> list[Layer]:
        out = []
        for name, thing in found.items():
            own = name if name and len(found) > 1 else key
            try:
                layer = thing if isinstance(thing, Layer) else from_frame(thing, own)
            except Exception as error:
                raise EskretError(
                    f"it gave back {type(thing).__name__}, which is no layer ({error})",
                    place=_place(self.declared),
                    way_out="Let it return a GeoDataFrame, a DataFrame or a Layer",
                ) from error
            if layer.has_geometry and layer.crs is None:
                layer = replace(layer, crs=crs)
            out.append(layer.with_key(own))
        return out


def _values(settings: Any) -> dict[str, Any]:
    return {name: getattr(settings, name) for name in setting_info(type(settings))}


def _place(declared: Declared) -> str:
    return f"{declared.file.name}, line {declared.line}" if declared.line else declared.file.name


def failure(error: BaseException, file: Path) -> EskretError:
    """What somebody's own code raised, with the line of theirs where it happened."""
    lines = [f for f in traceback.extract_tb(error.__traceback__) if Path(f.filename) == file]
    line = lines[-1].lineno if lines else getattr(error, "lineno", None)
    where = f"{file.name}, line {line}" if line else file.name
    counts = {"line": line} if line else {}
    problem, way_out = exception_words(error)
    return EskretError(problem, place=where, way_out=way_out, counts=counts)


class OwnEach(OwnOperation, EachLayer):
    """One layer in, one or several out."""

    relation = Relation.NEW

    def forecast(self, facts: LayerFacts, settings: Any, context: Context) -> Forecast:
        return self._foretold(settings, context)

    def work(self, layer: Layer, settings: Any, context: Context) -> Outcome:
        gdal.with_frames()
        first = layer if self.declared.takes_layer else to_frame(layer, _labels(0, len(layer)))
        found, account = self._call(first, settings, context)
        layers = self._layers(found, layer.key, layer.crs)
        outputs = tuple(OutputAccount(x.key, len(x), totals_of(x, context.totals)) for x in layers)
        remarks = [Remark(text, layer.key, look=look) for text, look in account.remarks]
        lineage = _lineage(found.values(), len(layer))
        left = sum(map(len, layers))
        if lineage is None:
            remarks += _unknown(self.declared, len(layer), left, layer.key)
            told = InputAccount.of(layer)
            # what was declared is all that can be held against it
            fits = self.declared.relation or Relation.REPORT
            return Outcome(tuple(layers), (told,), outputs, None, tuple(remarks), relation=fits)
        aside = _aside(account, lineage, len(layer), self.declared.title)
        altered = tuple(changed(layer, layers, lineage))
        told = InputAccount.of(layer, aside, altered)
        fits = self.declared.relation or (Relation.MULTIPLIED if left > told.used else Relation.KEPT)
        return Outcome(tuple(layers), (told,), outputs, lineage, tuple(remarks), relation=fits)


def _labels(begin: int, count: int) -> np.ndarray:
    return np.arange(FIRST_LABEL + begin, FIRST_LABEL + begin + count)


def _unknown(declared: Declared, entered: int, left: int, key: str = "") -> list[Remark]:
    """What to say where nobody knows which row came of which."""
    if declared.relation is not None:
        return [Remark(f"its rows are '{declared.relation}', as it declares", key)]
    text = f"{pluralise(entered, 'row')} entered and {left:,} left, and which came of which is not known"
    return [Remark(f"{text}: it gave them an index of their own, and declares no relation", key, look=True)]


def _lineage(frames: Any, rows: int) -> np.ndarray | None:
    """The row that each row that leaves comes of, by the labels it kept; None where a label is none of ours."""
    parts = []
    for frame in frames:
        index = getattr(frame, "index", None)
        if index is None or (not len(index) and not rows):
            return None if index is None else np.empty(0, np.int64)
        labels = np.asarray(index)
        if labels.dtype.kind not in "iu":
            return np.empty(0, np.int64) if not len(labels) else None
        places = labels.astype(np.int64) - FIRST_LABEL
        if len(places) and (places.min() < 0 or places.max() >= rows):
            return None
        parts.append(places)
    return np.concatenate(parts) if parts else np.empty(0, np.int64)


def _aside(account: Account, lineage: np.ndarray, rows: int, title: str) -> SetAside:
    """Rows that do not leave, with the reasons that were given; the rest were left out without one."""
    gone = np.ones(rows, bool)
    gone[lineage] = False
    by_reason: dict[str, list[np.ndarray]] = {}
    for reason, told in account.aside:
        given = np.asarray(told)
        at = np.flatnonzero(given) if given.dtype.kind == "b" else given.astype(np.int64) - FIRST_LABEL
        at = np.unique(at[(at >= 0) & (at < rows)])
        at = at[gone[at]]
        gone[at] = False
        by_reason.setdefault(reason, []).append(at)
    left = np.flatnonzero(gone)
    if len(left):
        by_reason.setdefault(f"was left out by '{title}'", []).append(left)
    return SetAside.from_reasons([(r, np.unique(np.concatenate(parts))) for r, parts in by_reason.items()])


class OwnGathering(OwnOperation, Gathering):
    """The whole set in."""

    relation = Relation.NEW

    def forecast(self, facts: Sequence[LayerFacts], settings: Any, context: Context) -> Forecast:
        return self._foretold(settings, context)

    def work(self, layers: Sequence[Layer], settings: Any, context: Context) -> Outcome:
        gdal.with_frames()
        begins = np.concatenate([[0], np.cumsum([len(x) for x in layers])]).astype(int)
        frames = self.declared.takes_layer
        first = list(layers) if frames else [to_frame(x, _labels(a, len(x))) for x, a in zip(layers, begins[:-1], strict=True)]
        found, account = self._call(first, settings, context)
        crs = next((x.crs for x in layers if x.crs), None)
        made = self._layers(found, context.step or self.declared.name, crs)
        outputs = tuple(OutputAccount(x.key, len(x), totals_of(x, context.totals)) for x in made)
        remarks = [Remark(text, look=look) for text, look in account.remarks]
        entered, left = int(begins[-1]), sum(map(len, made))
        lineage = _lineage(found.values(), entered)
        fits = self.declared.relation or Relation.REPORT
        if lineage is None or (not left and not account.aside):
            remarks += _unknown(self.declared, entered, left)
            inputs = [InputAccount.of(x) for x in layers]
            return Outcome(tuple(made), tuple(inputs), outputs, None, tuple(remarks), relation=fits)
        aside = _aside(account, lineage, entered, self.declared.title)
        inputs = []
        for layer, a, b in zip(layers, begins[:-1], begins[1:], strict=True):
            mine = (aside.rows >= a) & (aside.rows < b)
            reasons = [(r, aside.rows[mine & (aside.codes == n)] - a) for n, r in enumerate(aside.reasons)]
            inputs.append(InputAccount.of(layer, SetAside.from_reasons(reasons)))
        return Outcome(tuple(made), tuple(inputs), outputs, None, tuple(remarks), relation=fits)


class OwnSource(OwnOperation, Source):
    """Nothing in: it brings a layer."""

    relation = Relation.NEW

    def forecast(self, settings: Any, context: Context) -> Forecast:
        return self._foretold(settings, context)

    def parts(self, settings: Any, context: Context) -> Sequence[None]:
        return [None]

    def read(self, part: None, settings: Any, context: Context) -> Sequence[Outcome]:
        gdal.with_frames()
        found, account = self._call(None, settings, context)
        remarks = [Remark(text, look=look) for text, look in account.remarks]
        made = []
        for layer in self._layers(found, context.step or self.declared.name, context.crs):
            brought, lost, told = bring(layer, context)
            made.append(brought)
            remarks += [replace(r, layer=layer.key) for r in told]
            remarks += [Remark(f"{pluralise(len(rows), 'feature')} left out: {reason}", layer.key, look=True) for reason, rows in lost]
        outputs = tuple(OutputAccount(x.key, len(x), totals_of(x, context.totals)) for x in made)
        return [Outcome(tuple(made), (), outputs, None, tuple(remarks))]


def operation_of(declared: Declared) -> OwnOperation:
    """The operation that somebody declared."""
    base = {EACH: OwnEach, ALL: OwnGathering}.get(declared.works_on, OwnSource)
    made = type(
        declared.name,
        (base,),
        {
            "__doc__": declared.doc or declared.title,
            "__module__": __name__,
            "id": declared.id,
            "title": declared.title,
            "phase": declared.phase,
            "also_known_as": declared.also_known_as,
            "version": declared.version,
            "declared": declared,
            "Settings": declared.model(),
            "has_input": declared.works_on in (EACH, ALL),
            "menu_order": 95,
        },
    )
    found: OwnOperation = made()
    return found
