"""``eskret pack`` and ``eskret unpack``: a workflow with all that it needs as one file."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated, Any

import typer

from eskret.cli.common import File, Json, Set, pairs, plain_errors, there, told, values
from eskret.cli.recovering import recover_first
from eskret.core.words import pluralise


def pack(
    file: File,
    out: Annotated[Path | None, typer.Option("--out", "-o", metavar="ZIP", help="Where; else beside the workflow.")] = None,
    without_inputs: Annotated[
        bool, typer.Option("--without-inputs", help="Leave out what it reads; it is listed, and asked for when unpacked.")
    ] = False,
    set_: Set = None,
    json_: Json = False,
) -> None:
    """Pack a workflow with those that it uses, its own operations and what it reads, to hand it over."""
    with plain_errors(json_):
        from eskret.errors import DocumentError
        from eskret.workflow.handover import pack as packs
        from eskret.workflow.handover.gather import INPUT, gather

        recover_first(file)
        found = gather(file, values(set_))
        if found.problems and not without_inputs:
            raise DocumentError("; ".join(found.problems), way_out="Mend that, or pack it --without-inputs")
        target = out or file.with_suffix(packs.ENDING)
        size = packs.pack(found, target, inputs=not without_inputs)
        rows = [("listed" if without_inputs and p.role == INPUT else p.role, p.name, p.size) for p in found.pieces.values()]
        if json_:
            pieces = [{"role": role, "name": name, "size": of} for role, name, of in rows]
            told({"pack": target, "size": size, "pieces": pieces, "problems": list(found.problems)}, json_, "")
            return
        for role, name, of in rows:
            typer.echo(f"{role:<9} {name}  {of:,}")
        for problem in found.problems:
            typer.echo(f"Note: {problem}", err=True)
        typer.echo(f"Packed as {target}, {size:,} bytes.")


def unpack(
    file: Annotated[Path, typer.Argument(help="A pack (.zip).")],
    folder: Annotated[Path | None, typer.Argument(help="Where to; else a folder called after the pack.")] = None,
    inputs: Annotated[
        list[str] | None,
        typer.Option("--input", metavar="NAME=FILE", help="The file to use for an input that is not in the pack; several times."),
    ] = None,
    replace: Annotated[bool, typer.Option("--replace", help="Replace files that are there and are others.")] = False,
    json_: Json = False,
) -> None:
    """Unpack a workflow that was handed over; what it still needs is asked for by name."""
    with plain_errors(json_):
        from eskret.workflow.handover import pack as packs

        target = folder or there(file).with_suffix("")
        recover_first(target if target.is_dir() else file)
        given = {name: Path(path) for name, path in pairs(inputs).items()}
        asked = [m for m in packs.missing_in(file) if m.name not in given and not (target / m.name).exists()]
        for one in asked if sys.stdin.isatty() and not json_ else ():
            text = typer.prompt(f"{one.sentence()}\nFile to use for it, or nothing", default="", show_default=False)
            if text.strip():
                given[one.name] = Path(text.strip()).expanduser()
        done = packs.unpack(file, target, given=given, replace=replace)
        if json_:
            missing = [{"name": m.name, "text": m.sentence()} for m in done.missing]
            told({"workflow": done.workflow, "written": done.written, "notes": done.notes, "missing": missing}, json_, "")
        else:
            _tell(done)
        raise typer.Exit(0)


def _tell(done: Any) -> None:
    typer.echo(f"Unpacked into {done.workflow.parent}: {pluralise(len(done.written), 'file')}.")
    for note in done.notes:
        typer.echo(f"Note: {note}.")
    for one in done.missing:
        typer.echo(f"Missing: {one.sentence()}")
    if done.code:
        typer.echo(f"It brings code of its own: {', '.join(done.code)}. Read it, then allow it: eskret trust {done.workflow.parent}")
    typer.echo(f"Run it: eskret run {done.workflow}")
