"""What every reader and writer of SQLite files does: connect to read, copy soundly, quote names, insert many rows."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence
from itertools import chain
from pathlib import Path
from typing import Any

from eskret.errors import DeliveryError

_MOST_VALUES = 30_000  # SQLite takes 32,766 in a statement
_MOST_ROWS = 256


def connect(path: Path) -> sqlite3.Connection:
    """A connection that can only read."""
    place = str(path.resolve()).replace("%", "%25").replace("?", "%3f").replace("#", "%23")
    return sqlite3.connect(f"file:{place}?mode=ro", uri=True)


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


def insert(db: sqlite3.Connection, table: str, columns: Sequence[str], rows: Sequence[Iterable[Any]]) -> None:
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


def check_free(path: Path) -> None:
    """Refuse to replace a GeoPackage that another program is writing.

    Raises
    ------
    DeliveryError : it is locked.
    """
    db = sqlite3.connect(path, timeout=0.2, isolation_level=None)
    try:
        db.execute("BEGIN IMMEDIATE")
        db.execute("ROLLBACK")
    except sqlite3.OperationalError as error:
        if "locked" in str(error) or "busy" in str(error):
            raise DeliveryError(
                "another program holds this GeoPackage", place=str(path), way_out="Close it there and run again"
            ) from error
    finally:
        db.close()
