"""Write a file whole or not at all, and have it and its name on the disk before going on."""

from __future__ import annotations

import os
import uuid
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path


def write_whole(path: Path, content: str | bytes, *, mode: int | None = None, synced: bool = True, waiting: Path | None = None) -> None:
    """Write beside a file and put it in its place at once; what was there is replaced or stays.

    Parameters
    ----------
    content : text is written as UTF-8.
    mode : permissions of a file that only some may read; None keeps those that are there, or the usual ones.
    synced : wait until the disk has it.
    waiting : where it is written first, for whoever holds a lock and knows how to find that again after a crash.

    Raises
    ------
    OSError : it cannot be written; nothing is left behind.
    """
    raw = content.encode("utf-8") if isinstance(content, str) else content
    known = waiting is not None
    waiting = waiting or path.with_name(f".{path.name[:180]}.{os.getpid()}-{uuid.uuid4().hex[:6]}.new")
    try:
        if mode is None and path.exists():
            mode = path.stat().st_mode & 0o777
        number = os.open(waiting, os.O_WRONLY | os.O_CREAT | (os.O_TRUNC if known else os.O_EXCL), 0o666 if mode is None else mode)
        with os.fdopen(number, "wb") as stream:
            if mode is not None:
                os.fchmod(stream.fileno(), mode)
            stream.write(raw)
            stream.flush()
            if synced:
                os.fsync(stream.fileno())
        waiting.replace(path)
        if synced:
            sync_folders([path.parent])
    except BaseException:
        with suppress(OSError):
            waiting.unlink(missing_ok=True)
        raise


def sync_folders(folders: Iterable[Path]) -> None:
    """Have the names in folders on the disk; a file system that cannot is let be.

    Raises
    ------
    OSError : a folder is not there.
    """
    for folder in dict.fromkeys(folders):
        number = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            with suppress(OSError):
                os.fsync(number)
        finally:
            os.close(number)


def sync_file(path: Path) -> None:
    """Have what a file holds on the disk.

    Raises
    ------
    OSError : it cannot be read, or the disk refuses.
    """
    number = os.open(path, os.O_RDONLY)
    try:
        os.fsync(number)
    finally:
        os.close(number)
