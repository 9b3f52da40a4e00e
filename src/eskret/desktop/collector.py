"""Objects of Qt are freed on the window's thread alone.

Python's collector of cycles runs in whichever thread happens to allocate at the moment, and takes apart whatever it finds; an
object of a window that is destroyed in another thread takes the process along. So while there is a window the collector is
not left to itself: a timer of the window's thread runs it, when as much has been allocated as would have set it off.
"""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer

_EVERY = 300  # milliseconds
_FREQUENT, _RARE = 2_000, (12, 12)
"""Objects made since the last time after which the youngest are gone through; and how many such times come before the next
older ones are, as the collector's own thresholds have it."""


class _Collector(QObject):
    def __init__(self) -> None:
        super().__init__()
        self._timer = QTimer(self, interval=_EVERY)
        self._timer.timeout.connect(self.look)
        self._windows = 0
        self._young, self._middle = 0, 0

    def begin(self) -> None:
        self._windows += 1
        if self._windows == 1:
            gc.disable()
            self._timer.start()

    def end(self) -> None:
        if self._windows == 0:
            return
        self._windows -= 1
        if self._windows == 0:
            self._timer.stop()
            gc.collect()  # what is left of the window goes here and now
            gc.enable()

    def look(self) -> None:
        if gc.get_count()[0] < _FREQUENT:
            return
        self._young += 1
        generation = 0
        if self._young > _RARE[0]:
            self._young, generation = 0, 1
            self._middle += 1
            if self._middle > _RARE[1]:
                self._middle, generation = 0, 2
        gc.collect(generation)


_one: list[_Collector] = []


def window_begins() -> None:
    """A window is there: from now on the collector runs on this thread, its own."""
    if not _one:
        _one.append(_Collector())
    _one[0].begin()


def window_ends() -> None:
    """A window is closed and everything in it ended."""
    if _one:
        _one[0].end()
