"""The command line. Its exit codes stand in ``common.CODES``."""

from __future__ import annotations

import atexit
import json
import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterable
from dataclasses import replace
from functools import partial
from importlib.util import find_spec
from pathlib import Path
from typing import Annotated, Any

import typer

from eskret import __version__
from eskret.cli import publishing, rounds, single
from eskret.cli.cache import cache
from eskret.cli.common import (
    CODES,
    EXIT,
    FAILED,
    STOPPED,
    UNKNOWN,
    UNMET,
    USAGE,
    Allow,
    File,
    Json,
    Memory,
    Quiet,
    Set,
    allow_hosts,
    code_of,
    limit_memory,
    of_project,
    pairs,
    plain_errors,
    there,
    told,
    values,
)
from eskret.cli.doctor import doctor
from eskret.cli.handbook import handbook
from eskret.cli.handover import pack, unpack
from eskret.cli.operations import operations
from eskret.cli.recovering import recover, recover_first
from eskret.cli.runs import note, runs
from eskret.cli.unheard import speak_on
from eskret.cli.watching import watch
from eskret.cli.window_needs import lacking
from eskret.core import watchdog
from eskret.core.files.alone import say_alone
from eskret.core.files.log import start_log
from eskret.core.files.spelling import check_spelling
from eskret.core.unforeseen import as_sentence
from eskret.errors import Code, DocumentError, EskretError, InputError, SettingError
from eskret.formats import gdal

app = typer.Typer(
    help="Repeatable geoprocessing workflows, audited like accounts.",
    no_args_is_help=True,
    add_completion=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
    epilog=CODES,
)

Exists = Annotated[str | None, typer.Option("--if-exists", help="own, stop, replace, number or skip; overrules what the steps say.")]


_DEAF = 15.0
"""Seconds after which a process that was asked to stop is ended."""


def main() -> None:
    """Entry point of ``eskret``."""
    speak_on()
    start_log("command")
    gdal.be_lean()
    say_alone()
    watchdog.limit_memory(0.95)
    watchdog.may_be_ended(_overrun)
    # until a run takes the signals over, there is nothing to bring to a good end: leave at once, as one who was stopped
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, _leave)
    _leave_even_if_deaf()
    code = 0
    try:
        for given in sys.argv[1:]:
            check_spelling(Path(given))
        app()
    except Exception as error:  # nobody foresaw it: a sentence all the same, and the details in the log
        sys.stderr.write(as_sentence(error, after=UNKNOWN).sentence() + "\n")
        code = code_of(error) if isinstance(error, EskretError) else FAILED
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 1
        if isinstance(end.code, str):
            sys.stderr.write(end.code + "\n")
    # millions of shapes need not be taken apart one by one before the process is gone
    atexit._run_exitfuncs()
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


def _leave(*_: object) -> None:
    os.write(2, b"Stopped; nothing was written.\n")
    os._exit(STOPPED)


def _overrun(text: str) -> None:
    os.write(2, f"{text}. Nothing was written.\n".encode())
    os._exit(FAILED)


def _leave_even_if_deaf() -> None:
    """A signal is heard by Python only between its own steps, and a computation in a library takes none: if the process is
    still there some seconds after one, it leaves. The next command takes away what it had staged."""
    reading, writing = os.pipe()
    os.set_blocking(writing, False)
    signal.set_wakeup_fd(writing, warn_on_full_buffer=False)

    def listen() -> None:
        while number := os.read(reading, 1):
            if number[0] in (signal.SIGINT, signal.SIGTERM):
                time.sleep(_DEAF)
                os.write(2, b"Stopped; what was at work did not listen and was ended.\n")
                os._exit(STOPPED)

    threading.Thread(target=listen, daemon=True).start()


def _version(asked: bool) -> None:
    if asked:
        typer.echo(f"Eskret {__version__}")
        raise typer.Exit


@app.callback()
def _top(version: Annotated[bool, typer.Option("--version", callback=_version, is_eager=True, help="Say the version.")] = False) -> None:
    """What comes before a command."""


def _policy(if_exists: str | None) -> str | None:
    known = ("own", "stop", "replace", "number", "skip")
    if if_exists is not None and if_exists not in known:
        raise DocumentError(f"--if-exists cannot be {if_exists!r}", way_out=f"It can be {', '.join(known)}")
    return if_exists


@app.command()
def run(
    file: File,
    set_: Set = None,
    rehearse: Annotated[bool, typer.Option("--rehearse", help="Only check and foretell; write nothing.")] = False,
    report: Annotated[Path | None, typer.Option(help="Write the account of the run: .json or .html.")] = None,
    if_exists: Exists = None,
    allow_outside: Annotated[
        bool, typer.Option("--allow-outside", help="Let this workflow save outside its own folder and reach its services, from now on.")
    ] = False,
    for_each: Annotated[
        str | None,
        typer.Option(
            "--for-each",
            metavar="TABLE|NAME|NAME=A,B",
            help="Run it in rounds: once a row of a table whose columns are parameters, once a choice of a parameter, or once "
            "for each of some values. All outputs are saved together, or none.",
        ),
    ] = None,
    go_on: Annotated[bool, typer.Option("--go-on", help="In rounds: save each by itself, and go on after one that failed.")] = False,
    fresh: Annotated[
        bool, typer.Option("--fresh", help="Do everything anew, also what an earlier run made and nothing has changed.")
    ] = False,
    allow: Allow = None,
    memory: Memory = None,
    quiet: Quiet = False,
    json_: Json = False,
) -> None:
    """Run a workflow and print its ledger."""
    allow_hosts(allow)
    limit_memory(memory)
    if for_each is not None:
        rounds.run(file, for_each, set_, rehearse, report, _policy(if_exists), go_on, fresh, quiet, json_)
        return
    if allow_outside:
        _allow_outside(file, set_)
    if rehearse:
        _rehearse(file, set_, if_exists, quiet, json_)
        return
    with plain_errors(json_), of_project(file):
        from eskret import terminal
        from eskret.workflow.cache import ResultCache, the_store
        from eskret.workflow.faces.report import write_report
        from eskret.workflow.faces.report_maps import Maps
        from eskret.workflow.history.runs import COMMAND, write_down
        from eskret.workflow.model import document as documents
        from eskret.workflow.run.engine import Run

        path = file.resolve()
        document = documents.read(path)
        if report is not None and report.suffix.lower() not in (".json", ".html"):
            raise DocumentError(f"a report cannot end in '{report.suffix}'", way_out="Give it .json or .html")
        with terminal.RunProgress(quiet or json_) as progress:
            maps = Maps(document, path.parent) if report is not None and report.suffix.lower() == ".html" else None
            job = Run(
                document,
                values(set_),
                workflow=path,
                if_exists=_policy(if_exists),
                on_event=progress.take,
                keep=maps.keep if maps is not None else None,
                result_cache=ResultCache(the_store(), fresh=fresh),
            )
            before = signal.signal(signal.SIGINT, lambda *_: job.stop())
            term = signal.signal(signal.SIGTERM, lambda *_: job.stop())
            try:
                result = job.execute()
            finally:
                signal.signal(signal.SIGINT, before)
                signal.signal(signal.SIGTERM, term)
        note(write_down(job, result, COMMAND))
        if report is not None:
            write_report(document, result.to_json(), report, path.parent, maps.finish() if maps is not None else None)
        if json_:
            typer.echo(json.dumps(result.to_json(), ensure_ascii=False, indent=1))
        elif not quiet:
            terminal.print_ledger(document, result.to_json())
            terminal.print_outputs(result)
        if result.error:
            typer.echo(result.error, err=True)
        raise typer.Exit(UNMET if result.unmet else EXIT[result.state])


def _allow_outside(file: Path, set_: list[str] | None) -> None:
    with plain_errors():
        from eskret.workflow.model import document as documents
        from eskret.workflow.run import consent
        from eskret.workflow.run.rehearsal import rehearse

        path = file.resolve()
        planned = rehearse(documents.read(path), values(set_), workflow=path)
        consent.allow(path, consent.outside(path, path.parent, [p.path for p in planned.outputs]), planned.unapproved, planned.shared)


@app.command("rehearse")
def rehearse_command(
    file: File,
    set_: Set = None,
    if_exists: Exists = None,
    allow: Allow = None,
    memory: Memory = None,
    quiet: Quiet = False,
    json_: Json = False,
) -> None:
    """Check a workflow and foretell its outputs; nothing is written."""
    allow_hosts(allow)
    limit_memory(memory)
    _rehearse(file, set_, if_exists, quiet, json_)


def _rehearse(file: Path, set_: list[str] | None, if_exists: str | None, quiet: bool, as_json: bool) -> None:
    with plain_errors(as_json), of_project(file):
        from eskret import terminal
        from eskret.workflow.faces.said_once import findings_once
        from eskret.workflow.model import document as documents
        from eskret.workflow.run.rehearsal import rehearse

        path = file.resolve()
        document = documents.read(path)
        given = values(set_)
        found = rehearse(document, given, workflow=path, if_exists=_policy(if_exists))
        if as_json:
            typer.echo(json.dumps(found.to_json(), ensure_ascii=False, indent=1))
        elif not quiet:
            terminal.print_rehearsal(document, found, given)
        for _, _, text in findings_once(found.errors) if quiet else ():
            typer.echo(text, err=True)
        raise typer.Exit(USAGE if found.errors else 0)


@app.command()
def look(
    path: Annotated[Path, typer.Argument(help="A file or a folder.")],
    fields: Annotated[bool, typer.Option("--fields", help="Read the rows and say what each field holds.")] = False,
    json_: Json = False,
) -> None:
    """Say what a file holds: layers, counts, geometry, CRS and unit, fields with types."""
    with plain_errors(json_):
        from eskret import terminal
        from eskret.core.tables.profile import profile
        from eskret.formats import sources

        recover_first(path)
        layers: list[object] = []
        problems: list[str] = []
        profiles: dict[int, object] = {}
        for file in sources.find_files([str(path)], Path.cwd()):  # a pattern may be given too
            try:
                for found in sources.look(file):
                    layers.append(found)
                    if fields:
                        reading = sources.read(file, found.name, found.key)
                        profiles[len(layers) - 1] = profile(reading.layer.table)
                        layers[-1] = replace(found, told=reading.remarks)
                        problems += [f"{file}, {found.name}: {len(rows):,} left out: {why}" for why, rows in reading.set_aside]
            except InputError as error:
                problems.append(error.sentence())
        if json_:
            typer.echo(
                json.dumps(
                    {"layers": [_facts_json(x, profiles.get(n)) for n, x in enumerate(layers)], "problems": problems},
                    ensure_ascii=False,
                    default=str,
                )
            )
        else:
            terminal.print_layers(layers, profiles)
        for problem in problems:
            typer.echo(problem, err=True)
        raise typer.Exit(FAILED if problems else 0)


def _facts_json(facts: Any, profiles: Any = None) -> dict[str, object]:
    from eskret.core.crs import crs_facts

    crs = crs_facts(facts.crs) if facts.crs else None
    return {
        "file": facts.origin,
        "layer": facts.name,
        "key": facts.key,
        "features": facts.count,
        "geometry": facts.kind,
        "crs": facts.crs,
        "crs_name": crs.name if crs else None,
        "unit": crs.unit if crs else None,
        "extent": facts.extent,
        "told": [r.to_json() for r in facts.told],
        "fields": [
            {"name": f.name, "type": f.word}
            if profiles is None
            else {
                "name": f.name,
                "type": f.word,
                "nulls": p.nulls,
                "distinct": p.distinct,
                "least": p.least,
                "greatest": p.greatest,
                "sample": list(p.sample),
            }
            for f, p in zip(facts.fields, profiles or facts.fields, strict=True)
        ],
    }


@app.command()
def store(
    path: Annotated[Path, typer.Argument(help="A GeoPackage.")],
    rename: Annotated[list[str] | None, typer.Option("--rename", help="OLD=NEW; can be given several times.")] = None,
    remove: Annotated[list[str] | None, typer.Option("--remove", help="A layer to take out; several times.")] = None,
    section: Annotated[list[str] | None, typer.Option("--section", help="LAYER=SECTION; several times; an empty section for none.")] = None,
    json_: Json = False,
) -> None:
    """List the layers of a GeoPackage by section; rename, remove and assign them, all at once or not at all."""
    with plain_errors(json_):
        from eskret.formats import geopackage
        from eskret.formats.geopackage import contents

        recover_first(there(path))
        if rename or remove or section:
            contents.change(path, rename=pairs(rename), remove=remove or [], section=pairs(section))
        found = geopackage.entries(path)
        known = geopackage.sections_of(path)
        if json_:
            told = [{"layer": e.name, "rows": e.rows, "section": e.section} for e in found]
            sections = [{"section": s.name, "crs": s.crs, "layers": list(s.layers)} for s in known.values()]
            typer.echo(json.dumps({"layers": told, "sections": sections}, ensure_ascii=False))
            return
        for name in [*known, ""]:
            members = [e for e in found if e.section == name]
            if members:
                typer.echo(f"{name}, {known[name].crs or 'no CRS'}" if name else "In no section")
            for entry in members:
                typer.echo(f"  {entry.name}  {entry.rows:,}")


@app.command()
def undo(
    file: Annotated[Path | None, typer.Argument(help="The file to bring back; without, what can be is listed.")] = None, json_: Json = False
) -> None:
    """Take the last append to a file, or update of it, back."""
    with plain_errors(json_):
        from eskret.workflow.outputs import file_backups

        recover_first(file or Path.cwd())
        if file is None:
            found = file_backups.changes()
            if json_:
                typer.echo(json.dumps([{"file": str(c.file), "when": c.when, "workflow": c.workflow} for c in found]))
                return
            for one in found:
                typer.echo(f"{one.when}  {one.file}  {one.title or one.workflow}".rstrip())
            if not found:
                typer.echo("No file was appended to or brought up to date.")
            return
        latest = file_backups.changes(file)
        if not latest:
            way_out = "'eskret undo' lists those that are"
            raise InputError("no change of it is on record", place=str(file), way_out=way_out, code=Code.NOT_THERE)
        file_backups.take_back(latest[0])
        told({"file": str(file), "as_before": latest[0].when}, json_, f"{file} is as it was before {latest[0].when}.")


@app.command()
def trust(
    folder: Annotated[Path, typer.Argument(help="A project folder, which has a folder 'operations'.")],
    written_here: Annotated[bool, typer.Option("--written-here", help="Also trust what becomes of this code in this place.")] = False,
    take_back: Annotated[bool, typer.Option("--take-back", help="Trust it no more.")] = False,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Do not ask: it was read before.")] = False,
    json_: Json = False,
) -> None:
    """Show the code of a project's own operations, and allow it to run if you say so."""
    with plain_errors(json_):
        from eskret.user_operations import trust as trusting

        files = trusting.code_in(there(folder, "folder"))
        if not files:
            raise InputError("there is no code in it", place=str(folder / trusting.FOLDER), code=Code.NOT_THERE)
        if take_back:
            trusting.distrust(folder)
            told({"folder": str(folder), "trusted": False}, json_, "It is not trusted any more.")
            return
        sources = trusting.sources_of(folder)
        shown = trusting.hash_of_sources(sources)
        for name, source in sources.items():
            typer.echo(f"{name}, {len(source):,} bytes", err=json_)
            if not yes:
                typer.echo("".join(f"  {line}\n" for line in source.decode("utf-8", "replace").splitlines()), err=json_)
        if not yes and not typer.confirm("Allow this code to run on this machine?", default=False):
            typer.echo("It stays as it was: not allowed.")
            raise typer.Exit(FAILED)
        digest = trusting.trust(folder, written_here=written_here, told=shown)
        more = ", and what is written there on this machine" if written_here else ""
        said = {"folder": str(folder), "trusted": True, "sha256": digest, "files": list(sources), "written_here": written_here}
        told(said, json_, f"Trusted as it is now (SHA-256 {digest}){more}.")


@app.command("new-operation")
def new_operation(
    title: Annotated[str, typer.Argument(help="What it is called.")],
    folder: Annotated[Path, typer.Option("--project", help="The project's folder.")] = Path(),
    json_: Json = False,
) -> None:
    """Write a Python file to start from, for an operation of your own."""
    with plain_errors(json_):
        from eskret.user_operations import template

        written = template.new_operation(there(folder, "folder").resolve(), title)
        told({"written": str(written)}, json_, f"Written: {written}")


@app.command()
def script(file: File, json_: Json = False) -> None:
    """Print Python that rebuilds a workflow."""
    with plain_errors(json_), of_project(file):
        from eskret.workflow.faces.script import to_script
        from eskret.workflow.model import document as documents

        code = to_script(documents.read(file.resolve()), file.name)
        told({"script": code}, json_, code.removesuffix("\n"))


@app.command()
def schema(
    out: Annotated[Path | None, typer.Option("--out", "-o", metavar="FILE", help="Write it there, in place of printing it.")] = None,
    json_: Json = False,
) -> None:
    """Print a JSON Schema of workflow files, from which editors complete and check them."""
    with plain_errors(json_):
        import eskret.workflow  # noqa: F401
        from eskret.core.files.atomic import write_whole
        from eskret.operations.registry import project
        from eskret.workflow.faces.schema import schema as schema_of

        with project(Path.cwd()):
            text = json.dumps(schema_of(), ensure_ascii=False, indent=1) + "\n"
        if out is None:
            typer.echo(text, nl=False)
        else:
            write_whole(out, text)
            told({"written": str(out)}, json_, f"Written: {out}")


@app.command()
def follow(
    file: File,
    output: Annotated[
        str, typer.Option("--output", metavar="NAME", help="A step, step:layer, or a layer by its name as the last step left it.")
    ] = "",
    source: Annotated[str, typer.Option("--source", metavar="NAME", help="The same, as the first step left it.")] = "",
    where: Annotated[str, typer.Option(help="A condition that holds for the features to follow.")] = "",
    report: Annotated[Path | None, typer.Option(help="Also write the way as a page, with shapes and fields: .html.")] = None,
    set_: Set = None,
    memory: Memory = None,
    json_: Json = False,
) -> None:
    """Follow features: back to the records they came of, and on to all that came of them."""
    limit_memory(memory)
    with plain_errors(json_), of_project(file):
        from eskret.workflow.faces.follow import follow as follow_features
        from eskret.workflow.model import document as documents

        if bool(output) == bool(source):
            raise SettingError("name either an output or a source", way_out="Give --output NAME or --source NAME")
        path = file.resolve()
        found = follow_features(
            documents.read(path), output or source, where, values=values(set_), source=bool(source), workflow=path, folder=path.parent
        )
        if report is not None:
            from eskret.workflow.faces.follow_report import write_way

            write_way(found, report, path.parent, f"{output or source}{f' where {where}' if where else ''}")
        typer.echo(json.dumps(found.table().to_pylist(), default=str) if json_ else "\n".join(found.lines()))


@app.command("open")
def open_window(path: Annotated[Path | None, typer.Argument(help="A workflow file or a project folder.")] = None) -> None:
    """Open the window."""
    with plain_errors():
        if path is not None:
            there(path)
        raise typer.Exit(_window(path))


@app.command()
def demo(
    folder: Annotated[Path | None, typer.Argument(help="Where to make the demo; by default eskret-demo here.")] = None,
    run_: Annotated[bool, typer.Option("--run", help="Run its workflows here instead of opening the window.")] = False,
    json_: Json = False,
) -> None:
    """Make the demo, Orrel Sound, and open the window on it."""
    with plain_errors(json_):
        from eskret.demo.generate import lessons, make

        home = make(folder or Path.cwd() / "eskret-demo")
        workflows = lessons(home)
        if json_ and not run_:
            told({"folder": home, "workflows": workflows}, json_, "")
            return
        typer.echo(f"The demo is in {home}", err=json_)
        if not run_:
            raise typer.Exit(_window(workflows[0]))
        worst = 0
        for workflow in workflows:
            steps: Iterable[Callable[[], object]] = [partial(run, workflow, json_=json_)]
            if workflow.name == "publish.toml":
                steps = publishing.rounds(workflow, home)
            elif workflow.name == "district.toml":
                steps = [partial(run, workflow, for_each="district", json_=json_)]
            for step in steps:
                try:
                    step()
                except typer.Exit as end:
                    worst = max(worst, end.exit_code)
        raise typer.Exit(worst)


def _window(path: Path | None) -> int:
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM")):
        typer.echo(
            "There is no display here. On one without a screen, run a workflow with: eskret run FILE, "
            "or the demo's with: eskret demo --run (make demo-run).",
            err=True,
        )
        return FAILED
    if find_spec("PySide6") is None:
        typer.echo("The window is not installed here. Install it with: pip install 'eskret[window]'", err=True)
        return FAILED
    platform = os.environ.get("QT_QPA_PLATFORM", "")
    needed = lacking(platform.startswith("xcb") or (not platform and not os.environ.get("WAYLAND_DISPLAY")))
    if needed:
        command = f"sudo apt-get install {' '.join(needed)}"
        typer.echo(f"The window needs some libraries of the system. On Debian install them with: {command}", err=True)
        return FAILED
    from eskret.desktop.app import start

    # a window may have something to ask before it closes, and is ended by nobody
    signal.set_wakeup_fd(-1)
    watchdog.may_be_ended(None)
    say_alone(False)
    return start(path)


publishing.register(app)
app.command()(cache)
app.command()(operations)
app.command()(runs)
app.command()(watch)
app.command()(pack)
app.command()(unpack)
app.command()(handbook)
app.command()(recover)
app.command()(doctor)
single.add(app)
