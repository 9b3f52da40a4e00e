"""The workflow as a document: parameters and steps, immutable, and its one canonical TOML form.

Comments of the analyst are kept: each belongs to the key or table that follows it, and travels with it when steps are
moved. Reading a canonical file and writing it gives the same bytes.
"""

from __future__ import annotations

import logging
from collections.abc import Generator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import tomlkit
import tomlkit.exceptions
from tomlkit.items import AoT, Comment, Table, Whitespace

from eskret.core.files.atomic import write_whole
from eskret.core.files.missing import near
from eskret.core.files.spelling import check_spelling
from eskret.core.naming import AS_TYPED, TIDY, clean_name
from eskret.core.style.style import Style
from eskret.core.words import did_you_mean
from eskret.errors import Code, DocumentError
from eskret.workflow.model import canonical
from eskret.workflow.model.iteration import ForEach, each_of
from eskret.workflow.model.map_spec import MapSaid, map_of, style_at
from eskret.workflow.model.parameters import Parameter, enabled, parameter_of

VERSION = 1
Path_ = canonical.Place


@dataclass(frozen=True)
class Step:
    """One line of the ledger. ``settings`` are as in the file; ``layer`` holds those for single layers, by key; ``style``
    how layers it leaves are drawn, by key or a pattern of keys. ``each`` has it done in rounds; ``result`` marks it as what
    this workflow gives where another one uses it."""

    id: str
    use: str
    source: tuple[str, ...] = ()
    settings: Mapping[str, Any] = field(default_factory=dict)
    heading: str = ""
    note: str = ""
    off: bool = False
    layer: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    style: Mapping[str, Style] = field(default_factory=dict)
    each: ForEach | None = None
    result: bool = False

    def with_setting(self, name: str, value: object) -> Step:
        """The step with one setting changed; None takes it out."""
        settings = dict(self.settings)
        if value is None:
            settings.pop(name, None)
        else:
            settings[name] = value
        return replace(self, settings=settings)


@dataclass(frozen=True)
class Comments:
    """The analyst's comments: lines before a place, the one behind it, and those at the end of the file."""

    before: Mapping[Path_, tuple[str, ...]] = field(default_factory=dict)
    behind: Mapping[Path_, str] = field(default_factory=dict)
    end: tuple[str, ...] = ()


@dataclass(frozen=True)
class Document:
    """A whole workflow file."""

    title: str = ""
    summary: str = ""
    crs: str = ""
    help: str = ""
    keywords: tuple[str, ...] = ()
    author: str = ""
    limits: str = ""
    names: str = ""
    parameters: tuple[Parameter, ...] = ()
    steps: tuple[Step, ...] = ()
    comments: Comments = field(default_factory=Comments)
    map: MapSaid = field(default_factory=MapSaid)

    def step(self, id: str) -> Step:
        """The step of this id (KeyError where there is none)."""
        for step in self.steps:
            if step.id == id:
                return step
        raise KeyError(id)

    def index(self, id: str) -> int:
        return next(i for i, s in enumerate(self.steps) if s.id == id)

    def path_parameters(self) -> frozenset[str]:
        """Names of parameters that are files or folders."""
        return frozenset(p.name for p in self.parameters if p.type in ("file", "folder"))

    def values(self, given: Mapping[str, Any] | None = None) -> dict[str, Any]:
        """Every parameter's value: what is given, else its default.

        Raises
        ------
        DocumentError : an unknown name, or a value that the parameter cannot have.
        """
        given = dict(given or {})
        known = {p.name for p in self.parameters}
        for name in given:
            if name not in known:
                hint = did_you_mean(name, known, f"There are {', '.join(sorted(known)) or 'none'}")
                raise DocumentError(f"there is no parameter '{name}'", way_out=hint)
        out = {p.name: _accepted(p, given[p.name]) if p.name in given else p.default for p in self.parameters}
        for p in self.parameters:
            counts = enabled(self.parameters, p.name, out)
            out[p.name] = _accepted(p, out[p.name]) if counts else p.default
        return out

    def to_text(self) -> str:
        """The canonical TOML text."""
        return canonical.text_of(self, VERSION)


def _accepted(parameter: Parameter, value: object) -> object:
    try:
        return parameter.accept(value)
    except DocumentError as error:
        error.setting = f"parameter.{parameter.name}"
        raise


def parse(text: str, place: str = "workflow") -> Document:
    """A document of TOML text.

    Raises
    ------
    DocumentError : naming the line, table or key.
    """
    try:
        toml = tomlkit.parse(text)
    except tomlkit.exceptions.TOMLKitError as error:
        raise DocumentError(f"this is not sound TOML: {error}", place=place) from error
    except (RecursionError, ValueError, TypeError, KeyError, AttributeError, IndexError) as error:
        # what the library did not foresee itself, such as a number without end
        raise DocumentError("this is not sound TOML", place=place, way_out="Check what was changed last") from error
    try:
        return _document(toml, place)
    except RecursionError as error:
        raise DocumentError("something in it is nested too deeply", place=place, code=Code.TOO_LARGE) from error
    except (TypeError, ValueError, KeyError, AttributeError, IndexError) as error:
        logging.getLogger(__name__).exception("a workflow file")
        raise DocumentError(
            f"something in it is of a kind that cannot stand there ({type(error).__name__})",
            place=place,
            way_out="Compare it with the handbook's example",
        ) from error


def _document(toml: tomlkit.TOMLDocument, place: str) -> Document:
    plain = toml.unwrap()
    version = plain.pop("eskret", None)
    if version is None:
        raise DocumentError("this is no workflow file", place=place, way_out="Its first line must be: eskret = 1")
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise DocumentError(f"the version {version!r} makes no sense", place=place, way_out="Write eskret = 1")
    if version > VERSION:
        raise DocumentError(
            f"it is of version {version}, and this program knows versions up to {VERSION}", place=place, way_out="Use a newer Eskret"
        )
    parameters = plain.pop("parameters", {})
    steps = plain.pop("steps", [])
    shown = map_of(plain.pop("map", {}), place)
    heads: dict[str, Any] = {name: plain.pop(name, "") for name in canonical.HEADS if name != "keywords"}
    for name, value in heads.items():
        if not isinstance(value, str):
            raise DocumentError(f"'{name}' must be text", place=place)
    if heads["names"] not in ("", AS_TYPED, TIDY):
        raise DocumentError(f"'names' cannot be '{heads['names'][:40]}'", place=place, way_out=f"It can be '{AS_TYPED}' or '{TIDY}'")
    heads["keywords"] = _keywords(plain.pop("keywords", []), place)
    if plain:
        raise DocumentError(f"'{next(iter(plain))}' is not known at the top of a workflow", place=place)
    if not isinstance(parameters, dict) or not isinstance(steps, list):
        raise DocumentError("parameters are [parameters.name] and steps are [[steps]]", place=place)
    document = Document(
        **heads,
        parameters=tuple(parameter_of(n, v, place) for n, v in parameters.items()),
        steps=tuple(_steps(steps, place)),
        comments=_comments(toml),
        map=shown,
    )
    return document


def _keywords(given: object, place: str) -> tuple[str, ...]:
    if not isinstance(given, list) or not all(isinstance(k, str) for k in given):
        raise DocumentError("'keywords' must be a list of texts", place=place)
    return tuple(given)


def _steps(tables: Sequence[object], place: str) -> Generator[Step, None, None]:
    seen: set[str] = set()
    for number, table in enumerate(tables, 1):
        where = f"{place}, step {number}"
        if not isinstance(table, dict):
            raise DocumentError("it must be a table", place=where, way_out="Write [[steps]]")
        values = dict(table)
        id, use = values.pop("id", None), values.pop("use", None)
        if not isinstance(id, str) or not id:
            raise DocumentError("it has no id", place=where, way_out='Write id = "a_name"')
        where = f"{place}, step '{id}'"
        if clean_name(id) != id:
            raise DocumentError(
                "an id may hold small letters, digits and single underscores", place=where, way_out=f"Call it '{clean_name(id) or 'step'}'"
            )
        if id in seen:
            raise DocumentError("there are two steps of this id", place=where, way_out="Rename one")
        seen.add(id)
        if not isinstance(use, str):
            raise DocumentError("it does not say which operation to use", place=where, way_out='Write use = "load"')
        source = values.pop("from", ())
        source = (source,) if isinstance(source, str) else source
        if not isinstance(source, list | tuple) or not all(isinstance(r, str) for r in source):
            raise DocumentError("'from' must be a reference or a list of them", place=where)
        heading, note = values.pop("heading", ""), values.pop("note", "")
        off, result = values.pop("off", False), values.pop("result", False)
        if not all(isinstance(x, str) for x in (heading, note)) or not all(isinstance(x, bool) for x in (off, result)):
            raise DocumentError("'heading' and 'note' are text, 'off' and 'result' are true or false", place=where)
        each = each_of(values.pop("each"), where) if "each" in values else None
        layer = values.pop("layer", {})
        if not isinstance(layer, dict) or not all(isinstance(v, dict) for v in layer.values()):
            raise DocumentError("settings for one layer are [steps.layer.KEY]", place=where)
        style = _styles(values.pop("style", {}), where)
        yield Step(id, use, tuple(source), values, heading, note, off, layer, style, each, result)


def _styles(tables: object, place: str) -> dict[str, Style]:
    if not isinstance(tables, dict):
        raise DocumentError("how a layer is drawn is [steps.style.KEY]", place=place)
    return {key: style_at(table, f"{place}, style") for key, table in tables.items()}


def _comments(toml: tomlkit.TOMLDocument) -> Comments:
    """Go through the file in its order; a comment belongs to what comes next."""
    before: dict[Path_, tuple[str, ...]] = {}
    behind: dict[Path_, str] = {}
    waiting: list[str] = []

    def settle(path: Path_, item: object) -> None:
        if waiting:
            before[path] = tuple(waiting)
            waiting.clear()
        comment = getattr(getattr(item, "trivia", None), "comment", "")
        if comment:
            behind[path] = comment

    def walk(container: Any, path: Path_) -> None:
        for key, item in container.body:
            if isinstance(item, Whitespace):
                continue
            if key is None:
                if isinstance(item, Comment):
                    waiting.append(item.trivia.comment)
                continue
            name = key.key
            if isinstance(item, AoT):
                for table in item.body:
                    id = str(table.get("id", ""))
                    settle((*path, name, id), table)
                    walk(table.value, (*path, name, id))
            elif isinstance(item, Table):
                if not item.is_super_table():
                    settle((*path, name), item)
                walk(item.value, (*path, name))
            else:
                settle((*path, name), item)

    walk(toml, ())
    return Comments(before, behind, tuple(waiting))


def read(path: Path) -> Document:
    """The document in a file.

    Raises
    ------
    DocumentError : it is missing, no text, or no workflow.
    InputError : it, or a folder on the way to it, has a name that cannot be written down.
    """
    check_spelling(path.absolute())
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError as error:
        raise DocumentError("there is no such workflow file", place=str(path), way_out=near(path), code=Code.NOT_THERE) from error
    except IsADirectoryError as error:
        raise DocumentError("this is a folder, not a workflow file", place=str(path)) from error
    except (OSError, UnicodeDecodeError) as error:
        raise DocumentError("it cannot be read as text", place=str(path)) from error
    return parse(text, path.name)


def write(document: Document, path: Path) -> None:
    """Write the canonical form; the old file is replaced at once or stays.

    Raises
    ------
    DocumentError : the folder cannot be written.
    InputError : it has a name that cannot be written down.
    """
    check_spelling(path.absolute())
    try:
        write_whole(path, document.to_text())
    except OSError as error:
        raise DocumentError(f"it cannot be saved ({error.strerror})", place=str(path)) from error
