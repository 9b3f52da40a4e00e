"""Complete what a crash cut short: a command of its own, and what every other command does first."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from eskret.cli.common import FAILED, Json, plain_errors


def recover(
    folder: Annotated[
        Path | None, typer.Argument(help="Only what concerns this folder and those in it; without, everything of yours.")
    ] = None,
    json_: Json = False,
) -> None:
    """Complete runs that were cut short while they put their outputs in place, and take away what they had only staged."""
    with plain_errors(json_):
        from eskret.workflow.outputs.recovery import pending_elsewhere
        from eskret.workflow.outputs.recovery import recover as recover_

        found = recover_(folder)
        others = pending_elsewhere([folder]) if folder is not None else []
        if json_:
            told = [
                {
                    "workflow": r.workflow,
                    "title": r.title,
                    "completed": [str(p) for p in r.completed],
                    "left": [[str(p), why] for p, why in r.left],
                    "pending": r.pending,
                }
                for r in found
            ]
            typer.echo(json.dumps({"recovered": told, "elsewhere": others}, ensure_ascii=False))
        else:
            for text in [s for r in found for s in r.sentences()] + others:
                typer.echo(text)
            if not found and not others:
                typer.echo("Nothing was cut short.")
        raise typer.Exit(FAILED if any(r.left for r in found) else 0)


def recover_first(place: Path) -> None:
    """Before a command reads or changes what is in a folder: complete what is pending there, and say so."""
    from eskret.core.files.user_state import data_place

    if not data_place("transactions").is_dir():
        return
    from eskret.workflow.outputs.recovery import recover as recover_

    for found in recover_(place if place.is_dir() else place.resolve().parent):
        for text in found.sentences():
            typer.echo(text, err=True)
