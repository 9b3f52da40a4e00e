"""A run in rounds, from the command line."""

from __future__ import annotations

import json
import signal
from pathlib import Path
from typing import Any

import typer

from eskret.cli.common import EXIT, UNMET, USAGE, of_project, plain_errors, values
from eskret.cli.runs import note
from eskret.errors import DocumentError


def run(
    file: Path,
    for_each: str,
    set_: list[str] | None,
    rehearse: bool,
    report: Path | None,
    if_exists: str | None,
    go_on: bool,
    fresh: bool,
    quiet: bool,
    as_json: bool,
) -> None:
    """Run a workflow in rounds, or only rehearse them."""
    with plain_errors(as_json), of_project(file):
        from eskret import terminal
        from eskret.workflow.cache import ResultCache, the_store
        from eskret.workflow.faces.report import write_report
        from eskret.workflow.history.runs import COMMAND, write_down_rounds
        from eskret.workflow.model import document as documents
        from eskret.workflow.run.foreach import ForEachRun, rows_for

        path = file.resolve()
        document = documents.read(path)
        if report is not None and report.suffix.lower() not in (".json", ".html"):
            raise DocumentError(f"a report cannot end in '{report.suffix}'", way_out="Give it .json or .html")
        given = values(set_)
        rows = rows_for(document, for_each, given, path.parent)
        with terminal.RunProgress(quiet or as_json) as progress:
            job = ForEachRun(
                document,
                rows,
                given,
                workflow=path,
                if_exists=if_exists,
                go_on=go_on,
                on_event=progress.take,
                result_cache=ResultCache(the_store(), fresh=fresh),
            )
            before = [signal.signal(n, lambda *_: job.stop()) for n in (signal.SIGINT, signal.SIGTERM)]
            try:
                if rehearse:
                    _told(job, job.rehearse(), quiet, as_json)
                result = job.execute()
            finally:
                for number, handler in zip((signal.SIGINT, signal.SIGTERM), before, strict=True):
                    signal.signal(number, handler)
        note(write_down_rounds(job, result, COMMAND))
        if report is not None:
            write_report(document, result.to_json(), report, path.parent)
        if as_json:
            typer.echo(json.dumps(result.to_json(), ensure_ascii=False, indent=1))
        elif not quiet:
            terminal.print_rounds(result)
        if result.error:
            typer.echo(result.error, err=True)
        raise typer.Exit(UNMET if result.unmet else EXIT[result.state])


def _told(job: Any, found: list[Any], quiet: bool, as_json: bool) -> None:
    """Say what the rehearsals foretell, and end."""
    from eskret import terminal

    pairs = [(one.label, told) for one, told in zip(job.rounds, found, strict=True)]
    if as_json:
        typer.echo(json.dumps([{"round": n, **t.to_json()} for n, t in pairs], ensure_ascii=False, indent=1))
    elif not quiet:
        terminal.print_rehearsed_rounds(pairs)
    raise typer.Exit(USAGE if any(t.errors for _, t in pairs) else 0)
