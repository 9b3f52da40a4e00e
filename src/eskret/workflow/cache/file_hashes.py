"""Which content a file has, without reading it again while it was not written."""

from __future__ import annotations

import os
import sqlite3
import threading
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

from eskret.core.files.datasets import files_of, is_dataset
from eskret.core.files.hashing import hash_file, is_racy
from eskret.core.files.user_state import private_file
from eskret.formats.known import GEOPACKAGE

Stat = tuple[int, int, int, int]


class FileHashes:
    """Digests of files, remembered by place, size, times and number. Safe to use from several threads."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._lock = threading.Lock()
        self._known: dict[str, tuple[Stat, str]] = {}
        self._new: set[str] = set()
        self._read = False

    def digest(self, path: Path) -> str:
        """The digest of a file's content.

        Raises
        ------
        OSError : it cannot be read.
        """
        name, stat = str(path.absolute()), stat_of(path)
        with self._lock:
            if not self._read:
                self._load()
            known = self._known.get(name)
        if known is not None and known[0] == stat:
            return known[1]
        told = hash_file(path)
        if not is_racy(stat[2]) and stat_of(path) == stat:
            with self._lock:
                self._known[name] = (stat, told)
                self._new.add(name)
        return told

    def note(self, path: Path, digest: str) -> None:
        """Remember the digest of a file that was just put in its place; where that cannot be, it is read again next time."""
        with suppress(OSError):
            stat = stat_of(path)
            with self._lock:
                self._known[str(path.absolute())] = (stat, digest)
                self._new.add(str(path.absolute()))

    def _load(self) -> None:
        self._read = True
        try:
            with sqlite3.connect(self._path) as db:
                rows = db.execute("SELECT path, size, modified, changed, number, digest FROM stamps").fetchall()
            db.close()
        except sqlite3.Error:
            return
        self._known = {**{r[0]: ((r[1], r[2], r[3], r[4]), r[5]) for r in rows}, **self._known}

    def save(self) -> None:
        """Remember what is new; where that cannot be, it is read again next time."""
        with self._lock:
            rows = [(n, *self._known[n][0], self._known[n][1]) for n in self._new]
            self._new.clear()
        if not rows:
            return
        try:
            with sqlite3.connect(private_file(self._path), timeout=2) as db:
                db.execute("CREATE TABLE IF NOT EXISTS stamps (path TEXT PRIMARY KEY, size, modified, changed, number, digest)")
                db.executemany("INSERT OR REPLACE INTO stamps VALUES (?, ?, ?, ?, ?, ?)", rows)
            db.close()
        except (sqlite3.Error, OSError):
            return


@lru_cache(maxsize=8)
def stamps_at(path: Path) -> FileHashes:
    """The digests that are remembered in this file, one object for all who ask in this process."""
    return FileHashes(path)


def stat_of(path: Path) -> Stat:
    """Size, time of writing, time of any change and number of a file: one that was written has another."""
    stat = path.stat()
    return stat.st_size, stat.st_mtime_ns, stat.st_ctime_ns, stat.st_ino


def with_companions(path: Path) -> list[Path]:
    """A file and those that belong to it: the parts of a shapefile, what a database has not folded in yet; of a folder that is one
    layer its files."""
    if is_dataset(path):
        return files_of(path)
    out = [path]
    if path.suffix.lower() == ".shp":
        there = _by_stem(path.parent, path.parent.stat().st_mtime_ns)
        named = {*there.get(path.stem, ()), *there.get(path.name, ())}
        out += sorted(p for p in (path.with_name(n) for n in named) if p != path and p.is_file())
    if path.suffix.lower() == GEOPACKAGE.ending:
        wal = path.with_name(f"{path.name}-wal")
        out += [wal] if wal.exists() and wal.stat().st_size else []
    return out


@lru_cache(maxsize=8)
def _by_stem(folder: Path, changed: int) -> dict[str, list[str]]:
    """Names of a folder by their stem: a thousand shapefiles are not looked for in it one by one."""
    out: dict[str, list[str]] = {}
    for name in os.listdir(folder):
        out.setdefault(name.rpartition(".")[0], []).append(name)
    return out
