"""A request to a worker as a function: what it is called, and what it is given beside its arguments."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import ConfigDict, validate_call

Answer = dict[str, Any]
Event = Mapping[str, Any]


@dataclass(frozen=True)
class Work:
    """What a job is given beside its arguments: to tell how far it is, and to hear that it is to stop."""

    number: int
    tell: Callable[[Event], None]
    """Tell an event of this job."""
    watch: Callable[[int, int], None]
    """Called now and then; raises StoppedError once the job is asked to stop."""
    on_stop: Callable[[Callable[[], None]], None]
    """Have something called when the job is asked to stop."""


JOBS: dict[str, Callable[..., Answer]] = {}
"""Every job by its name in a request; called with ``work`` and what else the request holds."""


def job(name: str) -> Callable[[Callable[..., Answer]], Callable[..., Answer]]:
    """Make a function a job. What the request holds is brought to the types of its arguments, or refused."""

    def declare(function: Callable[..., Answer]) -> Callable[..., Answer]:
        JOBS[name] = validate_call(config=ConfigDict(arbitrary_types_allowed=True))(function)
        return function

    return declare
