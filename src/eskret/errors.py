"""Every exception Eskret raises on purpose.

::

    EskretError                 a sentence naming the thing, the place and the way out
    ├── InputError              a file, folder or layer cannot be read as it is
    │   └── ServiceError        a published dataset cannot be read or changed; carries the status
    ├── ExpressionError         a condition or a computation cannot be understood; carries its position
    ├── CrsError                a coordinate system is unknown, missing, or cannot be reached from another
    ├── DocumentError           a workflow file does not say what a workflow file must
    ├── SettingError            a setting of a step has a value it cannot have
    ├── RehearsalError          a rehearsal found errors, nothing was run; carries the findings
    ├── DeliveryError           an output cannot be written where it should go
    ├── CheckError              a check of the analyst's own did not hold
    ├── AccountError            the accounts of a step disagree: broken data or a fault, never passed on
    └── StoppedError            the analyst stopped the run
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any


class EskretError(Exception):
    """Base of all errors meant to be read by a person.

    Parameters
    ----------
    problem : what is wrong, one sentence without its full stop.
    place : where it is (a file, a step, a line), or empty.
    way_out : what to do about it, or empty.
    """

    def __init__(self, problem: str, *, place: str = "", way_out: str = "") -> None:
        self.problem = problem.rstrip(".")
        self.place = place
        self.way_out = way_out.rstrip(".")
        super().__init__(self.sentence())

    def sentence(self) -> str:
        """The whole message, as it is shown."""
        head = f"{self.place}: {self.problem}." if self.place else f"{self.problem}."
        end = "" if self.way_out.endswith("?") else "."
        return f"{head} {self.way_out}{end}" if self.way_out else head

    def at(self, place: str) -> EskretError:
        """Name the place, if it is not named yet, and hand the error back."""
        if not self.place:
            self.place = place
            self.args = (self.sentence(),)
        return self


class InputError(EskretError):
    """A file, folder or layer cannot be read as it is."""


class ServiceError(InputError):
    """A service does not answer, refuses, or answers nonsense. ``status`` is that of HTTP; 0 where there is none."""

    def __init__(self, problem: str, *, place: str = "", way_out: str = "", status: int = 0) -> None:
        self.status = status
        super().__init__(problem, place=place, way_out=way_out)


class ExpressionError(EskretError):
    """An expression cannot be understood.

    ``start`` and ``length`` say where in the analyst's own text, in characters; -1 where unknown.
    """

    def __init__(self, problem: str, *, start: int = -1, length: int = 0, place: str = "", way_out: str = "") -> None:
        self.start = start
        self.length = length
        super().__init__(problem, place=place, way_out=way_out)


class CrsError(EskretError):
    """A coordinate system is unknown, missing, or cannot be reached from another."""


class DocumentError(EskretError):
    """A workflow file does not say what a workflow file must."""


class SettingError(EskretError):
    """A setting of a step has a value it cannot have. ``setting`` is its name in the file."""

    def __init__(self, problem: str, *, setting: str = "", place: str = "", way_out: str = "") -> None:
        self.setting = setting
        super().__init__(problem, place=place, way_out=way_out)


class RehearsalError(EskretError):
    """A rehearsal found errors; nothing was run. ``findings`` holds all of them."""

    def __init__(self, findings: Sequence[Any]) -> None:
        self.findings = list(findings)
        first = self.findings[0].text if self.findings else "something is wrong"
        more = len(self.findings) - 1
        text = first.rstrip(".") + (f" (and {more} more)" if more > 0 else "")
        super().__init__(text, way_out="Nothing was run and nothing was written")


class DeliveryError(EskretError):
    """An output cannot be written where it should go."""


class CheckError(EskretError):
    """A check of the analyst's own did not hold; nothing was written."""


class AccountError(EskretError):
    """The accounts of a step disagree."""


class StoppedError(EskretError):
    """The analyst stopped the run."""

    def __init__(self, problem: str = "Stopped; nothing was written") -> None:
        super().__init__(problem)
