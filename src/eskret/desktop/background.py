"""Work beside the window's thread, its answer handed back in the window's thread."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

from PySide6.QtCore import QObject, Signal


class Background(QObject):
    """One thread. What is asked is done one after the other; after ``close`` nothing is handed back."""

    _done = Signal(object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="eskret-window")
        self._closed = False
        self._done.connect(self._hand_back)

    def run(self, work: Callable[[], Any], take: Callable[[Any], None]) -> None:
        """Do ``work`` in the thread, then call ``take`` with its answer in this one. What it raises is raised here."""
        if not self._closed:
            self._pool.submit(work).add_done_callback(lambda future: self._tell(take, future))

    def _tell(self, take: Callable[[Any], None], future: Future[Any]) -> None:
        if not self._closed and not future.cancelled():
            self._done.emit(take, future)

    def _hand_back(self, take: Callable[[Any], None], future: Future[Any]) -> None:
        if not self._closed:
            take(future.result())

    def close(self) -> None:
        """Wait for what is being done, and drop the rest."""
        self._closed = True
        self._pool.shutdown(wait=True, cancel_futures=True)
