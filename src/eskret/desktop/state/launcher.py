"""Put Eskret among the applications of the desktop: entry, icon and kind of file where the desktop looks for those of a user."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

from eskret.core.files.atomic import write_whole
from eskret.errors import DeliveryError

_OURS = Path(__file__).parent.parent / "resources"
_TOLD = (("update-mime-database", "mime"), ("update-desktop-database", "applications"))
"""Programs that a desktop has to take in what came, and the folder that each is given."""


def _quoted(command: str) -> str:
    """A path as the specification quotes it: within double quotes, what means something there behind a backslash, and that doubled."""
    escaped = "".join(f"\\\\{c}" if c in '"`$\\' else c for c in command)
    return f'"{escaped}"'


def add(home: Path | None = None) -> Path:
    """Write the entry as the freedesktop.org Desktop Entry Specification 1.5 has it, the icon, and the kind of file as the Shared MIME-info
    Specification 0.21 has it; returns the entry's path.

    Raises
    ------
    DeliveryError : it cannot be written.
    """
    share = home or Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
    command = shutil.which("eskret") or str(Path(sys.executable).with_name("eskret"))
    ours = _OURS / "desktop_entry"
    entry = share / "applications" / "eskret.desktop"
    wanted = {
        entry: (ours / entry.name).read_text().replace("Exec=eskret ", f"Exec={_quoted(command)} ").encode(),
        share / "icons" / "hicolor" / "scalable" / "apps" / "eskret.svg": (_OURS / "eskret.svg").read_bytes(),
        share / "mime" / "packages" / "eskret-mime.xml": (ours / "eskret-mime.xml").read_bytes(),
    }
    try:
        for path, content in wanted.items():
            path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(path, content)
    except OSError as error:
        raise DeliveryError(f"it cannot be written ({error.strerror})", place=str(entry)) from error
    for program, folder in _TOLD:
        found = shutil.which(program)
        if found:
            with suppress(OSError, subprocess.TimeoutExpired):  # a desktop finds it all the same, if later
                subprocess.run([found, str(share / folder)], capture_output=True, timeout=20, check=False)
    return entry
