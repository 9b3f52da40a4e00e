"""What the project folder holds, read beside the window's thread: files a few levels deep, when each changed, what the workflow saved."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from eskret.core.files.datasets import is_dataset
from eskret.formats.sources import is_offered, is_text
from eskret.workflow.outputs.records import Outputs

MOST_FILES = 20_000
DEPTH = 4
"""Levels of folders below the project's own that are looked into."""


@dataclass(frozen=True)
class FoundFile:
    """A readable file: its path as text, its name, the folder it is in from the project folder on (empty for that itself), when it
    changed (seconds), and whether it is text with coordinates, of which it is known only by a step what it holds."""

    path: str
    name: str
    group: str
    changed: float
    text: bool


@dataclass(frozen=True)
class Scan:
    """All that is offered and all that the workflow saved, in order; the folders to watch; whether there are more files than are shown,
    and whether folders lie deeper than is looked into."""

    folder: Path
    offered: tuple[FoundFile, ...]
    saved: tuple[FoundFile, ...]
    saved_layers: tuple[tuple[str, tuple[str, ...]], ...]
    folders: tuple[str, ...]
    cut: bool
    deeper: bool


def scan(folder: Path, workflow: Path | None) -> Scan:
    """Read the folder of a workflow; ``workflow`` is its file, beside which stands what it saved."""
    record = Outputs.beside(workflow, folder)
    layers = {name: tuple(sorted(said.layers)) for name, said in record.files.items()}
    own = {str(folder / name): name for name in layers}
    files, folders, cut, deeper = _walk(folder)
    offered = tuple(f for f in files if f.path not in own)
    saved = tuple(_file(folder / name, _group(str((folder / name).parent), folder)) for name in layers if (folder / name).exists())
    told = tuple((name, of) for name, of in layers.items() if (folder / name).exists())
    return Scan(folder, offered, saved, told, folders, cut, deeper)


def _walk(folder: Path) -> tuple[list[FoundFile], tuple[str, ...], bool, bool]:
    out: list[FoundFile] = []
    watched, cut, deeper = {str(folder)}, False, False
    base = str(folder).rstrip(os.sep).count(os.sep)
    for home, below, names in os.walk(folder):
        layers = [f for f in below if is_dataset(Path(home) / f)]
        further = [f for f in below if not f.startswith(".") and f not in layers]
        near = home.rstrip(os.sep).count(os.sep) - base < DEPTH
        deeper = deeper or (bool(further) and not near)
        below[:] = sorted(further) if near else []
        group = _group(home, folder)
        for name in sorted([*names, *layers]):
            path = Path(home, name)
            if not (is_offered(path) or (is_text(path) and not name.startswith("."))):
                continue
            if len(out) == MOST_FILES:
                return out, tuple(sorted(watched)), True, deeper
            out.append(_file(path, group))
            watched.add(home)
    return out, tuple(sorted(watched)), cut, deeper


def _file(path: Path, group: str) -> FoundFile:
    try:
        changed = path.stat().st_mtime
    except OSError:
        changed = 0.0
    return FoundFile(str(path), path.name, group, changed, is_text(path))


def _group(home: str, folder: Path) -> str:
    place = os.path.relpath(home, folder)
    return "" if place == "." else home if place.startswith("..") else place
