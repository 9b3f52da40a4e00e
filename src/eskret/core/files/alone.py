"""Whether this process opens files in several threads at once.

SQLite's locks belong to a process: when any library of that process closes a file, all locks on it are gone. A process that
reads files in other threads, such as a window's worker or a notebook, must have databases changed in a child.
"""

from __future__ import annotations

_alone = False


def say_alone(alone: bool = True) -> None:
    """Say that nothing else in this process opens files while a commit is under way."""
    global _alone
    _alone = alone


def is_alone() -> bool:
    """Whether somebody said so."""
    return _alone
