"""Commands for published datasets: publish, practice-server, token."""

from __future__ import annotations

import json
import os
import signal
import sys
import threading
from collections.abc import Callable, Generator
from pathlib import Path
from typing import Annotated, Any

import typer

from eskret.cli.common import EXIT, FAILED, STOPPED, USAGE, Json, Quiet, Set, of_project, plain_errors, told, values
from eskret.cli.runs import note
from eskret.errors import DocumentError, EskretError, InputError, StoppedError


def register(app: typer.Typer) -> None:
    """Add the commands."""
    app.command("publish")(publish)
    app.command("practice-server")(practice_server)
    app.command("token")(token)


def publish(
    file: Annotated[Path | None, typer.Argument(help="A workflow file (.toml); with --push it can be left out.")] = None,
    set_: Set = None,
    rehearse: Annotated[bool, typer.Option("--rehearse", help="Take the difference; write and send nothing.")] = False,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Send without asking.")] = False,
    resume: Annotated[bool, typer.Option("--resume", help="Send what the last run prepared, or complete what was cut short.")] = False,
    undo: Annotated[bool, typer.Option("--undo", help="Take the last push back.")] = False,
    push: Annotated[str, typer.Option("--push", help="The id of a push, as --history lists them.")] = "",
    theirs: Annotated[
        str, typer.Option("--theirs", help="What somebody else changed meanwhile: refuse (do nothing), leave, overwrite.")
    ] = "refuse",
    history: Annotated[bool, typer.Option("--history", help="List the pushes.")] = False,
    report: Annotated[Path | None, typer.Option(help="Write the account of the run: .json or .html.")] = None,
    quiet: Quiet = False,
    json_: Json = False,
) -> None:
    """Run a workflow, show how its published datasets would change, and send that once you say so."""
    with plain_errors(json_):
        from eskret import terminal
        from eskret.services import journal
        from eskret.workflow.outputs import publishing

        path = file.resolve() if file is not None else None
        if theirs not in ("refuse", "leave", "overwrite"):
            raise DocumentError(f"--theirs cannot be {theirs!r}", way_out="It can be refuse, leave or overwrite")
        if sum((rehearse, resume, undo, history)) > 1:
            raise DocumentError("--rehearse, --resume, --undo and --history exclude each other", way_out="Choose one")
        if history:
            found = [p for p in journal.pushes(path) if not push or p.id == push]
            if json_:
                typer.echo(json.dumps([p.to_json() for p in found], ensure_ascii=False, indent=1))
            else:
                terminal.print_pushes(found)
            return
        if resume or undo:
            states = publishing.TO_UNDO if undo else publishing.TO_SEND
            ids = [push] if push else publishing.latest(path, states)
        elif path is None:
            raise DocumentError("no workflow is named", way_out="Write eskret publish FILE, or say --resume, --undo, --history")
        else:
            ids = _prepare(path, set_, rehearse, quiet or json_, report)
            if rehearse or not ids:
                return
            if not yes and not _asked(len(ids)):
                return
        worst = 0
        way = publishing.undo if undo else publishing.send
        for id in ids[::-1] if undo else ids:
            worst = max(worst, _carry_out(way, id, theirs, quiet, json_))
        raise typer.Exit(worst)


def _prepare(path: Path, set_: list[str] | None, rehearse: bool, quiet: bool, report: Path | None) -> list[str]:
    """Run the workflow; the ids of the pushes it prepared."""
    from eskret import terminal
    from eskret.workflow.cache import ResultCache, the_store
    from eskret.workflow.faces.report import write_report
    from eskret.workflow.faces.report_maps import Maps
    from eskret.workflow.history.runs import COMMAND, write_down
    from eskret.workflow.model import document as documents
    from eskret.workflow.run.engine import Run

    document = documents.read(path)
    if not any(s.use == "publish" and not s.off for s in document.steps):
        raise DocumentError("no step of it publishes", place=str(path), way_out="Add a step 'publish', or use 'eskret run'")
    maps = Maps(document, path.parent) if report is not None and report.suffix.lower() == ".html" else None
    with terminal.RunProgress(quiet) as progress:
        job = Run(
            document,
            values(set_),
            workflow=path,
            on_event=progress.take,
            write_nothing=rehearse,
            keep=maps.keep if maps is not None else None,
            result_cache=ResultCache(the_store()),
        )
        with _stops(job.stop):
            result = job.execute()
    if not rehearse:
        note(write_down(job, result, COMMAND))
    if report is not None:
        write_report(document, result.to_json(), report, path.parent, maps.finish() if maps is not None else None)
    if not quiet:
        with of_project(path):
            terminal.print_ledger(document, result.to_json())
        terminal.print_outputs(result)
    if result.error:
        typer.echo(result.error, err=True)
    if EXIT[result.state]:
        raise typer.Exit(EXIT[result.state])
    if rehearse and not quiet:
        typer.echo("Nothing was written and nothing was sent.")
    return [p.push for p in result.pushes]


def _asked(number: int) -> bool:
    if not sys.stdin.isatty():
        typer.echo("Nothing was sent. Say --yes to send without being asked, or send it with --resume.", err=True)
        raise typer.Exit(USAGE)
    if typer.confirm("Send this?" if number == 1 else f"Send these {number}?"):
        return True
    typer.echo("Nothing was sent. It can be sent with --resume.")
    return False


def _carry_out(way: Callable[..., Any], id: str, theirs: str, quiet: bool, as_json: bool) -> int:
    """Send or take back one push; its exit code."""
    from eskret import terminal
    from eskret.services import journal

    stopped = False

    def stop() -> None:
        nonlocal stopped
        stopped = True

    def check(done: int, of: int) -> None:
        if stopped:
            raise StoppedError("Stopped; what was sent so far is written down. Go on with --resume, or back with --undo")
        progress.sent(done, of)

    code = 0
    with terminal.PushProgress(quiet or as_json) as progress, _stops(stop):
        try:
            now = way(id, check, theirs)
            code = FAILED if now.state in ("part", "undoing") else 0
        except StoppedError as error:
            code, failure = STOPPED, error.sentence()
        except EskretError as error:
            code, failure = FAILED, error.sentence()
        else:
            failure = ""
    with journal.open_push(id) as open_:
        now = open_.push
        conflicts = open_.entries([journal.CONFLICT], 20)
        came = open_.came()
    if as_json:
        typer.echo(
            json.dumps(
                {**now.to_json(), "done": came[0], "of": came[1], "conflicts": [e.key for e in conflicts]}, ensure_ascii=False, indent=1
            )
        )
    elif not quiet:
        terminal.print_push(now, conflicts, came)
    if failure:
        typer.echo(failure, err=True)
        if code == FAILED:
            typer.echo("What was sent so far is written down: --resume completes it, --undo takes it back.", err=True)
    return code


class _stops:  # noqa: N801 - reads as a phrase
    """While this lasts, Ctrl+C asks for a stop instead of ending the process."""

    def __init__(self, stop: Callable[[], None]) -> None:
        self._stop = stop

    def __enter__(self) -> None:
        self._before = [(n, signal.signal(n, lambda *_: self._stop())) for n in (signal.SIGINT, signal.SIGTERM)]

    def __exit__(self, *_: object) -> None:
        for number, handler in self._before:
            signal.signal(number, handler)


def practice_server(
    data: Annotated[Path | None, typer.Option("--data", help="Where its datasets are kept; by default your data folder.")] = None,
    port: Annotated[int, typer.Option("--port", help="0 for any that is free.", min=0, max=65535)] = 8731,
    token_: Annotated[
        str, typer.Option("--token", envvar="ESKRET_PRACTICE_TOKEN", help="What changes must bring; a new one by default.")
    ] = "",
    private: Annotated[bool, typer.Option("--private", help="Reading needs the token, too.")] = False,
    slow: Annotated[float, typer.Option("--slow", help="Practise: wait so many seconds before each answer.", min=0)] = 0.0,
    lose: Annotated[int, typer.Option("--lose", help="Practise: cut the n-th request off.", min=0)] = 0,
    lose_answer: Annotated[int, typer.Option("--lose-answer", help="Practise: carry the n-th out, and lose the answer.", min=0)] = 0,
    answer: Annotated[int, typer.Option("--answer", help="Practise: answer with this status instead.", min=0, max=599)] = 0,
    answer_from: Annotated[int, typer.Option("--answer-from", help="... from the n-th request on.", min=1)] = 1,
    answer_times: Annotated[int, typer.Option("--answer-times", help="... so many times; 0 for always.", min=0)] = 0,
    while_input: Annotated[bool, typer.Option("--while-input", hidden=True, help="End when the standard input does.")] = False,
    retry_after: Annotated[float, typer.Option("--retry-after", help="... telling to come back in so many seconds.", min=0)] = 0.0,
    json_: Json = False,
) -> None:
    """Serve published datasets on this machine, to practise on. Faults can be asked for."""
    with plain_errors(json_):
        from eskret.practice_server import PracticeServer
        from eskret.practice_server.faults import Faults
        from eskret.services import practice

        folder = (data or practice.data_folder()).resolve()
        secret = token_ or _new_token()
        faults = {
            "slow": slow,
            "lose": lose,
            "lose_answer": lose_answer,
            "answer": answer,
            "answer_from": answer_from,
            "answer_times": answer_times,
            "retry_after": retry_after,
        }
        try:
            server = PracticeServer(folder, port, secret, private, Faults.told(faults))
        except ValueError as error:
            raise DocumentError(str(error)) from error
        except OSError as error:
            raise InputError(
                f"the practice server cannot be started ({error.strerror or error})",
                place=f"port {port}, {folder}",
                way_out="Choose another --port or --data; perhaps one is running already",
            ) from error
        practice.note(server.address, secret)
        words = f"Practice server at {server.address}, datasets in {folder}. Eskret knows its token. Ctrl+C ends it."
        told({"address": server.address, "datasets": folder}, json_, words)
        sys.stdout.flush()
        if while_input:
            threading.Thread(target=_end_with_input, daemon=True).start()
        for number in (signal.SIGINT, signal.SIGTERM):  # the server has its own way to end on these
            signal.signal(number, signal.default_int_handler)
        try:
            server.serve()
        except KeyboardInterrupt:
            pass
        finally:
            practice.forget(server.address)


def _end_with_input() -> None:
    sys.stdin.read()
    os.kill(os.getpid(), signal.SIGTERM)


def rounds(workflow: Path, home: Path) -> Generator[Callable[[], None], None, None]:
    """The demo's quarterly publishing on a practice server of its own: a quarter, the next one, back, and there again."""
    from eskret.practice_server import PracticeServer
    from eskret.services import practice

    secret = _new_token()
    with PracticeServer(home / "practice", 0, secret) as server:
        practice.note(server.address, secret)
        at = f"service={server.address}"
        try:
            yield lambda: publish(workflow, [at, "quarter=2031-Q3"], yes=True)
            yield lambda: publish(workflow, [at, "quarter=2031-Q4"], rehearse=True)
            yield lambda: publish(workflow, [at, "quarter=2031-Q4"], yes=True)
            yield lambda: publish(workflow, undo=True)
            yield lambda: publish(workflow, [at, "quarter=2031-Q4"], yes=True)
        finally:
            practice.forget(server.address)


def token(
    address: Annotated[str, typer.Argument(help="The address of a service.")],
    forget: Annotated[bool, typer.Option("--forget", help="Take it out of the keyring again.")] = False,
    json_: Json = False,
) -> None:
    """Keep the token of a service in the keyring of this desktop. It is asked for, and shown nowhere."""
    with plain_errors(json_):
        from eskret.services import tokens

        if forget:
            gone = tokens.forget(address)
            words = f"The token for {tokens.origin_of(address)} is {'forgotten' if gone else 'not kept'}."
            told({"service": tokens.origin_of(address), "kept": False, "was_kept": gone}, json_, words)
            return
        tokens.keep(address, typer.prompt("Token", hide_input=True, err=json_).strip())
        told({"service": tokens.origin_of(address), "kept": True}, json_, f"The token for {tokens.origin_of(address)} is kept.")


def _new_token() -> str:
    import secrets  # fetched here: it takes a hundredth of a second of every start

    return secrets.token_urlsafe(18)
