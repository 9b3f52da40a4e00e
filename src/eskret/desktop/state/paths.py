"""Paths as a workflow file has them."""

from __future__ import annotations

from pathlib import Path


def relative(path: str, folder: Path) -> str:
    """A path from the workflow's folder, if it lies within; else as it is."""
    try:
        return Path(path).resolve().relative_to(folder.resolve()).as_posix()
    except ValueError:
        return path
