"""Locks between processes. The system lets go of them when a process ends, however it ends.

A folder is locked by its own descriptor, so that nothing has to be put into it and colleagues' processes are seen too; where
a file system has no such locks (some shared ones), commits go on without, and what others changed is found by comparing.
"""

from __future__ import annotations

import errno
import fcntl
import os
import time
from collections.abc import Generator, Iterable
from contextlib import contextmanager
from pathlib import Path

from eskret.errors import Code, DeliveryError

_NO_LOCKS = {errno.EBADF, errno.ENOLCK, errno.EOPNOTSUPP, errno.EINVAL, errno.ENOSYS}
WAIT = 60.0
"""Seconds that a commit waits for another one in the same folder."""


class FileLock:
    """A lock that is a file of the user's; it is gone when it is let go of."""

    def __init__(self, path: Path, number: int) -> None:
        self.path = path
        self.number = number

    @classmethod
    def take(cls, path: Path) -> FileLock | None:
        """Take a lock, or None where a living process has it.

        Raises
        ------
        OSError : the file cannot be made.
        """
        while True:
            number = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
            try:
                fcntl.flock(number, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                os.close(number)
                return None
            except OSError as error:
                if error.errno not in _NO_LOCKS:
                    os.close(number)
                    raise
            try:
                same = os.stat(path).st_ino == os.fstat(number).st_ino
            except FileNotFoundError:
                same = False
            if same:
                return cls(path, number)
            os.close(number)  # whoever had it took the file away this instant

    def release(self, *, keep_file: bool = False) -> None:
        """Let go of it."""
        if self.number >= 0:
            if not keep_file:
                self.path.unlink(missing_ok=True)
            os.close(self.number)
            self.number = -1


@contextmanager
def folders_locked(folders: Iterable[Path], seconds: float = WAIT) -> Generator[None, None, None]:
    """Hold folders against other commits, in an order that all share, so that no two wait for each other.

    Raises
    ------
    DeliveryError : another process holds one for longer than this.
    OSError : one is not there.
    """
    held: list[int] = []
    until = time.monotonic() + seconds
    try:
        for folder in sorted({f.resolve() for f in folders}):
            number = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
            held.append(number)
            while True:
                try:
                    fcntl.flock(number, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    break
                except BlockingIOError:
                    if time.monotonic() > until:
                        raise DeliveryError(
                            "another run has been putting its outputs into this folder all the while",
                            place=str(folder),
                            way_out="Run again when it is done",
                            code=Code.HELD_ELSEWHERE,
                        ) from None
                    time.sleep(0.02)
                except OSError as error:
                    if error.errno in _NO_LOCKS:
                        break
                    raise
        yield
    finally:
        for number in reversed(held):
            os.close(number)
