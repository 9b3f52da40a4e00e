"""Which practice servers run on this machine, and their tokens: a note in the user's data folder that nobody else can read."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from platformdirs import user_data_path


@dataclass(frozen=True)
class Running:
    """A practice server that runs."""

    address: str
    token: str
    pid: int


def data_folder() -> Path:
    """Where a practice server keeps its datasets unless another place is named."""
    return user_data_path("eskret", appauthor=False) / "practice-server"


def _note() -> Path:
    return user_data_path("eskret", appauthor=False) / "practice-servers.json"


def running() -> list[Running]:
    """The practice servers whose process is there."""
    return [Running(a, r["token"], r["pid"]) for a, r in _read().items()]


def note(address: str, token: str) -> None:
    """Remember that this process serves there."""
    _write({**_read(), address: {"token": token, "pid": os.getpid()}})


def forget(address: str) -> None:
    """Take a server off the note again."""
    _write({a: r for a, r in _read().items() if a != address})


def _read() -> dict[str, Any]:
    try:
        found = json.loads(_note().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return {a: r for a, r in found.items() if Path(f"/proc/{r['pid']}").exists()} if isinstance(found, dict) else {}


def _write(told: Mapping[str, Any]) -> None:
    _note().parent.mkdir(parents=True, exist_ok=True)
    waiting = _note().with_suffix(f".{os.getpid()}.new")
    with open(os.open(waiting, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w", encoding="utf-8") as stream:
        json.dump(told, stream)
    waiting.replace(_note())
