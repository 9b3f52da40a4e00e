"""Time and memory of what runs unasked, or in code that does not listen.

A computation in a library cannot be interrupted from outside. Where it goes on beyond its time, the process it is in is
ended, if whoever started the process has said how: the command line says a sentence and leaves, a worker tells its window,
which starts another. In somebody's notebook nothing is ended; there the limit is only asked for.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Generator
from contextlib import contextmanager, suppress

_end: Callable[[str], None] | None = None
GRACE = 4.0
"""Seconds between asking and ending."""


def may_be_ended(how: Callable[[str], None] | None) -> None:
    """Say that this process may be ended, and how: called with a sentence, from a thread of its own; it does not come back."""
    global _end
    _end = how


@contextmanager
def bounded(seconds: float, what: str) -> Generator[None, None, None]:
    """Within it, so many seconds may pass; then the process is ended, where it may be.

    Parameters
    ----------
    what : the beginning of a sentence: what it is that takes so long.
    """
    if _end is None:
        yield
        return
    text = f"{what} takes longer than {seconds:g} seconds and does not listen, so it was ended"

    def over() -> None:
        if _end is not None:
            _end(text)

    timer = threading.Timer(seconds, over)
    timer.daemon = True
    timer.start()
    try:
        yield
    finally:
        timer.cancel()


def limit_memory(share: float) -> None:
    """Let this process have no more than a share of the machine's memory, so that a computation that wants more fails and not
    the machine. Mapped files do not count."""
    import resource

    with suppress(OSError, ValueError, AttributeError):
        whole = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
        soft, hard = resource.getrlimit(resource.RLIMIT_DATA)
        wanted = int(whole * share)
        if soft == resource.RLIM_INFINITY or soft > wanted:
            resource.setrlimit(resource.RLIMIT_DATA, (wanted, hard))
