"""Whether any program has a file open, as far as the system tells."""

from __future__ import annotations

import fcntl
import os
import signal
from pathlib import Path

_SET_SIGNAL = 10  # F_SETSIG of Linux, which the fcntl module does not name


def is_open_elsewhere(path: Path) -> bool:
    """Whether a file is open anywhere, this process included; True also where the system does not tell.

    Linux gives a write lease only on a file that nobody has open (fcntl(2), "Leases"), to its owner and on file systems that
    know leases. It is let go of at once: the question is asked, nothing is held.
    """
    try:
        number = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return True
    try:
        # should somebody open it within the instant, the signal that says so is one that nobody minds
        fcntl.fcntl(number, _SET_SIGNAL, signal.SIGURG)
        fcntl.fcntl(number, fcntl.F_SETLEASE, fcntl.F_WRLCK)
        fcntl.fcntl(number, fcntl.F_SETLEASE, fcntl.F_UNLCK)
    except OSError:
        return True
    finally:
        os.close(number)
    return False
