"""What a file held before rows were appended to it or changed in it, kept so that it can be brought back.

A copy and a note a change, in the user's data folder; of each file the latest few stay.
"""

from __future__ import annotations

import json
import os
import shutil
import uuid
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from platformdirs import user_data_path

from eskret.errors import DeliveryError
from eskret.workflow.outputs import digest_file

MOST = 5
"""Changes of one file that are kept."""


@dataclass(frozen=True)
class Change:
    """A change of a file that can be taken back. ``after`` is the digest of the file as the change left it."""

    id: str
    file: Path
    after: str
    when: str
    workflow: str
    title: str

    @property
    def copy(self) -> Path:
        return _home() / self.id / "before"


def _home() -> Path:
    return user_data_path("eskret", appauthor=False) / "kept"


def keep(file: Path, before: Path, after: str, workflow: Path | None, title: str) -> Change:
    """Keep a file as it was.

    Parameters
    ----------
    before : its content before the change, under another name.
    after : the digest of what it holds now.
    """
    when = datetime.now(UTC)
    id = f"{when.strftime('%Y%m%d-%H%M%S%f')}-{uuid.uuid4().hex[:4]}"
    made = Change(id, file, after, when.isoformat(timespec="seconds"), str(workflow or ""), title)
    folder = _home() / id
    folder.mkdir(parents=True)
    try:
        os.link(before, made.copy)  # the same bytes under one name more, where the file system knows that
    except OSError:
        shutil.copy2(before, made.copy)
    told = {"file": str(file), "after": after, "when": made.when, "workflow": made.workflow, "title": title}
    (folder / "change.json").write_text(json.dumps(told, ensure_ascii=False, indent=1), encoding="utf-8")
    for old in changes(file)[MOST:]:
        forget(old)
    return made


def changes(file: Path | None = None) -> list[Change]:
    """The changes on record, the latest first; of one file where it is named."""
    out = []
    for note in sorted(_home().glob("*/change.json"), reverse=True):
        try:
            told = json.loads(note.read_text(encoding="utf-8"))
            one = Change(
                note.parent.name, Path(told["file"]), told["after"], told["when"], told["workflow"], told["title"]
            )
        except (OSError, ValueError, KeyError):
            continue
        if file is None or one.file == file.resolve():
            out.append(one)
    return out


def take_back(change: Change) -> None:
    """Bring the file back to what it held before the change.

    Raises
    ------
    DeliveryError : somebody changed the file since, or it cannot be written; it stays as it is.
    """
    try:
        if not change.file.exists() or digest_file(change.file) != change.after:
            raise DeliveryError(
                "it was changed since, and is not brought back", place=str(change.file),
                way_out=f"What it held before is kept in {change.copy}",
            )  # fmt: skip
        waiting = change.file.with_name(f".eskret-{os.getpid()}-{change.file.name}")
        shutil.copy2(change.copy, waiting)
        with waiting.open("rb") as stream:
            os.fsync(stream.fileno())
        waiting.replace(change.file)
    except OSError as error:
        raise DeliveryError(f"it cannot be brought back ({error.strerror})", place=str(change.file)) from error
    forget(change)


def forget(change: Change) -> None:
    """Keep a change no longer."""
    shutil.rmtree(_home() / change.id, ignore_errors=True)
