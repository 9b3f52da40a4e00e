"""Figures that are made anew after every edit: what the steps make, in a process of its own; nothing is delivered by it. No widgets."""

from __future__ import annotations

import shutil
import threading
import time
from collections.abc import Callable, Collection, Mapping
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from eskret.process.client import Worker

LONGEST = 5.0
"""Seconds that a step may take unasked; one that takes longer waits to be asked for."""
_LOOK = 200
"""Milliseconds between looks at how long steps are at work."""
_GRACE = 0.3
"""Seconds that what is no longer wanted has to stop by itself."""


Below = Callable[[Collection[str]], set[str]]


def _take_away(folders: Collection[Path]) -> None:
    for folder in folders:
        shutil.rmtree(folder, ignore_errors=True)


class CurrentFigures(QObject):
    """Has the steps done whose figures are not there, one edit after another; what an edit overtakes is ended.

    Parameters
    ----------
    store : the folder for what the steps make.
    """

    made = Signal(dict)  # a step's result, as a run tells it
    changed = Signal()  # which steps are being made, which wait

    def __init__(self, store: Path, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._store = store
        self._job: int | None = None
        self._number = 0
        self._there: set[Path] = set()
        """Folders of what was made and not taken away yet."""
        self._slow: set[str] = set()
        """Steps that took too long; they wait until somebody asks."""
        self._begun: dict[str, float] = {}
        """When steps began that are at work."""
        self._last: tuple[Mapping[str, Any], set[str], Collection[str], Below] = ({}, set(), (), set)
        self.making: set[str] = set()
        """Steps whose figures are being made."""
        self.waiting: set[str] = set()
        """Steps that are only made when somebody asks, since they take long."""
        self._take_event.connect(self._take)
        self._worker = Worker(self._take_event.emit)
        self._limit = QTimer(self, interval=_LOOK)
        self._limit.timeout.connect(self._look)

    _take_event = Signal(object)

    def warm(self) -> None:
        """Start the process before it is needed."""
        self._worker.warm()

    def close(self) -> None:
        """End the process."""
        self._limit.stop()
        self._job = None
        self._worker.close()

    @property
    def working(self) -> bool:
        """Whether figures are being made."""
        return self._job is not None

    def make(self, request: Mapping[str, Any], todo: Collection[str], wrong: Collection[str], below: Below, asked: bool = False) -> None:
        """Have some steps done, and what they need.

        Parameters
        ----------
        request : the workflow, as a run is asked for.
        todo : the steps whose figures are not there.
        wrong : steps that the rehearsal found wrong.
        below : says which steps take from some, these among them.
        asked : somebody asked: steps may take as long as they take.
        """
        if asked:
            self._slow.clear()
        self._slow &= set(todo)
        left = {*wrong, *self._slow}
        making, waiting = set(todo) - below(left), below(self._slow) & set(todo)
        self._end()
        if making:
            self._last = request, set(todo), wrong, below
            self._number += 1
            store = self._store / f"current-{self._number}"
            self._there.add(store)
            self._job = self._worker.send("figures", store=str(store), wrong=sorted(left), **request)
            if not asked:
                self._limit.start()
        self._say(making, waiting)

    def try_again(self, changed: Collection[str]) -> None:
        """Steps that were changed need not take as long as before."""
        self._slow -= set(changed)

    def drop(self) -> None:
        """Have nothing made any more."""
        self._end()
        self._say(set(), set())

    def _end(self) -> None:
        self._limit.stop()
        self._begun.clear()
        if self._job is not None:
            self._worker.leave(self._job, _GRACE)
            self._job = None

    def _say(self, making: set[str], waiting: set[str]) -> None:
        if (making, waiting) != (self.making, self.waiting):
            self.making, self.waiting = making, waiting
            self.changed.emit()

    def tidy(self, shown: Collection[Path]) -> None:
        """Take away what was made and is shown nowhere any more, beside the window's thread: it may be many files.

        Parameters
        ----------
        shown : folders of layers that are on screen, or may be.
        """
        gone = self._there - {folder for place in shown for folder in place.parents}
        self._there -= gone
        if gone:
            threading.Thread(target=_take_away, args=(gone,), daemon=True).start()

    def _take(self, event: Mapping[str, Any]) -> None:
        if event["job"] != self._job:
            return
        kind = event["event"]
        if kind == "step_started":
            self._begun[str(event["step"])] = time.monotonic()
        elif kind == "step_finished":
            self._begun.pop(str(event["id"]), None)
            self.making.discard(str(event["id"]))
            self._last[1].discard(str(event["id"]))
            self.made.emit(dict(event))
            self.changed.emit()
        elif kind in ("done", "error", "crashed"):
            self._limit.stop()
            self._job = None
            self.making = set()
            self.changed.emit()

    def _look(self) -> None:
        """Steps that take too long wait, with those that take from them; the others are done."""
        slow = {id for id, begun in self._begun.items() if time.monotonic() - begun > LONGEST}
        if slow:
            self._slow |= slow
            self.make(*self._last)
