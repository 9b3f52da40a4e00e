"""``eskret doctor``: whether the program is well on this machine."""

from __future__ import annotations

import json

import typer

from eskret.cli.common import FAILED, Json, plain_errors


def doctor(json_: Json = False) -> None:
    """Say which versions and formats there are, which places can be written, how much room is left; try every format."""
    with plain_errors(json_):
        from eskret.workflow.faces.checkup import check_up

        told = []
        for one in check_up():
            told.append(one)
            if not json_:
                typer.echo(f"{'ok ' if one.well else 'NOT'}  {one.what:<20} {one.found}")
        wrong = [one.what for one in told if not one.well]
        if json_:
            typer.echo(json.dumps([{"what": f.what, "found": f.found, "well": f.well} for f in told], ensure_ascii=False))
        else:
            typer.echo(f"Not well: {', '.join(wrong)}." if wrong else "All is well.")
        raise typer.Exit(FAILED if wrong else 0)
