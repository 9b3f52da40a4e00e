"""The journal of a push: every change with what was there before, on disk before the first request is sent.

One SQLite file a push, in the user's data folder. It says what was to be done and how far it came; what the service holds is
asked of the service. No token is ever in it.
"""

from __future__ import annotations

import os
import sqlite3
import uuid
from collections.abc import Generator, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import orjson

from eskret.core.files.user_state import data_place, private, private_file
from eskret.errors import Code, InputError
from eskret.services.changing import Feature, FeatureChange

ADDED, CHANGED, REMOVED = "added", "changed", "removed"

WAITING, DONE, CONFLICT, LEFT = "waiting", "done", "conflict", "left"
"""What became of an entry: nothing yet, sent, found changed by somebody else, left as somebody else made it."""

DRAFT, PREPARED, SENDING, PART, PUSHED, UNDOING, UNDONE = ("draft", "prepared", "sending", "part", "pushed", "undoing", "undone")
"""What became of a push. ``draft``: its run has not succeeded yet. ``part``: it came part of the way and can be completed or
undone."""

_TABLES = """
CREATE TABLE push (told TEXT NOT NULL);
CREATE TABLE entry (
  n INTEGER PRIMARY KEY, action TEXT NOT NULL, key TEXT NOT NULL, id TEXT NOT NULL, twins INTEGER NOT NULL, before BLOB,
  wanted BLOB, state TEXT NOT NULL, theirs BLOB, undone INTEGER NOT NULL DEFAULT 0);
"""


@dataclass(frozen=True)
class Push:
    """A push in a few words. ``workflow``, ``run`` and ``step`` say where it came from, ``own`` which fields it is about (None:
    all), ``make`` how the dataset is to be made where it is missing, ``made`` that it was."""

    id: str
    service: str
    dataset: str
    mode: str
    key: tuple[str, ...] = ()
    decimals: int = 7
    own: tuple[str, ...] | None = None
    state: str = DRAFT
    taken: str = ""
    sent: str = ""
    added: int = 0
    changed: int = 0
    removed: int = 0
    unchanged: int = 0
    count_before: int = 0
    workflow: str = ""
    title: str = ""
    run: str = ""
    step: str = ""
    layer: str = ""
    token_from: str = ""
    make: Mapping[str, Any] = field(default_factory=dict)
    made: bool = False
    says: str = ""

    @property
    def entries(self) -> int:
        return self.added + self.changed + self.removed

    @property
    def count_after(self) -> int:
        return self.count_before + self.added - self.removed

    def to_json(self) -> dict[str, Any]:
        return {f.name: getattr(self, f.name) for f in fields(self)}


@dataclass(frozen=True)
class PushEntry:
    """One change of a push and how far it came. ``undone`` says that it was taken back."""

    n: int
    action: str
    key: str
    change: FeatureChange
    state: str = WAITING
    theirs: Feature | None = None
    undone: bool = False


class PushJournal:
    """One push on disk. Used by one thread."""

    def __init__(self, file: Path) -> None:
        self.file = file
        if not file.is_file():
            raise InputError("there is no such push", place=file.stem, way_out="'eskret publish --history' lists them", code=Code.NOT_THERE)
        self._db = sqlite3.connect(file, isolation_level=None)
        try:
            self._db.execute("PRAGMA synchronous = FULL")
            told = orjson.loads(self._db.execute("SELECT told FROM push").fetchone()[0])
        except (sqlite3.DatabaseError, TypeError, orjson.JSONDecodeError) as error:
            self._db.close()
            raise InputError("the journal of this push is damaged", place=str(file)) from error
        own = told["own"]
        self.push = Push(**{**told, "key": tuple(told["key"]), "own": None if own is None else tuple(own)})

    @classmethod
    def create(cls, push: Push, entries: Sequence[tuple[str, FeatureChange]], folder: Path | None = None) -> PushJournal:
        """Write a journal, all of it, and open it."""
        home = folder or pushes_folder()
        private(home.parent)
        private(home)
        file = home / f"{push.id}.push"
        waiting = home / f".{push.id}.{os.getpid()}.new"
        db = sqlite3.connect(private_file(waiting), isolation_level=None)
        try:
            db.execute("PRAGMA journal_mode = OFF")
            db.executescript(_TABLES)
            db.execute("BEGIN")
            db.execute("INSERT INTO push VALUES (?)", (orjson.dumps(push.to_json()).decode(),))
            db.executemany("INSERT INTO entry VALUES (?, ?, ?, ?, ?, ?, ?, ?, NULL, 0)", _rows(entries))
            db.execute("COMMIT")
        finally:
            db.close()
        with waiting.open("rb") as stream:
            os.fsync(stream.fileno())
        waiting.replace(file)
        return cls(file)

    def close(self) -> None:
        self._db.close()

    def __enter__(self) -> PushJournal:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def note(self, **changes: Any) -> None:
        """Write down what became of the push."""
        self.push = replace(self.push, **changes)
        self._db.execute("UPDATE push SET told = ?", (orjson.dumps(self.push.to_json()).decode(),))

    def entries(self, states: Sequence[str] = (), most: int = -1) -> list[PushEntry]:
        """The entries in these states; all where none is named."""
        where = f"WHERE state IN ({', '.join('?' * len(states))})" if states else ""
        found = self._db.execute(
            f"SELECT n, action, key, id, twins, before, wanted, state, theirs, undone FROM entry {where} ORDER BY n LIMIT ?",
            (*states, most),
        )
        return [_entry(row) for row in found]

    def count(self, state: str) -> int:
        """How many entries are in a state."""
        return int(self._db.execute("SELECT count(*) FROM entry WHERE state = ?", (state,)).fetchone()[0])

    def came(self) -> tuple[int, int]:
        """How many changes are sent, or, of a push that is being taken back, how many are taken back; and how many there are."""
        undoing = self.push.state in (UNDOING, UNDONE)
        what = "undone = 1" if undoing else f"state = '{DONE}'"
        of = f"state <> '{LEFT}'" if undoing else "1"
        counts = self._db.execute(f"SELECT count(*) FILTER (WHERE {what}), count(*) FILTER (WHERE {of}) FROM entry").fetchone()
        return int(counts[0]), int(counts[1])

    def settle(self, settled: Iterable[PushEntry]) -> None:
        """Write down how far these came, all at once."""
        rows = [(e.state, e.change.id, None if e.theirs is None else orjson.dumps(e.theirs), int(e.undone), e.n) for e in settled]
        if rows:
            self._db.execute("BEGIN")
            self._db.executemany("UPDATE entry SET state = ?, id = ?, theirs = ?, undone = ? WHERE n = ?", rows)
            self._db.execute("COMMIT")

    def rebase(self, entries: Iterable[PushEntry]) -> None:
        """Write down that these begin with what is there now."""
        rows = []
        for e in entries:
            before, action = e.change.before, _action(e.change)
            rows.append((None if before is None else orjson.dumps(before), action, e.n))
        self._db.executemany("UPDATE entry SET before = ?, action = ? WHERE n = ?", rows)

    def remove(self) -> None:
        """Take the journal off the disk."""
        self.close()
        self.file.unlink(missing_ok=True)


def _rows(entries: Sequence[tuple[str, FeatureChange]]) -> Generator[tuple[object, ...], None, None]:
    for n, (key, change) in enumerate(entries):
        before, wanted = (None if f is None else orjson.dumps(f) for f in (change.before, change.wanted))
        yield n, _action(change), key, change.id, change.twins, before, wanted, WAITING


def _action(change: FeatureChange) -> str:
    return ADDED if change.before is None else REMOVED if change.wanted is None else CHANGED


def _entry(row: Sequence[Any]) -> PushEntry:
    n, action, key, id, twins, before, wanted, state, theirs, undone = row
    before, wanted, theirs = (None if f is None else orjson.loads(f) for f in (before, wanted, theirs))
    return PushEntry(n, action, key, FeatureChange(before, wanted, id, twins), state, theirs, bool(undone))


def pushes_folder() -> Path:
    """Where the journals stand."""
    return data_place("pushes")


def new_id(dataset: str) -> str:
    """An id for a push: when, of what, and two letters so that two never have the same. Later ones sort behind."""
    when = datetime.now(UTC).strftime("%Y%m%d-%H%M%S%f")[:-3]
    plain = "".join(c if c.isalnum() else "-" for c in dataset)[:40]
    return f"{when}-{plain}-{uuid.uuid4().hex[:2]}"


def pushes(workflow: Path | None = None, folder: Path | None = None) -> list[Push]:
    """All pushes on record, the latest first; of one workflow where it is named. Drafts do not count."""
    found = []
    home = folder or pushes_folder()
    for file in sorted(home.glob("*.push"), reverse=True) if home.is_dir() else ():
        try:
            with PushJournal(file) as journal:
                push = journal.push
        except InputError:
            continue
        if push.state != DRAFT and (workflow is None or push.workflow == str(workflow.resolve())):
            found.append(push)
    return found


def open_push(id: str, folder: Path | None = None) -> PushJournal:
    """The journal of a push.

    Raises
    ------
    InputError : there is none with this id.
    """
    if "/" in id or id.startswith("."):
        raise InputError("there is no such push", place=id, way_out="'eskret publish --history' lists them", code=Code.NOT_THERE)
    return PushJournal((folder or pushes_folder()) / f"{id}.push")
