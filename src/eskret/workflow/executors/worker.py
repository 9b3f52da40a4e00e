"""The worker process: takes requests as lines of JSON on standard input, tells events as lines on standard output.

Requests: ``{"job": 1, "do": "run", ...}``. Every job ends with one event of kind ``done`` or ``error``; a run tells its
own events before. ``{"do": "stop", "job": 1}`` asks a job to stop. The process ends when its input does, so a window
that is gone leaves no worker behind.
"""

from __future__ import annotations

import json
import os
import sys
import threading
import traceback
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, TextIO

from eskret.errors import EskretError, ExpressionError, RehearsalError, StoppedError
from eskret.formats import gdal

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

    store = ResultStore(Path(request["store"]))
    job = Run(
        parse(request["text"]), request["values"], workflow=_path(request.get("workflow")),
        folder=_path(request["folder"]), on_event=tell, keep=store.keep,
    )  # fmt: skip
    jobs.on_stop(request["job"], job.stop)
    result = job.execute()
    return {"state": result.state}


def _rehearse(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    from eskret.workflow.document import parse
    from eskret.workflow.rehearsal import rehearse

    found = rehearse(
        parse(request["text"]), request["values"], workflow=_path(request.get("workflow")),
        folder=_path(request["folder"]), watch=jobs.watch(request["job"]),
    )  # fmt: skip
    return {
        "seconds": found.seconds,
        "findings": [
            {"level": f.level, "text": f.text, "step": f.step, "setting": f.setting, "layer": f.layer, "start": f.start,
             "length": f.length} for f in found.findings
        ],
        "steps": {
            id: {"known": s.known, "entering": [_facts(x) for x in s.entering], "leaving": [_facts(x) for x in s.leaving],
                 "outputs": [{"path": str(o.path), "layer": o.layer, "action": o.action, "features": o.features,
                              "certainty": o.certainty, "original": o.original} for o in s.outputs]}
            for id, s in found.steps.items()
        },
    }  # fmt: skip


def _look(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    from eskret.formats import sources

    path = Path(request["path"])
    return {"path": str(path), "layers": [_facts(x) for x in sources.look(path)]}


def _open(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    from eskret.formats import sources
    from eskret.workflow.results import ResultStore

    reading = sources.read(Path(request["path"]), request["layer"], request["key"], watch=jobs.watch(request["job"]))
    return {"layer": ResultStore(Path(request["store"])).put(reading.layer),
            "remarks": [r.text for r in reading.remarks]}  # fmt: skip


def _count(request: Request, tell: Tell, jobs: _Jobs) -> dict[str, Any]:
    """How many rows of a stored layer a condition would keep."""
    from eskret.core.expression import parse_condition, truth
    from eskret.workflow.stored import StoredLayer

    table = StoredLayer(request["layer"]).table
    condition = parse_condition(request["where"], table.schema, request["values"])
    true, _ = truth(condition, table, request["values"])
    return {"kept": int(true.sum()), "of": len(true)}


_DO: dict[str, Callable[[Request, Tell, _Jobs], dict[str, Any]]] = {
    "run": _run, "rehearse": _rehearse, "look": _look, "open": _open, "count": _count,
}  # fmt: skip


def _facts(facts: Any) -> dict[str, Any]:
    return {
        "key": facts.key, "name": facts.name, "kind": facts.kind, "crs": facts.crs, "count": facts.count,
        "certainty": facts.certainty, "extent": facts.extent, "origin": facts.origin,
        "fields": [[f.name, f.word] for f in facts.fields],
    }  # fmt: skip


def _path(text: str | None) -> Path | None:
    return Path(text) if text else None


def serve(requests: TextIO, answers: TextIO) -> None:
    """Answer requests until there are no more."""
    lock = threading.Lock()
    jobs = _Jobs()

    def tell(event: Mapping[str, Any]) -> None:
        line = json.dumps(event, ensure_ascii=False, default=str)
        with lock:
            answers.write(line + "\n")
            answers.flush()

    def work(request: Request) -> None:
        job = request["job"]
        try:
            answer = _DO[request["do"]](request, lambda e: tell({"job": job, **e}), jobs)
            tell({"job": job, "event": "done", "do": request["do"], **answer})
        except RehearsalError as error:
            findings = [
                {"level": f.level, "text": f.text, "step": f.step, "setting": f.setting} for f in error.findings
            ]
            tell({"job": job, "event": "error", "do": request["do"], "text": error.sentence(), "findings": findings})
        except EskretError as error:
            more = {"start": error.start, "length": error.length} if isinstance(error, ExpressionError) else {}
            stopped = isinstance(error, StoppedError)
            tell(
                {
                    "job": job,
                    "event": "error",
                    "do": request["do"],
                    "text": error.sentence(),
                    "stopped": stopped,
                    **more,
                }
            )
        except Exception as error:
            traceback.print_exc()
            text = f"A fault of the program: {type(error).__name__}: {error}. Nothing was written."
            tell({"job": job, "event": "error", "do": request["do"], "text": text})

    for line in requests:
        request = json.loads(line)
        if request["do"] == "stop":
            jobs.stop(request["job"])
        else:
            threading.Thread(target=work, args=(request,), daemon=True).start()


def main() -> None:
    """Serve on standard input and output; what libraries print goes to standard error."""
    gdal.be_lean()
    answers = os.fdopen(os.dup(sys.stdout.fileno()), "w", encoding="utf-8")
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    serve(sys.stdin, answers)
    # jobs still under way must not hold the process: whoever asked is gone
    os._exit(0)


if __name__ == "__main__":
    main()
