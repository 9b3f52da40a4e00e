"""What a file held before rows were appended to it or changed in it, kept so that it can be brought back.

In the user's data folder: of a file that was written anew a copy; of a GeoPackage the rows that went in and those they
replaced, so that what others wrote into it since stays. Of each file the latest few changes stay.
"""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import uuid
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from eskret.core.files.atomic import sync_file, write_whole
from eskret.core.files.hashing import FileState, hash_file
from eskret.core.files.locks import folders_locked
from eskret.core.files.transaction import CommitJournal, commit
from eskret.core.files.user_state import data_folder, data_place
from eskret.errors import Code, DeliveryError, EskretError
from eskret.formats import sqlite
from eskret.formats.file_group import FileGroup, Move
from eskret.formats.geopackage import in_child
from eskret.formats.geopackage.in_place import LayerChange
from eskret.formats.known import GEOPACKAGE

MOST = 5
"""Changes of one file that are kept."""
_NOTE, _ROWS = "change.json", "rows.gpkg"


@dataclass(frozen=True)
class Member:
    """A file as a change left it: the digest of what it holds since; empty where only some rows are kept."""

    file: Path
    after: str


@dataclass(frozen=True)
class FileBackup:
    """A change that can be taken back: of a file and, for a shapefile, of those that belong to it; or of rows of a
    GeoPackage."""

    id: str
    members: tuple[Member, ...]
    when: str
    workflow: str
    title: str
    layers: tuple[LayerChange, ...] = ()

    @property
    def file(self) -> Path:
        return self.members[0].file

    def copy(self, number: int) -> Path:
        """Where a member's earlier content is kept."""
        return _home() / self.id / f"before-{number}"

    @property
    def rows(self) -> Path:
        """Where the rows of a GeoPackage are kept."""
        return _home() / self.id / _ROWS


def _home() -> Path:
    return data_place("kept")


def new_id() -> str:
    """An id for a change; later ones sort behind."""
    return f"{datetime.now(UTC).strftime('%Y%m%d-%H%M%S%f')}-{uuid.uuid4().hex[:8]}"


def hold(id: str, files: Sequence[Path]) -> None:
    """Before a commit: give what files hold now a second name, or copy it. It is no change on record yet.

    Raises
    ------
    OSError : it cannot be kept.
    """
    folder = data_folder("kept", id)
    for number, file in enumerate(files):
        copy = folder / f"before-{number}"
        try:
            os.link(file, copy)  # the same bytes under one name more, where the file system knows that
        except OSError:
            shutil.copy2(file, copy)
            sync_file(copy)


def record(
    id: str,
    members: Sequence[tuple[Path, str]],
    workflow: str,
    title: str,
    *,
    staged: Path | None = None,
    layers: Sequence[LayerChange] = (),
) -> None:
    """After a commit: put a change on record.

    Parameters
    ----------
    members : each with the digest of what it holds now.
    staged : the file with the rows that went into a GeoPackage; it is moved here.

    Raises
    ------
    OSError : it cannot be kept.
    """
    folder = data_folder("kept", id)
    if staged is not None and staged.exists():
        shutil.move(staged, folder / _ROWS)
        (folder / _ROWS).chmod(0o600)
    told = {
        "members": [[str(f), a] for f, a in members],
        "when": datetime.now(UTC).isoformat(timespec="seconds"),
        "workflow": workflow,
        "title": title,
        "layers": [c.to_json() for c in layers],
    }
    write_whole(folder / _NOTE, json.dumps(told, ensure_ascii=False, indent=1), mode=0o600)
    for old in changes(members[0][0])[MOST:]:
        forget(old.id)


def changes(file: Path | None = None) -> list[FileBackup]:
    """The changes on record, the latest first; of one file where it is named."""
    out = []
    for note in sorted(_home().glob(f"*/{_NOTE}"), reverse=True):
        change = _read(note)
        if change is not None and (file is None or change.file == file.resolve()):
            out.append(change)
    return out


def _read(note: Path) -> FileBackup | None:
    try:
        told: Mapping[str, Any] = json.loads(note.read_text(encoding="utf-8"))
        members = tuple(Member(Path(str(f)), str(a)) for f, a in told["members"])
        layers = tuple(LayerChange.from_json(c) for c in told.get("layers", ()))
        made = FileBackup(note.parent.name, members, str(told["when"]), str(told["workflow"]), str(told["title"]), layers)
    except (OSError, ValueError, KeyError, TypeError):
        return None
    return made if members else None


def take_back(change: FileBackup) -> None:
    """Bring the files back to what they held before the change.

    Raises
    ------
    DeliveryError : somebody changed one since, or it cannot be written; all stay as they are.
    """
    try:
        if change.layers:
            _take_rows_back(change)
        else:
            _take_files_back(change)
    except sqlite3.Error as error:
        raise sqlite.refused(error, change.file) from error
    except OSError as error:
        raise DeliveryError(f"it cannot be brought back ({error.strerror})", place=str(change.file)) from error
    forget(change.id)


def _take_rows_back(change: FileBackup) -> None:
    undone = [replace(c, undo=True) for c in change.layers]
    # one transaction of the database, which is all or nothing by itself
    database = in_child.in_place(change.file, change.rows, undone, None)
    try:
        database.prepare()
    except BaseException:
        database.abandon()
        raise
    for place, why in database.complete():
        raise DeliveryError(f"it cannot be brought back ({why})", place=str(place))


def _take_files_back(change: FileBackup) -> None:
    for number, member in enumerate(change.members):
        if not member.file.exists() or hash_file(member.file) != member.after:
            raise DeliveryError(
                "it was changed since, and is not brought back",
                place=str(member.file),
                way_out=f"What it held before is kept in {change.copy(number)}",
                code=Code.CHANGED_MEANWHILE,
            )
        if member.file.suffix.lower() == GEOPACKAGE.ending and sqlite.has_log(member.file):
            raise DeliveryError(
                "another program has it open",
                place=str(member.file),
                way_out="Close it there and take it back again",
                code=Code.HELD_ELSEWHERE,
            )
    journal = CommitJournal.begin(None, change.title)
    try:
        moves = []
        for number, member in enumerate(change.members):
            journal.use_folder(member.file.parent)
            new = member.file.with_name(journal.staged_name(member.file.name))
            shutil.copy2(change.copy(number), new)
            seen = FileState.of(member.file, sha256=member.after)
            moves.append(Move(member.file, new, seen, change.file, hash_file(new)))
        with folders_locked(journal.folders):
            problems = commit(journal, [FileGroup(moves)])
    except BaseException:
        with suppress(EskretError, OSError):
            journal.end()
        raise
    if problems:
        journal.leave()
        raise DeliveryError(
            f"it is not brought back yet ({problems[0][1]})",
            place=str(problems[0][0]),
            way_out=f"'eskret recover {problems[0][0].parent}' completes it",
            code=Code.INCOMPLETE,
        )
    journal.end()


def forget(id: str) -> None:
    """Keep a change no longer."""
    shutil.rmtree(_home() / id, ignore_errors=True)


def sweep(id: str) -> None:
    """Take away what was held for a change that never came on record."""
    if not (_home() / id / _NOTE).exists():
        forget(id)
