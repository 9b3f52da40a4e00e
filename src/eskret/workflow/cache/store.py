"""Where results are kept: a folder an entry, the one used longest ago taken away first when there is no more room."""

from __future__ import annotations

import json
import os
import shutil
import uuid
from collections.abc import Callable, Generator
from contextlib import contextmanager, nullcontext, suppress
from functools import partial
from pathlib import Path
from typing import Any

from eskret.core.files.atomic import write_whole
from eskret.core.files.locks import FileLock
from eskret.core.files.user_state import cache_place, private
from eskret.errors import InputError

FORM = 1
"""Raised when the form of entries changes."""
LIMIT = 4 * 1024**3
"""Bytes that may be kept where nobody said otherwise."""
_ENTRY = "entry.json"


LIVE_LIMIT = 1024**3
"""Bytes that may be kept of what a window does again after every edit: many edits must not drive out what runs keep."""


class Store:
    """Entries by their key. Safe to use from several threads and processes: an entry appears whole or not at all.

    Parameters
    ----------
    beside : another store, in which is looked for what is not here. What is found there is had here too from then on, where ``takes``
        says so: runs take up what a window made, and a window what runs made, which it leaves where it is.
    most : bytes that are kept here at most, whatever the limit of the other store.
    """

    def __init__(self, folder: Path, beside: Store | None = None, takes: bool = False, most: int | None = None) -> None:
        self.folder = folder
        self.beside = beside
        self.added = 0
        self._takes, self._most = takes, most

    # -- who is at it

    @contextmanager
    def in_use(self) -> Generator[None, None, None]:
        """Within it no process takes away what is kept or taken up from here on: a run works on with it where it lies."""
        with self.beside.in_use() if self.beside is not None else nullcontext(), self._locked():
            yield

    @contextmanager
    def _locked(self) -> Generator[None, None, None]:
        lock = None
        with suppress(OSError):  # where nothing can be written nothing is kept either
            private(self.folder.parent)
            private(self.folder)
            while lock is None:  # whoever makes room may look at one in the instant it is made
                lock = FileLock.take(self.folder / f"use-{os.getpid()}-{uuid.uuid4().hex[:8]}.lock")
        try:
            yield
        finally:
            if lock is not None:
                lock.release()

    def _used_since(self) -> float:
        """When the first began of those who are at it; what was used since then stays. Endlessly late where nobody is."""
        first = float("inf")
        for path in self.folder.glob("use-*.lock"):
            with suppress(OSError):
                began = path.stat().st_mtime
                lock = FileLock.take(path)
                if lock is None:
                    first = min(first, began)
                else:
                    lock.release()  # it was killed
        return first

    # -- entries

    def home(self, key: str) -> Path:
        """Where an entry is; of one that is nowhere, where it would be."""
        mine = self._mine(key)
        if self.beside is None or mine.exists():
            return mine
        other = self.beside.home(key)
        return other if other.exists() else mine

    def _mine(self, key: str) -> Path:
        return self.folder / key[:2] / key

    def get(self, key: str) -> Any | None:
        """What was kept under a key, or None."""
        path = self._mine(key) / _ENTRY
        try:
            content = path.read_bytes()
            os.utime(path)
        except OSError:
            found = self.beside.get(key) if self.beside is not None else None
            if found is not None and self._takes and self.beside is not None:
                there = self.beside.home(key)
                self.put(key, partial(_linked, there))
            return found
        try:
            return json.loads(content)
        except ValueError:
            self.drop(key)  # it is not whole
            return None

    def put(self, key: str, fill: Callable[[Path], Any], linked: int = 0, anew: bool = False) -> None:
        """Keep something: ``fill`` writes files into a folder and gives what is to stand beside them as JSON. What cannot be
        written is not kept, which costs time later and nothing else.

        Parameters
        ----------
        linked : bytes of files among them that have another name still, and will lose it.
        anew : in place of what is there.
        """
        if self.limit() <= 0 or (not anew and (self._mine(key) / _ENTRY).exists()):
            return
        new = self.folder / f".new-{os.getpid()}-{uuid.uuid4().hex[:8]}"
        try:
            private(self.folder.parent)
            private(self.folder)
            new.mkdir(mode=0o700)
            told = fill(new)
            (new / _ENTRY).write_text(json.dumps(told), encoding="utf-8")
            size = _size(new)
            home = self._mine(key)
            home.parent.mkdir(parents=True, exist_ok=True)
            if home.exists():  # another run may work with it: it finds the same there an instant later
                old = new.with_name(f"{new.name}-old")
                home.rename(old)
                new.rename(home)
                shutil.rmtree(old, ignore_errors=True)
            else:
                new.rename(home)
            self.added += size + linked
        except (OSError, TypeError, ValueError):
            shutil.rmtree(new, ignore_errors=True)

    def drop(self, key: str) -> None:
        """Take an entry away."""
        shutil.rmtree(self._mine(key), ignore_errors=True)
        if self.beside is not None:
            self.beside.drop(key)

    # -- room

    def limit(self) -> int:
        """Bytes that may be kept; 0 keeps nothing."""
        if self._most is not None:
            return min(self._most, self.beside.limit() if self.beside is not None else self._most)
        try:
            return int(json.loads((self.folder / "limit.json").read_text())["bytes"])
        except (OSError, ValueError, KeyError, TypeError):
            return LIMIT

    def set_limit(self, size: int) -> None:
        """Say how many bytes may be kept, and keep no more.

        Raises
        ------
        InputError : it cannot be written down.
        """
        try:
            private(self.folder.parent)
            private(self.folder)
            write_whole(self.folder / "limit.json", json.dumps({"bytes": size}), mode=0o600)
        except OSError as error:
            raise InputError(f"the limit cannot be kept ({error.strerror})", place=str(self.folder)) from error
        self.trim()

    def size(self) -> tuple[int, int]:
        """Entries and bytes that are kept."""
        entries = self._entries()
        return len(entries), _bytes(entries)

    def flush(self) -> None:
        """After a run: make room where there is need. Counting all entries takes a while, so it is done only where what was
        added may have gone over the limit."""
        if not self.added:
            return
        counter = self.folder / "about.json"
        try:
            known = int(json.loads(counter.read_text())["bytes"])
        except (OSError, ValueError, KeyError, TypeError):
            known = _bytes(self._entries()) - self.added
        known += self.added
        self.added = 0
        if known > self.limit():
            known = self.trim(int(0.9 * self.limit()))  # with room for a while: all entries are counted for it
        try:
            counter.write_text(json.dumps({"bytes": known}))
        except OSError:
            return

    def trim(self, limit: int | None = None) -> int:
        """Take away what was used longest ago until the rest is within the limit, but for what somebody works with; the bytes left."""
        most = self.limit() if limit is None else limit
        entries = self._entries()
        left = _bytes(entries)
        for _, entry in sorted((_used(e), e) for e in entries):
            if left <= most:
                break
            if _used(entry) >= self._used_since():  # looked at anew each time: somebody may have begun meanwhile
                continue
            left -= _size(entry.parent)
            shutil.rmtree(entry.parent, ignore_errors=True)
        for stray in self.folder.glob(".new-*"):
            pid = stray.name.split("-")[1]
            if not Path(f"/proc/{pid}").exists():
                shutil.rmtree(stray, ignore_errors=True)
        return left

    def clear(self) -> None:
        """Take all entries away, here and beside, but for those that somebody works with."""
        if self.beside is not None:
            self.beside.clear()
        self.trim(0)
        (self.folder / "about.json").unlink(missing_ok=True)

    def _entries(self) -> list[Path]:
        return list(self.folder.glob("??/*/entry.*"))  # those that earlier versions kept make room too


def _used(entry: Path) -> float:
    """When it was used last; never where it is gone."""
    try:
        return entry.stat().st_mtime
    except OSError:
        return 0.0


def _bytes(entries: list[Path]) -> int:
    """Bytes of entries; a file with several names counts once."""
    seen: dict[tuple[int, int], int] = {}
    for entry in entries:
        for path in entry.parent.rglob("*"):
            try:
                stat = path.stat()
            except OSError:
                continue
            if path.is_file():
                seen[stat.st_dev, stat.st_ino] = stat.st_size
    return sum(seen.values())


def _size(folder: Path) -> int:
    """Bytes of a folder that nothing else has."""
    files = [p.stat() for p in folder.rglob("*") if p.is_file()]
    return sum(s.st_size for s in files if s.st_nlink == 1)


def _linked(there: Path, folder: Path) -> Any:
    """Have the files of an entry under a second name, as whoever works with it there goes on doing; what stands beside them."""
    for path in sorted(there.rglob("*")):
        to = folder / path.relative_to(there)
        if path.is_dir():
            to.mkdir(parents=True, exist_ok=True)
        elif path.name != _ENTRY or path.parent != there:
            os.link(path, to)
    return json.loads((there / _ENTRY).read_text(encoding="utf-8"))


def the_store() -> Store:
    """The store of whoever is at work, in the user's cache folder; what a window made is taken up from beside it."""
    return Store(cache_place(f"results-{FORM}"), Store(cache_place(f"live-{FORM}"), most=LIVE_LIMIT), takes=True)


def live_store() -> Store:
    """That of what a window does again after every edit, bounded for itself; what runs kept is taken up from beside it."""
    return Store(cache_place(f"live-{FORM}"), Store(cache_place(f"results-{FORM}")), most=LIVE_LIMIT)
