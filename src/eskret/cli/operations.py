"""``eskret operations``: what there is, found by everyday words, and explained."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from eskret.cli.common import USAGE, Json, plain_errors
from eskret.errors import DocumentError

if TYPE_CHECKING:
    from eskret.operations.base import Operation
    from eskret.operations.settings import SettingInfo


def operations(
    words: Annotated[
        list[str] | None, typer.Argument(metavar="[ID | WORDS]", help="An operation's id, or what it should do; all are listed without.")
    ] = None,
    json_: Json = False,
) -> None:
    """List the operations, find one by what it should do, or explain one with its settings."""
    with plain_errors(json_):
        import eskret.workflow  # noqa: F401
        from eskret.operations.finding import find
        from eskret.operations.registry import OWN, all_operations, operation_by_id, own_operations, project
        from eskret.user_operations.loader import load

        text = " ".join(words or ())
        with project(Path.cwd()):
            known = {o.id: o for o in (*all_operations().values(), *own_operations())}
            if text in known or text.startswith(OWN):
                typer.echo(shown(operation_by_id(text), json_))
                return
            found = find(text)
        for problem in [] if text else load(Path.cwd()).problems:
            typer.echo(problem.sentence(), err=True)
        chosen = list(found.things)[:_MOST] if text else list(known.values())
        note = found.note or ("" if chosen else f"No operation fits '{text}'. Try other words; 'eskret operations' lists them all.")
        if json_:
            told = [_told(o) for o in chosen]
            typer.echo(json.dumps({"found": told, "note": note} if text else told, ensure_ascii=False, indent=1))
        else:
            if note:
                typer.echo(note, err=not chosen)
            phase = ""
            for one in chosen:
                heading = "Of this project's own" if one.id.startswith(OWN) else str(one.phase)
                if heading != phase and not text:
                    phase = heading
                    typer.echo(phase)
                typer.echo(f"  {one.id:<17} {one.summary}")
        if not chosen:
            raise typer.Exit(USAGE)


_MOST = 6


def known_operation(id: str) -> Operation:
    """The operation of this id.

    Raises
    ------
    DocumentError : there is none; names those that fit the word.
    """
    from eskret.core.words import nearest_word
    from eskret.operations.finding import find
    from eskret.operations.registry import all_operations, operation_by_id

    try:
        return operation_by_id(id)
    except DocumentError as error:
        fitting = [o.id for o in find(id).things][:3]
        if not fitting or nearest_word(id, all_operations()):
            raise  # it names what was meant
        raise DocumentError(error.problem, way_out=f"Did you mean {' or '.join(fitting)}?") from error


def shown(operation: Operation, as_json: bool, as_options: bool = False) -> str:
    """What an operation does, setting by setting; as they stand in a file, or as options of ``eskret do``."""
    if as_json:
        return json.dumps([_told(operation)], ensure_ascii=False, indent=1)
    from eskret.operations.settings import setting_info

    lines = [f"{operation.title} ({operation.id})", "", operation.summary, "", operation.help, ""]
    if as_options:
        lines += [f"eskret do {operation.id} {'FILE ... ' if operation.has_input else ''}[--setting value ...] [--out FILE]", ""]
    lines.append("Settings")
    for name, info in setting_info(operation.Settings).items():
        lines += _setting(operation, name, info, as_options)
    return "\n".join(lines)


def _setting(operation: Operation, name: str, info: SettingInfo, as_option: bool) -> list[str]:
    from eskret.operations.settings import default_of

    default = default_of(operation.Settings, name)
    must = operation.Settings.model_fields[name].is_required()
    first = f"--{name.replace('_', '-')}" if as_option else name
    lines = [f"  {first:<18} {info.label}{' (must be given)' if must else f'; else {_words(default)}'}"]
    if info.help:
        lines.append(f"  {'':<18} {info.help}")
    if info.choices:
        lines.append(f"  {'':<18} One of: {', '.join(c or 'nothing' for c in info.choices)}")
    if as_option and info.example and must:
        lines.append(f"  {'':<18} Such as: {info.example}")
    return lines


def _told(operation: Operation) -> dict[str, Any]:
    from eskret.operations.settings import default_of, setting_info

    return {
        "id": operation.id,
        "title": operation.title,
        "phase": operation.phase,
        "summary": operation.summary,
        "help": operation.help,
        "settings": {
            n: {"label": i.label, "help": i.help, "default": default_of(operation.Settings, n), "choices": list(i.choices)}
            for n, i in setting_info(operation.Settings).items()
        },
    }


def _words(value: object) -> str:
    if value == "":
        return "nothing"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list | dict) and not value:
        return "none"
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)
