"""Workers as seen by whoever asks for them: forked by a process that has everything loaded, and told of by it."""

from __future__ import annotations

import array
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

LENGTH = 4
"""Bytes that say how long a request is."""
PASSED = 3
"""What goes along with a request: input, output, and where the worker is told of."""


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
        if not readable([self._told], timeout):
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

    @property
    def is_there(self) -> bool:
        """Whether it has come to be by now; nobody waits."""
        self.poll()
        return self._number() > 0

    def kill(self) -> None:
        """End it now; or, where it is not there yet, as soon as it comes: its input is over then."""
        if not self.is_there:
            with suppress(OSError):
                self.stdin.close()
        elif self.returncode is None:
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
            except ConnectionError:
                self._stop()  # it died: another one is asked
                return self._fork(environment)

    def _fork(self, environment: Mapping[str, str]) -> ForkedProcess:
        asked = self._started()
        ends = [os.pipe() for _ in range(PASSED)]  # what is asked goes in, what is answered and what is told of it come out
        (in_read, in_write), (out_read, out_write), (end_read, end_write) = ends
        theirs = [in_read, out_write, end_write]
        mine = [in_write, out_read, end_read]
        try:
            told = json.dumps({"environment": dict(environment), "folder": os.getcwd()}).encode()
            asked.sendall(len(told).to_bytes(LENGTH, "little"))
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
            environment = {**os.environ, **_ONE_THREAD}
            self._process = subprocess.Popen(command, pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL, env=environment)
        self._socket = mine
        return mine

    def _stop(self) -> None:
        if self._socket is not None:
            self._socket.close()
        if self._process is not None:
            self._process.kill()
            self._process.wait()
        self._socket = self._process = None


_ONE_THREAD = {"OPENBLAS_NUM_THREADS": "1", "JE_ARROW_MALLOC_CONF": "background_thread:false"}
"""What keeps libraries from starting threads as soon as they are loaded: of a process with several only one is copied, and what the
others held stays held."""


def readable(numbers: list[int], timeout: float | None = None) -> set[int]:
    """Which of these have something to be read, or are at their end; none where nothing came in time (seconds)."""
    asked = select.poll()  # numbers may be higher than the other call takes
    for number in numbers:
        asked.register(number, select.POLLIN)
    return {number for number, _ in asked.poll(None if timeout is None else timeout * 1000)}
