"""Put Eskret among the applications of the desktop: an entry and its icon where the desktop looks for those of a user."""

from __future__ import annotations

import os
import shutil
import sys
from pathlib import Path

from eskret.core.files.atomic import write_whole
from eskret.errors import DeliveryError

ICON = Path(__file__).parent.parent / "resources" / "eskret.svg"


def _quoted(command: str) -> str:
    """A path as the specification quotes it: within double quotes, what means something there behind a backslash, and that doubled."""
    escaped = "".join(f"\\\\{c}" if c in '"`$\\' else c for c in command)
    return f'"{escaped}"'


def add(home: Path | None = None) -> Path:
    """Write the entry as the freedesktop.org Desktop Entry Specification 1.5 has it, and the icon; returns the entry's path.

    Raises
    ------
    DeliveryError : it cannot be written.
    """
    share = home or Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")
    command = shutil.which("eskret") or str(Path(sys.executable).with_name("eskret"))
    entry = share / "applications" / "eskret.desktop"
    icon = share / "icons" / "hicolor" / "scalable" / "apps" / "eskret.svg"
    text = (
        "[Desktop Entry]\nType=Application\nName=Eskret\nGenericName=Geoprocessing workflows\n"
        "Comment=Repeatable geoprocessing workflows, audited like accounts\n"
        f"Exec={_quoted(command)} open %f\nIcon=eskret\nTerminal=false\nCategories=Science;Geography;Education;\n"
        "Keywords=GIS;map;layer;clip;dissolve;\nStartupWMClass=eskret\n"
    )
    try:
        for path, content in ((entry, text.encode()), (icon, ICON.read_bytes())):
            path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(path, content)
    except OSError as error:
        raise DeliveryError(f"it cannot be written ({error.strerror})", place=str(entry)) from error
    return entry
