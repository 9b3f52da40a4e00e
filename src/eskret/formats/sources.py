"""The door to files that can be read: find them, look at their layers, read one.

A zip archive is no format: its files are read as if they lay in a folder, and are called ``member`` or ``member:layer``.
"""

from __future__ import annotations

import logging
import re
import stat
from collections.abc import Callable, Generator, Iterable, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from typing import TypeVar

import pyarrow as pa

from eskret.core.crs import Extent
from eskret.core.files.datasets import files_of, is_dataset
from eskret.core.files.missing import no_such_file
from eskret.core.files.spelling import check_spelling
from eskret.core.layer import LayerFacts
from eskret.core.naming import clean_name
from eskret.errors import Code, EskretError, InputError
from eskret.formats import archives, coordinates_text
from eskret.formats.format import Format
from eskret.formats.known import READ
from eskret.formats.reading import AS_DECLARED, Reading, Texts, Watch, no_watch

ENDINGS = {**{e: one.read_endings[e] for e, one in READ.items()}, ".zip": "zip archive"}
_MANY_LAYERS = {".gpkg"}
_OTHER = Format()
"""What the library makes of any other file."""
_MAGIC = re.compile(r"[*?\[]")
T = TypeVar("T")


def is_source(path: Path) -> bool:
    """Whether a file has an ending that can be read."""
    return path.suffix.lower() in ENDINGS


def is_text(path: Path) -> bool:
    """Whether a file has an ending that text with coordinates has, and no layer or table."""
    return path.suffix.lower() in coordinates_text.ENDINGS and not is_source(path)


def is_offered(path: Path) -> bool:
    """Whether a file that a folder or pattern finds is data: not hidden, and no record of a workflow's outputs."""
    return is_source(path) and not path.name.startswith((".", "~$")) and not path.name.endswith(".outputs.json")


def find_files(patterns: Iterable[str], folder: Path, *, other_endings: Iterable[str] = ()) -> list[Path]:
    """Files of a list of paths, folders and patterns (``*``, ``?``, ``**``), in order, each once.

    Relative ones start at ``folder``. A folder stands for the readable files right in it, unless it is one layer itself.

    Parameters
    ----------
    other_endings : look for files with these endings instead (``.txt``), and for any that is named outright.

    Raises
    ------
    InputError : a path that is not there, a pattern that matches nothing, an ending that cannot be read.
    """
    endings = tuple(other_endings)

    def offered(path: Path) -> bool:
        if endings:
            return path.suffix.lower() in endings and not path.name.startswith(".")
        return is_offered(path)

    found: dict[Path, None] = {}
    for pattern in patterns:
        text = str(pattern)
        path = Path(text).expanduser()
        whole = path if path.is_absolute() else folder / path
        if _MAGIC.search(text) and not whole.exists():
            anchor = Path(whole.anchor)
            hits = sorted(p for p in anchor.glob(str(whole.relative_to(anchor))) if (p.is_file() or is_dataset(p)) and offered(p))
            if not hits:
                raise InputError(f"no readable file matches '{text}'", place=str(folder), way_out="Check the pattern and the folder")
        elif whole.is_dir() and not is_dataset(whole):
            hits = sorted(p for p in whole.iterdir() if (p.is_file() or is_dataset(p)) and offered(p))
            if not hits:
                raise InputError("there is no readable file in this folder", place=str(whole))
        else:
            if whole.exists():
                check_regular(whole)
            else:
                raise no_such_file(whole)
            if not endings and not is_source(whole):
                raise InputError(
                    f"files ending in '{whole.suffix}' cannot be read",
                    place=str(whole),
                    way_out=f"It can be one of {', '.join(ENDINGS)}; for text with coordinates use 'Load coordinates'",
                )
            hits = [whole]
        found.update(dict.fromkeys(hits))
    return list(found)


def key_for(path: Path, name: str, layers_in_file: int) -> str:
    """The key of a layer: its name where the file can hold many, else the file's stem; cleaned."""
    suffix = path.suffix.lower()
    if suffix == ".zip":
        member, _, layer = name.partition(":")
        return key_for(Path(member), layer, 2 if layer else 1)
    if suffix == ".gpx":
        return clean_name(f"{path.stem}_{name}")
    base = name if suffix in _MANY_LAYERS or layers_in_file > 1 else path.stem
    return clean_name(base) or "layer"


@contextmanager
def _at(path: Path) -> Generator[None, None, None]:
    """Whatever a library makes of a file that is not what it should be is a sentence that names the file.

    Raises
    ------
    InputError : it cannot be read.
    """
    check_spelling(path)
    try:
        yield
    except (EskretError, OSError, MemoryError):
        raise
    except Exception as error:
        logging.getLogger(__name__).info("%s: %s", path.suffix, type(error).__name__, exc_info=True)
        raise InputError(
            f"it cannot be read; it is damaged, or not what its ending says ({type(error).__name__})",
            place=str(path),
            way_out="Open it where it was made and save it again",
            code=Code.DAMAGED,
        ) from error


def layer_names(path: Path) -> list[str]:
    """Names of the layers in a file; for GPX, its parts that hold something.

    Raises
    ------
    InputError : the file cannot be read.
    """
    with _at(path):
        if path.suffix.lower() == ".zip":
            return list(_members(path))
        return _format(path).layer_names(path)


def look(path: Path, texts: Texts = AS_DECLARED) -> list[LayerFacts]:
    """Facts of every layer in a file.

    Raises
    ------
    InputError : the file cannot be read.
    """
    names = layer_names(path)
    return [facts(path, name, key_for(path, name, len(names)), texts) for name in names]


def facts(path: Path, name: str, key: str, texts: Texts = AS_DECLARED) -> LayerFacts:
    """Facts of one layer, under a key."""
    with _at(path):
        return _facts(path, name, key, texts)


def _facts(path: Path, name: str, key: str, texts: Texts) -> LayerFacts:
    if path.suffix.lower() == ".zip":
        inner, layer = _member(path, name)
        found = _told_as(path, inner, lambda: _format(inner).facts(inner, layer, key, texts))
        return replace(found, name=name, origin=str(path))
    return _format(path).facts(path, name, key, texts)


def read(path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch, box: Extent | None = None) -> Reading:
    """Read one layer under a key; where it has an index, only what may meet a ``box``."""
    with _at(path):
        if box is not None and path.suffix.lower() != ".zip":
            return _format(path).read_in(box, path, name, key, texts, watch)
        return _read(path, name, key, texts, watch)


def _read(path: Path, name: str, key: str, texts: Texts, watch: Watch) -> Reading:
    if path.suffix.lower() == ".zip":
        inner, layer = _member(path, name)
        reading = _told_as(path, inner, lambda: _format(inner).read(inner, layer, key, texts, watch))
        return replace(reading, layer=replace(reading.layer, name=name, origin=str(path)))
    return _format(path).read(path, name, key, texts, watch)


def reads_chunks(path: Path) -> bool:
    """Whether a large layer of a file can be read so many records at a time."""
    return path.suffix.lower() != ".zip" and _format(path).reads_chunks(path)


def weight(path: Path, name: str, count: int) -> float:
    """About how many bytes each of so many features takes in a file; 0 where nobody can tell."""
    if path.suffix.lower() == ".zip" or not count:
        return 0.0
    with _at(path):
        return _format(path).weight(path, name, count)


def chunks(
    path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch, least: int = 0, box: Extent | None = None
) -> Generator[Reading, None, None] | None:
    """Read one layer under a key, so many records at a time; None where it has no more than
    ``least``, or can be read as a whole alone. ``box`` as ``read`` has it."""
    if path.suffix.lower() == ".zip":
        return None
    with _at(path):
        coming = _format(path).chunks(path, name, key, texts, watch, least, box)
    return None if coming is None else _told_of(path, coming)


def _told_of(path: Path, coming: Generator[Reading, None, None]) -> Generator[Reading, None, None]:
    with _at(path), closing(coming):
        yield from coming


def columns(path: Path, name: str, fields: Sequence[str], texts: Texts = AS_DECLARED) -> pa.Table | None:
    """Some fields of a layer without its geometry, all rows, for a rehearsal; None where that would mean to read it all."""
    if path.suffix.lower() == ".zip":
        inner, layer = _member(path, name)
        return columns(inner, layer, fields, texts)
    if path.suffix.lower() == ".gpx":
        return None
    states = [p.stat() for p in files_of(path)]
    changed, size = max((s.st_mtime_ns for s in states), default=0), sum(s.st_size for s in states)
    try:
        return _columns(path, name, tuple(fields), texts, changed, size)
    except Exception:  # whoever reads the file says what is wrong with it
        return None


@lru_cache(maxsize=16)
def _columns(path: Path, name: str, fields: tuple[str, ...], texts: Texts, changed: int, size: int) -> pa.Table | None:
    return _format(path).columns(path, name, fields, texts)


def recording_part(path: Path, name: str) -> str:
    """Which part of a GPX recording a layer is, also of one in an archive; empty for anything else."""
    member, _, part = name.partition(":")
    if path.suffix.lower() == ".gpx":
        return name
    return part if path.suffix.lower() == ".zip" and member.lower().endswith(".gpx") else ""


def check_regular(path: Path) -> None:
    """Refuse what only looks like a file: to read from it may never end.

    Raises
    ------
    InputError : it is a pipe, a device or a socket.
    """
    try:
        mode = path.stat().st_mode
    except OSError:
        return  # whoever reads it says it
    for test, what in ((stat.S_ISFIFO, "a pipe"), (stat.S_ISCHR, "a device"), (stat.S_ISBLK, "a device"), (stat.S_ISSOCK, "a socket")):
        if test(mode):
            raise InputError(f"this is {what}, not a file", place=str(path), way_out="Write what comes from it to a file first")


def _format(path: Path) -> Format:
    check_regular(path)
    return READ.get(path.suffix.lower(), _OTHER)


# -- archives


def _members(path: Path) -> dict[str, tuple[Path, str]]:
    """The layers in an archive: file and layer of each by the name it has here.

    Raises
    ------
    InputError : the archive or a file in it cannot be read, or holds nothing readable.
    """
    files = archives.unpacked(path)
    state = path.stat()
    return _found(path, tuple(sorted(files.items())), state.st_mtime_ns)


@lru_cache(maxsize=32)
def _found(path: Path, files: tuple[tuple[str, Path], ...], changed: int) -> dict[str, tuple[Path, str]]:
    out: dict[str, tuple[Path, str]] = {}
    for member, inner in files:
        if not is_offered(inner) or inner.suffix.lower() == ".zip":
            continue
        names = _told_as(path, inner, lambda inner=inner: _format(inner).layer_names(inner))  # type: ignore[misc]
        many = len(names) > 1 or inner.suffix.lower() in (*_MANY_LAYERS, ".gpx")
        out.update({f"{member}:{n}" if many else member: (inner, n) for n in names})
    if not out:
        raise InputError(
            "it holds no file that can be read", place=str(path), way_out=f"It can hold {', '.join(e for e in ENDINGS if e != '.zip')}"
        )
    return out


def _member(path: Path, name: str) -> tuple[Path, str]:
    members = _members(path)
    if name not in members:
        raise InputError(f"it has no '{name}'", place=str(path), way_out=f"It has {', '.join(members)}")
    return members[name]


def _told_as(path: Path, inner: Path, work: Callable[[], T]) -> T:
    """Do something with an unpacked file; what is said of it names the archive."""
    try:
        return work()
    except EskretError as error:
        if error.place == str(inner):
            error.place = f"{path}, {inner.name}"
            error.args = (error.sentence(),)
        raise
