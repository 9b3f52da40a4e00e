"""Behind the commit point: what was written is remembered, what can be taken back goes on record, pushes are freed."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

from eskret.core.files.transaction import PREFIX
from eskret.errors import EskretError
from eskret.formats.geopackage.in_place import LayerChange
from eskret.services.journal import DRAFT, PREPARED, open_push, pushes
from eskret.workflow.outputs import file_backups
from eskret.workflow.outputs.records import FileRecord, Outputs, record_of


def finish(
    told: Mapping[str, Any],
    left: set[Path],
    workflow: Path | None,
    folder: Path,
    ahead: Callable[[Path], FileRecord | None] = lambda target: None,
) -> tuple[dict[Path, str], list[tuple[Path, str]]]:
    """Behind the commit point, when the outputs are in their places: remember them, put what can be taken back on record,
    free the pushes. The folders are locked.

    Parameters
    ----------
    told : the journal.
    left : targets that are not in their places.
    ahead : a record taken of what was staged, where there is one.

    Returns
    -------
    dict : the digest of each file; list : what could not be done, with the reason.
    """
    problems: list[tuple[Path, str]] = []
    digests: dict[Path, str] = {}
    fresh: dict[Path, FileRecord] = {}
    foreign: set[Path] = set()
    for one in told.get("records", ()):
        target = Path(one["path"])
        if target in left:
            continue
        try:
            record = replace(record_of(target, one["layers"], ahead(target)), of=one["of"])
        except OSError as error:
            problems.append((target, f"it cannot be read again ({error.strerror})"))
            continue
        digests[target] = record.sha256
        if one["own"]:
            fresh[target] = record
        else:
            foreign.add(target)
    try:
        if workflow is not None and fresh:
            # what a crash leaves of it is taken away with all else of this transaction
            waiting = workflow.with_name(f"{PREFIX}{str(told['token'])[:12]}-records")
            Outputs.remember(workflow, folder, fresh, waiting)
    except OSError as error:
        problems.append((workflow or folder, f"what was written could not be remembered ({error.strerror})"))
    for one in told.get("backups", ()):
        try:
            _record_backup(one, digests, told)
        except (OSError, KeyError, TypeError, ValueError) as error:
            problems.append((Path(one.get("target", "")), f"the change cannot be taken back later ({error})"))
    try:
        _free_pushes(told.get("pushes", ()))
    except (EskretError, OSError) as error:
        problems.append((folder, f"the push could not be made ready ({error})"))
    return digests, problems


def _record_backup(one: Mapping[str, Any], digests: Mapping[Path, str], told: Mapping[str, Any]) -> None:
    workflow, title = str(told["workflow"]), str(told["title"])
    if "files" in one:
        members = [(Path(f), digests[Path(f)]) for f in one["files"] if Path(f) in digests]
        if members:
            file_backups.record(one["id"], members, workflow, title)
        return
    layers = [LayerChange.from_json(c) for c in one["layers"]]
    file_backups.record(one["id"], [(Path(one["target"]), "")], workflow, title, staged=Path(one["staged"]), layers=layers)


def _free_pushes(ids: Sequence[str]) -> None:
    """The run has succeeded: its pushes can be sent. Those of earlier runs that nobody sent are outdone."""
    for id in ids:
        with open_push(id) as journal:
            if journal.push.state == DRAFT:
                journal.note(state=PREPARED)
            now = journal.push
        for old in pushes():
            same = (old.workflow, old.service, old.dataset) == (now.workflow, now.service, now.dataset)
            if old.state == PREPARED and same and old.id not in ids:
                open_push(old.id).remove()


def discard_drafts(ids: Sequence[str]) -> None:
    """Take away the drafts of pushes of a run that did not succeed."""
    for id in ids:
        with suppress(EskretError):
            journal = open_push(id)
            if journal.push.state == DRAFT:
                journal.remove()
            else:
                journal.close()
