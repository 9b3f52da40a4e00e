"""Change a GeoPackage that is not wholly this workflow's where it is, by a transaction of the database.

What is staged lies in a file of its own. At the commit that file is attached, the target is locked by SQLite's own means,
compared with what was seen, changed and committed: whoever has it open, in rollback or in write-ahead mode, goes on with it,
and its journal mode stays as it is.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from eskret.core.expression import quote
from eskret.core.files.hashing import is_racy
from eskret.core.files.transaction import Participant, Recovery
from eskret.core.naming import folded
from eskret.core.words import pluralise
from eskret.errors import Code, DeliveryError, EskretError, TargetChangedError
from eskret.formats import sqlite
from eskret.formats.geopackage import transfer, triggers, writer
from eskret.formats.geopackage.digest import rows_digest
from eskret.formats.geopackage.transfer import SOURCE

PUT, CHANGE = "put", "change"
OLD, NEW, NEITHER = "old", "new", "neither"


@dataclass(frozen=True)
class Seen:
    """A GeoPackage as it was seen when its layers were staged: number, size and times of the file and of its log. What
    differs may still hold the same layers; what does not differ was not written, unless it is ``racy``: written so shortly
    before it was seen that a second writing might not show."""

    stamps: tuple[tuple[int, ...], ...]
    racy: bool = False

    @classmethod
    def of(cls, path: Path) -> Seen:
        stamps = tuple(_stamp(path.with_name(path.name + e)) for e in ("", "-wal"))
        return cls(stamps, any(s and is_racy(s[3]) for s in stamps))

    def still(self, path: Path) -> bool:
        """Whether the file surely was not written since. It is not opened: that would cost locks."""
        return not self.racy and Seen.of(path).stamps == self.stamps


def _stamp(path: Path) -> tuple[int, ...]:
    try:
        found = os.stat(path)
    except FileNotFoundError:
        return ()
    return found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns


@dataclass(frozen=True)
class LayerChange:
    """What becomes of one layer.

    ``put``: the staged layer takes the place of the one of its name, if there is one. ``change``: the first ``added`` staged
    rows are appended, the others take the place of those whose numbers stand in the staged file. ``before`` is the digest of
    the layer that is there (empty for none), ``after`` of what is put; ``first`` the number reserved for the first row that is
    appended; ``number`` tells apart the helping tables in the staged file; ``columns`` are fields that the layer gets.
    """

    layer: str
    action: str
    before: str = ""
    after: str = ""
    rows: int = 0
    added: int = 0
    number: int = 0
    first: int = 0
    columns: tuple[tuple[str, str], ...] = ()
    undo: bool = False

    @property
    def ids(self) -> str:
        """The table of the staged file with the numbers of rows that are replaced."""
        return f"eskret_ids_{self.number}"

    @property
    def kept(self) -> str:
        """The table of the staged file with those rows as they were."""
        return f"eskret_before_{self.number}"

    def to_json(self) -> dict[str, Any]:
        return {**self.__dict__, "columns": [list(c) for c in self.columns]}

    @classmethod
    def from_json(cls, told: Mapping[str, Any]) -> LayerChange:
        columns = tuple((str(n), str(t)) for n, t in told["columns"])
        if told["action"] not in (PUT, CHANGE):
            raise ValueError(told["action"])
        return cls(
            str(told["layer"]),
            str(told["action"]),
            str(told["before"]),
            str(told["after"]),
            int(told["rows"]),
            int(told["added"]),
            int(told["number"]),
            int(told["first"]),
            columns,
            bool(told["undo"]),
        )


class GeoPackageInPlace(Participant):
    """Changes of one GeoPackage."""

    kind = "geopackage"

    def __init__(self, target: Path, staged: Path, changes: Sequence[LayerChange], seen: Seen | None = None) -> None:
        self.target = target
        self.staged = staged
        self.changes = list(changes)
        self.seen = seen
        self._db: sqlite3.Connection | None = None

    @property
    def targets(self) -> Sequence[Path]:
        return [self.target]

    # -- the participant

    def prepare(self) -> None:
        try:
            db = self._open()
            if not all(c.undo for c in self.changes) and (self.seen is None or not self.seen.still(self.target)):
                self._compare(db)
            self._apply(db)
        except sqlite3.Error as error:
            raise sqlite.refused(error, self.target) from error
        except EskretError as error:
            error.at(str(self.target))
            raise

    def complete(self) -> list[tuple[Path, str]]:
        assert self._db is not None
        try:
            self._db.execute("COMMIT")
        except sqlite3.Error as error:
            return [(self.target, sqlite.refused(error, self.target).problem)]
        finally:
            self._close()
        return []

    def abandon(self) -> None:
        if self._db is not None:
            with suppress(sqlite3.Error):
                if self._db.in_transaction:
                    self._db.execute("ROLLBACK")
            self._close()

    def to_json(self) -> dict[str, Any]:
        return {"target": str(self.target), "staged": str(self.staged), "changes": [c.to_json() for c in self.changes]}

    @classmethod
    def from_json(cls, told: Mapping[str, Any], moved: Callable[[Path], Path]) -> GeoPackageInPlace:
        return cls(moved(Path(told["target"])), moved(Path(told["staged"])), [LayerChange.from_json(c) for c in told["changes"]])

    def recover(self) -> Recovery:
        try:
            return self._recover()
        except (sqlite3.Error, EskretError, OSError) as error:
            return Recovery(left=[(self.target, f"it cannot be completed now ({error})")], retry=True)
        finally:
            self.abandon()

    def _recover(self) -> Recovery:
        if not self.target.exists():
            return Recovery(left=[(self.target, "it is not there any more")])
        if not self.staged.exists():
            return Recovery(already=[self.target])  # what is staged goes only once all is committed
        db = self._open()
        states = [self._state(db, change) for change in self.changes]
        if NEW in states:
            return Recovery(already=[self.target])
        if any(s != OLD for s in states):
            return Recovery(left=[(self.target, "it was changed since by somebody else")])
        self._apply(db)
        db.execute("COMMIT")
        return Recovery(completed=[self.target])

    # -- the database

    def _open(self) -> sqlite3.Connection:
        """A connection with the staged file attached and the target locked."""
        sqlite.roll_back_hot(self.target)
        db = sqlite3.connect(
            sqlite.uri(self.target, "rw"), uri=True, isolation_level=None, timeout=sqlite.PATIENCE, check_same_thread=False
        )
        self._db = db
        db.execute("PRAGMA synchronous = FULL")
        db.execute("PRAGMA cache_size = -65536")
        transfer.know_numbers(db)
        triggers.know_shapes(db)
        db.execute(f"ATTACH DATABASE ? AS {SOURCE}", (sqlite.uri(self.staged),))
        # in rollback mode the commit itself must not find a reader in its way; in write-ahead mode readers go on
        db.execute("BEGIN EXCLUSIVE")
        if db.execute("PRAGMA main.application_id").fetchone()[0] not in writer.APPLICATION_IDS:
            raise DeliveryError("it is no GeoPackage any more", way_out="Choose another name")
        return db

    def _close(self) -> None:
        if self._db is not None:
            self._db.close()
            self._db = None

    def _compare(self, db: sqlite3.Connection) -> None:
        for change in self.changes:
            if _digest(db, change.layer) != change.before:
                raise TargetChangedError(
                    f"somebody else changed the layer '{change.layer}' while this run was under way",
                    way_out="Nothing was written; run again",
                    code=Code.CHANGED_MEANWHILE,
                )

    def _apply(self, db: sqlite3.Connection) -> None:
        """Do all changes in the open transaction."""
        container = writer.GeoPackageWriter(db, plain=True)
        container.make_tables()
        done = []
        there = {folded(n): n for n in container.names()}
        for change in self.changes:
            if change.action == PUT:
                if folded(change.layer) in there:
                    container.remove(there[folded(change.layer)])
                transfer.carry(container, change.layer)
                expected = change.rows
            else:
                change, expected = _undo(db, change) if change.undo else _change_rows(container, change)
            found = db.execute(f"SELECT count(*) FROM main.{quote(change.layer)}").fetchone()[0]
            if found != expected:
                raise DeliveryError(
                    f"the layer '{change.layer}' has {pluralise(found, 'row')} where {expected:,} should be; a rule in the file "
                    "itself changes what is written",
                    way_out="Save to another file",
                )
            done.append(change)
        self.changes = done

    def _state(self, db: sqlite3.Connection, change: LayerChange) -> str:
        """Whether a layer is as it was before, as it is to be, or neither."""
        if change.action == PUT:
            now = _digest(db, change.layer)
            return NEW if now == change.after else OLD if now == change.before else NEITHER
        if not _digest(db, change.layer):
            return NEITHER
        ours, theirs = _present(db, change)
        total = change.rows
        if change.undo:
            return OLD if ours == total else NEW if ours == 0 and theirs == total - change.added else NEITHER
        if ours == total:
            return NEW
        return OLD if theirs == total - change.added and ours == 0 else NEITHER


def _digest(db: sqlite3.Connection, layer: str) -> str:
    """The digest of a layer that is there; empty for none."""
    row = db.execute("SELECT name FROM main.sqlite_master WHERE lower(name) = lower(?)", (layer,)).fetchone()
    return rows_digest(db, str(row[0])) if row else ""


def _pairs(db: sqlite3.Connection, change: LayerChange, source: str) -> list[tuple[str, str]]:
    """Columns of the target and what goes into them, from the staged rows."""
    drawn, theirs = geometry_of_source(db, change.layer), transfer.geometry_of(db, change.layer)
    key = transfer.key_of(db, change.layer, SOURCE)
    there = {folded(c): c for c in transfer.columns_of(db, change.layer)}
    out = []
    for column in transfer.columns_of(db, change.layer, SOURCE):
        if column == key:
            continue
        value = f"{source}.{quote(column)}"
        if drawn is not None and column == drawn[0]:
            if theirs is None:
                continue
            # whoever staged the rows brought them to the layer's CRS; only its number may be another in this file
            out.append((theirs[0], f"eskret_in_srs({value}, {theirs[1]})" if drawn[1] != theirs[1] else value))
        elif folded(column) in there:
            out.append((there[folded(column)], value))
    return out


def geometry_of_source(db: sqlite3.Connection, layer: str) -> tuple[str, int] | None:
    """The geometry column of a staged layer."""
    return transfer.geometry_of(db, layer, SOURCE)


def _change_rows(writer: writer.GeoPackageWriter, change: LayerChange) -> tuple[LayerChange, int]:
    """Append and replace rows; with the numbers reserved, and how many rows there must be then."""
    db, layer = writer.connection, quote(change.layer)
    before = db.execute(f"SELECT count(*) FROM main.{layer}").fetchone()[0]
    there = {folded(c) for c in transfer.columns_of(db, change.layer)}
    for column, kind in change.columns:
        if folded(column) not in there:
            db.execute(f"ALTER TABLE main.{layer} ADD COLUMN {quote(column)} {kind}")
    key, own = transfer.key_of(db, change.layer), transfer.key_of(db, change.layer, SOURCE)
    pairs = _pairs(db, change, "s")
    top = db.execute(f"SELECT max({quote(key)}) FROM main.{layer}").fetchone()[0] or 0
    if "sqlite_sequence" in transfer.tables_of(db):
        row = db.execute("SELECT seq FROM main.sqlite_sequence WHERE name = ?", (change.layer,)).fetchone()
        top = max(top, row[0] or 0) if row else top
    change = replace(change, first=top + 1)
    if change.added:
        names = ", ".join([quote(key), *(quote(c) for c, _ in pairs)])
        values = ", ".join([f"s.{quote(own)} + {top}", *(v for _, v in pairs)])
        db.execute(
            f"INSERT INTO main.{layer} ({names}) SELECT {values} FROM {SOURCE}.{layer} s WHERE s.{quote(own)} <= ? ORDER BY s.{quote(own)}",
            (change.added,),
        )
    if change.rows > change.added and pairs:
        sets = ", ".join(f"{quote(c)} = {v}" for c, v in pairs)
        db.execute(
            f"UPDATE main.{layer} AS t SET {sets} FROM {SOURCE}.{layer} s JOIN {SOURCE}.{change.ids} i "
            f"ON i.number = s.{quote(own)} WHERE t.{quote(key)} = i.id"
        )
    triggers.grow_contents(writer, change.layer, SOURCE)
    return change, before + change.added


def _undo(db: sqlite3.Connection, change: LayerChange) -> tuple[LayerChange, int]:
    """Take back what ``_change_rows`` did: rows that were appended go, those replaced are as they were."""
    layer, key = quote(change.layer), transfer.key_of(db, change.layer)
    before = db.execute(f"SELECT count(*) FROM main.{layer}").fetchone()[0]
    ours, _ = _present(db, change)
    if ours != change.rows:
        raise DeliveryError(
            f"{change.rows - ours:,} of the {change.rows:,} rows that were written into the layer '{change.layer}' were changed "
            "since, and are not taken back",
            way_out="What it held before stays on record",
        )
    if change.added:
        db.execute(f"DELETE FROM main.{layer} WHERE {quote(key)} BETWEEN ? AND ?", (change.first, change.first + change.added - 1))
    if change.rows > change.added:
        columns = [c for c in transfer.columns_of(db, change.kept, SOURCE) if c != key]
        sets = ", ".join(f"{quote(c)} = k.{quote(c)}" for c in columns)
        db.execute(f"UPDATE main.{layer} AS t SET {sets} FROM {SOURCE}.{change.kept} k WHERE t.{quote(key)} = k.{quote(key)}")
    for column, _ in change.columns:
        used = db.execute(f"SELECT 1 FROM main.{layer} WHERE {quote(column)} IS NOT NULL LIMIT 1").fetchone()
        if used is None:
            db.execute(f"ALTER TABLE main.{layer} DROP COLUMN {quote(column)}")
    db.execute("UPDATE main.gpkg_contents SET last_change = ? WHERE table_name = ?", (writer.now(), change.layer))
    return change, before - change.added


def _present(db: sqlite3.Connection, change: LayerChange) -> tuple[int, int]:
    """How many of the staged rows are in the layer as they were written, and how many of those replaced as they were."""
    layer, key = quote(change.layer), transfer.key_of(db, change.layer)
    own = transfer.key_of(db, change.layer, SOURCE)
    there = {folded(c) for c in transfer.columns_of(db, change.layer)}
    ours = 0
    if all(folded(c) in there for c, _ in change.columns):
        pairs = _pairs(db, change, "s")
        same = " AND ".join([f"t.{quote(c)} IS {v}" for c, v in pairs] or ["1"])
        if change.added and change.first:
            ours += db.execute(
                f"SELECT count(*) FROM {SOURCE}.{layer} s JOIN main.{layer} t ON t.{quote(key)} = s.{quote(own)} + ? "
                f"WHERE s.{quote(own)} <= ? AND {same}",
                (change.first - 1, change.added),
            ).fetchone()[0]
        if change.rows > change.added:
            ours += db.execute(
                f"SELECT count(*) FROM {SOURCE}.{layer} s JOIN {SOURCE}.{change.ids} i ON i.number = s.{quote(own)} "
                f"JOIN main.{layer} t ON t.{quote(key)} = i.id WHERE {same}"
            ).fetchone()[0]
    theirs = 0
    if change.rows > change.added:
        columns = transfer.columns_of(db, change.kept, SOURCE)
        same = " AND ".join(f"t.{quote(c)} IS k.{quote(c)}" for c in columns)
        theirs = db.execute(
            f"SELECT count(*) FROM {SOURCE}.{change.kept} k JOIN main.{layer} t ON t.{quote(key)} = k.{quote(key)} WHERE {same}"
        ).fetchone()[0]
    return int(ours), int(theirs)


def keep_rows(staged: Path, target: Path, change: LayerChange, ids: Sequence[int]) -> None:
    """Put the numbers of the rows that are to be replaced, and these rows as they are, into the staged file.

    Raises
    ------
    DeliveryError : the target cannot be read, or the staged file not be written.
    """
    try:
        db = sqlite3.connect(sqlite.uri(staged, "rw"), uri=True, isolation_level=None)
        try:
            db.execute("PRAGMA synchronous = OFF")
            db.execute("ATTACH DATABASE ? AS target", (sqlite.uri(target),))
            key = transfer.key_of(db, change.layer, "target")
            db.execute("BEGIN")
            db.execute(f"CREATE TABLE {change.ids} (number INTEGER PRIMARY KEY, id INTEGER NOT NULL)")
            db.executemany(f"INSERT INTO {change.ids} VALUES (?, ?)", list(enumerate(ids, change.added + 1)))
            db.execute(
                f"CREATE TABLE {change.kept} AS SELECT t.* FROM target.{quote(change.layer)} t JOIN {change.ids} i ON t.{quote(key)} = i.id"
            )
            db.execute("COMMIT")
        finally:
            db.close()
    except sqlite3.Error as error:
        raise sqlite.refused(error, target) from error
