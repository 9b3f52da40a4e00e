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
    │   └── TargetChangedError  somebody changed an output while the run was under way; it can be staged anew
    ├── CheckError              a check of the analyst's own did not hold
    ├── AccountError            the accounts of a step disagree: broken data or a fault, never passed on
    └── StoppedError            the analyst stopped the run
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from enum import StrEnum
from typing import Any


class Code(StrEnum):
    """What an error, a finding or a remark is about. Programs go by it; the sentence beside it is for people alone."""

    GENERAL = "general"
    FAULT = "fault"
    # files
    HELD_ELSEWHERE = "held-elsewhere"
    DISK_FULL = "disk-full"
    READ_ONLY = "read-only"
    DAMAGED = "damaged"
    NOT_THERE = "not-there"
    UNDECODABLE = "undecodable"
    TOO_LARGE = "too-large"
    IN_THE_WAY = "in-the-way"
    CHANGED_MEANWHILE = "changed-meanwhile"
    STAGED_ANEW = "staged-anew"
    SHARED_FILE = "shared-file"
    LEFTOVER = "leftover"
    NO_ROOM = "no-room"
    MUCH_MEMORY = "much-memory"
    # commits that were cut short
    RECOVERED = "recovered"
    NOT_RECOVERED = "not-recovered"
    CUT_SHORT_ELSEWHERE = "cut-short-elsewhere"
    INCOMPLETE = "incomplete"
    # consent
    OUTSIDE_FOLDER = "outside-folder"
    STRANGE_SERVICE = "strange-service"
    UNTRUSTED_CODE = "untrusted-code"
    # workflow
    NO_SUCH_LAYER = "no-such-layer"
    SETTING = "setting"
    ROUND_FAILS = "round-fails"
    STOPPED = "stopped"
    TIME_LIMIT = "time-limit"
    MEMORY = "memory"
    NOTHING_LEFT = "nothing-left"


class Action(StrEnum):
    """What a person can do about it at once; a face offers it as a button or an option."""

    ALLOW = "allow"
    READ_CODE = "read-code"


_LONGEST = 1_500


def _readable(text: str) -> str:
    """A text that somebody can read: what a file says of itself can be without end."""
    return text if len(text) <= _LONGEST else f"{text[:_LONGEST]} ... ({len(text) - _LONGEST:,} more characters)"


class EskretError(Exception):
    """Base of all errors meant to be read by a person.

    Parameters
    ----------
    problem : what is wrong, one sentence without its full stop.
    place : where it is (a file, a step, a line), or empty.
    way_out : what to do about it, or empty.
    code : what it is about, for programs.
    step, setting : the step and the setting that it is about, where it is about one.
    action : what can be done about it at once, where there is something.
    counts : figures that the sentence holds, by name.
    """

    def __init__(
        self,
        problem: str,
        *,
        place: str = "",
        way_out: str = "",
        code: Code = Code.GENERAL,
        step: str = "",
        setting: str = "",
        action: Action | None = None,
        counts: Mapping[str, int] | None = None,
    ) -> None:
        self.problem = _readable(problem.rstrip("."))
        self.place = place
        self.way_out = way_out.rstrip(".")
        self.code = code
        self.step = step
        self.setting = setting
        self.action = action
        self.counts: dict[str, int] = dict(counts or {})
        super().__init__(self.sentence())

    def to_json(self) -> dict[str, object]:
        """What a program needs to know of it, with the sentence."""
        return {
            "text": self.sentence(),
            "code": str(self.code),
            "step": self.step,
            "setting": self.setting,
            "action": str(self.action or ""),
            "counts": self.counts,
        }

    def sentence(self, placed: bool = True) -> str:
        """The whole message, as it is shown; without the place, where that is shown already."""
        head = f"{self.place}: {self.problem}." if self.place and placed else f"{self.problem}."
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

    def __init__(self, problem: str, *, status: int = 0, **more: Any) -> None:
        self.status = status
        super().__init__(problem, **more)


class ExpressionError(EskretError):
    """An expression cannot be understood.

    ``start`` and ``length`` say where in the analyst's own text, in characters; -1 where unknown.
    """

    def __init__(self, problem: str, *, start: int = -1, length: int = 0, **more: Any) -> None:
        self.start = start
        self.length = length
        super().__init__(problem, **more)


class CrsError(EskretError):
    """A coordinate system is unknown, missing, or cannot be reached from another."""


class DocumentError(EskretError):
    """A workflow file does not say what a workflow file must."""


class SettingError(EskretError):
    """A setting of a step has a value it cannot have. ``setting`` is its name in the file."""

    def __init__(self, problem: str, **more: Any) -> None:
        super().__init__(problem, **{"code": Code.SETTING, **more})


class RehearsalError(EskretError):
    """A rehearsal found errors; nothing was run. ``findings`` holds all of them."""

    def __init__(self, findings: Sequence[Any]) -> None:
        self.findings = list(findings)
        first = self.findings[0].text if self.findings else "something is wrong"
        more = len(self.findings) - 1
        text = first.rstrip(".") + (f" (and {more} more)" if more > 0 else "")
        code = getattr(self.findings[0], "code", Code.GENERAL) if self.findings else Code.GENERAL
        action = next((f.action for f in self.findings if getattr(f, "action", None)), None)
        super().__init__(text, way_out="Nothing was run and nothing was written", code=code, action=action)


class DeliveryError(EskretError):
    """An output cannot be written where it should go."""


class TargetChangedError(DeliveryError):
    """Somebody changed an output while the run was under way. Nothing was written; staged anew, it can be."""


class CheckError(EskretError):
    """A check of the analyst's own did not hold; nothing was written."""


class AccountError(EskretError):
    """The accounts of a step disagree."""


class StoppedError(EskretError):
    """The analyst stopped the run."""

    def __init__(self, problem: str = "Stopped; nothing was written") -> None:
        super().__init__(problem, code=Code.STOPPED)
