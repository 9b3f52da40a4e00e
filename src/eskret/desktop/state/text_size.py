"""The size of text that the desktop asks for, where the toolkit does not hear of it: on Wayland it stands among the desktop's settings."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import MutableMapping
from contextlib import suppress

_KEY = ("org.gnome.desktop.interface", "text-scaling-factor")
_SECONDS = 0.5
_LEAST, _MOST = 0.5, 3.0


def follow_desktop(environment: MutableMapping[str, str] = os.environ) -> float:
    """Have the toolkit draw everything larger by as much as the desktop's text is, before it begins; gives by how much.

    Nothing is changed where somebody has said how large it is to be, or on X11, where the toolkit knows it from the screen's resolution.
    """
    told = environment.get("QT_SCALE_FACTOR") or environment.get("QT_SCREEN_SCALE_FACTORS") or environment.get("QT_QPA_PLATFORM")
    if told or not environment.get("WAYLAND_DISPLAY"):
        return 1.0
    factor = _asked()
    if abs(factor - 1) > 0.01:
        environment["QT_SCALE_FACTOR"] = f"{factor:g}"
    return factor


def _asked() -> float:
    command = shutil.which("gsettings")
    if command is None:
        return 1.0
    with suppress(OSError, subprocess.SubprocessError, ValueError):
        said = subprocess.run([command, "get", *_KEY], capture_output=True, text=True, timeout=_SECONDS, check=True).stdout
        return min(_MOST, max(_LEAST, float(said)))
    return 1.0  # another desktop, or one that does not answer
