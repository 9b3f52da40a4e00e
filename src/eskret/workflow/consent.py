"""Consent to save outside a workflow's own folder, and to reach a service with a token or a change, given once by the analyst.

A workflow file from somebody else must not be able to overwrite files elsewhere, to publish, or to send what an environment
variable holds to an address of its own, just by being run. What was allowed is kept in the user's data folder, by workflow file
and target.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from platformdirs import user_data_path

from eskret.operations.base import Reach
from eskret.services.tokens import is_local, origin_of

_FOLDERS, _SERVICES = "allowed-folders.json", "allowed-services.json"


def _store(name: str) -> Path:
    return user_data_path("eskret", appauthor=False) / name


def _known(name: str) -> dict[str, Any]:
    try:
        found = json.loads(_store(name).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def places() -> list[Path]:
    """The files that hold what was allowed."""
    return [_store(_FOLDERS), _store(_SERVICES)]


def outside(workflow: Path | None, folder: Path, targets: Iterable[Path]) -> list[Path]:
    """Folders of targets that lie neither within the workflow's folder nor within one that was allowed.

    A workflow that has no file yet is being written by the analyst at hand: nothing of it needs consent.
    """
    if workflow is None:
        return []
    own = folder.resolve()
    allowed = [Path(p) for p in _known(_FOLDERS).get(str(workflow.resolve()), [])]
    found: dict[Path, None] = {}
    for target in targets:
        home = target.resolve().parent
        if not any(home == place or place in home.parents for place in (own, *allowed)):
            found[home] = None
    return list(found)


def stranger(workflow: Path | None, reach: Reach | None) -> bool:
    """Whether a workflow reaches for a service in a way that was not allowed yet: to change something, or with a token.

    This machine is no stranger, nor is what a workflow reads without a token.
    """
    if workflow is None or reach is None or is_local(reach.address) or not (reach.changes or reach.variable):
        return False
    return _words(reach) not in _known(_SERVICES).get(str(workflow.resolve()), [])


def _words(reach: Reach) -> str:
    return f"{origin_of(reach.address)} {reach.variable}".strip()


def allow(workflow: Path, folders: Iterable[Path], services: Iterable[Reach] = ()) -> None:
    """Remember that this workflow may save in these folders and reach these services."""
    _add(_FOLDERS, workflow, [str(f.resolve()) for f in folders])
    _add(_SERVICES, workflow, [_words(s) for s in services])


def _add(name: str, workflow: Path, words: Iterable[str]) -> None:
    known = _known(name)
    places = known.setdefault(str(workflow.resolve()), [])
    places += [w for w in words if w not in places]
    _store(name).parent.mkdir(parents=True, exist_ok=True)
    _store(name).write_text(json.dumps(known, ensure_ascii=False, indent=1), encoding="utf-8")
