"""Keep a worker process, send it jobs, hear its events; start another when it dies."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import threading
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Any

from eskret.process.forked import ForkedProcess, ForkServer

_SERVER = ForkServer()

GRACE = 1.5
"""Seconds between asking a job to stop and ending the process it runs in."""


class Worker:
    """One worker process.

    Parameters
    ----------
    on_event : called with every event, from a thread of this object's. A job's last event is of kind ``done``,
        ``error`` or ``crashed``.
    """

    def __init__(self, on_event: Callable[[Mapping[str, object]], None]) -> None:
        self._on_event = on_event
        self._process: ForkedProcess | None = None
        self._lock = threading.Lock()
        self._open: dict[int, tuple[str, ForkedProcess]] = {}
        """Jobs without an answer: what they are, and the process that has them. A job is lost with its process alone."""
        self._ended: set[int] = set()
        self._number = 0
        self._closing = False
        self._listeners: list[threading.Thread] = []

    def warm(self) -> None:
        """Start the process before it is needed."""
        with self._lock:
            if not self._closing:
                self._running()

    def send(self, do: str, **request: Any) -> int:
        """Give it a job; returns the job's number."""
        with self._lock:
            self._number += 1
            job = self._number
            if self._closing:
                return job  # nobody is there any more to hear an answer
            process = self._running()
            self._open[job] = (do, process)
            try:
                self._write(process, {"job": job, "do": do, **request})
            except (BrokenPipeError, ValueError):
                # it died this instant, before it had the job: a fresh process gets it
                self._process = None
                process = self._running()
                self._open[job] = (do, process)
                self._write(process, {"job": job, "do": do, **request})
        return job

    def stop(self, job: int, *, insist: bool = True) -> None:
        """Ask a job to stop; end the process if it does not within the grace.

        Parameters
        ----------
        insist : where False, asking is all: other jobs of the process matter more.
        """
        with self._lock:
            if job not in self._open:
                return
            process = self._open[job][1]
            try:
                self._write(process, {"job": job, "do": "stop"})
            except (BrokenPipeError, ValueError):
                return
        if not insist:
            return
        timer = threading.Timer(GRACE, self._end_if_open, (job, process))
        timer.daemon = True
        timer.start()

    def leave(self, job: int, grace: float) -> None:
        """Stop a job that nobody waits for any more, together with its process, so many seconds later at the latest; what is sent from
        now on has a fresh one."""
        with self._lock:
            if job not in self._open:
                return
            process = self._open[job][1]
            if self._process is process:
                self._process = None
            self._ended |= {n for n, (_, of) in self._open.items() if of is process}
            with suppress(BrokenPipeError, ValueError):
                self._write(process, {"job": job, "do": "stop"})
        timer = threading.Timer(grace, process.kill)
        timer.daemon = True
        timer.start()

    def close(self) -> None:
        """End the process for good."""
        with self._lock:
            self._closing = True
            process = self._process
            self._process = None
            self._open.clear()
        if process is not None:
            process.stdin.close()
            try:
                process.wait(timeout=0.3)
            except subprocess.TimeoutExpired:
                process.kill()
                if process.is_there:
                    process.wait()
        # whoever listened may be an object of a window: no thread holds it any longer than this
        self._on_event = _nobody
        for listener in self._listeners:
            # one that is not there yet ends when it comes; a window that is closed does not wait for that
            if listener is not threading.current_thread() and (process is None or process.is_there):
                listener.join(2.0)

    @property
    def pid(self) -> int | None:
        return self._process.pid if self._process is not None else None

    def _end_if_open(self, job: int, process: ForkedProcess) -> None:
        with self._lock:
            if job not in self._open:
                return
            self._ended.add(job)
        process.kill()

    @staticmethod
    def _write(process: ForkedProcess, request: Mapping[str, object]) -> None:
        process.stdin.write(json.dumps(request, default=str) + "\n")
        process.stdin.flush()

    def _running(self) -> ForkedProcess:
        if self._process is None or self._process.poll() is not None:
            self._process = _SERVER.fork(os.environ)
            listener = threading.Thread(target=self._listen, args=(self._process,), daemon=True)
            self._listeners = [t for t in self._listeners if t.is_alive()] + [listener]
            listener.start()
        return self._process

    def _listen(self, process: ForkedProcess) -> None:
        with process.stdout as lines:
            for line in lines:
                try:
                    event = json.loads(line)
                except ValueError:
                    continue
                if event["event"] in ("done", "error"):
                    with self._lock:
                        if self._open.get(event["job"], ("", None))[1] is not process:
                            continue  # nobody waits for it any more
                        del self._open[event["job"]]
                if not self._closing:  # nobody is there any more to hear it
                    self._on_event(event)
        code = process.wait()
        with suppress(OSError):
            process.stdin.close()
        with self._lock:
            if self._process is process:
                self._process = None
            mine = {job: do for job, (do, of) in self._open.items() if of is process}
            for job in mine:
                del self._open[job]
            lost = {} if self._closing else mine
            ended = self._ended & set(mine)
            self._ended -= ended
        for job, do in lost.items():
            if job in ended:
                told = {"event": "error", "stopped": True, "text": "Stopped; nothing was written."}
            else:
                told = {"event": "crashed", "text": _how(code)}
            self._on_event({"job": job, "do": do, **told})


def _nobody(event: Mapping[str, object]) -> None:
    """Hears what comes after the end."""


def _how(code: int) -> str:
    """How a process ended, in words."""
    if code == -signal.SIGKILL:
        why = "was ended from outside, perhaps for want of memory"
    elif code < 0:
        why = f"crashed ({signal.Signals(-code).name})"
    else:
        why = f"ended with code {code}"
    return (
        f"The process that computes {why}. Outputs are as they were before, or, if it was just putting them in place, completed "
        "now; the window and your workflow are unharmed."
    )
