"""What nobody foresaw, as one sentence; the details go into the log."""

from __future__ import annotations

import errno
import logging
import traceback
from pathlib import Path

from eskret.core.files.log import log_path
from eskret.errors import Code, EskretError

_log = logging.getLogger("eskret.fault")
_WORDS = {
    errno.ENOSPC: ("the disk is full", Code.DISK_FULL),
    errno.EDQUOT: ("the disk is full for you", Code.DISK_FULL),
    errno.EACCES: ("access is denied", Code.READ_ONLY),
    errno.EPERM: ("access is denied", Code.READ_ONLY),
    errno.EROFS: ("the disk is read-only", Code.READ_ONLY),
    errno.ENOENT: ("it is not there", Code.NOT_THERE),
    errno.ENAMETOOLONG: ("its name is longer than a file's may be", Code.TOO_LARGE),
    errno.EMFILE: ("too many files are open", Code.MEMORY),
    errno.EIO: ("the disk fails", Code.DAMAGED),
}


def as_sentence(error: BaseException, doing: str = "", after: str = "Nothing was written") -> EskretError:
    """Any failure as one that a person can read.

    Parameters
    ----------
    doing : what was at work, such as an operation's id.
    after : what the failure leaves.
    """
    if isinstance(error, EskretError):
        return error
    if isinstance(error, MemoryError):
        return EskretError(
            "there is not enough memory", way_out="Close other programs, or work on fewer layers at a time", code=Code.MEMORY
        )
    if isinstance(error, RecursionError):
        return EskretError(
            "something in it is nested more deeply than can be followed", place=doing, way_out="Make it flatter", code=Code.TOO_LARGE
        )
    if isinstance(error, OSError) and error.errno is not None:
        words, code = _WORDS.get(error.errno, (error.strerror or str(error), Code.GENERAL))
        return EskretError(words, place=str(error.filename or doing), way_out="Mend that and run again", code=code)
    _log.error("%s: %s", doing or "unforeseen", "".join(traceback.format_exception(error)))
    frames = traceback.extract_tb(error.__traceback__)
    where = f" ({Path(frames[-1].filename).name}, line {frames[-1].lineno})" if frames else ""
    what = f"'{doing}' failed with a fault of the program" if doing else "a fault of the program"
    said = " ".join(str(error).split())[:300]
    return EskretError(
        f"{what}: {type(error).__name__}: {said}{where}", way_out=f"{after}; please report it with {log_path()}", code=Code.FAULT
    )
