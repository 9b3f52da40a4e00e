"""The workflows that a script builds with ordinary Python: found by running it in a process of its own."""

from __future__ import annotations

import json
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

from eskret.errors import Action, Code, DocumentError
from eskret.user_operations import trust
from eskret.workflow.model.document import Document, parse

PATIENCE = 60.0
"""Seconds that a script may take."""


@dataclass(frozen=True)
class Built:
    """A workflow, and the name of the file that the script would write it to; empty where it says none."""

    name: str
    document: Document


def built_by(script: Path, patience: float = PATIENCE) -> list[Built]:
    """The workflows that a script builds; nothing of them is written or run.

    Raises
    ------
    DocumentError : nobody has allowed it yet, it fails, takes too long, or builds none.
    """
    source = trust.trusted_source(script)
    if source is None:
        raise DocumentError(
            "this script is code that nobody here has allowed yet",
            place=str(script),
            way_out="Read it, then allow it",
            code=Code.UNTRUSTED_CODE,
            action=Action.READ_CODE,
        )
    try:
        done = subprocess.run(
            [sys.executable, "-P", "-m", "eskret.process.script_runner", str(script.resolve())],
            cwd=script.resolve().parent,
            input=source.decode("utf-8", "replace"),
            capture_output=True,
            text=True,
            timeout=patience,
            encoding="utf-8",
        )
    except subprocess.TimeoutExpired as error:
        raise DocumentError(f"it did not come to an end within {patience:.0f} s", place=str(script), way_out="Let it only build") from error
    try:
        told = json.loads(done.stdout)
    except ValueError as error:
        last = done.stderr.strip().splitlines()[-1:] or ["it ended without a word"]
        raise DocumentError(f"it failed: {last[0]}", place=str(script)) from error
    if told["error"]:
        where = f"{script.name}, line {told['line']}" if told["line"] else script.name
        raise DocumentError(told["error"].rstrip("."), place=where, way_out="Mend it there and open it again")
    found = [Built(b["name"], parse(b["text"], place=script.name)) for b in told["built"]]
    if not found:
        raise DocumentError("it builds no workflow", place=str(script), way_out="A workflow begins with: Workflow(...)")
    return found
