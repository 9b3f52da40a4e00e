"""Trust in the code that a project brings along: given once, by the hash of all that is in its ``operations`` folder.

Whoever writes operations there can say that changes made on this machine are trusted too; what comes from elsewhere is asked
about. What was said is kept in the user's data folder.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from eskret.core.files.state_file import change_state, read_state
from eskret.core.files.user_state import data_place
from eskret.errors import Action, Code, DocumentError

FOLDER = "operations"


def code_in(folder: Path) -> list[Path]:
    """The Python files of a project's own operations, those that they import included."""
    home = folder / FOLDER
    return sorted(p for p in home.rglob("*.py") if p.is_file() and "__pycache__" not in p.parts) if home.is_dir() else []


def sources_of(folder: Path) -> dict[str, bytes]:
    """The code in the folder as it is now, by path from it."""
    return {path.relative_to(folder).as_posix(): path.read_bytes() for path in code_in(folder)}


def hash_of(folder: Path) -> str:
    """The hash of all code in the folder: names and contents; empty where there is none."""
    return hash_of_sources(sources_of(folder))


def hash_of_sources(sources: Mapping[str, bytes]) -> str:
    """The hash of code that was read: what is run is what this hash is of."""
    if not sources:
        return ""
    made = hashlib.sha256()
    for name, content in sources.items():
        made.update(f"{name}\0{len(content)}\0".encode())
        made.update(content)
    return made.hexdigest()


def _store() -> Path:
    return data_place("trusted-code.json")


def _known() -> dict[str, Any]:
    return read_state(_store())


def is_trusted(folder: Path, told: str | None = None) -> bool:
    """Whether the code of a project may be run as it is now; or that of which this is the hash."""
    told = hash_of(folder) if told is None else told
    known = _known()
    return not told or told in known.get("hashes", {}) or str(folder.resolve()) in known.get("written_here", ())


def trust(folder: Path, *, written_here: bool = False, told: str = "") -> str:
    """Trust the code as it is now; with ``written_here`` also what becomes of it in this place. Gives the hash.

    Parameters
    ----------
    told : the hash of the code that somebody has read, where that is known: if it is another by now, it is not trusted.

    Raises
    ------
    DocumentError : the code has changed since it was read.
    """
    now = hash_of(folder)
    if told and now != told:
        raise DocumentError(
            "the code has changed since it was shown",
            place=str(folder / FOLDER),
            way_out="Read it again",
            code=Code.UNTRUSTED_CODE,
            action=Action.READ_CODE,
        )

    def change(known: dict[str, Any]) -> None:
        known.setdefault("hashes", {})[now] = str(folder.resolve())
        places = known.setdefault("written_here", [])
        if written_here and str(folder.resolve()) not in places:
            places.append(str(folder.resolve()))

    change_state(_store(), change)
    return now


def is_trusted_file(path: Path) -> bool:
    """Whether a single script may be run as it is now."""
    return _file_hash(path) in _known().get("hashes", {})


def trusted_source(path: Path) -> bytes | None:
    """A script as it is now, if it may be run so: the very bytes that were allowed; None where nobody has."""
    try:
        content = path.read_bytes()
    except OSError:
        return None
    return content if hashlib.sha256(b"script\0" + content).hexdigest() in _known().get("hashes", {}) else None


def trust_file(path: Path) -> None:
    """Trust a single script as it is now."""

    def change(known: dict[str, Any]) -> None:
        known.setdefault("hashes", {})[_file_hash(path)] = str(path.resolve())

    change_state(_store(), change)


def _file_hash(path: Path) -> str:
    try:
        return hashlib.sha256(b"script\0" + path.read_bytes()).hexdigest()
    except OSError:
        return ""


def distrust(folder: Path) -> None:
    """Take trust back: what is there now, and what is written there, is asked about again."""

    def change(known: dict[str, Any]) -> None:
        known.get("hashes", {}).pop(hash_of(folder), None)
        known["written_here"] = [p for p in known.get("written_here", []) if p != str(folder.resolve())]

    change_state(_store(), change)
