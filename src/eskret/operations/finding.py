"""Find operations by everyday words, and say so where there is none."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Generic, TypeVar

from eskret.core.finding.index import Entry, Index
from eskret.core.finding.terms import said, words_of
from eskret.operations.base import Operation
from eskret.operations.elsewhere import elsewhere
from eskret.operations.registry import all_operations, own_operations
from eskret.operations.settings import setting_info

T_co = TypeVar("T_co", covariant=True)


@dataclass(frozen=True)
class Findings(Generic[T_co]):
    """What was found, best first, and what there is to say of it: that nothing does this, or that a word is not known."""

    things: Sequence[T_co]
    note: str = ""


def entry_of(operation: Operation) -> Entry:
    """What an operation is found by."""
    labels = " ".join(i.label for i in setting_info(operation.Settings).values())
    name = (
        f"{operation.title} {operation.id.replace('_', ' ')}"
        if operation.title.lower() != operation.id.replace("_", " ")
        else operation.title
    )
    more = f"{labels} {operation.help}"
    return Entry(name, tuple(operation.also_known_as), f"{operation.summary} {operation.phase}", more, operation.turns)


@lru_cache(maxsize=8)
def index_of(entries: tuple[Entry, ...]) -> Index:
    """An index of these, made once."""
    return Index(entries)


def find_among(words: str, things: Sequence[tuple[str, Entry, T_co]], unfit: Sequence[bool]) -> Findings[T_co]:
    """Of things what fits the words, best first; all of them for nothing typed.

    Parameters
    ----------
    things : each with the id of the operation that it is, and what it is found by.
    unfit : of each whether it cannot be used as things are: of what fits equally well, it comes last.
    """
    order = sorted(range(len(things)), key=lambda n: unfit[n])
    if not said(words).words:
        return Findings([things[n][2] for n in order])
    index = index_of(tuple(things[n][1] for n in order))
    ranked = [(round(score, 2), order[n]) for score, n in index.ranked(words)]
    ranked.sort(key=lambda s: (-s[0] + _UNFIT * unfit[s[1]], unfit[s[1]]))
    topic = elsewhere(words, frozenset(w for _, entry, _ in things for w in words_of(entry.name)))
    if topic is not None:
        ways = [things[n][2] for way in topic.ways for n in order if things[n][0] == way]
        return Findings(ways, topic.sentence)
    found = [things[n][2] for _, n in ranked]
    terms = index.terms(words)
    strange = [f"‘{t.word}’" for t in terms if not t.known]
    if found and len(strange) * 2 > len(terms):
        return Findings(found, f"No operation speaks of {' or '.join(strange)}; these fit the other words.")
    return Findings(found)


_UNFIT = 0.12  # how much better it must fit to come before what can be used


def find(words: str, with_layers: bool | None = None) -> Findings[Operation]:
    """Operations that fit what somebody typed.

    Parameters
    ----------
    with_layers : whether there are layers to work on already; of what fits equally well, what can use that comes first.
    """
    known = [*all_operations().values(), *own_operations()]
    unfit = [with_layers is not None and o.has_input != with_layers for o in known]
    return find_among(words, [(o.id, _entry(o), o) for o in known], unfit)


@lru_cache(maxsize=1_000)
def _entry(operation: Operation) -> Entry:
    return entry_of(operation)


def find_operations(words: str, with_layers: bool | None = None) -> list[Operation]:
    """Operations that fit what somebody typed, best first; all of them for nothing typed."""
    return list(find(words, with_layers).things)
