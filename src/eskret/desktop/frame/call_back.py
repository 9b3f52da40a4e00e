"""Tell somebody who turned to another window that a long run has ended."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Mapping
from typing import Any

from PySide6.QtWidgets import QApplication, QWidget

from eskret.core.words import duration

_WORDS = {"balanced": "finished, all balanced", "look": "finished, with something to look at", "stopped": "stopped"}


def call_back(window: QWidget, title: str, run: Mapping[str, Any]) -> None:
    """Mark the window in the task bar, and leave a message on the desktop where that has a way to show one."""
    QApplication.alert(window)
    notify = shutil.which("notify-send")
    if notify is not None:
        said = f"The run {_WORDS.get(str(run.get('state')), 'did not finish')} after {duration(float(run.get('seconds', 0)))}."
        nowhere = subprocess.DEVNULL
        subprocess.Popen([notify, "--app-name=Eskret", title or "Eskret", said], stdin=nowhere, stdout=nowhere, stderr=nowhere)
