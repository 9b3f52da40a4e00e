"""A file that is not there: said with the nearest one that is."""

from __future__ import annotations

import os
from pathlib import Path

from eskret.core.words import nearest_word
from eskret.errors import Code, InputError

_MANY = 20_000  # names of a folder that are looked through


def near(path: Path) -> str:
    """*Did you mean …?*, where a folder on the way, or the last one, has something of nearly this name; else empty."""
    there = path.absolute()
    rest: list[str] = []
    while not there.exists() and there != there.parent:
        rest.insert(0, there.name)
        there = there.parent
    if not rest or not there.is_dir():
        return ""
    try:
        with os.scandir(there) as entries:
            names = [e.name for e, _ in zip(entries, range(_MANY), strict=False) if not e.name.startswith(".")]
    except OSError:
        return ""
    name = nearest_word(rest[0], names, least=75)
    if not name:
        return ""
    whole = there.joinpath(name, *rest[1:])
    shown = whole if whole.exists() else there / name
    return f"Did you mean '{_as_given(shown, path)}'?"


def _as_given(found: Path, path: Path) -> Path:
    """Relative, where the path was."""
    if path.is_absolute():
        return found
    return Path(os.path.relpath(found, Path.cwd()))


def no_such_file(path: Path, what: str = "file", way_out: str = "Put it there, or choose another") -> InputError:
    """The error for a file that is not there."""
    return InputError(f"there is no such {what}", place=str(path), way_out=near(path) or way_out, code=Code.NOT_THERE)
