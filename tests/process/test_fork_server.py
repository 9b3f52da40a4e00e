"""Workers that are copied: each has its own pipes, environment and folder, its end is told, and none outlives who asked."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Generator
from pathlib import Path
from typing import Any

import pytest

from eskret.process import client
from eskret.process.client import Worker
from eskret.process.fork_server import _Copied
from eskret.process.forked import ForkedProcess, ForkServer

LONG = 20.0


@pytest.fixture
def server() -> Generator[ForkServer, None, None]:
    made = ForkServer()
    yield made
    made._stop()


def ask(worker: ForkedProcess, do: str, **arguments: Any) -> dict[str, Any]:
    """The last event of a job."""
    worker.stdin.write(json.dumps({"job": 1, "do": do, **arguments}) + "\n")
    worker.stdin.flush()
    for line in worker.stdout:
        event = json.loads(line)
        if event["event"] in ("done", "error"):
            return event
    raise AssertionError("it ended without an answer")


def is_there(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def until(condition: Callable[[], bool]) -> None:
    by = time.monotonic() + LONG
    while not condition():
        assert time.monotonic() < by
        time.sleep(0.01)


def close(*workers: ForkedProcess) -> None:
    for worker in workers:
        worker.stdin.close()
        worker.wait(LONG)
        worker.stdout.close()


def test_what_is_copied_has_one_thread(server: ForkServer) -> None:
    worker = server.fork(dict(os.environ))
    copied = Path(f"/proc/{worker.pid}/stat").read_text().rpartition(")")[2].split()[1]
    names = [(task / "comm").read_text().strip() for task in Path(f"/proc/{copied}/task").iterdir()]
    close(worker)
    assert len(names) == 1, names


def test_each_has_the_environment_and_the_folder_of_who_asks(server: ForkServer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("one", "two"):
        folder = tmp_path / name
        folder.mkdir()
        monkeypatch.chdir(folder)
        worker = server.fork({"PATH": os.environ["PATH"], "XDG_STATE_HOME": str(folder)})
        assert ask(worker, "nothing of the kind")["event"] == "error"
        assert Path(f"/proc/{worker.pid}/cwd").resolve() == folder
        assert (folder / "eskret" / "eskret.log").exists()  # where that environment has the log
        close(worker)


def test_an_end_is_told_however_it_came(server: ForkServer) -> None:
    worker, killed, other = (server.fork(os.environ) for _ in range(3))
    assert len({worker.pid, killed.pid, other.pid, os.getpid()}) == 4
    assert worker.poll() is None
    with pytest.raises(subprocess.TimeoutExpired):
        worker.wait(0.05)
    worker.stdin.close()  # though the others were copied after it, nobody else holds its input open
    assert worker.wait(LONG) == 0 and worker.poll() == 0
    killed.kill()
    assert killed.wait(LONG) == -signal.SIGKILL
    killed.kill()  # once more does nothing to whoever has its number now
    os.kill(other.pid, signal.SIGSEGV)
    assert other.wait(LONG) == -signal.SIGSEGV
    killed.stdin.close()
    other.stdin.close()
    for one in (worker, killed, other):
        one.stdout.close()


def test_where_the_copied_process_dies_another_takes_its_place(server: ForkServer) -> None:
    worker = server.fork(os.environ)
    assert server._process is not None
    os.kill(server._process.pid, signal.SIGKILL)
    assert worker.wait(LONG) == -signal.SIGKILL  # whoever waited hears of it,
    until(lambda: not is_there(worker.pid))  # and it is true
    following = server.fork(os.environ)
    assert following.poll() is None
    close(following)
    worker.stdin.close()
    worker.stdout.close()


def test_nothing_is_left_when_who_asked_is_gone(tmp_path: Path) -> None:
    asker = "\n".join(
        [
            "import os, time",
            "from eskret.process.forked import ForkServer",
            "server = ForkServer()",
            "workers = [server.fork(os.environ) for _ in range(2)]",
            "print(server._process.pid, *[w.pid for w in workers], flush=True)",
            "time.sleep(60)",
        ]
    )
    process = subprocess.Popen([sys.executable, "-c", asker], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    pids = [int(p) for p in process.stdout.readline().split()]
    assert len(pids) == 3 and all(map(is_there, pids))
    process.kill()
    process.wait()
    process.stdout.close()
    until(lambda: not any(map(is_there, pids)))


def test_of_a_closed_worker_nothing_is_started_any_more() -> None:
    """A timer of a window that is gone may still ask for one."""
    heard: list[object] = []
    worker = Worker(heard.append)
    worker.warm()
    process = worker._process
    assert process is not None and worker.pid == process.pid
    worker.close()
    assert process.poll() is not None
    worker.warm()
    assert worker.send("rehearse", text="") > 0 and worker.pid is None and heard == []


def test_a_worker_can_be_written_to_before_it_is_there(server: ForkServer, tmp_path: Path) -> None:
    """Whoever asks, such as a window's thread, does not wait until everything is loaded."""
    begun = time.perf_counter()
    worker = server.fork(os.environ)
    worker.stdin.write(json.dumps({"job": 1, "do": "nothing of the kind"}) + "\n")
    worker.stdin.flush()
    asked = time.perf_counter() - begun
    line = worker.stdout.readline()
    answered = time.perf_counter() - begun
    assert json.loads(line)["event"] == "error" and asked < answered / 3
    close(worker)


def test_it_is_ended_too_where_the_system_cannot_hold_on_to_a_process(server: ForkServer, monkeypatch: pytest.MonkeyPatch) -> None:
    def refused(pid: int) -> int:
        raise PermissionError(1, "not here")

    monkeypatch.setattr(os, "pidfd_open", refused)
    worker = server.fork(os.environ)
    assert worker.pid and worker.poll() is None
    worker.kill()
    assert worker.wait(LONG) == -signal.SIGKILL
    worker.stdin.close()
    worker.stdout.close()


def test_where_there_is_no_room_for_another_the_others_work_on(server: ForkServer, monkeypatch: pytest.MonkeyPatch) -> None:
    def refused(*_: object) -> tuple[int, int]:
        raise OSError(24, "no room")

    worker = server.fork(os.environ)
    with monkeypatch.context() as nothing_left:
        nothing_left.setattr(os, "pipe", refused)
        with pytest.raises(OSError, match="no room"):
            server.fork(os.environ)
    assert worker.pid and worker.poll() is None and ask(worker, "nothing of the kind")["event"] == "error"
    close(worker)
    # the process that is copied cannot make one: it is told of as gone, and the next is asked for as ever
    mine, theirs = socket.socketpair()
    monkeypatch.setattr(server, "_started", lambda: mine)
    asked = server.fork(os.environ)
    with monkeypatch.context() as nothing_left:
        nothing_left.setattr(os, "fork", refused)
        _Copied(theirs)._fork()
    assert asked.wait(LONG) == -signal.SIGKILL and asked.pid == 0 and not asked.is_there
    asked.stdin.close()
    asked.stdout.close()
    mine.close()
    theirs.close()


def test_whoever_closes_a_worker_does_not_wait_until_it_is_there(server: ForkServer, monkeypatch: pytest.MonkeyPatch) -> None:
    """A window that is opened and closed at once: its workers end when they come."""
    monkeypatch.setattr(client, "_SERVER", server)
    worker = Worker(lambda event: None)
    worker.warm()
    process = worker._process
    assert process is not None and not process.is_there
    begun = time.perf_counter()
    worker.close()
    took = time.perf_counter() - begun
    whole = time.perf_counter()
    assert process.wait(LONG) == 0
    assert took < 0.6, (took, time.perf_counter() - whole)
