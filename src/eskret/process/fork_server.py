"""Workers that are there at once: a process that has everything loaded is copied, instead of loading it all again.

Starting Python and what Eskret stands on takes a second of a processor; a copy takes hundredths of one. The process that
is copied has one thread, opens no file and works for nobody: it loads, and waits at a socket. Its copies get the
environment and the folder of whoever asks, and its pipes; they end when their input does. It ends when the process that
started it does.
"""

from __future__ import annotations

import array
import ctypes
import gc
import json
import os
import select
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Mapping
from contextlib import suppress
from typing import TextIO

import numpy as np

from eskret.formats import gdal

_LENGTH = 4
_PR_SET_PDEATHSIG = 1  # of Linux: prctl(2)
_PATIENCE = 3.0
_PASSED = 3  # input, output, and where it is told of


class ForkedProcess:
    """A worker that was forked, with as much of ``subprocess.Popen`` as is needed. It can be written to before it is there."""

    def __init__(self, stdin: TextIO, stdout: TextIO, told: int) -> None:
        self.stdin, self.stdout = stdin, stdout
        self.returncode: int | None = None
        self._told, self._lock = told, threading.Lock()
        """Where a line with its number comes when it is there, and one with its exit code when it has ended."""
        self._lines = b""
        self._itself = -1
        os.set_blocking(told, False)

    def __del__(self) -> None:
        # not before: another thread may be waiting at them
        for number in (self._told, self._itself):
            if number >= 0:
                os.close(number)

    @property
    def pid(self) -> int:
        """Its number; waits until it is there. 0 where it never came to be."""
        while not self._number() and self.returncode is None:
            self._hear(None)
        return self._number()

    def _number(self) -> int:
        return int(self._lines.split(b"\n")[0]) if b"\n" in self._lines else 0

    def _hear(self, timeout: float | None) -> bool:
        """Take in what is told of it; whether anything was in time (seconds)."""
        if not _readable([self._told], timeout):
            return False
        with self._lock:
            if self.returncode is not None:
                return True
            try:
                some = os.read(self._told, 64)
            except BlockingIOError:
                return True  # another thread had it
            self._lines += some
            if self._itself < 0 and self._number():
                with suppress(OSError):  # it is over already, or this system has no such thing
                    self._itself = os.pidfd_open(self._number())  # stays this process, also when its number is another's
            lines = self._lines.split(b"\n")
            if len(lines) > 2:
                self.returncode = int(lines[1])
            elif not some:
                # nobody is left to tell: the process that was copied is gone, and its copies were ended with it
                self.returncode = -signal.SIGKILL
        return True

    def poll(self) -> int | None:
        """The exit code, minus the signal where one ended it; None while it lives."""
        while self.returncode is None and self._hear(0):
            pass
        return self.returncode

    def wait(self, timeout: float | None = None) -> int:
        """Wait for its end.

        Raises
        ------
        subprocess.TimeoutExpired : it lives still.
        """
        by = None if timeout is None else time.monotonic() + timeout
        while self.returncode is None:
            if not self._hear(None if by is None else max(by - time.monotonic(), 0.0)):
                raise subprocess.TimeoutExpired("worker", timeout or 0.0)
        return self.returncode

    def kill(self) -> None:
        """End it now."""
        if self.pid and self.poll() is None:
            with suppress(ProcessLookupError):
                if self._itself >= 0:
                    signal.pidfd_send_signal(self._itself, signal.SIGKILL)
                else:
                    os.kill(self.pid, signal.SIGKILL)


class ForkServer:
    """The process that is copied, as seen by the one that started it; started when it is first needed, and again if it died."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._process: subprocess.Popen[bytes] | None = None
        self._socket: socket.socket | None = None

    def fork(self, environment: Mapping[str, str]) -> ForkedProcess:
        """A fresh worker, at once: whoever asks waits for nothing.

        Raises
        ------
        OSError : no process can be started.
        """
        with self._lock:
            try:
                return self._fork(environment)
            except OSError:
                self._stop()  # it died: another one is asked
                return self._fork(environment)

    def _fork(self, environment: Mapping[str, str]) -> ForkedProcess:
        asked = self._started()
        ends = [os.pipe() for _ in range(_PASSED)]  # what is asked goes in, what is answered and what is told of it come out
        (in_read, in_write), (out_read, out_write), (end_read, end_write) = ends
        theirs = [in_read, out_write, end_write]
        mine = [in_write, out_read, end_read]
        try:
            told = json.dumps({"environment": dict(environment), "folder": os.getcwd()}).encode()
            asked.sendall(len(told).to_bytes(_LENGTH, "little"))
            asked.sendmsg([b"\0"], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", theirs))])
            asked.sendall(told)
        except OSError:
            for number in mine:
                os.close(number)
            raise
        finally:
            for number in theirs:
                os.close(number)
        return ForkedProcess(open(in_write, "w", encoding="utf-8"), open(out_read, encoding="utf-8"), end_read)

    def _started(self) -> socket.socket:
        if self._socket is not None and self._process is not None and self._process.poll() is None:
            return self._socket
        self._stop()
        mine, theirs = socket.socketpair()
        with theirs:
            command = [sys.executable, "-P", "-m", "eskret.process.fork_server", str(theirs.fileno())]
            self._process = subprocess.Popen(command, pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL)
        self._socket = mine
        return mine

    def _stop(self) -> None:
        if self._socket is not None:
            self._socket.close()
        if self._process is not None:
            self._process.kill()
            self._process.wait()
        self._socket = self._process = None


def _readable(numbers: list[int], timeout: float | None = None) -> set[int]:
    """Which of these have something to be read, or are at their end; none where nothing came in time (seconds)."""
    asked = select.poll()  # numbers may be higher than the other call takes
    for number in numbers:
        asked.register(number, select.POLLIN)
    return {number for number, _ in asked.poll(None if timeout is None else timeout * 1000)}


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


# -- in the process that is copied


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
            ready = _readable([self._asked.fileno(), self._woken])
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
        length = int.from_bytes(_whole(self._asked, _LENGTH), "little")
        _, passed, _, _ = socket.recv_fds(self._asked, 1, _PASSED)
        told = json.loads(_whole(self._asked, length))
        pid = os.fork()
        if not pid:
            try:
                self._become_worker(passed, told)
            finally:
                os._exit(1)
        stdin, stdout, end = passed
        os.close(stdin)
        os.close(stdout)
        self._ends[pid] = end
        self._tell(end, pid)

    def _become_worker(self, passed: list[int], told: Mapping[str, object]) -> None:
        from eskret.process import worker

        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)  # whoever waits for it hears of its end from here
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
