"""Objects of Qt are freed on the window's thread alone.

Python's collector of cycles runs in whichever thread happens to allocate at the moment, and takes apart whatever it finds; an
object of a window that is destroyed in another thread takes the process along. So while there is a window the collector is
not left to itself: a timer of the window's thread runs it, when as much has been allocated as would have set it off.
"""

from __future__ import annotations

import gc
import time

from PySide6.QtCore import QObject, QTimer

_EVERY = 300  # milliseconds
_FREQUENT, _RARE = 2_000, 12
"""Objects made since the last time after which the youngest are gone through; how many such times come before older ones are."""
_WHOLE = 20.0
"""Seconds after which all are gone through, if anything was made meanwhile. How many objects were made says little of what they
hold: the layers of a workflow that was closed are few objects, with many megabytes and open files."""


class _Collector(QObject):
    def __init__(self) -> None:
        super().__init__()
        self._timer = QTimer(self, interval=_EVERY)
        self._timer.timeout.connect(self.look)
        self._windows = 0
        self._young, self._last = 0, 0.0

    def begin(self) -> None:
        self._windows += 1
        if self._windows == 1:
            gc.disable()
            # what was imported stays anyhow: it need not be gone through every time
            gc.freeze()
            self._last = time.monotonic()
            self._timer.start()

    def end(self) -> None:
        if self._windows == 0:
            return
        self._windows -= 1
        if self._windows == 0:
            self._timer.stop()
            gc.unfreeze()
            gc.collect()  # what is left of the window goes here and now
            gc.enable()

    def look(self) -> None:
        if gc.get_count()[0] < _FREQUENT:
            return
        self._young += 1
        if time.monotonic() - self._last > _WHOLE:
            self._young, self._last = 0, time.monotonic()
            gc.collect()
        else:
            gc.collect(1 if self._young % _RARE == 0 else 0)


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
