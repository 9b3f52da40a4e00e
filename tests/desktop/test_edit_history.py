"""Undo and redo: whatever was edited, what was left comes back in its order, and an edit after undo ends what could be redone."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from eskret.desktop.state.edit_history import EditHistory, SessionState
from eskret.workflow.model.document import Document

ACTS = st.lists(st.one_of(st.tuples(st.just("edit"), st.integers(0, 5)), st.tuples(st.sampled_from(["undo", "redo"]), st.just(0))))


def numbered(number: int) -> SessionState:
    return SessionState(Document(title=str(number)), {"n": number})


@given(ACTS)
def test_as_a_list_with_a_place_in_it(acts: list[tuple[str, int]]) -> None:
    """A plain model: all states in one list, and a place in it that undo and redo move."""
    history = EditHistory()
    history.begin(numbered(-1))
    states, at = [-1], 0
    for act, number in acts:
        if act == "edit":
            assert history.edit(numbered(number), f"to {number}") == (number != states[at])
            if number != states[at]:
                states, at = [*states[: at + 1], number], at + 1
        elif act == "undo":
            assert history.undo() == (at > 0)
            at = max(at - 1, 0)
        else:
            assert history.redo() == (at < len(states) - 1)
            at = min(at + 1, len(states) - 1)
        assert history.state == numbered(states[at])
        assert history.undo_word == (f"to {states[at]}" if at else "")
        assert history.redo_word == (f"to {states[at + 1]}" if at < len(states) - 1 else "")


def test_a_workflow_that_is_opened_brings_nothing_back_of_the_one_before() -> None:
    history = EditHistory()
    history.edit(numbered(1), "one")
    history.undo()
    history.edit(numbered(2), "two")
    history.begin(numbered(3))
    assert not history.undo() and not history.redo() and history.state == numbered(3)


def test_of_very_many_edits_the_last_four_hundred_are_kept() -> None:
    history = EditHistory()
    for n in range(500):
        history.edit(numbered(n), str(n))
    taken = 0
    while history.undo():
        taken += 1
    assert taken == 400 and history.state == numbered(99)
