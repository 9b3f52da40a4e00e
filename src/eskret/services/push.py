"""Send what a journal says, complete what was cut short, take it back.

All three do the same: ask the service what it holds, tell for every entry of the journal whether it is as before, as wanted,
or neither, and send what is missing. So a push that died anywhere can be completed or undone, and what somebody else changed
meanwhile is found before anything is sent.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Generator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from queue import Empty, SimpleQueue

from eskret.core.words import pluralise
from eskret.errors import EskretError, ServiceError, StoppedError
from eskret.services import features, likeness
from eskret.services.changing import Done, Feature, FeatureEditor, drop_dataset, make_dataset
from eskret.services.connection import Connection
from eskret.services.identity import content_texts, key_of
from eskret.services.journal import (
    CONFLICT,
    DONE,
    LEFT,
    PART,
    PREPARED,
    PUSHED,
    SENDING,
    UNDOING,
    UNDONE,
    WAITING,
    Push,
    PushEntry,
    PushJournal,
)

AT_ONCE = 4
"""Requests under way at the same time."""
Watch = Callable[[int, int], None]
REFUSE, LEAVE, OVERWRITE = "refuse", "leave", "overwrite"
"""What is done with features that somebody else changed meanwhile: nothing until it is said, leave theirs, send ours."""


@dataclass(frozen=True)
class PushResult:
    """How things stand at the service: entries by what became of them, and how many features there are."""

    waiting: list[PushEntry]
    done: list[PushEntry]
    conflicts: list[PushEntry]
    count: int


def send(journal: PushJournal, token: str, watch: Watch = lambda done, of: None, theirs: str = REFUSE) -> Push:
    """Send a push that was prepared or undone, or complete one that was cut short.

    Parameters
    ----------
    watch : called with changes sent and all of them, (0, 0) to ask whether to go on; may raise StoppedError.
    theirs : what is done with features that somebody else changed since the difference was taken.

    Returns
    -------
    The push as it stands now: ``pushed``, or ``part`` where something is left to settle; it says what.

    Raises
    ------
    ServiceError : the service does not answer or refuses; what was sent is in the journal.
    StoppedError : the analyst stopped it; so is what was sent then.
    """
    push = journal.push
    if push.state not in (PREPARED, SENDING, PART, UNDONE):
        raise EskretError(f"this push cannot be sent: it is {push.state}", place=push.id)
    journal.note(state=SENDING, sent=push.sent or datetime.now(UTC).isoformat(timespec="seconds"), says="")
    entries = [replace(e, undone=False) for e in journal.entries() if e.state != LEFT]
    with _written_down(journal), Connection(push.service, token, lambda: watch(0, 0)) as there:
        if push.make and features.describe(there, push.dataset) is None:
            make_dataset(there, push.dataset, **push.make)
            journal.note(made=True)
        _Sending(journal, there, entries, watch, theirs).carry_out()
        return journal.push


def undo(journal: PushJournal, token: str, watch: Watch = lambda done, of: None, theirs: str = REFUSE) -> Push:
    """Take a push back, whole or what was sent of it: what was added is removed, what was changed or removed is as before.

    Parameters, errors and what is returned are as for ``send``; the push is ``undone`` at the end.
    """
    push = journal.push
    if push.state not in (SENDING, PART, PUSHED, UNDOING):
        raise EskretError(f"this push cannot be undone: it is {push.state}", place=push.id)
    journal.note(state=UNDOING, says="")
    # the entries the other way round: what was wanted is before now
    turned = [
        replace(e, change=replace(e.change, before=e.change.wanted, wanted=e.change.before), state=DONE if e.undone else WAITING)
        for e in journal.entries()
        if e.state != LEFT
    ]
    with _written_down(journal), Connection(push.service, token, lambda: watch(0, 0)) as there:
        if push.made and features.describe(there, push.dataset) is None:
            journal.note(state=UNDONE, made=False, says="The dataset that it made is gone.")
            return journal.push
        _Sending(journal, there, turned[::-1], watch, theirs).carry_out()
        if journal.push.state == UNDONE and push.made and drop_dataset(there, push.dataset):
            journal.note(made=False)
        return journal.push


@contextmanager
def _written_down(journal: PushJournal) -> Generator[None, None, None]:
    """Around the sending: what ends it early is written down."""
    try:
        yield
    except BaseException as error:
        says = "It was stopped." if isinstance(error, StoppedError) else str(error)
        journal.note(state=PART if journal.push.state == SENDING else journal.push.state, says=says)
        raise


class _Sending:
    """One way through the entries, there or back."""

    def __init__(self, journal: PushJournal, there: Connection, entries: Sequence[PushEntry], watch: Watch, theirs: str) -> None:
        self._journal = journal
        self._push = journal.push
        self._there = there
        self._watch = watch
        self._theirs = theirs
        self._undoing = journal.push.state == UNDOING
        self._entries = {e.n: e for e in entries}
        self._own = None if self._push.own is None else frozenset(self._push.own)
        self._done = 0

    def carry_out(self) -> None:
        """Send what is missing until the service holds it; then say how things stand."""
        settled = self._settle()
        to_send = list(settled.waiting)
        if self._theirs == OVERWRITE:
            to_send += self._rebased(settled.conflicts)
        if to_send:
            self._done = len(self._entries) - len(to_send)
            self._watch(self._done, len(self._entries))
            # of several just alike one is sent after the other: only so can it be told whether one arrived
            self._send([e for e in to_send if not e.change.twins], AT_ONCE)
            self._send([e for e in to_send if e.change.twins], 1)
            settled = self._settle()
        if settled.conflicts and self._theirs == LEAVE:
            self._journal.settle([replace(e, state=LEFT) for e in settled.conflicts])
            settled = replace(settled, conflicts=[])
        self._finish(settled)

    def _rebased(self, conflicts: Sequence[PushEntry]) -> list[PushEntry]:
        """Entries that begin with what somebody else made of the feature; taking the push back brings that back."""
        out = [replace(e, state=WAITING, change=replace(e.change, before=e.theirs)) for e in conflicts]
        self._entries.update({e.n: e for e in out})
        if not self._undoing:
            self._journal.rebase(out)
        return out

    def _finish(self, settled: PushResult) -> None:
        push = self._push
        if settled.waiting:
            raise ServiceError(
                f"{pluralise(len(settled.waiting), 'change')} did not come to be although the service took them",
                place=push.service,
                way_out="Look at the dataset, then resume or undo this push",
            )
        if settled.conflicts:
            number = len(settled.conflicts)
            says = (
                f"Somebody else changed {pluralise(number, 'feature')} since the difference was taken; "
                f"{'it was' if number == 1 else 'they were'} not touched. Leave theirs, or send yours over theirs."
            )
            self._journal.note(state=UNDOING if self._undoing else PART, says=says)
            return
        expected = push.count_before if self._undoing else push.count_after
        left = self._journal.count(LEFT)
        says = ""
        if left:
            says = f"{pluralise(left, 'feature')} stayed as somebody else made them."
        elif settled.count != expected:
            says = f"The dataset holds {settled.count:,} features, {expected:,} were expected: somebody else changes it too."
        self._journal.note(state=UNDONE if self._undoing else PUSHED, says=says)

    def _settle(self) -> PushResult:
        """Ask the service what it holds, and tell for every entry whether it is as wanted, as before, or neither."""
        push = self._push
        found = features.read_items(self._there, push.dataset, watch=lambda done, of: self._watch(0, 0)).features
        known: dict[str, list[Feature]] = {}
        keyed, own = push.key, self._own
        texts = [key_of(one, keyed) for one in found] if keyed else content_texts(found, push.decimals, own)
        for one, text in zip(found, texts, strict=True):
            if text is not None:
                known.setdefault(text, []).append(one)
        settled = PushResult([], [], [], len(found))
        for entry in self._entries.values():
            now = self._stands(entry, known.get(entry.key, []))
            {WAITING: settled.waiting, DONE: settled.done, CONFLICT: settled.conflicts}[now.state].append(now)
        self._note([*settled.waiting, *settled.done, *settled.conflicts])
        return settled

    def _stands(self, entry: PushEntry, there: Sequence[Feature]) -> PushEntry:
        """An entry as it stands by what the service holds of its key."""
        change, decimals = entry.change, self._push.decimals
        now = there[0] if there else None
        if len(there) < 2:
            same = likeness.same(now, change.wanted, decimals, self._own)
            as_before = likeness.same(now, change.before, decimals, self._own)
            # what was sent, and is as before again, somebody else took back
            state = DONE if same else WAITING if as_before and entry.state != DONE else CONFLICT
        else:
            state = CONFLICT
        id = str(now.get("id", "")) if now is not None else change.id
        return replace(entry, state=state, theirs=now if state == CONFLICT else None, change=replace(change, id=id or change.id))

    def _note(self, entries: Sequence[PushEntry]) -> None:
        """Remember how far these came, and write it down."""
        rows = []
        for entry in entries:
            self._entries[entry.n] = replace(self._entries[entry.n], state=entry.state, theirs=entry.theirs)
            state = entry.state
            if self._undoing:  # one that is as before again waits as it did at first
                state = {DONE: WAITING, WAITING: DONE}.get(state, state)
            rows.append(replace(entry, state=state, undone=self._undoing and entry.state == DONE))
        self._journal.settle(rows)

    def _send(self, entries: Sequence[PushEntry], at_once: int) -> None:
        """Send changes, several at once: what is new first, then what changed, what goes last."""
        editor = FeatureEditor(self._there, self._push.dataset, self._push.decimals, self._own)
        waiting = sorted(entries, key=lambda e: (e.change.before is not None) + (e.change.wanted is None))
        waiting.reverse()  # taken from the end, so that those just alike keep their order
        under_way: dict[Future[Done], PushEntry] = {}
        answered: SimpleQueue[Future[Done]] = SimpleQueue()
        finished: list[PushEntry] = []
        written = time.monotonic()
        failure: BaseException | None = None
        with ThreadPoolExecutor(at_once, thread_name_prefix="push") as pool:
            while under_way or (waiting and failure is None):
                while waiting and len(under_way) < 2 * at_once and failure is None:
                    entry = waiting.pop()
                    future = pool.submit(editor.carry_out, entry.change)
                    under_way[future] = entry
                    future.add_done_callback(answered.put)
                try:
                    with suppress(Empty):
                        future = answered.get(timeout=0.2)
                        entry = under_way.pop(future)
                        finished.append(_answered(entry, future.result()))
                        self._done += 1
                    if failure is None:
                        self._watch(self._done, len(self._entries))
                except BaseException as error:
                    # the others end at their next request; what they were about is asked of the service the next time
                    failure = failure or error
                    self._there.halt()
                if time.monotonic() - written > 0.5:
                    self._note(finished)
                    finished, written = [], time.monotonic()
        self._note(finished)
        if failure is not None:
            raise failure


def _answered(entry: PushEntry, done: Done) -> PushEntry:
    state = CONFLICT if done.conflict else DONE
    return replace(entry, state=state, theirs=done.theirs, change=replace(entry.change, id=done.id or entry.change.id))
