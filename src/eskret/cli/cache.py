"""``eskret cache``: what earlier runs made and later ones take up again."""

from __future__ import annotations

from typing import Annotated

import typer

from eskret.cli.common import Json, plain_errors, told
from eskret.core.words import byte_words, bytes_in, pluralise


def cache(
    clear: Annotated[bool, typer.Option("--clear", help="Take all of it away.")] = False,
    limit: Annotated[
        str | None, typer.Option("--limit", metavar="SIZE", help="Keep no more than this, such as 2GB; 0 keeps nothing.")
    ] = None,
    json_: Json = False,
) -> None:
    """Say how much is kept of earlier runs, so that later ones redo only what changed."""
    with plain_errors(json_):
        from eskret.workflow.cache import the_store

        store = the_store()
        if limit is not None:
            store.set_limit(bytes_in(limit))
        if clear:
            store.clear()
        entries, size = store.size()
        if json_:
            stores = [store, *([store.beside] if store.beside is not None else ())]
            told([{"folder": s.folder, "results": s.size()[0], "bytes": s.size()[1], "limit": s.limit()} for s in stores], json_, "")
            return
        typer.echo(f"{pluralise(entries, 'result')} of tasks, {byte_words(size)} of at most {byte_words(store.limit())}, in {store.folder}")
        live, taken = store.beside.size() if store.beside is not None else (0, 0)
        if store.beside is not None and live:
            most = byte_words(store.beside.limit())
            typer.echo(f"{pluralise(live, 'result')} of edits in a window, {byte_words(taken)} of at most {most}, in {store.beside.folder}")
        if (clear and entries) or size > store.limit():
            typer.echo("What a run under way works with stays until it has ended.")
