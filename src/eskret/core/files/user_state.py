"""Where Eskret keeps what is the user's alone; one module knows all of it.

========================  ==========================================================================================
data folder               ``transactions`` (commits under way), ``backups`` (what can be taken back), ``pushes``, consents and
                          trust, ``runs.sqlite`` with the features of earlier runs: must survive
cache folder              results by input hash, hashes of files, the handbook: can be thrown away at any time
state folder              the log
========================  ==========================================================================================
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from platformdirs import user_cache_path, user_data_path, user_state_path

_NAME = "eskret"
_OWNER_ONLY = 0o700


def private(folder: Path) -> Path:
    """Make a folder that only its owner can look into, and hand it back.

    Raises
    ------
    OSError : it cannot be made.
    """
    folder.mkdir(parents=True, exist_ok=True, mode=_OWNER_ONLY)
    if stat.S_IMODE(folder.stat().st_mode) & 0o077 and os.access(folder, os.W_OK):
        folder.chmod(_OWNER_ONLY)
    return folder


def private_file(path: Path) -> Path:
    """Make a file that only its owner can read, where it is not there; hand it back.

    Raises
    ------
    OSError : it cannot be made.
    """
    private(path.parent)
    os.close(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o600))
    return path


def data_place(*parts: str) -> Path:
    """A place in the user's data folder. Nothing is made."""
    return user_data_path(_NAME, appauthor=False).joinpath(*parts)


def cache_place(*parts: str) -> Path:
    """A place in the user's cache folder. Nothing is made."""
    return user_cache_path(_NAME, appauthor=False).joinpath(*parts)


def state_place(*parts: str) -> Path:
    """A place in the user's state folder. Nothing is made."""
    return user_state_path(_NAME, appauthor=False).joinpath(*parts)


def data_folder(*parts: str) -> Path:
    """A folder of the user's data, made if it is not there, for its owner alone.

    Raises
    ------
    OSError : it cannot be made.
    """
    folder = private(data_place())
    for part in parts:
        folder = private(folder / part)
    return folder
