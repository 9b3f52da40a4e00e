"""The program's log: a rotating file in the user's state folder. Above debug it holds no values of anybody's data."""

from __future__ import annotations

import logging
import logging.handlers
import os
from contextlib import suppress
from pathlib import Path

from eskret.core.files.user_state import private, state_place

NAME = "eskret.log"
_SIZE, _OLD = 1_000_000, 3


def log_path() -> Path:
    """Where the log is."""
    return state_place(NAME)


def start_log(who: str, level: int = logging.INFO) -> None:
    """Write the log from now on; where that cannot be, the program goes on without.

    Parameters
    ----------
    who : which of the program's processes this is.
    """
    with suppress(OSError):
        private(state_place())
        handler = _PrivateFile(log_path(), maxBytes=_SIZE, backupCount=_OLD, encoding="utf-8", delay=True)
        handler.setFormatter(logging.Formatter(f"%(asctime)s {who} {os.getpid()} %(levelname)s %(name)s: %(message)s", "%Y-%m-%d %H:%M:%S"))
        root = logging.getLogger("eskret")
        for old in [h for h in root.handlers if isinstance(h, _PrivateFile)]:
            root.removeHandler(old)
            old.close()
        root.addHandler(handler)
        root.setLevel(level)
        root.propagate = False


class _PrivateFile(logging.handlers.RotatingFileHandler):
    """A file that only its owner can read; another process may have rotated it meanwhile."""

    def _open(self):  # type: ignore[no-untyped-def]
        number = os.open(self.baseFilename, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o600)
        return os.fdopen(number, "a", encoding=self.encoding)

    def handleError(self, record: logging.LogRecord) -> None:
        """A log that cannot be written is no reason to say anything."""
