"""What every reader and writer of SQLite files does: connect to read, copy soundly, insert many rows, say what went wrong."""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Iterable, Sequence
from contextlib import closing, suppress
from itertools import chain
from pathlib import Path

from eskret.errors import Code, DeliveryError, InputError

_MOST_VALUES = 30_000  # SQLite takes 32,766 in a statement
_MOST_ROWS = 256
PATIENCE = 10.0
"""Seconds to wait for another program to finish what it is writing."""
_BUSY = {sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED}
_DAMAGED = {sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_FORMAT}
_WAL_HEADER = 18
"""Where a file says which journal it is written with: 2 for a write-ahead log (SQLite, "Database File Format", 1.3.3)."""


def uri(path: Path, mode: str = "ro") -> str:
    """The address of a file, as SQLite takes it."""
    place = str(path.resolve()).replace("%", "%25").replace("?", "%3f").replace("#", "%23")
    return f"file:{place}?mode={mode}"


def connect(path: Path) -> sqlite3.Connection:
    """A connection that can only read. What a program that was killed had begun is rolled back first, where we may write."""
    roll_back_hot(path)
    return sqlite3.connect(uri(path), uri=True)


def limit_time(db: sqlite3.Connection, seconds: float) -> None:
    """Let no statement on a connection go on for longer: a view can be without end."""
    until = time.monotonic() + seconds
    db.set_progress_handler(lambda: time.monotonic() > until, 200_000)


def is_interrupted(error: sqlite3.Error) -> bool:
    """Whether a statement took longer than it may."""
    return _result(error) == sqlite3.SQLITE_INTERRUPT


def roll_back_hot(path: Path) -> bool:
    """Undo what a program that is gone had begun and not committed; True where there was something.

    The journal of such a program stands beside the file, and SQLite lets nobody read before somebody who may write has
    rolled it back (SQLite, "Hot Rollback Journals"). Where a living program is writing, nothing is done.
    """
    journal = path.with_name(f"{path.name}-journal")
    try:
        if not journal.stat().st_size or not os.access(path, os.W_OK):
            return False
    except OSError:
        return False
    with suppress(sqlite3.Error), closing(sqlite3.connect(uri(path, "rw"), uri=True, timeout=1.0)) as db:
        db.execute("SELECT count(*) FROM sqlite_master").fetchone()
        return not journal.exists()
    return False


def take_away_stale(path: Path) -> None:
    """Take away a journal that a transaction of ours had begun and not filled in when it was killed: there is nothing in it to
    roll back, so SQLite leaves it lying until the next transaction. While we hold the lock it is nobody else's."""
    journal = path.with_name(f"{path.name}-journal")
    with suppress(sqlite3.Error, OSError), closing(sqlite3.connect(uri(path, "rw"), uri=True, timeout=1.0, isolation_level=None)) as db:
        db.execute("BEGIN EXCLUSIVE")
        if not any(journal.read_bytes()[:8]):
            journal.unlink()
        db.execute("ROLLBACK")


def has_log(path: Path) -> bool:
    """Whether a file is written with a write-ahead log, or has one, or a journal, beside it."""
    if any(path.with_name(path.name + e).exists() for e in ("-wal", "-shm", "-journal")):
        return True
    with path.open("rb") as stream:
        return 2 in stream.read(_WAL_HEADER + 2)[_WAL_HEADER:]


def copy(source: Path, target: Path) -> None:
    """Copy a database as it stands, with what another program has committed beside the file.

    Raises
    ------
    sqlite3.Error : it is no database, or damaged.
    """
    old, new = connect(source), sqlite3.connect(target)
    try:
        old.backup(new)
    finally:
        old.close()
        new.close()


def insert(db: sqlite3.Connection, table: str, columns: Sequence[str], rows: Sequence[Iterable[object]]) -> None:
    """Insert many rows by each statement.

    A statement costs more than a row; and with AUTOINCREMENT every statement looks for the table's last number among
    those of all tables, which with hundreds of them takes longer than to store a row.
    """
    head = f"INSERT INTO {table} ({', '.join(columns)}) VALUES "
    marks = f"({', '.join('?' * len(columns))})"
    many = max(1, min(_MOST_ROWS, _MOST_VALUES // len(columns)))
    whole = len(rows) - len(rows) % many
    statement = head + ", ".join([marks] * many)
    for start in range(0, whole, many):
        db.execute(statement, list(chain.from_iterable(rows[start : start + many])))
    if whole < len(rows):
        db.execute(head + ", ".join([marks] * (len(rows) - whole)), list(chain.from_iterable(rows[whole:])))


def _result(error: sqlite3.Error) -> int:
    """SQLite's primary result code; -1 where Python itself raised it."""
    return int(getattr(error, "sqlite_errorcode", -1)) & 0xFF if hasattr(error, "sqlite_errorcode") else -1


def is_busy(error: sqlite3.Error) -> bool:
    """Whether another program holds the file."""
    return _result(error) in _BUSY


def is_damaged(error: sqlite3.Error) -> bool:
    """Whether the file is no sound database."""
    return _result(error) in _DAMAGED


def refused(error: sqlite3.Error, path: Path) -> DeliveryError:
    """Why a GeoPackage cannot be written, as a sentence."""
    result, place = _result(error), str(path)
    if result in _BUSY:
        return DeliveryError(
            "another program holds this GeoPackage", place=place, way_out="Close it there and run again", code=Code.HELD_ELSEWHERE
        )
    if result == sqlite3.SQLITE_FULL:
        return DeliveryError("the disk is full", place=place, way_out="Make room and run again", code=Code.DISK_FULL)
    if result == sqlite3.SQLITE_READONLY:
        return DeliveryError("it is read-only", place=place, way_out="Choose another file", code=Code.READ_ONLY)
    if result in _DAMAGED:
        return DeliveryError(
            f"it is no sound GeoPackage ({error})", place=place, way_out="Choose another file, or move this away", code=Code.DAMAGED
        )
    if result == sqlite3.SQLITE_CONSTRAINT:
        return DeliveryError(
            f"a rule that the file itself has refuses the new rows ({error})",
            place=place,
            way_out="See which values it allows, or save to another file",
        )
    return DeliveryError(f"it cannot be written ({error})", place=place)


def unsound(error: sqlite3.Error, path: Path) -> InputError:
    """Why a GeoPackage cannot be read, as a sentence."""
    if is_busy(error):
        return InputError(
            "another program is writing this GeoPackage right now",
            place=str(path),
            way_out="Try again when it is done",
            code=Code.HELD_ELSEWHERE,
        )
    if is_interrupted(error):
        return InputError(
            "a layer in it does not come to an end when it is counted",
            place=str(path),
            way_out="It may be a view; save it as a layer of its own",
            code=Code.TIME_LIMIT,
        )
    return InputError(
        f"it is no sound GeoPackage ({error})", place=str(path), way_out="Choose another file, or move this away", code=Code.DAMAGED
    )


def check_free(path: Path) -> None:
    """Refuse to change a GeoPackage that another program is writing.

    Raises
    ------
    DeliveryError : it is locked.
    """
    db = sqlite3.connect(path, timeout=0.2, isolation_level=None)
    try:
        db.execute("BEGIN IMMEDIATE")
        db.execute("ROLLBACK")
    except sqlite3.OperationalError as error:
        if is_busy(error):
            raise refused(error, path) from error
    finally:
        db.close()
