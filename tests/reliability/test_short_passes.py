"""A short pass of each trial in ``benchmarks/reliability``: the long ones are ``make reliability``."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.length import turns

HOME = Path(__file__).parents[2]
KILLS, PUSHES = turns(4, 2), turns(2, 1)


@pytest.mark.parametrize(
    ("trial", "arguments", "says"),
    [
        ("kills.py", [str(KILLS), "11"], f"{KILLS} killed under way"),
        ("pushes.py", [str(PUSHES), "3"], f"{PUSHES} tried"),
        # in the short pass test_shared_files tries what can be done to one file at once
        pytest.param("together.py", ["5"], "together: 0 rows lost or wrong", marks=pytest.mark.long),
        ("fuzz.py", ["0.002", "5"], "expressions: 40 tried"),
    ],
)
def test_nothing_is_lost_half_or_unforeseen(trial: str, arguments: list[str], says: str) -> None:
    command = [sys.executable, str(HOME / "benchmarks" / "reliability" / trial), *arguments]
    done = subprocess.run(command, capture_output=True, text=True, cwd=HOME, timeout=300, env={**os.environ, "PYTHONWARNINGS": "ignore"})
    assert done.returncode == 0 and says in done.stdout, done.stdout[-3000:] + done.stderr[-2000:]
    assert "WRONG" not in done.stdout and "HANG" not in done.stdout
