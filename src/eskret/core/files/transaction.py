"""One transaction over all outputs of a run: prepare, decide, complete, recover.

A *participant* is what changes outputs in one way: a group of files that are renamed into their places, a GeoPackage that is
changed where it is. All prepare; then the journal is written and synced, and that is the **commit point**. Before it
everything can be abandoned and every output is as it was; after it there is only forward, by this process or, if it dies, by
the next command that finds the journal.

The journal stands in the user's own data folder, never beside the outputs: what a stranger's folder brings along is not
carried out. It is locked for as long as its process lives. Beside the targets stands, from the commit point to the end, a
mark without instructions, so that a colleague is told, and a project that was moved meanwhile is found.
"""

from __future__ import annotations

import getpass
import json
import os
import platform
import uuid
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, ClassVar

from eskret.core.files.atomic import sync_folders, write_whole
from eskret.core.files.locks import FileLock
from eskret.core.files.user_state import data_folder, data_place

FORM = 1
PREFIX = ".eskret-"
"""How the names of staged files and marks begin; nothing of the kind is packed, read or shown."""
_MARK = ".mark"
_HOME = "transactions"
STAGING, DECIDED = "staging", "decided"


@dataclass
class Recovery:
    """What became of the outputs of a participant: put in their places, there already, or left with a reason; ``retry`` where
    the reason may be gone another time."""

    completed: list[Path] = field(default_factory=list)
    already: list[Path] = field(default_factory=list)
    left: list[tuple[Path, str]] = field(default_factory=list)
    retry: bool = False

    def add(self, other: Recovery) -> None:
        self.retry |= other.retry
        self.completed += other.completed
        self.already += other.already
        self.left += other.left


class Participant(ABC):
    """What changes some outputs of a run in one way. Its life: ``prepare``, then ``complete`` or ``abandon``, once each; or,
    made of what the journal says, ``recover``."""

    kind: ClassVar[str]

    @property
    @abstractmethod
    def targets(self) -> Sequence[Path]:
        """The files that it changes."""

    @abstractmethod
    def prepare(self) -> None:
        """Lock, compare with what was seen when the outputs were staged, and do all that can fail.

        Raises
        ------
        TargetChangedError : somebody changed a target meanwhile.
        DeliveryError, OSError : it cannot be; nothing was changed.
        """

    @abstractmethod
    def complete(self) -> list[tuple[Path, str]]:
        """After the commit point: make it so. Gives what could not be, with the reason; that stays for ``recover``."""

    @abstractmethod
    def abandon(self) -> None:
        """Before the commit point: let go of everything; the targets are as they were."""

    @abstractmethod
    def to_json(self) -> dict[str, object]:
        """All that ``recover`` needs."""

    @classmethod
    @abstractmethod
    def from_json(cls, told: Mapping[str, object], moved: Callable[[Path], Path]) -> Participant:
        """Made of what the journal says; ``moved`` gives where a path is now.

        Raises
        ------
        KeyError, TypeError, ValueError : the journal does not say what it must.
        """

    @abstractmethod
    def recover(self) -> Recovery:
        """After a crash behind the commit point: complete what is still as it was, skip what is new already, leave what is
        neither."""


class CommitJournal:
    """What one transaction is about, on disk, and the lock that says its process lives."""

    def __init__(self, token: str, lock: FileLock, told: dict[str, Any]) -> None:
        self.token = token
        self.told = told
        self._lock = lock
        self._folders = set(told["folders"])

    @classmethod
    def begin(cls, workflow: Path | None, title: str) -> CommitJournal:
        """A new one, before the first file is staged.

        Raises
        ------
        OSError : the user's data folder cannot be written.
        """
        home = data_folder(_HOME)
        while True:
            token = uuid.uuid4().hex
            lock = FileLock.take(home / f"{token}.lock")
            if lock is not None:
                break
        told = {
            "form": FORM,
            "token": token,
            "state": STAGING,
            "pid": os.getpid(),
            "user": _user(),
            "machine": platform.node(),
            "workflow": str(workflow.resolve()) if workflow else "",
            "title": title,
            "folders": [],
            "made": [],
            "participants": [],
            "pushes": [],
            "backup_ids": [],
        }
        made = cls(token, lock, told)
        write_whole(made._file, json.dumps(told) + "\n", mode=0o600, synced=False, waiting=made._waiting)
        return made

    @property
    def folders(self) -> list[Path]:
        """The folders that something is staged in."""
        return [Path(f) for f in self.told["folders"]]

    def staged_name(self, name: str) -> str:
        """A hidden name of this transaction for a file of this name."""
        return f"{PREFIX}{self.token[:12]}-{name}"

    def use_folder(self, folder: Path, made: Iterable[Path] = ()) -> None:
        """Say that something will be staged in a folder, before it is; ``made`` are the folders made for it."""
        if str(folder) not in self._folders:
            self._folders.add(str(folder))
            self._say(folders=[str(folder)], made=[str(m) for m in made])

    def use_push(self, id: str) -> None:
        """Say that a push will be drafted."""
        self._say(pushes=[id])

    def new_backup(self, id: str) -> str:
        """Say that a backup will be made under this id, before it is."""
        self._say(backup_ids=[id])
        return id

    def _say(self, **more: list[str]) -> None:
        """Add to what is told, in a line of its own, so that a commit of thousands of folders does not write all of them again
        for each; a line that a kill cuts short tells of something that was not begun."""
        for name, values in more.items():
            self.told[name] += values
        with self._file.open("ab") as stream:
            stream.write(json.dumps(more).encode("ascii") + b"\n")

    def decide(self, participants: Sequence[Participant], more: Mapping[str, object]) -> None:
        """The commit point.

        Raises
        ------
        OSError : it cannot be written; nothing is decided.
        """
        for number, folder in enumerate(self.folders):
            with suppress(OSError):  # a folder that takes no mark takes outputs all the same
                mark = folder / f"{PREFIX}{self.token[:12]}{_MARK}"
                write_whole(mark, self._mark(number), synced=False, waiting=folder / self.staged_name("new"))
        told = {**self.told, **more, "state": DECIDED, "participants": [{"kind": p.kind, **p.to_json()} for p in participants]}
        try:
            write_whole(self._file, json.dumps(told, indent=1), mode=0o600, waiting=self._waiting)
        except OSError:
            # it may be there and only not be known to be synced: then it must not be
            with suppress(OSError):
                self._file.unlink(missing_ok=True)
                sync_folders([self._file.parent])
            raise
        self.told = told

    def _mark(self, number: int) -> str:
        told = {
            "about": "Eskret was putting outputs in their places here. Whoever ran it finishes that with: eskret recover",
            "run": self.token,
            "place": number,
            "user": self.told["user"],
            "machine": self.told["machine"],
        }
        return json.dumps(told)

    def end(self) -> None:
        """All is done, or nothing is to be: the journal, its marks and everything staged under it go."""
        self.clear(self.folders)
        for folder in reversed([Path(m) for m in self.told.get("made", ())]):
            if self.told["state"] != DECIDED:
                with suppress(OSError):
                    folder.rmdir()
        self._file.unlink(missing_ok=True)
        self._waiting.unlink(missing_ok=True)
        self._lock.release()

    def clear(self, folders: Iterable[Path]) -> None:
        """Take away what is staged in folders under this transaction, and its marks."""
        for folder in folders:
            for stray in folder.glob(f"{PREFIX}{self.token[:12]}*") if folder.is_dir() else ():
                with suppress(OSError):
                    stray.unlink(missing_ok=True)

    def leave(self) -> None:
        """Let go of it and let it stand, for whoever recovers."""
        self._lock.release(keep_file=True)

    @property
    def _file(self) -> Path:
        return data_place(_HOME) / f"{self.token}.json"

    @property
    def _waiting(self) -> Path:
        return self._file.with_suffix(".new")


def commit(
    journal: CommitJournal, participants: Sequence[Participant], more: Callable[[], Mapping[str, object]] = dict
) -> list[tuple[Path, str]]:
    """Carry a transaction through.

    Parameters
    ----------
    participants : in the order in which they are prepared; each locks what it changes, so the order is that of the targets.
    more : called when all are prepared; what it gives is written into the journal with the decision.

    Returns
    -------
    list : what could not be completed, with the reason. The transaction is decided all the same.

    Raises
    ------
    TargetChangedError, DeliveryError, OSError : nothing was changed.
    """
    prepared: list[Participant] = []
    try:
        for one in sorted(participants, key=lambda p: str(p.targets[0]) if p.targets else ""):
            prepared.append(one)
            one.prepare()
        journal.decide(prepared, more())
    except BaseException:
        for one in reversed(prepared):
            one.abandon()
        raise
    return [problem for one in prepared for problem in one.complete()]


def pending() -> list[CommitJournal]:
    """Journals of processes that are gone, each locked by this one from now on: end or leave them. Those of living processes
    are nobody's business; one that cannot be understood was never synced, so nothing hangs on it."""
    home = data_place(_HOME)
    found = []
    for file in sorted(home.glob("*.json")) if home.is_dir() else ():
        token = file.stem
        try:
            lock = FileLock.take(home / f"{token}.lock")
        except OSError:
            continue
        if lock is None:
            continue
        told = _read(file, token)
        if told is None:
            if file.exists():
                file.unlink(missing_ok=True)
            lock.release()
            continue
        found.append(CommitJournal(token, lock, told))
    for lone in [*home.glob("*.lock"), *home.glob("*.new")] if home.is_dir() else ():
        # killed before there was a journal at all
        if not lone.with_suffix(".json").exists():
            with suppress(OSError):
                held = FileLock.take(lone.with_suffix(".lock"))
                if held is not None:
                    lone.with_suffix(".new").unlink(missing_ok=True)
                    held.release()
    return found


def _read(file: Path, token: str) -> dict[str, object] | None:
    try:
        text = file.read_text(encoding="utf-8")
        told, end = json.JSONDecoder().raw_decode(text)
        for line in text[end:].splitlines():
            with suppress(json.JSONDecodeError):
                for name, values in (json.loads(line) if line else {}).items():
                    told[name] += values
        sound = told["form"] == FORM and told["token"] == token and told["state"] in (STAGING, DECIDED)
        lists = all(isinstance(told[n], list) for n in ("folders", "made", "participants", "pushes", "backup_ids"))
        texts = all(isinstance(told[n], str) for n in ("workflow", "title", "user", "machine"))
        begun = all(isinstance(n, str) for name in ("folders", "made", "pushes", "backup_ids") for n in told[name])
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return None
    return told if sound and lists and texts and begun else None


@dataclass(frozen=True)
class Mark:
    """What stands beside targets while a commit is under way: whose, and the number of the folder in its journal."""

    file: Path
    run: str
    place: int
    user: str
    machine: str


def marks_in(folder: Path) -> list[Mark]:
    """The marks in a folder. They say who was at work; nothing that they say is done."""
    out = []
    for file in folder.glob(f"{PREFIX}*{_MARK}") if folder.is_dir() else ():
        try:
            told = json.loads(file.read_text(encoding="utf-8"))
            out.append(Mark(file, str(told["run"]), int(told["place"]), str(told["user"])[:80], str(told["machine"])[:80]))
        except (OSError, ValueError, KeyError, TypeError):
            continue
    return out


def is_alive(token: str) -> bool:
    """Whether the process of a transaction of this user's lives."""
    path = data_place(_HOME) / f"{token}.lock"
    if not path.exists():
        return False
    lock = FileLock.take(path)
    if lock is None:
        return True
    lock.release(keep_file=True)
    return False


def _user() -> str:
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return str(os.getuid())
