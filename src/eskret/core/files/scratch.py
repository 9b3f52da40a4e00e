"""Folders for as long as a process lives: in the user's cache folder, each with a lock, swept by whoever comes next.

A process that is killed takes nothing away behind it; the lock that ends with it says that its folder is nobody's any more.
"""

from __future__ import annotations

import os
import shutil
import uuid
from contextlib import suppress
from pathlib import Path

from eskret.core.files.locks import FileLock
from eskret.core.files.user_state import cache_place, private

_HOME = "scratch"
_held: dict[Path, FileLock] = {}


def scratch_folder(what: str) -> Path:
    """A new folder for this process alone; those of processes that are gone are taken away first.

    Parameters
    ----------
    what : begins its name.

    Raises
    ------
    OSError : the cache folder cannot be written.
    """
    private(cache_place())
    home = private(cache_place(_HOME))
    sweep_scratch()
    while True:
        folder = home / f"{what}-{uuid.uuid4().hex[:12]}"
        lock = FileLock.take(home / f"{folder.name}.lock")
        if lock is not None:
            break
    folder.mkdir(mode=0o700)
    _held[folder] = lock
    return folder


def drop_scratch(folder: Path) -> None:
    """Take a folder of this process away."""
    shutil.rmtree(folder, ignore_errors=True)
    lock = _held.pop(folder, None)
    if lock is not None:
        lock.release()


def sweep_scratch() -> int:
    """Take away the folders of processes that are gone; how many."""
    home, swept = cache_place(_HOME), 0
    try:
        names = {n.removesuffix(".lock") for n in os.listdir(home)}
    except OSError:
        return 0
    for name in names:
        folder = home / name
        if folder in _held:
            continue
        with suppress(OSError):
            lock = FileLock.take(home / f"{name}.lock")
            if lock is not None:
                swept += folder.exists()
                shutil.rmtree(folder, ignore_errors=True)
                lock.release()
    return swept
