"""Whether a rehearsal would say again what it said before: of a run that succeeded, with every file as it was then."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from eskret.errors import EskretError
from eskret.operations.registry import operation_by_id
from eskret.operations.settings import validate
from eskret.user_operations.trust import code_in
from eskret.workflow.cache.file_hashes import stat_of, with_companions
from eskret.workflow.model.contexts import context_of
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.references import bound, settings_for
from eskret.workflow.outputs.records import Outputs
from eskret.workflow.run import consent

if TYPE_CHECKING:
    from eskret.workflow.run.engine import Run


def was_passed(run: Run) -> bool:
    """Whether this very run succeeded before, and nothing has changed since that a rehearsal looks at."""
    told = _told(run)
    if told is None or run.result_cache is None:
        return False
    known = run.result_cache.lookup(told)
    if known is None:
        return False
    try:
        return bool(known["reads"] == _reads(run) and known["places"] == _places(known["places"]))
    except (EskretError, OSError):
        return False


def remember_passed(run: Run, seen: Mapping[str, set[Path] | None]) -> None:
    """Note that a run succeeded.

    Parameters
    ----------
    seen : the files that each step was seen to read, None for one of which that cannot be told.
    """
    told = _told(run)
    if told is None or run.result_cache is None or any(files is None for files in seen.values()):
        return
    try:
        reads = _reads(run)
        files = {p for found in seen.values() for path in found or () for p in with_companions(path)}
        # a file that comes to where rounds read from would be read too
        rounds = {p for s in run.document.steps if s.each is not None for p in seen.get(s.id) or ()}
        folders = {up for path in rounds for up in _up(path, run.folder)}
        outputs = Outputs.beside(run.workflow, run.folder)
        written = {run.folder / name for name in outputs.files}
        run.result_cache.remember(told, {"reads": reads, "places": _places({*files, *folders, *written, *_always(run)})})
    except (EskretError, OSError):
        return


def _told(run: Run) -> Any:
    if run.result_cache is None or run.workflow is None or run.given or run.shared:
        return None
    try:
        values = run.document.values(run.values)
    except EskretError:
        return None
    return [str(run.workflow), str(run.folder), run.if_exists, run.document.to_text(), values]


def _always(run: Run) -> set[Path]:
    return {*consent.places(), *code_in(run.folder)}


def _up(path: Path, folder: Path) -> list[Path]:
    """The folders that a file lies in, up to that of the workflow."""
    out = [path.parent]
    while out[-1] != folder and folder in out[-1].parents:
        out.append(out[-1].parent)
    return out


def _places(places: Iterable[Any]) -> dict[str, Any]:
    return {str(p): list(stat_of(Path(p))) if Path(p).exists() else None for p in places}


def _reads(run: Run) -> dict[str, list[str]]:
    """The files that steps will read, as far as they can be told before a run: patterns may match others by now.

    Raises
    ------
    EskretError : that cannot be told of a step.
    """
    values = run.document.values(run.values)
    document = bound(run.document, values)
    out = {}
    for step in document.steps:
        if not step.off and step.each is None:
            found = _reads_of(step, values, run, document)
            if found is None:
                raise EskretError("it reads what may change unseen", place=step.id)
            out[step.id] = [str(p) for p in found]
    return out


def _reads_of(step: Step, values: Mapping[str, object], run: Run, document: Document) -> list[Path] | None:
    operation = operation_by_id(step.use)
    settings = settings_for(step, None, values)
    context = context_of(document, step.id, values, run.folder, chain=run.chain)
    found = operation.reads(validate(operation.Settings, settings), context)
    return None if found is None else list(found)
