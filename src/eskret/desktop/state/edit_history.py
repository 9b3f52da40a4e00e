"""What undo brings back, in the order in which it was left."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from eskret.workflow.model.document import Document

_KEPT = 400


@dataclass(frozen=True)
class SessionState:
    """What undo brings back: the document, and values given to parameters in place of their defaults."""

    document: Document = field(default_factory=Document)
    values: Mapping[str, object] = field(default_factory=dict)


class EditHistory:
    """The state in force, those before it and those taken back, each with the words of the edit between."""

    def __init__(self) -> None:
        self.state = SessionState()
        self._undo: list[tuple[SessionState, str]] = []
        self._redo: list[tuple[SessionState, str]] = []

    def begin(self, state: SessionState) -> None:
        """Begin with a state: nothing of before is brought back."""
        self.state = state
        self._undo.clear()
        self._redo.clear()

    def edit(self, after: SessionState, what: str) -> bool:
        """Put another state in force; whether it is another."""
        if after == self.state:
            return False
        self._undo.append((self.state, what))
        del self._undo[:-_KEPT]
        self._redo.clear()
        self.state = after
        return True

    def undo(self) -> bool:
        """Take the last edit back; whether there was one."""
        return self._step(self._undo, self._redo)

    def redo(self) -> bool:
        """Do again what was taken back; whether there was anything."""
        return self._step(self._redo, self._undo)

    def _step(self, of: list[tuple[SessionState, str]], onto: list[tuple[SessionState, str]]) -> bool:
        if not of:
            return False
        state, what = of.pop()
        onto.append((self.state, what))
        self.state = state
        return True

    @property
    def undo_word(self) -> str:
        """What was done last; empty for nothing."""
        return self._undo[-1][1] if self._undo else ""

    @property
    def redo_word(self) -> str:
        """What was taken back last; empty for nothing."""
        return self._redo[-1][1] if self._redo else ""
