"""The worker process: takes requests as lines of JSON on standard input, tells events as lines on standard output.

Requests: ``{"job": 1, "do": "run", ...}``. Every job ends with one event of kind ``done`` or ``error``; a run tells its
own events before. ``{"do": "stop", "job": 1}`` asks a job to stop. The process ends when its input does, so a window
that is gone leaves no worker behind.
"""

from __future__ import annotations

import atexit
import json
import os
import sys
import threading
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, TextIO

from eskret.core import watchdog
from eskret.core.files.log import start_log
from eskret.core.unforeseen import as_sentence
from eskret.errors import Code, EskretError, ExpressionError, RehearsalError, StoppedError
from eskret.formats import gdal
from eskret.workflow.executors import handed, published

OVERRUN = 75
"""The exit code of a worker that ended itself because something in it did not listen."""
UNASKED = 8.0
"""Seconds that an expression may take which is tried while somebody types it."""

Request = Mapping[str, Any]
Tell = Callable[[Mapping[str, Any]], None]


class _Jobs:
    """The jobs under way, so that they can be stopped."""

    def __init__(self) -> None:
        self._stops: dict[int, list[Callable[[], None]]] = {}
        self.asked: set[int] = set()

    def on_stop(self, job: int, stop: Callable[[], None]) -> None:
        self._stops.setdefault(job, []).append(stop)
        if job in self.asked:
            stop()

    def stop(self, job: int) -> None:
        self.asked.add(job)
        for stop in self._stops.get(job, []):
            stop()

    def watch(self, job: int) -> Callable[[int, int], None]:
        def check(done: int, of: int) -> None:
            if job in self.asked:
                raise StoppedError

        return check


def _run(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    from eskret.workflow.document import parse
    from eskret.workflow.engine import Run
    from eskret.workflow.results import ResultStore
    from eskret.workflow.runs import WINDOW, write_down

    store = ResultStore(Path(request["store"]))
    job = Run(
        parse(request["text"]),
        request["values"],
        workflow=_path(request.get("workflow")),
        folder=_path(request["folder"]),
        on_event=tell,
        keep=store.keep,
        keeping=_keeping(request),
    )
    jobs.on_stop(request["job"], job.stop)
    result = job.execute()
    return {"state": result.state, "note": write_down(job, result, WINDOW)}


def _rounds(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """Run the workflow once a row of values."""
    job = _rounds_run(request, tell)
    jobs.on_stop(request["job"], job.stop)
    from eskret.workflow.runs import WINDOW, write_down_rounds

    result = job.execute()
    return {"state": result.state, "note": write_down_rounds(job, result, WINDOW)}


def _rehearse_rounds(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    job = _rounds_run(request, lambda event: None)
    jobs.on_stop(request["job"], job.stop)
    return {"rounds": [found.to_json() for found in job.rehearse()]}


def _rounds_run(request: Request, tell: Tell) -> Any:
    from eskret.workflow.document import parse
    from eskret.workflow.rounds import RoundsRun

    return RoundsRun(
        parse(request["text"]),
        request["rows"],
        request["values"],
        workflow=_path(request.get("workflow")),
        folder=_path(request["folder"]),
        go_on=request.get("go_on", False),
        on_event=tell,
        keeping=_keeping(request),
    )


def _keeping(request: Request) -> Any:
    from eskret.workflow.reuse import Keeping, the_store

    return Keeping(the_store(), fresh=request.get("fresh", False))


def _rehearse(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    from eskret.workflow.document import parse
    from eskret.workflow.rehearsal import rehearse

    found = rehearse(
        parse(request["text"]),
        request["values"],
        workflow=_path(request.get("workflow")),
        folder=_path(request["folder"]),
        watch=jobs.watch(request["job"]),
    )
    return {
        "seconds": found.seconds,
        "findings": [f.to_json() for f in found.findings],
        "strangers": [[r.address, r.variable, r.changes] for r in found.strangers],
        "shared": [str(p) for p in found.shared],
        "steps": {
            id: {
                "known": s.known,
                "entering": [_facts(x) for x in s.entering],
                "leaving": [_facts(x) for x in s.leaving],
                "outputs": [
                    {
                        "path": str(o.path),
                        "layer": o.layer,
                        "action": o.action,
                        "features": o.features,
                        "certainty": o.certainty,
                        "original": o.original,
                    }
                    for o in s.outputs
                ],
            }
            for id, s in found.steps.items()
        },
    }


def _offers(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """What a form offers for every parameter, with the values that stand in it."""
    from eskret.workflow.choices import offers
    from eskret.workflow.document import parse

    found = offers(parse(request["text"]), request["values"], Path(request["folder"]))
    return {
        "offers": {
            n: {"choices": None if o.choices is None else list(o.choices), "enabled": o.enabled, "why": o.why, "problem": o.problem}
            for n, o in found.items()
        }
    }


def _look(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    from eskret.formats import sources

    path = Path(request["path"])
    return {"path": str(path), "layers": [_facts(x) for x in sources.look(path)]}


def _open(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    from eskret.formats import sources
    from eskret.workflow.results import ResultStore

    layer = request["layer"] or next((x.name for x in sources.look(Path(request["path"]))), "")
    reading = sources.read(Path(request["path"]), layer, request["key"], watch=jobs.watch(request["job"]))
    return {
        "layer": ResultStore(Path(request["store"])).put(reading.layer),
        "remarks": [r.text for r in reading.remarks] + [f"{len(rows):,} left out: {why}" for why, rows in reading.set_aside],
    }


def _count(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """How many rows of a stored layer a condition would keep."""
    from eskret.core.expression import parse_condition, truth
    from eskret.workflow.stored import StoredLayer

    table = StoredLayer(request["layer"]).table
    condition = parse_condition(request["where"], table.schema, request["values"])
    true, _ = truth(condition, table, request["values"], UNASKED)
    return {"kept": int(true.sum()), "of": len(true)}


def _compute(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """What an expression gives for the first rows of a stored layer."""
    from eskret.core.expression import evaluate, parse
    from eskret.core.layer import type_word
    from eskret.workflow.stored import StoredLayer

    table = StoredLayer(request["layer"]).table
    expression = parse(request["value"], table.column_names)
    try:
        column = evaluate(expression, table.slice(0, 6), request["values"], UNASKED)
    except ExpressionError as error:
        return {"wrong": f"The first rows cannot be worked out: {error.problem}.", "values": [], "of": table.num_rows}
    values = [v if v is None or isinstance(v, bool | int | float) else str(v) for v in column.to_pylist()]
    return {"values": values, "of": table.num_rows, "type": type_word(column.type)}


def _values(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """The most frequent values of a field over stored layers, with counts."""
    import pyarrow as pa

    from eskret.core.profile import values_with_counts
    from eskret.workflow.stored import StoredLayer

    tables = [StoredLayer(info).table for info in request["layers"]]
    columns = [t.column(request["field"]) for t in tables if request["field"] in t.column_names]
    if len({c.type for c in columns}) > 1:
        columns = [c.cast(pa.string()) for c in columns]
    whole = pa.chunked_array([chunk for c in columns for chunk in c.chunks], columns[0].type) if columns else None
    found = values_with_counts(whole, request["most"]) if whole is not None else []
    return {
        "values": [[v if isinstance(v, bool | int | float) else str(v), n] for v, n in found],
        "empty": whole.null_count if whole is not None else 0,
    }


def _warm(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """Fetch what finds classes, so that the first answer does not wait for it."""
    from importlib import import_module

    gdal.with_frames()  # the library of classes is built on data frames
    import_module("mapclassify")
    return {}


def _classes(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """The limits between classes of a field of a stored layer."""
    from eskret.core.classes import breaks_of
    from eskret.core.legend import numbers_of
    from eskret.workflow.stored import StoredLayer

    gdal.with_frames()
    numbers = numbers_of(StoredLayer(request["layer"]).table.column(request["field"]))
    return {"breaks": [] if numbers is None else list(breaks_of(numbers, request["method"], request["count"]))}


def _profile(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """What the fields of a stored layer hold."""
    from eskret.core.profile import profile
    from eskret.workflow.stored import StoredLayer

    layer = StoredLayer(request["layer"])
    return {
        "fields": [
            {
                "name": p.name,
                "word": p.word,
                "nulls": p.nulls,
                "distinct": p.distinct,
                "least": p.least,
                "greatest": p.greatest,
                "sample": list(p.sample),
            }
            for p in profile(layer.table)
        ]
    }


def _layout(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """How a text with coordinates is laid out, and its first lines cut into values."""
    from eskret.formats import coordinates_text as texts
    from eskret.formats import sources, text
    from eskret.operations.base import Context
    from eskret.operations.gather.load_coordinates import wish_of
    from eskret.operations.registry import operation_by_id
    from eskret.operations.settings import validate

    settings: Any = validate(operation_by_id("load_coordinates").Settings, request["settings"])
    context = Context(Path(request["folder"]), values=request["values"])
    files = sources.find_files([context.fill(f) for f in settings.files], context.folder, other_endings=texts.ENDINGS)
    layout = texts.layout_of(files[0], wish_of(settings))
    lines = text.sample_lines(files[0], layout.spelling, 7)
    rows = [text.split_line(line, layout.delimiter) for line in lines]
    return {
        "file": str(files[0]),
        "files": len(files),
        "delimiter": layout.delimiter,
        "header": layout.header,
        "decimal": layout.decimal,
        "encoding": layout.spelling.codec,
        "columns": list(layout.columns),
        "x": layout.x,
        "y": layout.y,
        "z": layout.z,
        "rows": rows[1:] if layout.header else rows[:6],
    }


def _store(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """The layers of a GeoPackage, after what is to be changed in it was."""
    from eskret.formats import geopackage
    from eskret.formats.geopackage import in_child

    path = Path(request["path"])
    asked = {n: request[n] for n in ("rename", "remove", "section") if request.get(n)}
    if asked:
        in_child.change_store(path, **asked)
    return {"layers": [{"name": e.name, "rows": e.rows, "section": e.section} for e in geopackage.entries(path)]}


def _take_back(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """Bring a file back to what it held before its last change."""
    from eskret.errors import InputError
    from eskret.workflow import kept

    latest = kept.changes(Path(request["path"]))
    if not latest:
        raise InputError("no change of it is on record", place=str(request["path"]))
    kept.take_back(latest[0])
    return {}


def _sketch(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """Store what was drawn, as its step would leave it."""
    from eskret.operations.base import Context
    from eskret.operations.registry import operation_by_id
    from eskret.operations.settings import validate
    from eskret.workflow.results import ResultStore

    operation: Any = operation_by_id("sketch")
    context = Context(step=request["step"], crs=request["crs"] or None)
    outcome = operation.read(None, validate(operation.Settings, request["settings"]), context)[0]
    return {"layer": ResultStore(Path(request["store"])).put(outcome.layers[0])}


def _report(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """Write the report of a run, with maps of what it delivered, drawn from what was stored."""
    from eskret.workflow.document import parse
    from eskret.workflow.report import write_report
    from eskret.workflow.report_maps import Maps
    from eskret.workflow.stored import StoredLayer
    from eskret.workflow.styles import style_for

    document, folder = parse(request["text"]), Path(request["folder"])
    maps = Maps(document, folder)
    for step, info in request["layers"]:
        layer = StoredLayer(info)
        if layer.shapes is not None and layer.rows:
            code = str(layer.crs["code"]) if layer.crs else None
            line = [(str(i), str(k)) for i, k in info.get("line", ())]
            style = style_for(document, line)
            maps.draw(f"{layer.name} · {step}", layer.shapes, layer.table, layer.kind, code, style)
    path = Path(request["path"])
    write_report(document, request["told"], path, folder, maps.finish())
    return {"path": str(path)}


def _find_crs(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """Coordinate systems that fit some words, with unit and area of use."""
    from eskret.core.crs_search import find

    out = []
    for known in find(request["words"], request["recent"], request["most"]):
        facts = known.facts()
        out.append({"code": known.code, "name": known.name, "area": known.area, "unit": facts.unit, "bounds": facts.bounds})
    return {"found": out}


def _own(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """What a project has of its own operations; a file that changed is loaded anew."""
    from eskret.own.files import cards

    return cards(Path(request["folder"]))


def _own_choices(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """What settings of an own operation offer, where that hangs on the others."""
    from eskret.own.files import choices

    return {"choices": choices(Path(request["folder"]), request["use"], request["settings"])}


_DO: dict[str, Callable[[Request, Tell, _Jobs], dict[str, Any]]] = {
    "run": _run,
    "rehearse": _rehearse,
    "look": _look,
    "open": _open,
    "count": _count,
    "compute": _compute,
    "values": _values,
    "profile": _profile,
    "classes": _classes,
    "warm": _warm,
    "layout": _layout,
    "sketch": _sketch,
    "store": _store,
    "take_back": _take_back,
    "find_crs": _find_crs,
    "report": _report,
    "offers": _offers,
    "rounds": _rounds,
    "rehearse_rounds": _rehearse_rounds,
    "own": _own,
    "own_choices": _own_choices,
    **published.DO,
    **handed.DO,
}


def _facts(facts: Any) -> dict[str, Any]:
    return {
        "key": facts.key,
        "name": facts.name,
        "kind": facts.kind,
        "crs": facts.crs,
        "count": facts.count,
        "certainty": facts.certainty,
        "extent": facts.extent,
        "origin": facts.origin,
        "step": facts.step,
        "own_name": facts.own_name,
        "unnumbered": facts.unnumbered,
        "fields": [[f.name, f.word] for f in facts.fields],
    }


def _path(text: str | None) -> Path | None:
    return Path(text) if text else None


def serve(requests: TextIO, answers: TextIO) -> None:
    """Answer requests until there are no more."""
    lock = threading.Lock()
    jobs = _Jobs()
    open_jobs: dict[int, str] = {}

    def overrun(text: str) -> None:
        """Something does not listen: every open job is told, and the process ends; whoever keeps it starts another."""
        for job, do in list(open_jobs.items()):
            tell({"job": job, "event": "error", "do": do, "text": f"{text}. Nothing was written.", "code": Code.TIME_LIMIT})
        os._exit(OVERRUN)

    watchdog.may_be_ended(overrun)

    def tell(event: Mapping[str, Any]) -> None:
        line = json.dumps(event, ensure_ascii=False, default=str)
        with lock:
            answers.write(line + "\n")
            answers.flush()

    def work(request: Request) -> None:
        job = request["job"]
        open_jobs[job] = request["do"]
        try:
            answer = _DO[request["do"]](request, lambda e: tell({"job": job, **e}), jobs)
            tell({"job": job, "event": "done", "do": request["do"], **answer})
        except RehearsalError as error:
            findings = [f.to_json() for f in error.findings]
            tell({"job": job, "event": "error", "do": request["do"], **error.to_json(), "findings": findings})
        except EskretError as error:
            more = {"start": error.start, "length": error.length} if isinstance(error, ExpressionError) else {}
            stopped = isinstance(error, StoppedError)
            tell({"job": job, "event": "error", "do": request["do"], **error.to_json(), "stopped": stopped, **more})
        except Exception as error:
            tell({"job": job, "event": "error", "do": request["do"], **as_sentence(error, request["do"]).to_json()})
        finally:
            open_jobs.pop(job, None)

    for line in requests:
        request = json.loads(line)
        if request["do"] == "stop":
            jobs.stop(request["job"])
        else:
            threading.Thread(target=work, args=(request,), daemon=True).start()


def main() -> None:
    """Serve on standard input and output; what libraries print goes to standard error."""
    start_log("worker")
    gdal.be_lean()
    watchdog.limit_memory(0.9)
    answers = os.fdopen(os.dup(sys.stdout.fileno()), "w", encoding="utf-8")
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    serve(sys.stdin, answers)
    # jobs still under way must not hold the process: whoever asked is gone
    atexit._run_exitfuncs()
    os._exit(0)


if __name__ == "__main__":
    main()
