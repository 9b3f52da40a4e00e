"""Write a text file whole or not at all."""

from __future__ import annotations

from pathlib import Path


def write_whole(text: str, path: Path) -> None:
    """Write beside the file and put it in its place at once; what was there is replaced or stays.

    Raises
    ------
    OSError : the folder cannot be written; nothing is left behind.
    """
    waiting = path.with_name(f".{path.name}.new")
    try:
        waiting.write_text(text, encoding="utf-8")
        waiting.replace(path)
    except OSError:
        waiting.unlink(missing_ok=True)
        raise
