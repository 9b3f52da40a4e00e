"""Which practice servers run on this machine, and their tokens: a note in the user's data folder that nobody else can read."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from eskret.core.files.state_file import change_state, read_state
from eskret.core.files.user_state import data_place


@dataclass(frozen=True)
class Running:
    """A practice server that runs."""

    address: str
    token: str
    pid: int


def data_folder() -> Path:
    """Where a practice server keeps its datasets unless another place is named."""
    return data_place("practice-server")


def _note() -> Path:
    return data_place("practice-servers.json")


def running() -> list[Running]:
    """The practice servers whose process is there."""
    out = []
    for address, told in read_state(_note()).items():
        try:
            one = Running(str(address), str(told["token"]), int(told["pid"]))
        except (KeyError, TypeError, ValueError):
            continue
        if _is_there(one.pid):
            out.append(one)
    return out


def note(address: str, token: str) -> None:
    """Remember that this process serves there."""
    change_state(_note(), lambda known: known.update({address: {"token": token, "pid": os.getpid()}}))


def forget(address: str) -> None:
    """Take a server off the note again, and those whose process is gone."""

    def change(known: dict[str, Any]) -> None:
        there = {s.address for s in running()} - {address}
        for other in set(known) - there:
            del known[other]

    change_state(_note(), change)


def _is_there(pid: int) -> bool:
    return pid > 0 and Path(f"/proc/{pid}").exists()
