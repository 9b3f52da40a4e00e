"""Write a pack, and take one apart.

A pack is a zip file. ``pack.json`` in it lists every file with its size and digest, those too that stay behind.
"""

from __future__ import annotations

import hashlib
import json
import shutil
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath
from typing import Any

from eskret.core.files.hashing import FileState, hash_file
from eskret.core.files.locks import folders_locked
from eskret.core.files.missing import no_such_file
from eskret.core.files.transaction import CommitJournal, commit
from eskret.core.words import pluralise
from eskret.errors import Code, DeliveryError, InputError
from eskret.formats import sources, sqlite
from eskret.formats.file_group import FileGroup, Move
from eskret.formats.known import GEOPACKAGE
from eskret.workflow.cache.file_hashes import with_companions
from eskret.workflow.handover.gather import CODE, INPUT, WORKFLOW, Gathered, Piece
from eskret.workflow.outputs.records import digest_file

LIST = "pack.json"
ENDING = ".zip"
_FORM = 1


@dataclass(frozen=True)
class Missing:
    """An input that is not in a pack: where the workflow looks for it, what it was, which steps read it."""

    name: str
    size: int
    sha256: str
    asked_by: tuple[str, ...]
    layers: tuple[str, ...] = ()

    def sentence(self) -> str:
        steps = f", read by {', '.join(self.asked_by)}" if self.asked_by else ""
        held = f", with {', '.join(self.layers[:4])}{' ...' if len(self.layers) > 4 else ''}" if self.layers else ""
        return f"{self.name} ({self.size:,} bytes{held}{steps})"


@dataclass(frozen=True)
class Unpacked:
    """What a pack became: the workflow's file, all files written, inputs still missing, code that asks for trust."""

    workflow: Path
    written: tuple[Path, ...]
    missing: tuple[Missing, ...]
    code: tuple[str, ...]
    notes: tuple[str, ...] = ()


def pack(gathered: Gathered, target: Path, *, inputs: bool = True, watch: Callable[[int, int], None] = lambda done, of: None) -> int:
    """Write a pack; its size in bytes.

    Parameters
    ----------
    inputs : whether what the workflow reads goes along; else it is only listed.
    watch : hears how many bytes of how many are packed.

    Raises
    ------
    DeliveryError : something cannot be read, or the pack not be written; nothing is left behind.
    """
    waiting = target.with_name(f".{target.name}.new")
    pieces = list(gathered.pieces.values())
    of, done = sum(p.size for p in pieces if inputs or p.role != INPUT), 0
    listed: list[dict[str, Any]] = []
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory() as place, zipfile.ZipFile(waiting, "w", zipfile.ZIP_DEFLATED) as file:
            for number, piece in enumerate(pieces):
                path = _settled(piece, Path(place) / f"{number}")
                along = inputs or piece.role != INPUT
                digest = _digest(piece, path)
                told = {"path": piece.name, "role": piece.role, "size": piece.size, "sha256": digest, "along": along}
                if piece.role == INPUT:
                    told |= {"asked_by": list(piece.asked_by), "layers": _layers(path)}
                listed.append(told)
                if along:
                    if piece.text is not None:
                        file.writestr(piece.name, piece.text)
                    else:
                        file.write(path, piece.name)
                    done += piece.size
                    watch(done, of)
            made = datetime.now(UTC).isoformat(timespec="seconds")
            about = {"eskret_pack": _FORM, "workflow": gathered.main, "packed": made, "files": listed}
            file.writestr(LIST, json.dumps(about, ensure_ascii=False, indent=1))
        waiting.replace(target)
    except OSError as error:
        waiting.unlink(missing_ok=True)
        raise DeliveryError(
            f"it cannot be packed ({error.strerror or error})",
            place=str(error.filename or target),
            way_out="Choose another place, or leave the inputs out",
        ) from error
    except BaseException:
        waiting.unlink(missing_ok=True)
        raise
    return target.stat().st_size


def _settled(piece: Piece, place: Path) -> Path:
    """The file to pack; a database that has not folded in yet what was written last is copied whole."""
    if piece.path.suffix.lower() == GEOPACKAGE.ending and len(with_companions(piece.path)) > 1:
        sqlite.copy(piece.path, place)
        return place
    return piece.path


def _digest(piece: Piece, path: Path) -> str:
    return hashlib.sha256(piece.text.encode()).hexdigest() if piece.text is not None else digest_file(path)


def _layers(path: Path) -> list[str]:
    try:
        return [f.name for f in sources.look(path)] if sources.is_source(path) else []
    except InputError:
        return []


def listing(path: Path) -> Mapping[str, Any]:
    """What a pack says of itself.

    Raises
    ------
    InputError : it is no pack, or one of a later version.
    """
    try:
        with zipfile.ZipFile(path) as file:
            found = json.loads(file.read(LIST))
        form, named = found["eskret_pack"], [str(f["path"]) for f in found["files"]]
        for f in found["files"]:
            f["size"], f["sha256"], f["role"], f["along"] = (int(f["size"]), str(f["sha256"]), str(f["role"]), bool(f["along"]))
        main = str(found["workflow"])
    except (
        OSError,
        zipfile.BadZipFile,
        zlib.error,
        NotImplementedError,
        RuntimeError,
        EOFError,
        LookupError,
        ValueError,
        ArithmeticError,
        TypeError,
    ) as error:
        raise InputError("this is no pack", place=str(path), way_out="A pack is made by: eskret pack FILE") from error
    if form != _FORM:
        raise InputError("it was packed by a later version", place=str(path), way_out="Update Eskret")
    for name in [*named, main]:
        pure = PurePosixPath(name)
        if pure.is_absolute() or ".." in pure.parts or "\\" in name or not pure.parts:
            raise InputError(f"it wants to write outside its folder ('{name}')", place=str(path), way_out="Do not use it")
        if any(part.startswith(".") for part in pure.parts):
            raise InputError(
                f"it wants to write a hidden file ('{name}'), which no workflow needs",
                place=str(path),
                way_out="Do not use it; ask where it comes from",
            )
    if main not in named:
        raise InputError("there is no workflow in it", place=str(path))
    return dict(found)


def missing_in(path: Path) -> list[Missing]:
    """The inputs that are listed in a pack and not in it."""
    return [
        Missing(f["path"], int(f["size"]), f["sha256"], tuple(f.get("asked_by", ())), tuple(f.get("layers", ())))
        for f in listing(path)["files"]
        if not f["along"]
    ]


def unpack(path: Path, folder: Path, *, given: Mapping[str, Path] | None = None, replace: bool = False) -> Unpacked:
    """Take a pack apart into a folder, all of it or nothing.

    Parameters
    ----------
    given : files to use for inputs that are not in the pack, by the name that the workflow has for them.
    replace : replace files that are there and are others.

    Raises
    ------
    InputError : it is no pack, is damaged, or names an input that it does not know.
    DeliveryError : other files are in the way, or the folder cannot be written.
    """
    about = listing(path)
    absent = {m.name: m for m in missing_in(path)}
    for name in given or {}:
        if name not in absent:
            raise InputError(f"'{name}' is none of its missing inputs", way_out=f"They are {', '.join(absent) or 'none'}")
    folder = folder.resolve()
    notes: list[str] = []
    staging = _Staging(folder, path.name)
    try:
        _extract(path, about, staging)
        for name, source in (given or {}).items():
            _take_in(absent[name], source, staging, notes)
        _check_free(staging, replace)
        names = staging.commit()
    except OSError as error:
        raise DeliveryError(f"it cannot be unpacked ({error.strerror or error})", place=str(error.filename or folder)) from error
    finally:
        staging.end()
    left = tuple(m for m in absent.values() if m.name not in (given or {}) and not (folder / m.name).exists())
    code = tuple(f["path"] for f in about["files"] if f["role"] == CODE)
    return Unpacked(folder / about["workflow"], tuple(folder / n for n in names), left, code, tuple(notes))


class _Staging:
    """Files of a pack, each beside its place until all are there."""

    def __init__(self, folder: Path, title: str) -> None:
        self.folder = folder
        self.staged: dict[str, Path] = {}
        self._journal: CommitJournal | None = CommitJournal.begin(None, title)

    def place(self, name: str) -> Path:
        """Where a file is written until the commit."""
        assert self._journal is not None
        target = self.folder / name
        missing: list[Path] = []
        up = target.parent
        while not up.exists():
            missing.insert(0, up)
            up = up.parent
        self._journal.use_folder(target.parent, missing)
        target.parent.mkdir(parents=True, exist_ok=True)
        self.staged[name] = target.with_name(self._journal.staged_name(target.name[-180:]))
        return self.staged[name]

    def commit(self) -> list[str]:
        """Put all in place, or none."""
        assert self._journal is not None
        moves = [Move(self.folder / n, s, FileState.of(self.folder / n), self.folder / n, hash_file(s)) for n, s in self.staged.items()]
        with folders_locked(m.target.parent for m in moves):
            problems = commit(self._journal, [FileGroup(moves)])
        if problems:
            self._journal.leave()
            self._journal = None
            raise DeliveryError(
                f"it is not all in place ({problems[0][1]})",
                place=str(problems[0][0]),
                way_out=f"'eskret recover {self.folder}' completes it",
                code=Code.INCOMPLETE,
            )
        return list(self.staged)

    def end(self) -> None:
        if self._journal is not None:
            self._journal.end()
            self._journal = None


def _extract(path: Path, about: Mapping[str, Any], into: _Staging) -> None:
    with zipfile.ZipFile(path) as file:
        for told in about["files"]:
            if not told["along"]:
                continue
            made = hashlib.sha256()
            size = 0
            try:
                with file.open(told["path"]) as source, into.place(str(told["path"])).open("wb") as sink:
                    while block := source.read(1 << 20):
                        size += len(block)
                        if size > told["size"]:
                            break  # it would swell beyond what it says of itself
                        made.update(block)
                        sink.write(block)
            except (LookupError, zipfile.BadZipFile, NotImplementedError, RuntimeError, zlib.error, EOFError) as error:
                raise InputError(f"'{told['path']}' is damaged in it", place=str(path), way_out="Have it sent again") from error
            if made.hexdigest() != told["sha256"]:
                raise InputError(f"'{told['path']}' is not as it was packed", place=str(path), way_out="Have it sent again")


def _take_in(wanted: Missing, source: Path, into: _Staging, notes: list[str]) -> None:
    """Copy a file in for an input that is missing, with what belongs to it."""
    if not source.is_file():
        raise no_such_file(source, way_out=f"Name the file that is {wanted.name}")
    if digest_file(source) != wanted.sha256:
        notes.append(f"{source.name} is not the file that was packed as {wanted.name}: its content is another")
    for one in with_companions(source):
        if one.name.endswith("-wal"):
            continue
        place = PurePosixPath(wanted.name)
        if one != source:
            place = place.with_name(place.stem + one.name[len(source.stem) :])
        target = into.place(str(place))
        if one.suffix.lower() == GEOPACKAGE.ending:
            sqlite.copy(one, target)
        else:
            shutil.copy2(one, target)


def _check_free(staging: _Staging, replace: bool) -> None:
    folder = staging.folder
    taken = [n for n, s in staging.staged.items() if (folder / n).exists() and digest_file(folder / n) != hash_file(s)]
    if taken and not replace:
        more = f" and {len(taken) - 3} more" if len(taken) > 3 else ""
        raise DeliveryError(
            f"{pluralise(len(taken), 'file')} there and others than in the pack: {', '.join(taken[:3])}{more}",
            place=str(folder),
            way_out="Choose an empty folder, or let them be replaced",
            code=Code.IN_THE_WAY,
        )


__all__ = ["CODE", "INPUT", "WORKFLOW", "Missing", "Unpacked", "listing", "missing_in", "pack", "unpack"]
