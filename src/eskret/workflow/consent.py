"""Consent to save outside a workflow's own folder, given once by the analyst.

A workflow file from somebody else must not be able to overwrite files elsewhere just by being run. What was allowed is
kept in the user's data folder, by workflow file and target folder.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from platformdirs import user_data_path


def _store() -> Path:
    return user_data_path("eskret", appauthor=False) / "allowed-folders.json"


def _known() -> dict[str, Any]:
    try:
        found = json.loads(_store().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def outside(workflow: Path | None, folder: Path, targets: Iterable[Path]) -> list[Path]:
    """Folders of targets that lie neither within the workflow's folder nor within one that was allowed.

    A workflow that has no file yet is being written by the analyst at hand: nothing of it needs consent.
    """
    if workflow is None:
        return []
    own = folder.resolve()
    allowed = [Path(p) for p in _known().get(str(workflow.resolve()), [])]
    found: dict[Path, None] = {}
    for target in targets:
        home = target.resolve().parent
        if not any(home == place or place in home.parents for place in (own, *allowed)):
            found[home] = None
    return list(found)


def allow(workflow: Path, folders: Iterable[Path]) -> None:
    """Remember that this workflow may save in these folders."""
    known = _known()
    places = known.setdefault(str(workflow.resolve()), [])
    places += [str(f.resolve()) for f in folders if str(f.resolve()) not in places]
    _store().parent.mkdir(parents=True, exist_ok=True)
    _store().write_text(json.dumps(known, ensure_ascii=False, indent=1), encoding="utf-8")
