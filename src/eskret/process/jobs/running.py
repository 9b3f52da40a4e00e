"""A workflow run, rehearsed, run in rounds; what its form offers, and its report."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from eskret.process.jobs.job import Answer, Work, job
from eskret.process.messages import FactsTold, FindingTold, OutputTold, RehearsalTold, StepTold
from eskret.workflow.cache import ResultCache, live_store, the_store
from eskret.workflow.cache.results import ResultStore
from eskret.workflow.history.runs import WINDOW, write_down, write_down_rounds
from eskret.workflow.model.choices import offers
from eskret.workflow.model.document import parse
from eskret.workflow.run.engine import Run
from eskret.workflow.run.foreach import ForEachRun
from eskret.workflow.run.rehearsal import Rehearsal
from eskret.workflow.run.rehearsal import rehearse as rehearse_workflow

Values = dict[str, Any]
_ROWS = 5_000
"""Rows of a station that are told one by one, at most."""


@job("run")
def run(
    work: Work,
    text: str,
    values: Values,
    folder: Path,
    store: Path,
    workflow: Path | None = None,
    fresh: bool = False,
    records: Path | None = None,
) -> Answer:
    """Run the workflow, and keep what its steps made where a window can look at it."""
    started = _started(work, text, values, folder, store, workflow, fresh=fresh, records=records)
    result = started.execute()
    return {"state": result.state, "note": write_down(started, result, WINDOW)}


@job("figures")
def figures(work: Work, text: str, values: Values, folder: Path, store: Path, wrong: list[str], workflow: Path | None = None) -> Answer:
    """Do the steps for their figures alone, each whose own branch is sound; ``wrong`` are those that the rehearsal found not to be."""
    return {"state": _started(work, text, values, folder, store, workflow, figures_alone=wrong).execute().state}


@job("follow")
def follow(
    work: Work, text: str, values: Values, folder: Path, step: str, layer: str, rows: list[int], workflow: Path | None = None
) -> Answer:
    """The way of some rows of a layer, as it left a step: stations with the first of their rows, how many, and the fields that changed."""
    from eskret.workflow.faces.follow import follow as follow_features

    found = follow_features(
        parse(text), f"{step}:{layer}", rows=rows, values=values, workflow=workflow, folder=folder, begun=lambda run: work.on_stop(run.stop)
    )
    told = []
    for number, station in enumerate(found.stations):
        before = found.before(number)
        fields = found.fields(station, int(station.rows[0])) if len(station.rows) == 1 else None
        changed: list[str] = [] if fields is None or before is None else [n for n in fields if n not in before or before[n] != fields[n]]
        id = station.by or station.place[0]
        told.append(
            {
                "step": station.place[0],
                "layer": station.place[1],
                "rows": station.rows[:_ROWS].tolist(),
                "count": len(station.rows),
                "by": station.by,
                "reason": station.reason,
                "here": station.here,
                "changed": changed if not station.reason else [],
                "number": found.document.index(id) + 1,
                "words": found.words(id),
            }
        )
    return {"stations": told, "remark": found.remark()}


def _started(
    work: Work, text: str, values: Values, folder: Path, store: Path, workflow: Path | None, *, fresh: bool = False, **more: Any
) -> Run:
    kept = live_store() if "figures_alone" in more else the_store()
    keep, cache = ResultStore(store).keep, ResultCache(kept, fresh=fresh)
    started = Run(parse(text), values, workflow=workflow, folder=folder, on_event=work.tell, keep=keep, result_cache=cache, **more)
    work.on_stop(started.stop)
    return started


def _rounds(work: Work, text: str, values: Values, folder: Path, rows: list[Values], workflow: Path | None, **more: Any) -> ForEachRun:
    started = ForEachRun(parse(text), rows, values, workflow=workflow, folder=folder, result_cache=ResultCache(the_store()), **more)
    work.on_stop(started.stop)
    return started


@job("rounds")
def rounds(
    work: Work, text: str, values: Values, folder: Path, rows: list[Values], workflow: Path | None = None, go_on: bool = False
) -> Answer:
    """Run the workflow once a row of values."""
    started = _rounds(work, text, values, folder, rows, workflow, go_on=go_on, on_event=work.tell)
    result = started.execute()
    return {"state": result.state, "note": write_down_rounds(started, result, WINDOW)}


@job("rehearse_rounds")
def rehearse_rounds(work: Work, text: str, values: Values, folder: Path, rows: list[Values], workflow: Path | None = None) -> Answer:
    """Rehearse every row of values."""
    started = _rounds(work, text, values, folder, rows, workflow, on_event=lambda event: None)
    return {"rounds": [found.to_json() for found in started.rehearse()]}


@job("rehearse")
def rehearse(work: Work, text: str, values: Values, folder: Path, workflow: Path | None = None, records: Path | None = None) -> Answer:
    """Check everything and foretell what the steps make."""
    return _told(rehearse_workflow(parse(text), values, workflow=workflow, folder=folder, watch=work.watch, records=records))


def _told(found: Rehearsal) -> Answer:
    steps = {}
    for id, step in found.steps.items():
        entering, leaving = (tuple(FactsTold.of(x) for x in layers) for layers in (step.entering, step.leaving))
        outputs = tuple(OutputTold.of(o) for o in step.outputs)
        steps[id] = StepTold(known=step.known, entering=entering, leaving=leaving, outputs=outputs)
    told = RehearsalTold(
        seconds=found.seconds,
        findings=tuple(FindingTold.of(f) for f in found.findings),
        unapproved=tuple((r.address, r.variable, r.changes) for r in found.unapproved),
        shared=tuple(str(p) for p in found.shared),
        steps=steps,
    )
    return told.model_dump(mode="json")


@job("offers")
def offered(work: Work, text: str, values: Values, folder: Path) -> Answer:
    """What a form offers for every parameter, with the values that stand in it."""
    told = {}
    for name, one in offers(parse(text), values, folder).items():
        choices = None if one.choices is None else list(one.choices)
        told[name] = {"choices": choices, "enabled": one.enabled, "why": one.why, "problem": one.problem}
    return {"offers": told}


@job("report")
def report(work: Work, text: str, folder: Path, told: dict[str, Any], layers: list[tuple[str, dict[str, Any]]], path: Path) -> Answer:
    """Write the report of a run, with maps of what it delivered, drawn from what was stored."""
    from eskret.workflow.cache.stored import StoredLayer
    from eskret.workflow.faces.report import write_report
    from eskret.workflow.faces.report_maps import Maps
    from eskret.workflow.model.styles import style_for

    document = parse(text)
    maps = Maps(document, folder)
    for step, info in layers:
        layer = StoredLayer(info)
        if layer.shapes is not None and layer.rows:
            code = str(layer.crs["code"]) if layer.crs else None
            line = [(str(i), str(k)) for i, k in info.get("line", ())]
            maps.draw(f"{layer.name} · {step}", layer.shapes, layer.table, layer.kind, code, style_for(document, line))
    write_report(document, told, path, folder, maps.finish())
    return {"path": str(path)}
