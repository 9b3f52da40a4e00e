"""A file that is written and its digest taken at the same time, on another core."""

from __future__ import annotations

import hashlib
import threading
from pathlib import Path
from queue import SimpleQueue
from types import TracebackType

_PIECE = 1 << 20


class DigestingFile:
    """Opened for writing; ``sha256`` is known once it is closed."""

    def __init__(self, path: Path) -> None:
        self._out = path.open("wb", buffering=0)
        self._waiting = bytearray()
        self._pieces: SimpleQueue[bytes | None] = SimpleQueue()
        self._digest = hashlib.sha256()
        self._thread = threading.Thread(target=self._take, daemon=True)
        self._thread.start()
        self.sha256 = ""

    def write(self, data: bytes) -> None:
        """Write some bytes."""
        self._waiting += data
        if len(self._waiting) >= _PIECE:
            self._send()

    def _send(self) -> None:
        piece = bytes(self._waiting)
        self._waiting.clear()
        self._pieces.put(piece)
        self._out.write(piece)

    def _take(self) -> None:
        while (piece := self._pieces.get()) is not None:
            self._digest.update(piece)

    def __enter__(self) -> DigestingFile:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        try:
            if kind is None:
                self._send()
        finally:
            self._pieces.put(None)
            self._thread.join()
            self._out.close()
        self.sha256 = self._digest.hexdigest()
