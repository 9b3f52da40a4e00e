"""How long the tests may take: ``make test`` is a short pass of everything, ``make test-long`` tries more of the same."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TypeVar

T = TypeVar("T")
LONG = bool(os.environ.get("ESKRET_LONG_TESTS"))


def examples(long: int) -> int:
    """How many examples are drawn, where the long pass draws so many."""
    return long if LONG else max(long // 3, 8)


def turns(long: int, short: int) -> int:
    """How often something is tried that takes a process each time."""
    return long if LONG else short


def part(of: Sequence[T], turn: int = 0, every: int = 3) -> Sequence[T]:
    """All of it, or every third, from another one on in another turn."""
    return of if LONG else of[turn % every :: every]
