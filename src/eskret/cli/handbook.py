"""``eskret handbook``: a page for every operation and for workflows."""

from __future__ import annotations

import webbrowser
from pathlib import Path
from typing import Annotated

import typer

from eskret.cli.common import Json, plain_errors, told


def handbook(
    files: Annotated[list[Path] | None, typer.Argument(help="Workflows that get a page, too.")] = None,
    out: Annotated[Path, typer.Option("--out", "-o", metavar="FOLDER", help="Where the pages go.")] = Path("handbook"),
    open_: Annotated[bool, typer.Option("--open", help="Open the first page in the browser.")] = False,
    json_: Json = False,
) -> None:
    """Write the handbook: every operation, this project's own, and the workflows named, as pages for the browser."""
    with plain_errors(json_):
        import eskret.workflow  # noqa: F401
        from eskret.operations.registry import all_operations, own_operations, project
        from eskret.workflow.faces.handbook import write_handbook
        from eskret.workflow.model import document

        with project(Path.cwd()):
            shown = [*all_operations().values(), *own_operations()]
            first = write_handbook(out, shown, {f.name: document.read(f) for f in files or ()})
        told({"operations": len(shown), "first": first}, json_, f"{len(shown):,} operations told of in {first}")
        if open_:
            webbrowser.open(first.resolve().as_uri())
