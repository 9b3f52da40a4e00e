"""Zip archives, unpacked with care into a folder that lives as long as the process.

An archive is not trusted: names that climb out of the folder, links, and members that unpack to far more than they
should are refused before anything is used.
"""

from __future__ import annotations

import atexit
import errno
import shutil
import stat
import threading
import uuid
import zipfile
import zlib
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path, PurePosixPath

from eskret.core.files.missing import no_such_file
from eskret.core.files.scratch import drop_scratch, scratch_folder
from eskret.core.files.user_state import cache_place
from eskret.errors import Code, InputError

MOST_BYTES = 8 << 30
MOST_MEMBERS = 20_000
RATIO = 250
"""How many times its size in the archive a member may have; text and zeros of real data stay far below it."""
FREELY = 64 << 20
"""Up to so many bytes the ratio does not matter."""

_CHUNK = 1 << 20


def check(path: Path) -> list[zipfile.ZipInfo]:
    """The members of an archive, found fit to be unpacked.

    Raises
    ------
    InputError : it is no archive, it is locked, or it is not to be trusted.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            members = archive.infolist()
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError) as error:
        raise InputError(
            "it cannot be read as an archive; it is damaged, cut short, or not what its ending says",
            place=str(path),
            way_out="Fetch it again from its source",
        ) from error
    if len(members) > MOST_MEMBERS:
        raise InputError(
            f"it holds {len(members):,} files; {MOST_MEMBERS:,} are the most",
            place=str(path),
            way_out="Unpack it by hand and load the files you want",
        )
    for member in members:
        name = PurePosixPath(member.filename.replace("\\", "/"))
        if name.is_absolute() or ".." in name.parts or ":" in member.filename.split("/")[0]:
            raise InputError(
                f"'{member.filename[:80]}' in it would be unpacked outside its own folder",
                place=str(path),
                way_out="Do not use this archive; ask where it comes from",
            )
        if stat.S_ISLNK(member.external_attr >> 16):
            raise InputError(
                f"'{member.filename[:80]}' in it is a link, not a file",
                place=str(path),
                way_out="Unpack it by hand and load the files you want",
            )
        if member.flag_bits & 1:
            raise InputError("it is locked with a password", place=str(path), way_out="Unpack it by hand")
        if member.file_size > FREELY and member.file_size > RATIO * max(1, member.compress_size):
            raise _swollen(path, member)
    if sum(m.file_size for m in members) > MOST_BYTES:
        raise InputError(
            f"it unpacks to more than {MOST_BYTES >> 30} GB", place=str(path), way_out="Unpack it by hand and load the files you want"
        )
    return members


def _swollen(path: Path, member: zipfile.ZipInfo) -> InputError:
    return InputError(
        f"'{member.filename[:80]}' in it unpacks to far more than an archive of data does",
        place=str(path),
        way_out="Do not use this archive; ask where it comes from",
    )


def unpacked(path: Path) -> dict[str, Path]:
    """The files in an archive, by their names in it.

    Raises
    ------
    InputError : as ``check`` does, and where a member is damaged.
    """
    if not path.exists():
        raise no_such_file(path)
    state = path.stat()
    key = (path, state.st_ino, state.st_ctime_ns, state.st_mtime_ns, state.st_size)
    with _lock:
        found = _known.pop(key, None)
        if found is None:
            found = _unpack(path)
            while len(_known) >= _MOST:
                shutil.rmtree(_known.pop(next(iter(_known)))[0], ignore_errors=True)
        _known[key] = found
    return found[1]


_MOST = 32
_lock = threading.Lock()
_known: dict[tuple[Path, int, int, int, int], tuple[Path, dict[str, Path]]] = {}
"""Archives that are unpacked, the one used last at the end; the one used longest ago is taken away first."""


@lru_cache(maxsize=1)
def _home(cache: Path) -> Path:
    home = scratch_folder("archives")
    atexit.register(drop_scratch, home)
    return home


def _unpack(path: Path) -> tuple[Path, dict[str, Path]]:
    members = check(path)
    home = _home(cache_place()) / uuid.uuid4().hex[:12]
    home.mkdir()
    try:
        return home, _unpack_into(home, path, members)
    except OSError as error:
        shutil.rmtree(home, ignore_errors=True)
        full = error.errno == errno.ENOSPC
        raise InputError(
            "there is no room to unpack it"
            if full
            else f"it cannot be unpacked ({error.strerror or error}): two of its names "
            "want the same place, or one is longer than a file's may be",
            place=str(path),
            way_out="Make room" if full else "Unpack it by hand and load the files you want",
            code=Code.DISK_FULL if full else Code.DAMAGED,
        ) from error
    except BaseException:
        shutil.rmtree(home, ignore_errors=True)
        raise


def _unpack_into(home: Path, path: Path, members: Sequence[zipfile.ZipInfo]) -> dict[str, Path]:
    out: dict[str, Path] = {}
    with zipfile.ZipFile(path) as archive:
        for member in members:
            if member.is_dir():
                continue
            name = member.filename.replace("\\", "/")
            target = home / name
            target.parent.mkdir(parents=True, exist_ok=True)
            left = member.file_size
            try:
                with archive.open(member) as source, target.open("xb") as sink:
                    while piece := source.read(_CHUNK):
                        left -= len(piece)
                        if left < 0:  # it said it was smaller
                            raise _swollen(path, member)
                        sink.write(piece)
            except (zipfile.BadZipFile, EOFError, NotImplementedError, zipfile.LargeZipFile, zlib.error, RuntimeError) as error:
                raise InputError(f"'{name[:80]}' in it is damaged", place=str(path), way_out="Fetch it again from its source") from error
            out[name] = target
    return out
