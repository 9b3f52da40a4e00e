"""``eskret do``: a single operation on some files, without a workflow of one's own."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from eskret.cli.common import EXIT, UNMET, Json, Quiet, plain_errors


def _known(incomplete: str) -> list[str]:
    """What a shell offers for the operation."""
    import eskret.workflow  # noqa: F401
    from eskret.operations.registry import all_operations

    return [id for id in all_operations() if id.startswith(incomplete)]


def do(
    context: typer.Context,
    use: Annotated[str, typer.Argument(metavar="OPERATION", help="Its id, such as buffer.", autocompletion=_known)],
    inputs: Annotated[list[str] | None, typer.Argument(help="Files, folders or patterns; FILE:LAYER for one layer of a file.")] = None,
    out: Annotated[
        list[str] | None, typer.Option("--out", "-o", metavar="FILE", help="Where to save; the ending says the format. May be repeated.")
    ] = None,
    crs: Annotated[str, typer.Option("--work-in", metavar="CRS", help="Bring all layers to this CRS first.")] = "",
    undeclared: Annotated[str, typer.Option("--undeclared", metavar="CRS", help="The CRS of files that do not say theirs.")] = "",
    texts_in: Annotated[
        str, typer.Option("--texts-in", metavar="ENCODING", help="What texts are in, in files that do not say, as cp850.")
    ] = "",
    keep: Annotated[Path | None, typer.Option("--workflow", metavar="FILE", help="Also keep it as a workflow, to run again.")] = None,
    quiet: Quiet = False,
    json_: Json = False,
) -> None:
    """Do one operation: eskret do buffer beds.gpkg --distance "20 m" --out wider.gpkg

    The operation's settings are options: --name value. Those that name a layer take a file, or FILE:LAYER. Without any input its
    settings are explained.
    """
    with plain_errors(json_):
        import eskret.workflow  # noqa: F401
        from eskret import terminal
        from eskret.operations.base import Source
        from eskret.operations.registry import operation_by_id, project
        from eskret.workflow.cache import ResultCache, the_store
        from eskret.workflow.history.runs import COMMAND, write_down
        from eskret.workflow.model import document as documents
        from eskret.workflow.run.engine import Run
        from eskret.workflow.run.single import single

        here = Path.cwd()
        with project(here):
            settings, given = _options([*(inputs or ()), *context.args])
            operation = operation_by_id(use)
            if not given and not settings and not (isinstance(operation, Source) and not operation.has_input and out):
                from eskret.cli import operations

                operations(use, json_)
                return
            said = {"crs": undeclared, "encoding": texts_in}
            loading = {name: value for name, value in said.items() if value}
            document = single(use, given, settings, out or (), crs=crs, load_settings=loading)
            if keep is not None:
                documents.write(document, keep)
            with terminal.RunProgress(quiet or json_) as progress:
                # whoever types where to save has said that it may be there
                job = Run(document, folder=here, on_event=progress.take, result_cache=ResultCache(the_store()))
                result = job.execute()
            write_down(job, result, COMMAND)
            if json_:
                typer.echo(json.dumps(result.to_json(), ensure_ascii=False, indent=1))
            elif not quiet:
                terminal.print_ledger(document, result.to_json())
                terminal.print_outputs(result)
                if not result.outputs and not result.pushes and not result.error:
                    typer.echo("Nothing was saved: name a file with --out.")
        if result.error:
            typer.echo(result.error, err=True)
        raise typer.Exit(UNMET if result.unmet else EXIT[result.state])


def _options(words: list[str]) -> tuple[dict[str, str], list[str]]:
    """Options that the command does not know are settings; what stands alone is one more input."""
    from eskret.errors import DocumentError

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
    app.command("do", context_settings={"allow_extra_args": True, "ignore_unknown_options": True})(do)
