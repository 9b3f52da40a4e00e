"""Find and load the operations that a project has of its own; a file that changed is loaded anew."""

from __future__ import annotations

import sys
import threading
import types
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from eskret.errors import Action, Code, DocumentError, EskretError
from eskret.formats import gdal
from eskret.operations.base import Operation
from eskret.user_operations import trust
from eskret.user_operations.adapter import OwnOperation, failure, operation_of
from eskret.user_operations.declare import declared_in
from eskret.user_operations.descriptors import OperationCard, ProblemCard, ProjectCard, SettingCard
from eskret.user_operations.failures import exception_words
from eskret.user_operations.imports import AllowedSources

_lock = threading.RLock()


@dataclass(frozen=True)
class Problem:
    """Why a file gives no operation: what is wrong, and on which line (0 where unknown)."""

    file: Path
    line: int
    text: str

    def sentence(self) -> str:
        where = f"{self.file.name}, line {self.line}" if self.line else self.file.name
        return f"{where}: {self.text}"


@dataclass
class Project:
    """What a project has: its operations by id, what is wrong, and whether its code is trusted."""

    folder: Path
    operations: dict[str, OwnOperation] = field(default_factory=dict)
    problems: list[Problem] = field(default_factory=list)
    trusted: bool = True
    hash: str = ""


_projects: dict[Path, Project] = {}


def load(folder: Path) -> Project:
    """The operations of a project. Nothing is imported that is not trusted; what was imported is not again until it changes."""
    folder = folder.resolve()
    with _lock:
        sources = trust.sources_of(folder)
        told = trust.hash_of_sources(sources)
        known = _projects.get(folder)
        trusted = trust.is_trusted(folder, told)
        if known is not None and known.hash == told and known.trusted == trusted:
            return known
        made = Project(folder, hash=told, trusted=trusted)
        if made.trusted and told:
            _import_all(made, sources)
        _projects[folder] = made
        return made


def _import_all(project: Project, sources: Mapping[str, bytes]) -> None:
    home = project.folder / trust.FOLDER
    gdal.with_frames()
    for name, module in list(sys.modules.items()):
        # helpers that were imported beside an operation are read anew with it
        file = getattr(module, "__file__", None)
        if file and home in Path(file).parents:
            del sys.modules[name]
    for old in [f for f in sys.meta_path if isinstance(f, AllowedSources) and f.home == home]:
        old.end()
    allowed = AllowedSources(home, {n.removeprefix(f"{trust.FOLDER}/"): s for n, s in sources.items()})
    allowed.begin()
    try:
        for name, source in allowed.sources.items():
            if "/" not in name and not name.startswith("_"):
                _import(project, home / name, source)
    finally:
        allowed.stay()


def _import(project: Project, path: Path, source: bytes) -> None:
    module = types.ModuleType(f"eskret_own_{project.hash[:12]}_{path.stem}")
    module.__file__ = str(path)
    sys.modules[module.__name__] = module
    try:
        exec(compile(source, str(path), "exec"), module.__dict__)  # the very bytes whose hash is trusted
    except SyntaxError as error:
        project.problems.append(Problem(path, error.lineno or 0, f"this is not sound Python: {error.msg}"))
        return
    except EskretError as error:
        line = _line_in(error, path)
        project.problems.append(Problem(path, line, error.sentence()))
        return
    except BaseException as error:
        if isinstance(error, KeyboardInterrupt):
            raise
        project.problems.append(Problem(path, _line_in(error, path), exception_words(error)[0]))
        return
    for thing in list(vars(module).values()):
        declared = declared_in(thing)
        if declared is None or getattr(thing, "__module__", "") != module.__name__:
            continue
        declared = replace(declared, file=path)
        if declared.id in project.operations:
            other = project.operations[declared.id].declared.file.name
            project.problems.append(Problem(path, declared.line, f"there is an operation '{declared.name}' in {other} already"))
            continue
        try:
            made = operation_of(declared)
            made.hash = project.hash
            project.operations[declared.id] = made
        except Exception as error:
            project.problems.append(Problem(path, declared.line, f"its settings cannot be made out: {error}"))


def _line_in(error: BaseException, path: Path) -> int:
    return failure(error, path).counts.get("line", 0)


def own_operations(folder: Path) -> list[Operation]:
    """The operations of a project that can be used now."""
    return list(load(folder).operations.values())


def own_operation(folder: Path, id: str) -> Operation:
    """One of them.

    Raises
    ------
    DocumentError : it is not there, does not load, or is not trusted yet.
    """
    project = load(folder)
    if id in project.operations:
        return project.operations[id]
    if not project.trusted:
        raise DocumentError(
            f"'{id}' is code that came with this project, and nobody has allowed it yet",
            place=str(folder / trust.FOLDER),
            way_out=f"Read it, then allow it, in the window or with: eskret trust {folder}",
            code=Code.UNTRUSTED_CODE,
            action=Action.READ_CODE,
        )
    if project.problems:
        told = "; ".join(p.sentence() for p in project.problems[:3])
        raise DocumentError(f"there is no operation '{id}', and not all of the project's code loads: {told}")
    names = ", ".join(project.operations) or "none"
    raise DocumentError(f"there is no operation '{id}' in {folder / trust.FOLDER}", way_out=f"Of your own there are {names}")


def forget(folder: Path | None = None) -> None:
    """Let go of what was loaded, of one project or all."""
    with _lock:
        if folder is None:
            _projects.clear()
        else:
            _projects.pop(folder.resolve(), None)


def cards(folder: Path) -> ProjectCard:
    """What a process that must not import the code needs to know of it."""
    project = load(folder)
    return ProjectCard(
        trusted=project.trusted,
        hash=project.hash,
        files=tuple(str(p.relative_to(project.folder)) for p in trust.code_in(project.folder)),
        problems=tuple(ProblemCard(file=str(p.file), line=p.line, text=p.sentence()) for p in project.problems),
        operations=tuple(card_of(o) for o in project.operations.values()),
    )


def choices(folder: Path, id: str, settings: Mapping[str, Any]) -> dict[str, dict[str, str]]:
    """What the settings whose choices are made by a function offer with these values, as texts with words.

    Raises
    ------
    DocumentError : there is no such operation, or its function fails.
    """
    operation = own_operation(folder, id)
    assert isinstance(operation, OwnOperation)
    return operation.choices_with(settings)


def card_of(operation: OwnOperation) -> OperationCard:
    """What is told of an operation."""
    declared = operation.declared
    settings = []
    for name, info in declared.infos().items():
        default, choices = declared.settings[name].default, declared.settings[name].choices
        settings.append(
            SettingCard(
                name=name,
                label=info.label,
                help=info.help,
                kind=info.kind,
                choices=dict(info.choices),
                required=default is ...,
                default=None if default is ... else _plain(default),
                example=info.example,
                shown_when=info.shown_when,
                of=info.of,
                depends=callable(choices),
            )
        )
    return OperationCard(
        id=operation.id,
        title=operation.title,
        phase=operation.phase,
        doc=declared.doc or declared.title,
        also_known_as=tuple(operation.also_known_as),
        takes_layers=operation.has_input,
        settings=tuple(settings),
        author=declared.author,
        limits=declared.limits,
        file=str(declared.file),
        line=declared.line,
        works_on=declared.works_on,
    )


def _plain(value: object) -> object:
    value = getattr(value, "value", value)
    return value if isinstance(value, bool | int | float | str | list | dict) or value is None else str(value)
