"""Run a workflow whenever what it reads has changed.

Files are looked at again and again: that finds changes on network drives too, where nobody is told of them.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from eskret.errors import EskretError
from eskret.operations.base import Source
from eskret.operations.registry import operation_by_id, project
from eskret.operations.settings import validate
from eskret.user_operations.trust import code_in
from eskret.workflow.cache.file_hashes import Stat, stat_of, with_companions
from eskret.workflow.model import document as documents
from eskret.workflow.model.contexts import context_of
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.references import bound, settings_for

Seen = Mapping[str, Stat | None]


def seen(workflow: Path, values: Mapping[str, Any] | None = None) -> tuple[Seen, list[str]]:
    """The state of every file that a workflow reads, its own file and code included; and the steps that read what cannot be
    watched, such as a service.

    A file that cannot be read or understood now is part of the state, too: it can be mended.
    """
    places: dict[str, Stat | None] = {str(workflow): _stat(workflow)}
    unseen: list[str] = []
    try:
        document = documents.read(workflow)
        given = document.values(values)
        steps = bound(document, given).steps
    except EskretError:
        return places, unseen
    with project(workflow.parent):
        for step in steps:
            found = () if step.off else _reads(step, given, document, workflow)
            if found is None:
                unseen.append(step.id)
            for path in found or ():
                places.update({str(p): _stat(p) for p in with_companions(path)})
    places.update({str(p): _stat(p) for p in code_in(workflow.parent)})
    return places, unseen


def _stat(path: Path) -> Stat | None:
    try:
        return stat_of(path)
    except OSError:
        return None


def _reads(step: Step, values: Mapping[str, object], document: Document, workflow: Path) -> list[Path] | None:
    try:
        operation = operation_by_id(step.use)
        settings = settings_for(step, None, values)
        context = context_of(document, step.id, values, workflow.parent, chain=(workflow,))
        found = operation.reads(validate(operation.Settings, settings), context)
    except EskretError:
        return []  # a pattern that matches nothing yet, a setting that only a round gives
    if found is None:
        return None if isinstance(operation, Source) else []
    return list(found)


def watch(
    workflow: Path,
    run: Callable[[], None],
    *,
    values: Mapping[str, Any] | None = None,
    every: float = 2.0,
    stop: threading.Event,
    told: Callable[[list[str]], None] = lambda unseen: None,
) -> None:
    """Run now, and whenever something has changed and nothing has for one look more: what is being written is not read.

    Parameters
    ----------
    run : runs it; what it raises ends the watch.
    every : seconds between looks.
    told : hears once which steps read what cannot be watched.
    """
    state, unseen = seen(workflow, values)
    told(unseen)
    run()
    before = state
    while not stop.wait(every):
        now, _ = seen(workflow, values)
        if now == state:
            before = now
        elif now == before:
            state = now
            run()
        else:
            before = now


def clock() -> str:
    """The time of day."""
    return time.strftime("%H:%M:%S")
