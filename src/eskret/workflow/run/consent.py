"""Consent to save outside a workflow's own folder and to ask a service, given once by the analyst.

A workflow file from somebody else must not be able to overwrite files elsewhere, to publish, or to send anything to an address
of its own (what was read, what a parameter or an environment variable holds), just by being opened, rehearsed or run. So no
request goes to a host before somebody has said that this workflow may ask it. What was allowed is kept in the user's data
folder, by workflow file and target.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

from eskret.core.files.state_file import change_state, read_state
from eskret.core.files.user_state import data_place
from eskret.operations.base import ServiceAccess
from eskret.services.tokens import is_local, origin_of

_FOLDERS, _SERVICES, _FILES = "allowed-folders.json", "allowed-services.json", "allowed-files.json"
_READ = "read "
_for_now: set[str] = set()


def _store(name: str) -> Path:
    return data_place(name)


def _known(name: str) -> dict[str, Any]:
    return read_state(_store(name))


def places() -> list[Path]:
    """The files that hold what was allowed."""
    return [_store(_FOLDERS), _store(_SERVICES), _store(_FILES)]


def allow_for_now(hosts: Iterable[str]) -> None:
    """Let workflows ask these hosts for as long as this process lives: for runs that nobody attends.

    Parameters
    ----------
    hosts : as ``maps.example.org``, ``maps.example.org:8443`` or a whole address.
    """
    _for_now.update(_host(h) for h in hosts)


def _host(text: str) -> str:
    origin = origin_of(text if "://" in text else f"https://{text}")
    return origin.partition("://")[2]


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


def stranger(workflow: Path | None, reach: ServiceAccess | None) -> bool:
    """Whether a workflow reaches for a service that nobody has allowed it yet; a new host, port or token asks again, and so does
    changing where only reading was allowed.

    This machine is no stranger. A workflow that has no file yet is being written by the analyst at hand.
    """
    if workflow is None or reach is None or is_local(reach.address):
        return False
    if _host(origin_of(reach.address)) in _for_now:
        return False
    known = _known(_SERVICES).get(str(workflow.resolve()), [])
    whole = f"{origin_of(reach.address)} {reach.variable}".strip()
    return not (whole in known or (not reach.changes and f"{_READ}{whole}" in known))


def _words(reach: ServiceAccess) -> str:
    whole = f"{origin_of(reach.address)} {reach.variable}".strip()
    return whole if reach.changes else f"{_READ}{whole}"


def may_replace(workflow: Path | None, file: Path) -> bool:
    """Whether a workflow may put a new file in the place of one that is not its user's alone."""
    return workflow is None or str(file.resolve()) in _known(_FILES).get(str(workflow.resolve()), [])


def allow(workflow: Path, folders: Iterable[Path], services: Iterable[ServiceAccess] = (), files: Iterable[Path] = ()) -> None:
    """Remember that this workflow may save in these folders, reach these services and replace these files."""
    _add(_FILES, workflow, [str(f.resolve()) for f in files])
    _add(_FOLDERS, workflow, [str(f.resolve()) for f in folders])
    _add(_SERVICES, workflow, [_words(s) for s in services])


def _add(name: str, workflow: Path, words: Iterable[str]) -> None:
    new = list(words)
    if not new:
        return

    def change(known: dict[str, Any]) -> None:
        allowed = known.setdefault(str(workflow.resolve()), [])
        allowed += [w for w in new if w not in allowed]

    change_state(_store(name), change)
