"""What a step can be, found by everyday words: operations, those of one's own, and other workflows of the project."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

from eskret.errors import EskretError
from eskret.operations.registry import OWN, all_operations, fit_of, fit_of_texts, own_operations, words_of
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


def find(words: str, with_layers: bool | None, folder: Path, without: Path | None = None) -> list[CatalogueEntry]:
    """What fits what somebody typed, best first; everything for nothing typed.

    Parameters
    ----------
    with_layers : whether there are layers to work on; of what fits equally well, what can use that comes first.
    folder : the project's, whose workflows are offered too.
    without : the workflow that is open: it cannot use itself.
    """
    scored: list[tuple[int, CatalogueEntry]] = []
    for operation in (*all_operations().values(), *own_operations()):
        kind = "Your own" if operation.id.startswith(OWN) else str(operation.phase)
        entry = CatalogueEntry(operation.id, operation.title, kind, operation.summary, operation.has_input)
        scored.append((fit_of(operation, words), entry))
    for path, document in workflows_in(folder):
        if without is None or path != without.resolve():
            labels = " ".join(f"{p.title} {p.help}" for p in document.parameters)
            score = fit_of_texts(words, f"{path.stem} {document.title}", document.keywords, document.summary, f"{labels} {document.help}")
            title = document.title or path.stem
            said = document.summary or f"What {path.name} makes, as one step."
            scored.append((score, CatalogueEntry(WORKFLOW, title, "Workflow", said, False, {"file": path.name})))

    def unfit(entry: CatalogueEntry) -> bool:
        return with_layers is not None and entry.has_input != with_layers

    if not words_of(words):
        return sorted((e for _, e in scored), key=lambda e: (unfit(e), e.use == WORKFLOW))
    return [e for score, e in sorted(scored, key=lambda pair: (-pair[0], unfit(pair[1]))) if score > 0]


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
