"""Work beside the window's thread, its answer handed back in the window's thread."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

_A_LITTLE = 1_000  # milliseconds


class Background(QObject):
    """One thread. What is asked is done one after the other; after ``close`` nothing is handed back."""

    _done = Signal(int, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = ThreadPoolExecutor(1, thread_name_prefix="eskret-window")
        self._closed = False
        self._number = 0
        # whoever is to be told may be a widget: the thread knows only a number, so that it never is the last to hold one
        self._takes: dict[int, tuple[Callable[[], object], Callable[[object], None]]] = {}
        # what was asked is held a little longer than its thread can, and no longer: it may be layers with their files open
        self._lately: list[object] = []
        self._drop = QTimer(self, singleShot=True, interval=_A_LITTLE)
        self._drop.timeout.connect(self._let_go)
        self._done.connect(self._hand_back)

    def run(self, work: Callable[[], object], take: Callable[[Any], None]) -> None:
        """Do ``work`` in the thread, then call ``take`` with its answer in this one. What it raises is raised here."""
        if not self._closed:
            self._number += 1
            number = self._number
            self._takes[number] = (work, take)
            self._pool.submit(work).add_done_callback(partial(self._tell, number))

    def _tell(self, number: int, future: Future[object]) -> None:
        if not self._closed and not future.cancelled():
            self._done.emit(number, future)

    def _hand_back(self, number: int, future: Future[object]) -> None:
        asked = self._takes.pop(number, None)
        self._lately.append((asked, future))
        if not self._drop.isActive():
            self._drop.start()
        if not self._closed and asked is not None:
            asked[1](future.result())

    def _let_go(self) -> None:
        # what came in this very moment may still be in its thread's hands
        self._lately = self._lately[-1:] if len(self._lately) > 1 else []
        if self._lately:
            self._drop.start()

    def close(self) -> None:
        """Wait for what is being done, and drop the rest."""
        self._closed = True
        self._pool.shutdown(wait=True, cancel_futures=True)
        self._takes.clear()
        self._lately.clear()
