"""What a step can be, found by everyday words: operations, those of one's own, and other workflows of the project."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

from eskret.core.finding.index import Entry
from eskret.errors import EskretError
from eskret.operations.finding import Findings, entry_of, find_among
from eskret.operations.registry import OWN, all_operations, own_operations
from eskret.workflow.model import document as documents
from eskret.workflow.model.document import Document

WORKFLOW = "workflow"


@dataclass(frozen=True)
class CatalogueEntry:
    """One thing that a step can be: its operation with the settings that are known already."""

    use: str
    title: str
    kind: str
    """Its phase, or that it is a workflow, or of one's own."""
    summary: str
    has_input: bool
    settings: Mapping[str, Any] = field(default_factory=dict)


def find(words: str, with_layers: bool | None, folder: Path, without: Path | None = None) -> Findings[CatalogueEntry]:
    """What fits what somebody typed, best first; everything for nothing typed.

    Parameters
    ----------
    with_layers : whether there are layers to work on; of what fits equally well, what can use that comes first.
    folder : the project's, whose workflows are offered too.
    without : the workflow that is open: it cannot use itself.
    """
    things: list[tuple[str, Entry, CatalogueEntry]] = []
    for operation in (*all_operations().values(), *own_operations()):
        kind = "Your own" if operation.id.startswith(OWN) else str(operation.phase)
        entry = CatalogueEntry(operation.id, operation.title, kind, operation.summary, operation.has_input)
        things.append((operation.id, entry_of(operation), entry))
    for path, document in workflows_in(folder):
        if without is None or path != without.resolve():
            labels = " ".join(f"{p.title} {p.help}" for p in document.parameters)
            found_by = Entry(f"{path.stem} {document.title}", tuple(document.keywords), document.summary, f"{labels} {document.help}")
            title = document.title or path.stem
            said = document.summary or f"What {path.name} makes, as one step."
            things.append((f"{WORKFLOW}:{path}", found_by, CatalogueEntry(WORKFLOW, title, "Workflow", said, False, {"file": path.name})))
    return find_among(words, things, [with_layers is not None and e.has_input != with_layers for *_, e in things])


def workflows_in(folder: Path) -> list[tuple[Path, Document]]:
    """The workflows of a folder that can be read."""
    out = []
    for path in sorted(folder.glob("*.toml")):
        try:
            stat = path.stat()
            out.append((path.resolve(), _read(path.resolve(), stat.st_mtime_ns, stat.st_size)))
        except (EskretError, OSError):
            continue
    return out


@lru_cache(maxsize=256)
def _read(path: Path, changed: int, size: int) -> Document:
    return documents.read(path)


def read_cached(path: Path) -> Document:
    """The workflow in a file, read again only if it changed.

    Raises
    ------
    DocumentError : it cannot be read.
    """
    try:
        stat = path.stat()
    except OSError:
        return documents.read(path)
    return _read(path, stat.st_mtime_ns, stat.st_size)
