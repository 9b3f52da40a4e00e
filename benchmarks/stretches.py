"""How long the window's thread is at work at a stretch, in processor time: what it does between two looks at what comes in.

Processor time of that thread alone, since machines are noisy and other threads and processes are none of its business.
"""

from __future__ import annotations

import sys
import threading
import time
import traceback
from collections.abc import Generator
from contextlib import contextmanager
from dataclasses import dataclass, field
from types import FrameType

from PySide6.QtCore import QAbstractEventDispatcher, Qt, QTimer

EVERY = 0.005
"""Seconds between two looks at what the thread is doing."""
TICK = 0.02


@dataclass
class Watched:
    """The longest stretch (seconds of processor time), and where the thread was seen in it, the deepest places last."""

    longest: float = 0.0
    wait: float = 0.0
    """The longest time (seconds on the clock) that something due at once had to wait: for that thread, or for the interpreter."""
    seen: list[str] = field(default_factory=list)
    long: list[float] = field(default_factory=list)


@contextmanager
def watched(above: float = 0.05) -> Generator[Watched]:
    """Watch the window's thread, which must be the one that calls, while the block runs.

    Parameters
    ----------
    above : stretches longer than this (seconds) are listed.
    """
    dispatcher = QAbstractEventDispatcher.instance()
    out, me = Watched(), threading.get_ident()
    began = [time.thread_time()]
    stretch: list[str] = []
    done = threading.Event()

    def end() -> None:
        took = time.thread_time() - began[0]
        if took > out.longest:
            out.longest, out.seen = took, list(stretch)
        if took > above:
            out.long.append(took)
        began[0] = time.thread_time()
        stretch.clear()

    ticked = [time.perf_counter()]

    def tick() -> None:
        now = time.perf_counter()
        out.wait = max(out.wait, now - ticked[0] - TICK)
        ticked[0] = now

    def look() -> None:
        while not done.wait(EVERY):
            frame: FrameType | None = sys._current_frames().get(me)
            if frame is not None:
                stretch.append(" < ".join(f"{f.name}:{f.lineno}" for f in reversed(traceback.extract_stack(frame)[-9:])))

    # not every turn comes to where it would wait: each begins another stretch
    dispatcher.awake.connect(end)
    dispatcher.aboutToBlock.connect(end)
    looker = threading.Thread(target=look, daemon=True)
    looker.start()
    ticker = QTimer(interval=round(TICK * 1000), timerType=Qt.TimerType.PreciseTimer)
    ticker.timeout.connect(tick)
    ticker.start()
    end()
    out.longest = 0.0
    try:
        yield out
    finally:
        end()
        ticker.stop()
        done.set()
        looker.join()
        dispatcher.awake.disconnect(end)
        dispatcher.aboutToBlock.disconnect(end)
