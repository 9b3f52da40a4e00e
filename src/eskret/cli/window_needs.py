"""What the window needs from the system: told in a sentence before the toolkit ends the process without one."""

from __future__ import annotations

import ctypes
from pathlib import Path

TABLE = Path(__file__).parent.parent / "desktop" / "resources" / "debian_packages.txt"


def lacking(on_a_screen: bool) -> list[str]:
    """The Debian packages whose libraries are not there."""
    out = []
    for line in TABLE.read_text().splitlines():
        library, package, when = [*line.split(), "", "", ""][:3]
        if library.startswith("#") or not package or (when == "screen" and not on_a_screen):
            continue
        try:
            ctypes.CDLL(library)
        except OSError:
            out.append(package)
    return sorted(out)
