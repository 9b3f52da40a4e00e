"""A small file of what a user said, as JSON: read whole, written whole, changed under a lock, for its owner alone."""

from __future__ import annotations

import json
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from time import monotonic, sleep
from typing import Any

from eskret.core.files.atomic import write_whole
from eskret.core.files.locks import FileLock
from eskret.core.files.user_state import private

_WAIT = 5.0


def read_state(path: Path) -> dict[str, Any]:
    """What the file says; nothing where it is not there or cannot be understood."""
    try:
        found = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def change_state(path: Path, change: Callable[[dict[str, object]], None]) -> None:
    """Change what the file says, so that what another process changes at the same time stays.

    Raises
    ------
    OSError : it cannot be written; it stays as it was.
    """
    private(path.parent)
    until = monotonic() + _WAIT
    while (lock := FileLock.take(path.with_name(f".{path.name}.lock"))) is None and monotonic() < until:
        sleep(0.01)
    with closing(_Held(lock)):
        told = read_state(path)
        change(told)
        write_whole(path, json.dumps(told, ensure_ascii=False, indent=1), mode=0o600, waiting=path.with_name(f".{path.name}.new"))


class _Held:
    def __init__(self, lock: FileLock | None) -> None:
        self._lock = lock

    def close(self) -> None:
        if self._lock is not None:
            self._lock.release()
