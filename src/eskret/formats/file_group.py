"""Files that are renamed into their places: the participant of a transaction for every format but a shared GeoPackage.

The files of one dataset (.shp, .dbf, .shx ...) are renamed in direct succession. Who may read a file, and what else the file
system says of it, stays as it was.
"""

from __future__ import annotations

import os
import sqlite3
import stat
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from eskret.core.files.atomic import sync_file, sync_folders
from eskret.core.files.hashing import FileState, hash_file
from eskret.core.files.transaction import Participant, Recovery
from eskret.errors import Code, DeliveryError, TargetChangedError
from eskret.formats import sqlite

CHANGED = "it was changed since by somebody else"


@dataclass(frozen=True)
class Move:
    """A staged file and its target, with the target as it was seen; ``sha256`` is of what is staged. ``staged`` is None for a
    file that is to go. Moves of one ``dataset`` belong together."""

    target: Path
    staged: Path | None
    seen: FileState
    dataset: Path
    sha256: str = ""


class FileGroup(Participant):
    """Renames of a run."""

    kind = "files"

    def __init__(self, moves: Sequence[Move]) -> None:
        self._held: list[sqlite3.Connection] = []
        order: dict[Path, list[Move]] = {}
        for move in moves:
            order.setdefault(move.dataset, []).append(move)
        self.moves = [m for group in order.values() for m in group]

    @property
    def targets(self) -> Sequence[Path]:
        return [m.target for m in self.moves]

    def prepare(self) -> None:
        ready = []
        for move in self.moves:
            if not move.seen.still(move.target):
                raise changed(move.target)
            if move.staged is not None:
                like(move.target, move.staged)
                sync_file(move.staged)
            # to know later whether it is still the old one, also where the project was moved
            seen = move.seen if move.seen.sha256 or not move.seen.there else FileState.of(move.target, hashed=True)
            ready.append(replace(move, seen=seen))
        self.moves = ready
        for move in ready:
            if move.staged is not None and move.target.suffix.lower() == ".gpkg" and move.seen.there:
                self._hold(move.target)

    def _hold(self, database: Path) -> None:
        """Keep writers out of a database until another file has its place. Whoever has the old one open is told by SQLite, at
        the next writing, that it was moved."""
        if sqlite.has_log(database):
            raise DeliveryError(
                "another program has it open", place=str(database), way_out="Close it there and try again", code=Code.HELD_ELSEWHERE
            )
        held = sqlite3.connect(database, isolation_level=None, timeout=sqlite.PATIENCE, check_same_thread=False)
        self._held.append(held)
        try:
            held.execute("BEGIN EXCLUSIVE")
        except sqlite3.Error as error:
            if not sqlite.is_damaged(error):  # one that is no database has no writers either
                raise sqlite.refused(error, database) from error

    def _let_go(self) -> None:
        for held in self._held:
            held.close()
        self._held.clear()

    def complete(self) -> list[tuple[Path, str]]:
        problems: list[tuple[Path, str]] = []
        for move in self.moves:
            try:
                if move.staged is None:
                    move.target.unlink(missing_ok=True)
                else:
                    os.replace(move.staged, move.target)
            except OSError as error:
                problems.append((move.target, error.strerror or str(error)))
        self._let_go()
        with suppress(OSError):
            sync_folders(m.target.parent for m in self.moves)
        return problems

    def abandon(self) -> None:
        """What is staged is taken away by whoever staged it."""
        self._let_go()

    def to_json(self) -> dict[str, object]:
        return {
            "moves": [
                {
                    "target": str(m.target),
                    "staged": None if m.staged is None else str(m.staged),
                    "seen": m.seen.to_json(),
                    "dataset": str(m.dataset),
                    "sha256": m.sha256,
                }
                for m in self.moves
            ]
        }

    @classmethod
    def from_json(cls, told: Mapping[str, Any], moved: Callable[[Path], Path]) -> FileGroup:
        moves = []
        for one in told["moves"]:
            staged = None if one["staged"] is None else moved(Path(one["staged"]))
            target = moved(Path(one["target"]))
            if staged is not None and staged.parent != target.parent:
                raise ValueError("a staged file stands beside its target")
            moves.append(Move(target, staged, FileState.from_json(one["seen"]), moved(Path(one["dataset"])), str(one["sha256"])))
        return cls(moves)

    def recover(self) -> Recovery:
        found = Recovery()
        groups: dict[Path, list[Move]] = {}
        for move in self.moves:
            groups.setdefault(move.dataset, []).append(move)
        for group in groups.values():
            open_ = [m for m in group if m.staged is not None and m.staged.exists()]
            gone = [m for m in group if m.staged is None and m.target.exists()]
            strange = [m for m in [*open_, *gone] if not m.seen.still(m.target)]
            if strange and len(open_) == sum(m.staged is not None for m in group):
                # none of this dataset is in its place yet, and somebody has been there: it stays as they left it
                found.left += [(m.target, CHANGED) for m in strange]
                continue
            found.already += [m.target for m in group if m.staged is not None and m not in open_]
            for move in open_:
                assert move.staged is not None
                if move in strange or (move.sha256 and hash_file(move.staged) != move.sha256):
                    found.left.append((move.target, CHANGED if move in strange else "what was staged for it is damaged"))
                    continue
                try:
                    os.replace(move.staged, move.target)
                except OSError as error:
                    found.left.append((move.target, f"it cannot be put in place now ({error.strerror})"))
                    found.retry = True
                    continue
                found.completed.append(move.target)
            for move in gone:
                if move not in strange:
                    move.target.unlink(missing_ok=True)
            sync_folders(m.target.parent for m in group)
        return found


def changed(target: Path) -> TargetChangedError:
    """What to say of a target that is not what it was when it was staged."""
    return TargetChangedError(
        "somebody else changed it while this run was under way",
        place=str(target),
        way_out="Nothing was written; run again",
        code=Code.CHANGED_MEANWHILE,
    )


def like(old: Path, new: Path) -> None:
    """Give a new file the permissions, the group and the extended attributes of the one whose place it takes.

    Raises
    ------
    DeliveryError : the group cannot be kept, so that others than before could read it.
    OSError : the new one is not there.
    """
    try:
        was = old.stat()
    except FileNotFoundError:
        return
    now = new.stat()
    if now.st_gid != was.st_gid:
        try:
            os.chown(new, -1, was.st_gid)
        except PermissionError as error:
            if was.st_mode & (stat.S_IRWXG | stat.S_ISGID):
                raise DeliveryError(
                    "it belongs to a group that you are not in, so a new file in its place would be another's",
                    place=str(old),
                    way_out="Save under another name, or ask its owner",
                    code=Code.SHARED_FILE,
                ) from error
    os.chmod(new, stat.S_IMODE(was.st_mode))
    for name in _attributes(old):
        with suppress(OSError):  # some are the system's alone to set
            os.setxattr(new, name, os.getxattr(old, name))


def _attributes(path: Path) -> list[str]:
    try:
        return [n for n in os.listxattr(path) if n.startswith(("user.", "system.posix_acl"))]
    except OSError:
        return []
