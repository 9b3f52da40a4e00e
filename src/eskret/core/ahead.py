"""The next of something being made in another thread while one is worked on."""

from __future__ import annotations

import queue
import threading
from collections.abc import Generator, Iterable
from contextvars import copy_context
from types import GeneratorType
from typing import TypeVar

T = TypeVar("T")
_WAITING = 3
"""How many may wait: what is ahead is in memory."""


def ahead(source: Iterable[T]) -> Generator[T, None, None]:
    """What a source gives, in its order; it goes on in a thread of its own meanwhile. Close it, so that the source rests."""
    waiting: queue.Queue[tuple[T, None] | tuple[None, BaseException] | None] = queue.Queue(_WAITING)
    over = threading.Event()

    def fetch() -> None:
        last: tuple[None, BaseException] | None = None
        try:
            for one in source:
                waiting.put((one, None))
                if over.is_set():
                    break
            if isinstance(source, GeneratorType):
                source.close()  # here, where it was at work
        except BaseException as error:
            last = (None, error)
        waiting.put(last)

    thread = threading.Thread(target=copy_context().run, args=(fetch,), daemon=True)
    thread.start()
    try:
        while (got := waiting.get()) is not None:
            one, error = got
            if error is not None:
                raise error
            yield one  # type: ignore[misc]
    finally:
        # what the source reads from may be closed right after this: nobody may be at it then
        over.set()
        while thread.is_alive():
            try:
                waiting.get(timeout=0.02)
            except queue.Empty:
                continue
