"""A short pass of each trial in ``benchmarks/reliability``: the long ones are ``make reliability``."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

HOME = Path(__file__).parents[2]


@pytest.mark.parametrize(
    ("trial", "arguments", "says"),
    [
        ("kills.py", ["4", "11"], "4 killed under way"),
        ("pushes.py", ["2", "3"], "2 tried"),
        ("together.py", ["5"], "together: 0 rows lost or wrong"),
        ("fuzz.py", ["0.002", "5"], "expressions: 40 tried"),
    ],
)
def test_nothing_is_lost_half_or_unforeseen(trial: str, arguments: list[str], says: str) -> None:
    command = [sys.executable, str(HOME / "benchmarks" / "reliability" / trial), *arguments]
    done = subprocess.run(command, capture_output=True, text=True, cwd=HOME, timeout=300, env={**os.environ, "PYTHONWARNINGS": "ignore"})
    assert done.returncode == 0 and says in done.stdout, done.stdout[-3000:] + done.stderr[-2000:]
    assert "WRONG" not in done.stdout and "HANG" not in done.stdout
