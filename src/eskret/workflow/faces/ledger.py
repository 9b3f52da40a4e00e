"""The ledger as rows of figures: the same for the window, the terminal and the report.

Works on the document and on results as JSON (what a run's events carry), so that nothing heavy is needed to show them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from eskret.core.accounts.account import FIRST
from eskret.core.layer.layer import matches
from eskret.core.naming import number_collisions
from eskret.core.words import PER_CENT, bold, duration, format_quantity, pluralise
from eskret.errors import EskretError
from eskret.operations.registry import OWN, operation_by_id
from eskret.operations.sentences import join_words
from eskret.workflow.faces.said_once import Said, said_once
from eskret.workflow.faces.settings_shown import settings_shown
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.references import Reference

LARGE = 1e6
"""Hectares from which on an area is told in square kilometres."""


@dataclass(frozen=True)
class LayerRow:
    """One layer of a step's set. Figures are None where nothing is known."""

    key: str
    rows_in: int | None = None
    rows_out: int | None = None
    aside: int | None = None
    total: str = ""
    reasons: tuple[tuple[str, int], ...] = ()
    altered: tuple[tuple[str, int], ...] = ()
    planned: bool = False


@dataclass(frozen=True)
class StepRow:
    """One step. ``state`` is empty before it ran; ``planned`` says that the figures are foretold."""

    id: str
    number: int
    heading: str
    sentence: str
    use: str
    off: bool
    state: str = ""
    layers: int | None = None
    rows_in: int | None = None
    rows_out: int | None = None
    aside: int | None = None
    total: str = ""
    seconds: float | None = None
    planned: bool = False
    remarks: tuple[Mapping[str, Any], ...] = ()
    error: str = ""
    children: tuple[LayerRow, ...] = field(default_factory=tuple)
    reused: int = 0
    tasks: int = 0

    @property
    def time(self) -> str:
        """How long it took; or that it was not done again, since nothing had changed that it hangs on."""
        if self.seconds is None:
            return ""
        return "reused" if self.reused and self.reused == self.tasks else duration(self.seconds)


def entering_words(document: Document, step: Step, known: Mapping[str, Sequence[str]]) -> str:
    """What enters a step, in words: the keys where they are known, else the references.

    Parameters
    ----------
    known : the keys of the layers that enter, by step id.
    """
    keys = known.get(step.id)
    if keys:
        return join_words(keys)
    names = [r.step if r.pattern == "*" else r.pattern for r in map(Reference.parse, step.source)]
    return join_words(names)


def sentence(document: Document, step: Step, known: Mapping[str, Sequence[str]], values: Mapping[str, object] | None = None) -> str:
    """A step as a sentence, with bold parts; ``values`` of parameters as for ``settings_shown``."""
    try:
        operation = operation_by_id(step.use)
    except EskretError:
        if step.use.startswith(OWN):
            return f"{bold(step.use.removeprefix(OWN))}, which cannot be used now"
        return f"{bold(step.use)}, which is no operation known here"
    shown = settings_shown(document, step, operation, values)
    entering = entering_words(document, step, known)
    try:
        told = operation.sentence(shown, entering)
    except (TypeError, ValueError, AttributeError, KeyError):
        # of settings that nobody checked yet; what is wrong with them the rehearsal says
        told = f"{operation.title} {bold(entering)}" if entering else operation.title
    return told if step.each is None else f"{told}, {step.each.words()}"


def rows(
    document: Document,
    results: Mapping[str, Mapping[str, Any]],
    forecast: Mapping[str, Any] | None = None,
    values: Mapping[str, Any] | None = None,
) -> list[StepRow]:
    """All rows of the ledger.

    Parameters
    ----------
    results : a step's result as JSON, by id, for those that ran.
    forecast : what a rehearsal found, by step id (with ``entering`` and ``leaving`` facts), for those that did not.
    values : of parameters, as for ``settings_shown``.
    """
    known: dict[str, list[str]] = {}
    for id, found in (forecast or {}).items():
        if found.known:
            known[id] = [f.key for f in found.entering]
    for id, result in results.items():
        keys = [i["layer"] for i in result["inputs"] if i["setting"] == "from"]
        if keys:
            known[id] = keys
    out = []
    for number, step in enumerate(document.steps, 1):
        head: dict[str, Any] = {
            "id": step.id,
            "number": number,
            "heading": step.heading,
            "use": step.use,
            "off": step.off,
            "sentence": sentence(document, step, known, values),
        }
        if step.id in results:
            out.append(_ran(head, results[step.id]))
        elif forecast and step.id in forecast and forecast[step.id].known and not step.off:
            out.append(_foretold(head, forecast[step.id], _rows_there(step, results)))
        else:
            out.append(StepRow(**head))
    return out


def _ran(head: Mapping[str, Any], result: Mapping[str, Any]) -> StepRow:
    inputs, outputs = [i for i in result["inputs"] if i["setting"] in FIRST], result["outputs"]
    by_layer: dict[str, dict[str, Any]] = {}
    for one in inputs:
        aside = sum(r["count"] for r in one["set_aside"])
        by_layer[one["layer"]] = {
            "rows_in": one["rows"],
            "aside": aside,
            "reasons": tuple((r["reason"], r["count"]) for r in one["set_aside"]),
            "altered": tuple((a["what"], a["count"]) for a in one["altered"]),
        }
    for one in outputs:
        by_layer.setdefault(one["layer"], {}).update(rows_out=one["rows"], total=totals_text(one["totals"]))
    children = tuple(LayerRow(key, **values) for key, values in by_layer.items())
    return StepRow(
        **head,
        state=result["state"],
        layers=len(outputs) or len(inputs),
        rows_in=sum(i["rows"] for i in inputs),
        rows_out=sum(o["rows"] for o in outputs),
        aside=sum(r["count"] for i in inputs for r in i["set_aside"]),
        total=totals_text(_summed(outputs)),
        seconds=result["seconds"],
        remarks=tuple(result["remarks"]),
        error=result["error"],
        children=children,
        reused=result.get("reused", 0),
        tasks=result.get("tasks", 0),
    )


def _rows_there(step: Step, results: Mapping[str, Mapping[str, Any]]) -> dict[str, int]:
    """Rows of the layers that enter a step, by their keys there, where all the steps that it takes from were done; else none."""
    found: dict[tuple[str, str], int] = {}
    for reference in map(Reference.parse, step.source):
        made = results.get(reference.step, {}).get("outputs", ())
        hits = {(reference.step, str(o["layer"])): int(o["rows"]) for o in made if matches(reference.pattern, str(o["layer"]))}
        if not hits:
            return {}
        found |= hits
    return dict(zip(number_collisions([key for _, key in found], limit=10_000), found.values(), strict=True))


def _foretold(head: Mapping[str, Any], found: Any, made: Mapping[str, int]) -> StepRow:
    """A step that was not done: what a rehearsal foretells of it, of layers that are made already as many rows as these have."""
    foretold = {f.key: f.count for f in found.entering}
    entering = {key: made.get(key, count) for key, count in foretold.items()}
    # what a step leaves as many as enter it, it does of those that are there, too
    leaving = {f.key: made.get(f.key, f.count) if foretold.get(f.key) == f.count else f.count for f in found.leaving}
    children = tuple(LayerRow(key, entering.get(key), leaving.get(key), planned=True) for key in dict.fromkeys([*entering, *leaving]))
    counts = list(leaving.values())
    return StepRow(
        **head,
        layers=len(leaving) or None,
        planned=True,
        children=children,
        rows_in=sum(n or 0 for n in entering.values()) if entering else None,
        rows_out=sum(c or 0 for c in counts) if counts and None not in counts else None,
    )


def _summed(outputs: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """Totals of a set of layers: like ones of like layers are added. A share is told only of a layer alone."""
    out: dict[tuple[str, str], float] = {}
    like: dict[tuple[str, str], set[str]] = {}
    for one in outputs:
        for total in one["totals"]:
            place = (total["name"], total["unit"])
            if total["unit"] == PER_CENT and len(outputs) > 1:
                continue
            out[place] = out.get(place, 0.0) + total["value"]
            like.setdefault(place, set()).add(one.get("like", ""))
    return [{"name": n, "unit": u, "value": v} for (n, u), v in out.items() if len(like[n, u]) == 1]


def totals_text(totals: Sequence[Mapping[str, Any]]) -> str:
    """Totals as they stand in the ledger: ``1,867.2 ha`` or ``12.4 km``, areas as large as countries in km², chosen fields by name."""
    words = []
    for total in totals:
        if total["unit"] == PER_CENT:
            words.append(f"{total['name']} {total['value']:.2f} %")
            continue
        if total["unit"] == "ha" and abs(total["value"]) >= LARGE:
            words.append(f"{total['value'] / 100:,.0f} km²")
            continue
        own = total["name"] not in ("length", "area")
        words.append(f"{total['name']} {format_quantity(total['value'])}" if own else format_quantity(total["value"], total["unit"]))
    return " · ".join(words)


def reason_text(reason: str, rows: int) -> str:
    """A reason with its number of rows: ``108 · does not meet the condition``."""
    return f"{rows:,} · {reason}"


def grouped_remarks(remarks: Sequence[Mapping[str, Any]]) -> list[tuple[str, bool]]:
    """Remarks as lines, one that several layers share said once; and whether each asks for a look."""
    return [(text, bool(look)) for text, look in said_once(Said(r["text"], r["layer"], r["look"]) for r in remarks)]


def summary(rows_: Sequence[StepRow]) -> str:
    """``6 balanced, 1 to look at``."""
    states = [r.state for r in rows_]
    words = [
        f"{states.count(state):,} {word}"
        for state, word in (("balanced", "balanced"), ("look", "to look at"), ("failed", "failed"))
        if states.count(state)
    ]
    reused = sum(1 for r in rows_ if r.time == "reused")
    told = ", ".join(words) or pluralise(len(states), "step")
    return f"{told}; {reused:,} of {len(states):,} reused" if reused else told
