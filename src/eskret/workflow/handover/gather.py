"""What belongs to a workflow: its file, those that it uses, the project's own code, what it reads."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePosixPath
from typing import Any

from eskret.core.files.datasets import is_dataset
from eskret.core.naming import fill_template, number_collisions
from eskret.errors import DocumentError, EskretError
from eskret.formats import sources
from eskret.formats.coordinates_text import ENDINGS as TEXTS
from eskret.operations.registry import OWN, operation_by_id, project
from eskret.operations.settings import setting_info
from eskret.user_operations.trust import code_in
from eskret.workflow.cache.file_hashes import with_companions
from eskret.workflow.model import document as documents
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.map_spec import MapSaid
from eskret.workflow.model.parameters import Parameter
from eskret.workflow.model.references import with_parameters

WORKFLOW, CODE, INPUT = "workflow", "code", "input"
_ELSEWHERE, _OTHERS = "inputs", "workflows"


@dataclass(frozen=True)
class Piece:
    """A file of the pack: its place in it, and where it is now, or the text that it gets instead. ``asked_by`` names the
    steps that read it."""

    name: str
    role: str
    path: Path
    text: str | None = None
    asked_by: tuple[str, ...] = ()

    @property
    def size(self) -> int:
        return len(self.text.encode()) if self.text is not None else self.path.stat().st_size


@dataclass
class Gathered:
    """All pieces, the workflow itself first; and what was found wanting, as sentences."""

    pieces: dict[str, Piece] = field(default_factory=dict)
    problems: list[str] = field(default_factory=list)

    @property
    def main(self) -> str:
        return next(iter(self.pieces))

    def size(self, role: str = "") -> int:
        """Bytes of the pieces of a role, or of all."""
        return sum(p.size for p in self.pieces.values() if role in ("", p.role))


def gather(workflow: Path, values: Mapping[str, Any] | None = None) -> Gathered:
    """All that belongs to a workflow. Paths within its folder stay; what lies elsewhere gets a place in the pack, and the
    workflow in the pack names it there.

    Raises
    ------
    DocumentError : it cannot be read.
    """
    found = Gathered()
    _Gatherer(found).add(workflow.resolve(), PurePosixPath(), values or {})
    return found


class _Gatherer:
    def __init__(self, found: Gathered) -> None:
        self.found = found
        self.places: dict[Path, str] = {}  # of workflows and files that lie elsewhere

    def add(self, workflow: Path, home: PurePosixPath, given: Mapping[str, Any]) -> str:
        """Add a workflow, whose folder becomes this one in the pack; its place."""
        name = str(home / workflow.name)
        if workflow in self.places:
            return self.places[workflow]
        self.places[workflow] = name
        document = documents.read(workflow)
        folder = workflow.parent
        # its place is taken before that of what it needs
        self.found.pieces[name] = Piece(name, WORKFLOW, workflow)
        values = document.values(given)
        parameters = tuple(self._parameter(p, folder, home) for p in document.parameters)
        with project(folder):
            steps = tuple(self._step(s, folder, home, values) for s in document.steps)
        packed = replace(document, steps=steps, parameters=parameters, map=self._map(document, folder, home))
        text = None if packed == document else packed.to_text()
        self.found.pieces[name] = Piece(name, WORKFLOW, workflow, text)
        if any(s.use.startswith(OWN) for s in document.steps):
            for path in code_in(folder):
                place = str(home / path.relative_to(folder).as_posix())
                self.found.pieces[place] = Piece(place, CODE, path)
        return name

    def _parameter(self, parameter: Parameter, folder: Path, home: PurePosixPath) -> Parameter:
        """A parameter that is a file elsewhere has its place in the pack as its default."""
        if parameter.type != "file" or not parameter.default:
            return parameter
        path = _absolute(str(parameter.default), folder)
        if not path.is_file() and not is_dataset(path):
            return parameter
        return replace(parameter, default=self._input(path, folder, home, ""))

    def _step(self, step: Step, folder: Path, home: PurePosixPath, values: Mapping[str, Any]) -> Step:
        try:
            infos = setting_info(operation_by_id(step.use).Settings)
        except EskretError as error:
            self.found.problems.append(f"step '{step.id}': {error.sentence()}")
            return step
        changed = dict(step.settings)
        for name, info in infos.items():
            value = step.settings.get(name)
            if value is None or (isinstance(value, Mapping) and set(value) == {"parameter"}):
                continue
            try:
                if info.kind == "files":
                    changed[name] = self._files(step, list(value), folder, home, values)
                elif info.kind in ("wordlist", "file") and value:
                    changed[name] = self._one(step, str(value), folder, home, values)
                elif info.kind == "workflow" and value:
                    changed[name] = self._used(step, str(value), folder, home, values)
            except EskretError as error:
                self.found.problems.append(f"step '{step.id}': {error.sentence()}")
        return replace(step, settings=changed)

    def _files(self, step: Step, patterns: list[object], folder: Path, home: PurePosixPath, values: Mapping[str, object]) -> list[object]:
        out: list[Any] = []
        texts = step.use == "load_coordinates"
        for pattern in patterns:
            text = fill_template(str(with_parameters(pattern, values)), values)
            files = sources.find_files([text], folder, other_endings=TEXTS if texts else ())
            names = [self._input(f, folder, home, step.id) for f in files]
            inside = all(_within(f, folder) for f in files) and not Path(text).is_absolute()
            out += [pattern] if inside else names
        return out

    def _one(self, step: Step, text: str, folder: Path, home: PurePosixPath, values: Mapping[str, object]) -> str:
        path = _absolute(fill_template(text, values), folder)
        if not path.is_file():
            raise DocumentError("there is no such file", place=str(path))
        name = self._input(path, folder, home, step.id)
        return text if _within(path, folder) and not Path(text).is_absolute() else name

    def _used(self, step: Step, text: str, folder: Path, home: PurePosixPath, values: Mapping[str, Any]) -> str:
        """Another workflow that a step uses."""
        path = _absolute(fill_template(text, values), folder).resolve()
        given = with_parameters(step.settings.get("values", {}), values) if step.each is None else {}
        known = {p.name for p in documents.read(path).parameters if p.type in ("file", "folder")}
        mine = {k: v for k, v in given.items() if k in known}
        if _within(path, folder):
            near = path.parent.relative_to(folder.resolve())
            self.add(path, home / near.as_posix(), mine)
            return text if not Path(text).is_absolute() else (near / path.name).as_posix()
        taken = [PurePosixPath(p).parent.name for p in self.places.values()]
        other = home / _OTHERS / number_collisions([path.stem], taken=taken)[0]
        return str(PurePosixPath(self.add(path, other, mine)).relative_to(home))

    def _map(self, document: Document, folder: Path, home: PurePosixPath) -> MapSaid:
        layers = []
        for layer in document.map.layers:
            path = _absolute(layer.file, folder) if layer.file else None
            if path is not None and path.is_file():
                name = self._input(path, folder, home, "")
                layers.append(replace(layer, file=layer.file if _within(path, folder) else name))
            else:
                layers.append(layer)
        return replace(document.map, layers=tuple(layers))

    def _input(self, path: Path, folder: Path, home: PurePosixPath, step: str) -> str:
        """Add a file that is read; its path as the workflow in the pack has it."""
        path = path.resolve()
        if _within(path, folder):
            near = path.relative_to(folder.resolve()).as_posix()
        elif path in self.places:
            near = self.places[path]
        else:
            taken = [PurePosixPath(p).name for p in self.places.values()]
            stem = number_collisions([path.stem], taken=[PurePosixPath(t).stem for t in taken])[0]
            near = f"{_ELSEWHERE}/{stem}{path.suffix}"
            self.places[path] = near
        for one in with_companions(path):
            beside = PurePosixPath(near).with_name(one.name if one != path else PurePosixPath(near).name)
            if is_dataset(path):
                beside = PurePosixPath(near) / one.relative_to(path).as_posix()
            elif one != path and one.name.startswith(path.stem):
                beside = PurePosixPath(near).with_name(PurePosixPath(near).stem + one.name[len(path.stem) :])
            place = str(home / beside)
            known = self.found.pieces.get(place)
            asked = tuple(dict.fromkeys((*(known.asked_by if known else ()), *((step,) if step else ()))))
            if not one.name.endswith("-wal"):  # it is folded in when it is packed
                self.found.pieces[place] = Piece(place, INPUT, one, None, asked)
        return near


def _absolute(text: str, folder: Path) -> Path:
    path = Path(text).expanduser()
    return path if path.is_absolute() else folder / path


def _within(path: Path, folder: Path) -> bool:
    return folder.resolve() in path.resolve().parents
