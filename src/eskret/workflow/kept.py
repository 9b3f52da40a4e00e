"""What a file held before rows were appended to it or changed in it, kept so that it can be brought back.

A copy and a note a change, in the user's data folder; of each file the latest few stay.
"""

from __future__ import annotations

import json
import os
import shutil
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from platformdirs import user_data_path

from eskret.errors import DeliveryError
from eskret.workflow.outputs import digest_file

MOST = 5
"""Changes of one file that are kept."""


@dataclass(frozen=True)
class Member:
    """A file as a change left it: the digest of what it holds since."""

    file: Path
    after: str


@dataclass(frozen=True)
class Change:
    """A change that can be taken back: of a file and, for a shapefile, of those that belong to it."""

    id: str
    members: tuple[Member, ...]
    when: str
    workflow: str
    title: str

    @property
    def file(self) -> Path:
        return self.members[0].file

    def copy(self, number: int) -> Path:
        """Where a member's earlier content is kept."""
        return _home() / self.id / f"before-{number}"


def _home() -> Path:
    return user_data_path("eskret", appauthor=False) / "kept"


def keep(files: Sequence[tuple[Path, Path, str]], workflow: Path | None, title: str) -> Change:
    """Keep files as they were.

    Parameters
    ----------
    files : each with its content before the change, under another name, and the digest of what it holds now.
    """
    when = datetime.now(UTC)
    id = f"{when.strftime('%Y%m%d-%H%M%S%f')}-{uuid.uuid4().hex[:4]}"
    members = tuple(Member(file, after) for file, _, after in files)
    made = Change(id, members, when.isoformat(timespec="seconds"), str(workflow or ""), title)
    folder = _home() / id
    folder.mkdir(parents=True)
    for number, (_, before, _) in enumerate(files):
        try:
            os.link(before, made.copy(number))  # the same bytes under one name more, where the file system knows that
        except OSError:
            shutil.copy2(before, made.copy(number))
    told = {
        "members": [[str(m.file), m.after] for m in members],
        "when": made.when,
        "workflow": made.workflow,
        "title": title,
    }
    (folder / "change.json").write_text(json.dumps(told, ensure_ascii=False, indent=1), encoding="utf-8")
    for old in changes(made.file)[MOST:]:
        forget(old)
    return made


def changes(file: Path | None = None) -> list[Change]:
    """The changes on record, the latest first; of one file where it is named."""
    out = []
    for note in sorted(_home().glob("*/change.json"), reverse=True):
        try:
            told = json.loads(note.read_text(encoding="utf-8"))
            members = tuple(Member(Path(f), a) for f, a in told["members"])
            one = Change(note.parent.name, members, told["when"], told["workflow"], told["title"])
        except (OSError, ValueError, KeyError, TypeError):
            continue
        if members and (file is None or one.file == file.resolve()):
            out.append(one)
    return out


def take_back(change: Change) -> None:
    """Bring the files back to what they held before the change.

    Raises
    ------
    DeliveryError : somebody changed one since, or it cannot be written; all stay as they are.
    """
    waiting: list[tuple[Path, Path]] = []
    try:
        for number, member in enumerate(change.members):
            if not member.file.exists() or digest_file(member.file) != member.after:
                raise DeliveryError(
                    "it was changed since, and is not brought back", place=str(member.file),
                    way_out=f"What it held before is kept in {change.copy(number)}",
                )  # fmt: skip
            new = member.file.with_name(f".eskret-{os.getpid()}-{member.file.name}")
            shutil.copy2(change.copy(number), new)
            waiting.append((new, member.file))
            with new.open("rb") as stream:
                os.fsync(stream.fileno())
        for new, file in waiting:
            new.replace(file)
    except OSError as error:
        raise DeliveryError(f"it cannot be brought back ({error.strerror})", place=str(change.file)) from error
    finally:
        for new, _ in waiting:
            new.unlink(missing_ok=True)
    forget(change)


def forget(change: Change) -> None:
    """Keep a change no longer."""
    shutil.rmtree(_home() / change.id, ignore_errors=True)
