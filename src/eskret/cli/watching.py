"""``eskret watch``: a workflow run again whenever its inputs change."""

from __future__ import annotations

import signal
import threading
from typing import Annotated

import typer

from eskret.cli.common import Allow, File, Json, Memory, Set, allow_hosts, limit_memory, of_project, plain_errors, told, values


def watch(
    file: File,
    set_: Set = None,
    every: Annotated[float, typer.Option("--every", min=0.2, help="Seconds between looks at the files.")] = 2.0,
    allow: Allow = None,
    memory: Memory = None,
    json_: Json = False,
) -> None:
    """Run a workflow now and again whenever what it reads has changed, until Ctrl+C."""
    allow_hosts(allow)
    limit_memory(memory)
    with plain_errors(json_), of_project(file):
        from eskret.errors import EskretError, RehearsalError
        from eskret.workflow.cache import ResultCache, the_store
        from eskret.workflow.faces import ledger
        from eskret.workflow.history.runs import COMMAND, write_down
        from eskret.workflow.model import document
        from eskret.workflow.run import watch as watching
        from eskret.workflow.run.engine import Run

        path, given = file.resolve(), values(set_)
        document.read(path)  # what is wrong from the beginning is said at once
        stop = threading.Event()
        current: list[Run] = []

        def leave(*_: object) -> None:
            stop.set()
            for job in current:
                job.stop()

        def run() -> None:
            try:
                job = Run(document.read(path), given, workflow=path, result_cache=ResultCache(the_store()))
                current[:] = [job]
                if stop.is_set():
                    return
                result = job.execute()
                write_down(job, result, COMMAND)
                rows = ledger.rows(job.document, {s.id: s.to_json() for s in result.steps})
                said, state = result.error or f"{ledger.summary(rows)}, {result.seconds:.1f} s", result.state
            except RehearsalError as error:
                said, state = "; ".join(f.text for f in error.findings[:3]), "failed"
            except EskretError as error:
                said, state = error.sentence(), "failed"
            told({"when": watching.clock(), "state": state, "text": said}, json_, f"{watching.clock()}  {said}")

        def say(unseen: list[str]) -> None:
            if unseen:
                typer.echo(f"Not watched, since it asks what may change unseen: {', '.join(unseen)}", err=json_)

        handlers = [signal.signal(n, leave) for n in (signal.SIGINT, signal.SIGTERM)]
        try:
            watching.watch(path, run, values=given, every=every, stop=stop, told=say)
        finally:
            for number, handler in zip((signal.SIGINT, signal.SIGTERM), handlers, strict=True):
                signal.signal(number, handler)
