"""``eskret do``: a single operation on some files, without a workflow of one's own."""

from __future__ import annotations

import json
import shutil
import sys
import tempfile
from collections.abc import Generator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any

import typer

from eskret.cli.common import CODES, EXIT, UNMET, Json, Quiet, plain_errors
from eskret.cli.operations import known_operation, shown
from eskret.errors import DocumentError

PIPE = "-"


def _known(incomplete: str) -> list[str]:
    """What a shell offers for the operation."""
    import eskret.workflow  # noqa: F401
    from eskret.operations.registry import all_operations

    return [id for id in all_operations() if id.startswith(incomplete)]


def do(
    context: typer.Context,
    use: Annotated[str, typer.Argument(metavar="OPERATION", help="Its id, such as buffer.", autocompletion=_known)] = "",
    inputs: Annotated[
        list[str] | None,
        typer.Argument(help="Files, folders or patterns; FILE:LAYER for one layer of a file; - reads GeoJSON from the standard input."),
    ] = None,
    out: Annotated[
        list[str] | None,
        typer.Option("--out", "-o", metavar="FILE", help="Where to save; the ending says the format; - writes GeoJSON. May be repeated."),
    ] = None,
    crs: Annotated[str, typer.Option("--work-in", metavar="CRS", help="Bring all layers to this CRS first.")] = "",
    undeclared: Annotated[str, typer.Option("--undeclared", metavar="CRS", help="The CRS of files that do not say theirs.")] = "",
    texts_in: Annotated[
        str, typer.Option("--texts-in", metavar="ENCODING", help="What texts are in, in files that do not say, as cp850.")
    ] = "",
    if_exists: Annotated[
        str, typer.Option("--if-exists", help="What becomes of a file that is there: replace, stop, number, skip, append, update or own.")
    ] = "replace",
    keep: Annotated[Path | None, typer.Option("--workflow", metavar="FILE", help="Also keep it as a workflow, to run again.")] = None,
    quiet: Quiet = False,
    json_: Json = False,
    help_: Annotated[bool, typer.Option("--help", "-h", help="Say this, or what settings OPERATION has.")] = False,
) -> None:
    """Do one operation: eskret do buffer beds.gpkg --distance "20 m" --out wider.gpkg

    The operation's settings are options: --name value. Those that name a layer take a file, or FILE:LAYER. Without any input its
    settings are explained.
    """
    if not use:
        typer.echo(context.get_help())
        return
    with plain_errors(json_):
        import eskret.workflow  # noqa: F401
        from eskret import terminal
        from eskret.operations.base import Source
        from eskret.operations.registry import project
        from eskret.workflow.cache import ResultCache, the_store
        from eskret.workflow.history.runs import COMMAND, write_down
        from eskret.workflow.model import document as documents
        from eskret.workflow.run.engine import Run
        from eskret.workflow.run.single import single

        here = Path.cwd()
        with project(here):
            settings, given = _options([*(inputs or ()), *context.args])
            operation = known_operation(use)
            if help_ or (not given and not settings and not (isinstance(operation, Source) and not operation.has_input and out)):
                _explain(context, use, json_)
                return
            said = {"crs": undeclared, "encoding": texts_in}
            loading = {name: value for name, value in said.items() if value}
            with _pipes(given, out or ()) as (files, targets, printed):
                _new_folders(targets)
                document = single(use, files, settings, targets, crs=crs, load_settings=loading, if_exists=if_exists)
                if keep is not None:
                    if printed is not None or files != given:
                        raise DocumentError("a workflow cannot read from a pipe, or write to one", way_out="Name files")
                    documents.write(document, keep)
                with terminal.RunProgress(quiet or json_) as progress:
                    # whoever types where to save has said that it may be there
                    job = Run(document, folder=here, on_event=progress.take, result_cache=ResultCache(the_store()))
                    result = job.execute()
                if printed is not None:
                    _print(printed)
                else:
                    write_down(job, result, COMMAND)
            if json_:
                typer.echo(json.dumps(result.to_json(), ensure_ascii=False, indent=1), err=printed is not None)
            elif not quiet:
                terminal.print_ledger(document, result.to_json(), aside=printed is not None)
                if printed is None:
                    terminal.print_outputs(result)
                if not result.outputs and not result.pushes and not result.error:
                    typer.echo("Nothing was saved: name a file with --out, or - to print GeoJSON.", err=True)
        if result.error:
            typer.echo(result.error, err=True)
        raise typer.Exit(UNMET if result.unmet else EXIT[result.state])


def _explain(context: typer.Context, use: str, as_json: bool) -> None:
    """What an operation does, as an option for each of its settings, and what every operation takes beside."""
    from eskret.operations.registry import operation_by_id

    typer.echo(shown(operation_by_id(use), as_json, as_options=True))
    if not as_json:
        general = [p for p in context.command.params if p.name not in ("use", "inputs")]
        records = [r for r in (p.get_help_record(context) for p in general) if r is not None]
        typer.echo("\nFor every operation")
        for name, words in records:
            typer.echo(f"  {name:<24} {words}")
        typer.echo(f"\n{CODES}")


@contextmanager
def _pipes(given: Sequence[str], out: Sequence[str]) -> Generator[tuple[list[str], list[str], Path | None]]:
    """Files in place of the standard input and output: what is read and written, and what is to be printed in the end."""
    if PIPE not in given and PIPE not in out:
        yield list(given), list(out), None
        return
    with tempfile.TemporaryDirectory(prefix="eskret-pipe-") as folder:
        files, targets = list(given), list(out)
        if PIPE in given:
            if sys.stdin.isatty():
                raise DocumentError("there is nothing on the standard input", way_out="Pipe GeoJSON into it, or name a file")
            source = Path(folder) / "input.geojson"
            with source.open("wb") as sink:
                shutil.copyfileobj(sys.stdin.buffer, sink)
            files = [str(source) if f == PIPE else f for f in given]
        printed = Path(folder) / "printed" / "{layer}.geojson"  # a file for each layer if PIPE in out else None
        yield files, [str(printed) if t == PIPE else t for t in targets], printed


def _print(file: Path) -> None:
    """Print what was saved in place of the standard output."""
    made = sorted(file.parent.glob("*.geojson")) if file.parent.exists() else []
    if len(made) > 1:
        raise DocumentError(
            f"{len(made)} layers came of it, and GeoJSON has one", way_out="Choose one with FILE:LAYER, or save to files with --out"
        )
    for one in made:
        with one.open("rb") as source:
            shutil.copyfileobj(source, sys.stdout.buffer)
    sys.stdout.flush()


def _new_folders(targets: Sequence[str]) -> None:
    """A folder that is not there yet is made, unless it looks like a slip of the finger: that is asked about."""
    from eskret.core.files.missing import near

    for target in targets:
        folder = Path(target).parent
        hint = "" if folder.exists() else near(folder)
        if not hint:
            continue
        if not sys.stdin.isatty():
            typer.echo(f"{folder}: this folder is new. {hint}", err=True)
        elif not typer.confirm(f"There is no folder '{folder}' yet. {hint} Make the new one?", default=False, err=True):
            raise DocumentError("nothing was done", place=str(folder), way_out="Name the folder that is meant")


def _options(words: list[str]) -> tuple[dict[str, str], list[str]]:
    """Options that the command does not know are settings; what stands alone is one more input."""
    settings: dict[str, str] = {}
    alone: list[str] = []
    rest = list(words)
    while rest:
        word = rest.pop(0)
        if not word.startswith("--"):
            alone.append(word)
            continue
        name, equals, value = word[2:].partition("=")
        if not equals:
            if rest and not rest[0].startswith("--"):
                value = rest.pop(0)
            elif name.startswith("no-"):
                name, value = name[3:], "no"
            else:
                value = "yes"
        if not name:
            raise DocumentError(f"'{word}' is no setting", way_out="Write --name value")
        settings[name] = f"{settings[name]}, {value}" if name in settings else value
    return settings, alone


def add(app: Any) -> None:
    """Add the command."""
    more = {"allow_extra_args": True, "ignore_unknown_options": True}
    app.command("do", context_settings=more, add_help_option=False)(do)
