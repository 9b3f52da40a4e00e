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
from functools import partial
from typing import TextIO

from eskret.core import watchdog
from eskret.core.files.log import start_log
from eskret.core.unforeseen import as_sentence
from eskret.errors import Code, EskretError, ExpressionError, RehearsalError, StoppedError
from eskret.formats import gdal
from eskret.process.messages import STOP, Request

OVERRUN = 75
"""The exit code of a worker that ended itself because something in it did not listen."""


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

    def check(self, job: int) -> None:
        """End a job here that was asked to stop."""
        if job in self.asked:
            raise StoppedError


class Server:
    """Answers requests, each in a thread of its own."""

    def __init__(self, answers: TextIO) -> None:
        self._answers, self._lock = answers, threading.Lock()
        self._jobs = _Jobs()
        self._open: dict[int, str] = {}

    def serve(self, requests: TextIO) -> None:
        """Answer requests until there are no more."""
        watchdog.may_be_ended(self._overrun)
        for line in requests:
            request = Request.model_validate(json.loads(line))
            if request.do == STOP:
                self._jobs.stop(request.job)
            else:
                threading.Thread(target=self._work, args=(request,), daemon=True).start()

    def _overrun(self, text: str) -> None:
        """Something does not listen: every open job is told, and the process ends; whoever keeps it starts another."""
        for job, do in list(self._open.items()):
            self._tell(job, {"event": "error", "do": do, "text": f"{text}. Nothing was written.", "code": Code.TIME_LIMIT})
        os._exit(OVERRUN)

    def _tell(self, job: int, event: Mapping[str, object]) -> None:
        line = json.dumps({"job": job, **event}, ensure_ascii=False, default=str)
        with self._lock:
            self._answers.write(line + "\n")
            self._answers.flush()

    def _work(self, request: Request) -> None:
        from eskret.process.jobs import JOBS, Work

        job, do = request.job, request.do
        self._open[job] = do

        def watch(done: int, of: int) -> None:
            self._jobs.check(job)

        work = Work(job, partial(self._tell, job), watch, partial(self._jobs.on_stop, job))
        try:
            self._tell(job, {"event": "done", "do": do, **JOBS[do](work, **request.arguments)})
        except Exception as error:
            self._tell(job, {"event": "error", "do": do, **_failure(error, do)})
        finally:
            self._open.pop(job, None)


def _failure(error: Exception, do: str) -> dict[str, object]:
    """What is told of a job that failed."""
    if isinstance(error, RehearsalError):
        return {**error.to_json(), "findings": [f.to_json() for f in error.findings]}
    if not isinstance(error, EskretError):
        return as_sentence(error, do).to_json()
    more = {"start": error.start, "length": error.length} if isinstance(error, ExpressionError) else {}
    return {**error.to_json(), "stopped": isinstance(error, StoppedError), **more}


def main() -> None:
    """Serve on standard input and output; what libraries print goes to standard error."""
    start_log("worker")
    gdal.be_lean()
    watchdog.limit_memory(0.9)
    answers = os.fdopen(os.dup(sys.stdout.fileno()), "w", encoding="utf-8")
    os.dup2(sys.stderr.fileno(), sys.stdout.fileno())
    Server(answers).serve(sys.stdin)
    # jobs still under way must not hold the process: whoever asked is gone
    atexit._run_exitfuncs()
    os._exit(0)


if __name__ == "__main__":
    main()
