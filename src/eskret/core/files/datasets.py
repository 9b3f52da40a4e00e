"""Folders that are one layer: many files of rows under it, by convention in folders called ``field=value`` (common practice)."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import unquote

ENDING = ".parquet"
_NOTHING = "__HIVE_DEFAULT_PARTITION__"


def is_dataset(path: Path) -> bool:
    """Whether a path is such a folder, and no file."""
    return path.suffix.lower() == ENDING and path.is_dir()


def files_of(path: Path) -> list[Path]:
    """The files of such a folder, in the order of their paths; a file itself, where it is one."""
    if not is_dataset(path):
        return [path]
    found = (p for p in path.rglob(f"*{ENDING}") if p.is_file())
    return sorted(p for p in found if not any(part.startswith((".", "_")) for part in p.relative_to(path).parts))


def values_of(path: Path, file: Path) -> dict[str, str | None]:
    """What the folders between say of a file's rows: fields and their values, None for an empty one."""
    out: dict[str, str | None] = {}
    for part in file.relative_to(path).parts[:-1] if file != path else ():
        name, there, value = part.partition("=")
        if there:
            out[unquote(name)] = None if value == _NOTHING else unquote(value)
    return out
