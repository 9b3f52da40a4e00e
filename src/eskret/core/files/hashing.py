"""Hashes of files, and whether one is still what it was when somebody looked."""

from __future__ import annotations

import hashlib
import os
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

_COARSE_NS, _FINE_NS = 2_000_000_000, 20_000_000


def is_racy(changed_ns: int) -> bool:
    """Whether a file was written so shortly ago that it may be written again without its time telling.

    Local file systems stamp times by the ticks of the system's clock; others to the second, or two, which shows.
    """
    coarse = changed_ns % 1_000_000 == 0
    return time.time_ns() - changed_ns < (_COARSE_NS if coarse else _FINE_NS)


def hash_file(path: Path) -> str:
    """SHA-256 of a file's bytes, in hexadecimal.

    Raises
    ------
    OSError : it cannot be read.
    """
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


@dataclass(frozen=True)
class FileState:
    """A file as it was seen: its number on the disk, size in bytes, times in ns, and its hash where somebody took it.
    ``there`` is False where there was none, ``racy`` says that it had been written so shortly before that its times do not
    tell whether it was written once more."""

    there: bool = False
    inode: int = 0
    size: int = 0
    modified_ns: int = 0
    changed_ns: int = 0
    sha256: str = ""
    racy: bool = False

    @classmethod
    def of(cls, path: Path, *, sha256: str = "", hashed: bool = False) -> FileState:
        """The state of a file now.

        Parameters
        ----------
        sha256 : its hash, where somebody knows it.
        hashed : take the hash in any case.

        Raises
        ------
        OSError : it is there and cannot be read.
        """
        try:
            found = os.stat(path)
        except FileNotFoundError:
            return cls()
        racy = is_racy(found.st_ctime_ns)
        if not sha256 and (hashed or racy):
            sha256 = hash_file(path)
        return cls(True, found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns, sha256, racy)

    def still(self, path: Path) -> bool:
        """Whether the file is still what it was.

        Raises
        ------
        OSError : it is there and cannot be read.
        """
        try:
            found = os.stat(path)
        except FileNotFoundError:
            return not self.there
        if not self.there or found.st_size != self.size:
            return False
        stamps = (found.st_ino, found.st_mtime_ns, found.st_ctime_ns)
        if stamps == (self.inode, self.modified_ns, self.changed_ns) and not self.racy:
            return True
        return bool(self.sha256) and hash_file(path) == self.sha256

    def to_json(self) -> dict[str, object]:
        return {
            "there": self.there,
            "inode": self.inode,
            "size": self.size,
            "modified_ns": self.modified_ns,
            "changed_ns": self.changed_ns,
            "sha256": self.sha256,
            "racy": self.racy,
        }

    @classmethod
    def from_json(cls, told: dict[str, Any]) -> FileState:
        return cls(
            bool(told["there"]),
            int(told["inode"]),
            int(told["size"]),
            int(told["modified_ns"]),
            int(told["changed_ns"]),
            str(told["sha256"]),
            bool(told["racy"]),
        )
