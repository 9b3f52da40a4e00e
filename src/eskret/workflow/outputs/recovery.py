"""After a crash: complete commits that were decided, take away what was only staged, and say so.

Every command does it for the folder it works on. What it does comes from journals in the user's own data folder alone; a
folder can bring none. Journals of living processes are left alone.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from eskret.core.files.locks import folders_locked
from eskret.core.files.transaction import DECIDED, CommitJournal, Participant, Recovery, is_alive, marks_in, pending
from eskret.errors import EskretError
from eskret.formats import sqlite
from eskret.formats.file_group import FileGroup
from eskret.formats.geopackage.in_place import CHANGE, GeoPackageInPlace
from eskret.formats.known import GEOPACKAGE
from eskret.workflow.outputs import file_backups
from eskret.workflow.outputs.completing import discard_drafts, finish

_KINDS: dict[str, type[Participant]] = {p.kind: p for p in (FileGroup, GeoPackageInPlace)}


@dataclass
class Recovered:
    """What was done about one commit that was cut short behind its commit point."""

    workflow: str
    title: str
    completed: list[Path] = field(default_factory=list)
    left: list[tuple[Path, str]] = field(default_factory=list)
    pending: bool = False
    """Whether something could not be done now and is tried again the next time."""

    def sentences(self) -> list[str]:
        """What a person is told."""
        out = []
        what = f"the run of '{self.title}'" if self.title else "a run"
        if self.completed:
            names = ", ".join(p.name for p in self.completed[:4]) + (" ..." if len(self.completed) > 4 else "")
            out.append(f"{what[:1].upper()}{what[1:]} was cut short while it put its outputs in place; that is done now: {names}.")
        elif not self.left:
            out.append(f"{what[:1].upper()}{what[1:]} was cut short after all its outputs were in place; it is remembered now.")
        again = "It is tried again by the next command." if self.pending else "Run it again to have it."
        out += [f"{path}: {why}, so what {what} made for it is not there. {again}" for path, why in self.left]
        return out


def recover(folder: Path | None = None, workflow: Path | None = None) -> list[Recovered]:
    """Recover what is pending.

    Parameters
    ----------
    folder : only commits that concern it or a folder in it; None for all.
    workflow : also those of this workflow, wherever they went.
    """
    found = []
    for journal in pending():
        try:
            if journal.told["state"] != DECIDED:
                _discard(journal)
            elif folder is None or _concerns(journal, folder.resolve(), workflow):
                moved = _moved(journal, folder)
                if moved is None:
                    journal.leave()
                    found.append(_stuck(journal, "its folders are not there, as where a drive is not connected"))
                else:
                    found.append(_complete(journal, moved))
            else:
                journal.leave()
        except (OSError, EskretError, KeyError, TypeError, ValueError) as error:
            journal.leave()
            found.append(_stuck(journal, f"its journal cannot be carried out ({type(error).__name__}: {error})"))
    return found


def _stuck(journal: CommitJournal, why: str) -> Recovered:
    """What is told of a commit that nothing could be done about now; its journal stays."""
    places = journal.folders[:1] or [Path(str(journal.told["workflow"]) or "a run")]
    return Recovered(str(journal.told["workflow"]), str(journal.told["title"]), [], [(places[0], why)], pending=True)


def pending_elsewhere(folders: Iterable[Path]) -> list[str]:
    """Commits that others have under way or that were cut short there, as sentences. Nothing that their marks say is done."""
    out = []
    for folder in dict.fromkeys(folders):
        for mark in marks_in(folder):
            if not is_alive(mark.run):
                out.append(
                    f"{folder}: {mark.user} on {mark.machine} is putting outputs in place here, or was cut short at it. Outputs "
                    f"may be of two runs until 'eskret recover' is run there; if nobody can, check them and remove {mark.file.name}."
                )
    return out


def _discard(journal: CommitJournal) -> None:
    """Nothing was decided: every output is as it was."""
    _roll_back(journal.folders)
    for id in journal.told["backup_ids"]:
        file_backups.sweep(str(id))
    discard_drafts([str(p) for p in journal.told["pushes"]])
    journal.end()


def _roll_back(folders: Iterable[Path]) -> None:
    """Undo what a transaction of ours had begun in a database when it was killed."""
    for folder in folders:
        for left in folder.glob(f"*{GEOPACKAGE.ending}-journal") if folder.is_dir() else ():
            database = left.with_name(left.name.removesuffix("-journal"))
            if not sqlite.roll_back_hot(database) and left.exists():
                sqlite.take_away_stale(database)


def _concerns(journal: CommitJournal, folder: Path, workflow: Path | None) -> bool:
    told = Path(journal.told["workflow"]) if journal.told["workflow"] else None
    if workflow is not None and told is not None and (told == workflow.resolve() or not told.exists()):
        return True
    if told is not None and (folder == told.parent or folder in told.parents):
        return True
    return any(folder == f or folder in f.parents for f in journal.folders)


@dataclass(frozen=True)
class _Places:
    """Where the folders and the workflow of a journal are now."""

    workflow: Path | None
    folders: Mapping[Path, Path] = field(default_factory=dict)

    def __call__(self, path: Path) -> Path:
        return self.folders.get(path.parent, path.parent) / path.name


def _moved(journal: CommitJournal, folder: Path | None) -> _Places | None:
    """Where everything is now; None where it cannot be found, as on a drive that is not there."""
    workflow = Path(journal.told["workflow"]) if journal.told["workflow"] else None
    if all(f.is_dir() for f in journal.folders):
        return _Places(workflow)
    if folder is None or workflow is None or workflow.parent.exists():
        return None
    mapping: dict[Path, Path] = {}
    for number, was in enumerate(journal.folders):
        if was.is_dir():
            continue
        if workflow.parent != was and workflow.parent not in was.parents:
            return None
        now = folder.resolve() / was.relative_to(workflow.parent)
        # the mark proves that this is the folder, and no other that is called so
        if not any(m.run == journal.token and m.place == number for m in marks_in(now)):
            return None
        mapping[was] = now
    return _Places(folder.resolve() / workflow.name, mapping)


def _complete(journal: CommitJournal, moved: _Places) -> Recovered:
    told: dict[str, Any] = journal.told
    workflow = moved.workflow
    participants = [_KINDS[p["kind"]].from_json(p, moved) for p in told["participants"]]
    folders = {t.parent for p in participants for t in p.targets}
    if workflow is not None and workflow.parent.is_dir():
        folders.add(workflow.parent)
    whole = Recovery()
    with folders_locked(folders):
        for one in participants:
            whole.add(one.recover())
        told = {
            **told,
            "records": [{**r, "path": str(moved(Path(r["path"])))} for r in told.get("records", ())],
            "backups": [_moved_backup(b, moved) for b in told.get("backups", ())],
        }
        _with_numbers(told["backups"], participants)
        left = {path for path, _ in whole.left}
        there = workflow if workflow is not None and workflow.exists() else None
        finish(told, left, there, there.parent if there else Path.cwd())
    out = Recovered(str(workflow or ""), str(told["title"]), whole.completed, whole.left, whole.retry)
    if whole.retry:
        journal.leave()
    else:
        journal.clear(moved.folders.values())
        journal.end()
    return out


def _with_numbers(backups: list[dict[str, Any]], participants: Iterable[Participant]) -> None:
    """What can be taken back, with the numbers that rows got in the end."""
    databases = {str(p.target): p for p in participants if isinstance(p, GeoPackageInPlace)}
    for one in backups:
        if one.get("target") in databases:
            one["layers"] = [c.to_json() for c in databases[one["target"]].changes if c.action == CHANGE]


def _moved_backup(backup: Mapping[str, Any], moved: _Places) -> dict[str, Any]:
    if "files" in backup:
        return {**backup, "files": [str(moved(Path(f))) for f in backup["files"]]}
    return {**backup, "target": str(moved(Path(backup["target"]))), "staged": str(moved(Path(backup["staged"])))}
