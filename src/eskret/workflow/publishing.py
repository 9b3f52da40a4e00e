"""Send a prepared push, complete it, take it back: with the token where it is kept."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from eskret.errors import InputError
from eskret.services import journal, push, tokens
from eskret.services.journal import PART, PREPARED, PUSHED, SENDING, UNDOING, Push

TO_SEND = (PREPARED, SENDING, PART, UNDOING)
"""What can be sent or completed."""
TO_UNDO = (SENDING, PART, PUSHED, UNDOING)


def send(id: str, watch: Callable[[int, int], None] = lambda done, of: None, theirs: str = push.REFUSE) -> Push:
    """Send a push, or complete one that was cut short on its way there or back.

    Parameters and errors are those of ``services.push.send``.
    """
    return _do(id, watch, theirs, back=False)


def undo(id: str, watch: Callable[[int, int], None] = lambda done, of: None, theirs: str = push.REFUSE) -> Push:
    """Take a push back. Parameters and errors are those of ``services.push.undo``."""
    return _do(id, watch, theirs, back=True)


def _do(id: str, watch: Callable[[int, int], None], theirs: str, back: bool) -> Push:
    with journal.open_push(id) as open_:
        token = tokens.token_for(open_.push.service, open_.push.token_from)
        way = push.undo if back or open_.push.state == UNDOING else push.send
        return way(open_, token, watch, theirs)


def latest(workflow: Path | None, states: Sequence[str]) -> list[str]:
    """The pushes of a workflow's latest run that has any in these states, in the order in which they were prepared.

    Raises
    ------
    InputError : there is none.
    """
    found = [p for p in journal.pushes(workflow) if p.state in states]
    if not found:
        what = "to send or complete" if PREPARED in states else "to take back"
        raise InputError(
            f"there is no push {what}", place=str(workflow or ""), way_out="'eskret publish --history' lists all pushes"
        )
    return [p.id for p in found if p.run == found[0].run][::-1]
