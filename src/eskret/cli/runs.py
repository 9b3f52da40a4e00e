"""``eskret runs``: the runs of earlier, listed, told, run again, compared."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from eskret.cli.common import EXIT, Json, of_folder, plain_errors


def runs(
    ids: Annotated[list[int] | None, typer.Argument(metavar="[RUN] [RUN]", help="One to be told, or two to be compared.")] = None,
    search: Annotated[
        str, typer.Option("--search", metavar="WORDS", help="Only those with these words in title, values, outputs, messages.")
    ] = "",
    of: Annotated[Path | None, typer.Option("--of", metavar="FILE", help="Only those of this workflow.")] = None,
    most: Annotated[int, typer.Option("--most", min=1, help="List no more than this.")] = 40,
    again: Annotated[bool, typer.Option("--again", help="Run it again: the workflow as it was, with the values that it had.")] = False,
    forget: Annotated[bool, typer.Option("--forget", help="Take these runs out of the list.")] = False,
    json_: Json = False,
) -> None:
    """List the runs of earlier, tell one, compare two, or run one again."""
    with plain_errors(json_):
        from eskret.errors import InputError
        from eskret.workflow.history.runs import Runs

        store, chosen = Runs(), list(ids or ())
        if forget:
            store.remove(chosen)
        elif again:
            if len(chosen) != 1:
                raise InputError("one run can be run again", way_out="Give its number: eskret runs 12 --again")
            raise typer.Exit(_again(store.get(chosen[0]), json_))
        elif len(chosen) == 2:
            _compare(store, min(chosen), max(chosen), json_)
        elif chosen:
            for id in chosen:
                _tell(store.get(id), json_)
        else:
            _list(store, search, of, most, json_)


def _print(told: object) -> None:
    typer.echo(json.dumps(told, ensure_ascii=False, indent=1))


def _list(store: Any, search: str, of: Path | None, most: int, as_json: bool) -> None:
    from eskret import terminal

    found = store.find(search, of, most)
    if as_json:
        _print([vars(r) for r in found])
    else:
        terminal.print_runs(found, store.versions())


def _tell(run: Any, as_json: bool) -> None:
    from eskret import terminal

    if as_json:
        outputs = [{k: v for k, v in vars(o).items() if k not in ("facts", "number")} for o in run.outputs]
        _print({**vars(run.kept), "told": run.told, "outputs": outputs, "document": run.text})
    else:
        with of_folder(Path(run.kept.folder)):  # its own operations tell their steps
            terminal.print_run(run)


def _compare(store: Any, a: int, b: int, as_json: bool) -> None:
    from eskret import terminal
    from eskret.workflow.history import comparison

    earlier, later = store.get(a), store.get(b)
    with of_folder(Path(later.kept.folder)):
        found = comparison.compare(earlier, later, store)
    counts: dict[str, dict[str, int]] = {}
    for pair in found.outputs:
        if pair.shown and pair.state != comparison.SAME and pair.later is not None:
            outcome, _, _ = comparison.difference(store, earlier, later, pair.later.path, pair.later.layer)
            kinds = outcome.layers[0].table.column(0).to_pylist()
            counts[pair.name] = {k: kinds.count(k) for k in ("added", "changed", "removed")}
    if not as_json:
        terminal.print_compared(a, b, found, counts)
        return
    steps = [{"id": s.id, "differs": s.differs, "earlier": _figures(s.earlier), "later": _figures(s.later)} for s in found.steps]
    outputs = [{"name": o.name, "state": o.state, **counts.get(o.name, {})} for o in found.outputs]
    _print({"values": found.values, "workflow": found.text, "steps": steps, "outputs": outputs})


def _figures(row: Any) -> object:
    return None if row is None else {"in": row.rows_in, "out": row.rows_out, "aside": row.aside, "total": row.total, "state": row.state}


def _again(whole: Any, as_json: bool) -> int:
    from eskret import terminal
    from eskret.workflow.cache import ResultCache, the_store
    from eskret.workflow.history.runs import COMMAND, write_down
    from eskret.workflow.run.engine import Run

    kept = whole.kept
    folder = Path(kept.folder)
    with of_folder(folder):
        document = whole.document
        with terminal.RunProgress(as_json) as progress:
            job = Run(
                document,
                whole.told.get("values", {}),
                workflow=Path(kept.workflow) if kept.workflow else None,
                folder=folder,
                on_event=progress.take,
                result_cache=ResultCache(the_store()),
            )
            result = job.execute()
        note(write_down(job, result, COMMAND))
        if as_json:
            _print(result.to_json())
        else:
            terminal.print_ledger(document, result.to_json())
            terminal.print_outputs(result)
    return EXIT[result.state]


def note(problem: str) -> None:
    """Say that a run could not be written down; it succeeded all the same."""
    if problem:
        typer.echo(f"Note: {problem}", err=True)
