"""How much memory there is, how much whoever is at work may take of it, and what a process no longer needs, given back."""

from __future__ import annotations

import ctypes
import os
import threading
from collections.abc import Callable, Generator
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from pathlib import Path

import pyarrow as pa

from eskret.core.words import byte_words
from eskret.errors import InputError

LEAST = 200_000_000
_may_take: ContextVar[int] = ContextVar("may_take", default=0)
_CGROUPS = ("/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes")


def of_machine() -> int:
    """Bytes that the machine has, or that the system lets this process have where that is less."""
    found = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    for place in _CGROUPS:
        with suppress(OSError, ValueError):  # another system, or no limit ("max")
            found = min(found, int(Path(place).read_text()))
    return found


def may_take() -> int:
    """Bytes that a run may take: what was said, else half of what the machine has."""
    return _may_take.get() or of_machine() // 2


def take_at_most(size: int) -> None:
    """Say how many bytes runs may take from here on.

    Raises
    ------
    InputError : with less nothing can be done.
    """
    if size < LEAST:
        raise InputError(f"a run cannot do with {byte_words(size)} of memory", way_out=f"Let it take {byte_words(LEAST)} or more")
    _may_take.set(size)


class Room:
    """Memory that tasks share: one that needs more than is left waits until others are done. One alone always goes on.

    Parameters
    ----------
    size : bytes in all.
    """

    def __init__(self, size: int) -> None:
        self.size = size
        self._taken = 0
        self._at_work = 0
        self._change = threading.Condition()

    @contextmanager
    def take(self, size: int, look: Callable[[], None]) -> Generator[None, None, None]:
        """Within it, so many bytes are one's own; ``look`` is called now and then while waiting, and may raise to end it."""
        with self._change:
            while self._at_work and size and self._taken + size > self.size:
                self._change.wait(0.2)
                look()
            self._taken += size
            self._at_work += bool(size)
        try:
            yield
        finally:
            with self._change:
                self._taken -= size
                self._at_work -= bool(size)
                self._change.notify_all()


def give_back() -> None:
    """Give what lies unused in the allocators back to the system, where they let one ask for it; it takes some milliseconds."""
    pa.default_memory_pool().release_unused()
    with suppress(OSError, AttributeError):  # another system's library knows no such call
        ctypes.CDLL(None).malloc_trim(0)
