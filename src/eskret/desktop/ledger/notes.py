"""What stands below a step's row: why it asks for a look or cannot run, and what it set aside. No painting."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from eskret.core.words import pluralise
from eskret.workflow.faces.ledger import StepRow, grouped_remarks

MOST = 6
"""More lines than this are not shown below a step; the last says how many more there are."""


@dataclass(frozen=True)
class Note:
    """A line below a step. ``reason`` is why features were set aside or altered, where it is about those: they can be gone to."""

    text: str
    tone: str = "note"
    reason: str = ""


def urgent(row: StepRow, findings: Sequence[tuple[str, str]]) -> bool:
    """Whether there is something to see before anybody asks for it."""
    if row.state or row.error:
        return bool(row.error) or row.state in ("look", "failed")
    return any(level in ("error", "look") for level, _ in findings)


def notes_of(row: StepRow, findings: Sequence[tuple[str, str]]) -> list[Note]:
    """All there is to say of a step, what matters most first.

    Parameters
    ----------
    findings : level and text of what a rehearsal has to say of it; of a step that was done its own results say it.
    """
    if row.off:
        return []
    out = [Note(row.error, "bad")] if row.error else []
    if not row.state:
        wrong = [text for level, text in findings if level == "error"]
        out += [Note(text, "bad") for text in dict.fromkeys(wrong)]
        out += [Note(text, "look") for text in dict.fromkeys(text for level, text in findings if level == "look")]
    remarks = grouped_remarks(row.remarks)
    counts, altered = _summed(c.reasons for c in row.children), _summed(c.altered for c in row.children)
    looks = [text for text, look in remarks if look]
    # where one thing asks for a look and features were altered in one way, it is these that it is about
    about = next(iter(altered)) if len(looks) == len(altered) == 1 else ""
    out += [Note(text, "look", about) for text in looks]
    out += [Note(f"{pluralise(n, 'feature')} set aside: {reason}", "aside", reason) for reason, n in counts.items()]
    out += [Note(f"{pluralise(n, 'feature')} altered: {what}", reason=what) for what, n in altered.items() if what != about]
    out += [Note(text) for text, look in remarks if not look]
    if len(out) > MOST:
        more = len(out) - MOST + 1
        out = [*out[: MOST - 1], Note(f"and {more} more, which the step's settings list")]
    return out


def _summed(layers: Iterable[tuple[tuple[str, int], ...]]) -> dict[str, int]:
    """Numbers by reason, of all layers of the set."""
    counts: dict[str, int] = {}
    for one in layers:
        for reason, number in one:
            counts[reason] = counts.get(reason, 0) + number
    return counts
