"""Start and stop the practice server: in this process on a thread of its own, or until somebody stops it."""

from __future__ import annotations

import socket
import threading
import time
from pathlib import Path
from types import TracebackType

import uvicorn

from eskret.practice_server.app import Service
from eskret.practice_server.faults import Faults
from eskret.practice_server.storage import Storage

HOST = "127.0.0.1"
PORT = 8731


class PracticeServer:
    """One server on loopback, with its datasets in a folder.

    Parameters
    ----------
    data : the folder; it is made where it is missing.
    port : 0 for any that is free.
    token, private, faults : as ``Service`` has them.

    Raises
    ------
    OSError : the port is taken, or the folder cannot be used.
    """

    def __init__(self, data: Path, port: int = 0, token: str = "", private: bool = False, faults: Faults | None = None) -> None:
        # the protocol is named, since only then answers are sent without waiting for more (TCP_NODELAY)
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            self._socket.bind((HOST, port))
            self._storage = Storage(data / "published.sqlite")
        except BaseException:
            self._socket.close()
            raise
        self.address = f"http://{HOST}:{self._socket.getsockname()[1]}"
        self._service = Service(self._storage, token, private, faults)
        config = uvicorn.Config(self._service.faulty, log_level="critical", lifespan="off", timeout_graceful_shutdown=2)
        self._server = uvicorn.Server(config)
        self._thread: threading.Thread | None = None

    def set_faults(self, faults: Faults) -> None:
        """Have these faults from the next request on."""
        self._service.faulty.set(faults)

    @property
    def requests(self) -> int:
        """How many requests came since faults were last set."""
        return self._service.faulty.count

    def serve(self) -> None:
        """Serve until the process is told to end."""
        try:
            self._server.run(sockets=[self._socket])
        finally:
            self._storage.close()

    def __enter__(self) -> PracticeServer:
        self._thread = threading.Thread(target=self._server.run, kwargs={"sockets": [self._socket]}, daemon=True)
        self._thread.start()
        while not self._server.started:
            if not self._thread.is_alive():
                raise OSError("the practice server could not be started")
            time.sleep(0.01)
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self._server.should_exit = True
        if self._thread is not None:
            self._thread.join(10)
        self._socket.close()
        self._storage.close()
