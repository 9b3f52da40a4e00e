"""Workers that are there at once: a process that has everything loaded is copied, instead of loading it all again.

Starting Python and what Eskret stands on takes a second of a processor; a copy takes hundredths of one. The process that
is copied has one thread, opens no file and works for nobody: it loads, and waits at a socket. Its copies get the
environment and the folder of whoever asks, and its pipes; they end when their input does. It ends when the process that
started it does.
"""

from __future__ import annotations

import ctypes
import gc
import json
import os
import signal
import socket
import sys
import time
from collections.abc import Mapping
from contextlib import suppress

import numpy as np

from eskret.formats import gdal
from eskret.process.forked import LENGTH, PASSED, readable

_PR_SET_PDEATHSIG = 1  # of Linux: prctl(2)
_PATIENCE = 3.0


def _whole(of: socket.socket, length: int) -> bytes:
    """So many bytes.

    Raises
    ------
    EOFError : the other side is gone.
    """
    out = b""
    while len(out) < length:
        some = of.recv(length - len(out))
        if not some:
            raise EOFError
        out += some
    return out


class _Copied:
    """Takes requests at a socket, forks, and tells the ends."""

    def __init__(self, asked: socket.socket) -> None:
        self._asked = asked
        self._ends: dict[int, int] = {}
        self._woken, self._wakes = os.pipe()
        for number in (self._woken, self._wakes):
            os.set_blocking(number, False)

    def serve(self) -> None:
        """Serve until whoever asks is gone."""
        signal.set_wakeup_fd(self._wakes, warn_on_full_buffer=False)
        signal.signal(signal.SIGCHLD, lambda *_: None)
        signal.signal(signal.SIGINT, signal.SIG_IGN)  # of a terminal's process group: the one who asks decides
        while True:
            ready = readable([self._asked.fileno(), self._woken])
            if self._woken in ready:
                with suppress(BlockingIOError):
                    os.read(self._woken, 512)
                self._tell_ends()
            if self._asked.fileno() in ready:
                try:
                    self._fork()
                except (EOFError, ConnectionError):
                    break
        # copies end when their input does; what does not is ended with this process
        by = time.monotonic() + _PATIENCE
        while self._ends and time.monotonic() < by:
            self._tell_ends()
            time.sleep(0.01)

    def _tell_ends(self) -> None:
        while self._ends:
            pid, status = os.waitpid(-1, os.WNOHANG)
            if not pid:
                break
            end = self._ends.pop(pid)
            self._tell(end, os.waitstatus_to_exitcode(status))
            os.close(end)

    @staticmethod
    def _tell(end: int, figure: int) -> None:
        with suppress(OSError):  # whoever asked may be gone
            os.write(end, f"{figure}\n".encode())

    def _fork(self) -> None:
        length = int.from_bytes(_whole(self._asked, LENGTH), "little")
        _, passed, _, _ = socket.recv_fds(self._asked, 1, PASSED)
        told = json.loads(_whole(self._asked, length))
        myself = os.getpid()
        try:
            if len(passed) < PASSED:
                raise OSError("no room for what came along")
            pid = os.fork()
        except OSError:
            # no room for another: whoever asked hears that it is gone, and the others work on
            for number in passed:
                os.close(number)
            return
        if not pid:
            try:
                self._become_worker(passed, told, myself)
            finally:
                os._exit(1)
        stdin, stdout, end = passed
        os.close(stdin)
        os.close(stdout)
        self._ends[pid] = end
        self._tell(end, pid)

    def _become_worker(self, passed: list[int], told: Mapping[str, object], copied: int) -> None:
        from eskret.process import worker

        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)  # whoever waits for it hears of its end from there
        if os.getppid() != copied:
            os._exit(1)  # it was gone before that was said
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        signal.signal(signal.SIGINT, signal.default_int_handler)
        stdin, stdout, end = passed
        os.dup2(stdin, 0)
        os.dup2(stdout, 1)
        # its own ends alone: an end that a copy held open would never be told, and an input never be over
        for number in (stdin, stdout, end, self._asked.detach(), self._woken, self._wakes, *self._ends.values()):
            os.close(number)
        environment, folder = told["environment"], told["folder"]
        assert isinstance(environment, dict) and isinstance(folder, str)
        os.environ.clear()
        os.environ.update(environment)
        os.chdir(folder)
        time.tzset()
        np.random.seed(None)  # Python's own is seeded anew by itself
        sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115
        worker.main()


def main() -> None:
    """Load what workers need, then serve at the socket whose number was given."""
    asked = socket.socket(fileno=int(sys.argv[1]))
    # what a first rehearsal and a first run load, and no more: nothing is opened, and no thread is started
    gdal.be_lean()
    gdal.library()
    import duckdb  # noqa: F401

    from eskret.operations import registry
    from eskret.process import jobs, worker  # noqa: F401

    registry.all_operations()
    os.chdir("/")  # no disk is held that somebody may want to take away
    # copies share what is loaded for as long as nobody writes to it: the collector would
    gc.collect()
    gc.freeze()
    _Copied(asked).serve()


if __name__ == "__main__":
    main()
