"""Work on many features in pieces: in threads, told of, and stopped between two of them."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import TypeVar

import numpy as np
import shapely

CHUNK = 20_000
Watch = Callable[[int, int], None]
"""Called as (done, of all); may raise to end the work."""

T = TypeVar("T")


class ThreadLocalPrepared(threading.local):
    """Prepared shapes, a copy for each thread: GEOS makes their indexes when they are first asked, and two threads that
    ask the same shape at the same time spoil each other's memory."""

    def __init__(self, shapes: np.ndarray) -> None:
        # called anew in every thread that touches it
        self.shapes = np.asarray(shapely.from_wkb(shapely.to_wkb(shapes)), object)
        shapely.prepare(self.shapes)


def in_chunks(work: Callable[[int, int], T], count: int, watch: Watch | None = None, size: int = CHUNK) -> list[T]:
    """``work(start, stop)`` for all of ``count`` in pieces of ``size``, in threads; the answers in their order.

    GEOS lets go of the interpreter's lock, so that the threads work at the same time. What was not begun when one of them
    fails, or when ``watch`` says to stop, is not begun.
    """
    starts = range(0, count, size)
    return in_threads([partial(work, a, min(a + size, count)) for a in starts], watch, count, size)


def in_threads(tasks: Sequence[Callable[[], T]], watch: Watch | None = None, of: int = 0, each: int = 1) -> list[T]:
    """Answers of some tasks, in their order; ``watch`` is told ``each`` for each of them, of ``of``."""
    of = of or len(tasks)
    if len(tasks) == 1:
        out = [tasks[0]()]
        if watch is not None:
            watch(of, of)
        return out
    out = []
    with ThreadPoolExecutor(max(1, os.cpu_count() or 1)) as pool:
        futures = [pool.submit(task) for task in tasks]
        try:
            for done, future in enumerate(futures, 1):
                out.append(future.result())
                if watch is not None:
                    watch(min(done * each, of), of)
        except BaseException:
            for future in futures:
                future.cancel()
            raise
    return out


def is_nonempty(geometry: np.ndarray) -> np.ndarray:
    """Which of these are neither null nor empty."""
    return np.asarray(~(shapely.is_missing(geometry) | shapely.is_empty(geometry)))


def runs(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Where runs of equal values begin and end."""
    if not len(values):
        return np.empty(0, np.int64), np.empty(0, np.int64)
    begins = np.flatnonzero(np.r_[True, values[1:] != values[:-1]])
    return begins, np.r_[begins[1:], len(values)]
