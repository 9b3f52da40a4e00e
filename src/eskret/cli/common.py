"""What the commands share: types of options, exit codes, errors as sentences."""

from __future__ import annotations

import json
from collections.abc import Generator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated

import typer

from eskret.core.files.missing import no_such_file
from eskret.core.unforeseen import as_sentence
from eskret.errors import Code, DocumentError, EskretError, ExpressionError, RehearsalError, SettingError

FAILED, USAGE, UNMET, STOPPED = 1, 2, 3, 130
CODES = (
    "Exit codes: 0 balanced, or something to look at; 1 failed; 2 what was asked for cannot be (a name, file or value that is not "
    "there, or an error that the rehearsal found), nothing was done; 3 a check did not hold; 130 stopped."
)
UNKNOWN = "Look at the outputs before you go on"
"""What a command says of a failure that nobody foresaw, as it cannot know how far it came."""
EXIT = {"balanced": 0, "look": 0, "failed": FAILED, "stopped": STOPPED}

File = Annotated[Path, typer.Argument(help="A workflow file (.toml).")]
Set = Annotated[list[str] | None, typer.Option("--set", help="name=value of a parameter; may be repeated.")]
Json = Annotated[bool, typer.Option("--json", help="Print JSON for machines.")]
Quiet = Annotated[bool, typer.Option("--quiet", "-q", help="Print nothing but errors.")]


Allow = Annotated[
    list[str] | None,
    typer.Option("--allow", metavar="HOST", help="A host that it may ask in this run, as maps.example.org:8443; several times."),
]


Memory = Annotated[
    str | None,
    typer.Option("--memory", metavar="SIZE", help="Take no more memory than about this, such as 2GB; half of the machine's by itself."),
]


def told(found: object, as_json: bool, text: str) -> None:
    """Say what a command did, to people or to machines."""
    typer.echo(json.dumps(found, ensure_ascii=False, default=str) if as_json else text)


def there(path: Path, what: str = "file") -> Path:
    """A file or folder that must be there.

    Raises
    ------
    InputError : it is not; names what comes nearest.
    """
    if not path.exists():
        raise no_such_file(path, what)
    return path


def limit_memory(text: str | None) -> None:
    """Let runs take so much for as long as this command lasts."""
    if text is not None:
        from eskret.core.memory import take_at_most
        from eskret.core.words import bytes_in

        with plain_errors():
            take_at_most(bytes_in(text))


def allow_hosts(hosts: list[str] | None) -> None:
    """Let workflows ask these hosts for as long as this command lasts."""
    if hosts:
        from eskret.workflow.run.consent import allow_for_now

        allow_for_now(hosts)


@contextmanager
def plain_errors(as_json: bool = False) -> Generator[None, None, None]:
    """Errors meant for people become their sentence and an exit code."""
    try:
        yield
    except RehearsalError as error:
        from eskret.workflow.faces.said_once import findings_once

        said = [f"step '{step}': {text}" if step else text for _, step, text in findings_once(error.findings)]
        complain("\n".join(said), as_json, error.code)
        raise typer.Exit(USAGE) from error
    except EskretError as error:
        complain(error.sentence(), as_json, error.code)
        raise typer.Exit(code_of(error)) from error
    except BrokenPipeError as error:
        raise typer.Exit(0) from error
    except Exception as error:
        if isinstance(error, (typer.Exit, typer.Abort, typer.BadParameter)):
            raise
        complain(as_sentence(error, after=UNKNOWN).sentence(), as_json, Code.FAULT)
        raise typer.Exit(FAILED) from error


@contextmanager
def of_project(file: Path) -> Generator[None, None, None]:
    """Within it, operations of the project's own are those beside this workflow."""
    with of_folder(file.resolve().parent):
        yield


@contextmanager
def of_folder(folder: Path) -> Generator[None, None, None]:
    """Within it, operations of the project's own are those of this folder."""
    from eskret.operations.registry import project

    with project(folder):
        yield


def code_of(error: EskretError) -> int:
    """The exit code for an error: whether what was asked for cannot be, or it was tried and failed."""
    asked = isinstance(error, DocumentError | SettingError | ExpressionError) or error.code is Code.NOT_THERE
    return USAGE if asked else FAILED


def complain(text: str, as_json: bool, code: str = Code.GENERAL) -> None:
    """Say what is wrong, to people and to machines."""
    if as_json:
        typer.echo(json.dumps({"state": "failed", "error": text, "code": str(code)}, ensure_ascii=False))
    typer.echo(text, err=True)


def values(given: list[str] | None) -> dict[str, str]:
    """Parameters as they were given."""
    out = {}
    for pair in given or []:
        name, equals, value = pair.partition("=")
        if not equals:
            raise DocumentError(f"--set {pair!r} has no value", way_out="Write --set name=value")
        out[name.strip()] = value
    return out


def pairs(given: list[str] | None) -> dict[str, str]:
    """Options of the form OLD=NEW."""
    out = {}
    for text in given or []:
        left, sign, right = text.partition("=")
        if not sign or not left:
            raise DocumentError(f"'{text}' is no pair", way_out="Write OLD=NEW")
        out[left.strip()] = right.strip()
    return out
