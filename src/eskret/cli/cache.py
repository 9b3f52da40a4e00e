"""``eskret cache``: what earlier runs made and later ones take up again."""

from __future__ import annotations

import re
from typing import Annotated

import typer

from eskret.cli.common import plain_errors
from eskret.core.words import pluralise
from eskret.errors import InputError

_UNITS = {"": 1, "kb": 1000, "mb": 1000**2, "gb": 1000**3, "tb": 1000**4}


def cache(
    clear: Annotated[bool, typer.Option("--clear", help="Take all of it away.")] = False,
    limit: Annotated[
        str | None, typer.Option("--limit", metavar="SIZE", help="Keep no more than this, such as 2GB; 0 keeps nothing.")
    ] = None,
) -> None:
    """Say how much is kept of earlier runs, so that later ones redo only what changed."""
    with plain_errors():
        from eskret.workflow.cache import the_store

        store = the_store()
        if limit is not None:
            store.set_limit(_bytes(limit))
        if clear:
            store.clear()
        entries, size = store.size()
        typer.echo(f"{pluralise(entries, 'result')} of tasks, {_words(size)} of at most {_words(store.limit())}, in {store.folder}")
        if (clear and entries) or size > store.limit():
            typer.echo("What a run under way works with stays until it has ended.")


def _bytes(text: str) -> int:
    found = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([kmgt]?b?)\s*", text.lower())
    unit = (found[2] if found[2] in _UNITS else f"{found[2]}b") if found else ""
    if found is None or unit not in _UNITS:
        raise InputError(f"'{text}' is no size", way_out="Write it as 500MB or 2GB")
    return int(float(found[1]) * _UNITS[unit])


def _words(size: int) -> str:
    for unit, factor in (("GB", 1000**3), ("MB", 1000**2), ("kB", 1000)):
        if size >= factor:
            return f"{size / factor:.1f} {unit}"
    return f"{size} bytes"
