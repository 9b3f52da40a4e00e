"""Word lists: the spellings met in a field, how often, and the word to use for each.

A list is a CSV file (RFC 4180) with the columns ``field``, ``spelling``, ``count``, ``suggestion`` and ``word``. The
suggestion is drafted: near spellings are grouped, and the most frequent of a group is suggested for all of it. The word is
the analyst's own decision and is kept when the list is drafted anew.

Two of the texts in a list mean something else than themselves: the spelling ``(no value)`` stands for features without a
value, and the word ``(empty)`` for having none. An empty text is a spelling like any other.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import pyarrow as pa
from rapidfuzz import process
from rapidfuzz.distance import OSA

from eskret.core.naming import without_accents
from eskret.core.tables.profile import values_with_counts

COLUMNS = ("field", "spelling", "count", "suggestion", "word")
ANY = ""
"""The field of an entry that counts in every field, as in a list of two columns."""
NO_VALUE, EMPTY = "(no value)", "(empty)"
MOST = 20_000
"""Spellings of a field that are listed; more are no words."""
_SHORT, _LONG = 4, 8
"""Letters from which one that is wrong still leaves the same word, and from which two do."""


@dataclass(frozen=True, slots=True)
class WordEntry:
    """A spelling. ``word`` is what the analyst settled on, empty where nothing is settled."""

    field: str
    spelling: str
    count: int
    suggestion: str
    word: str = ""

    @property
    def use(self) -> str:
        """The word to use: the one settled on, else the one suggested."""
        return self.word or self.suggestion


def skeleton(text: str) -> str:
    """A spelling without what does not tell words apart: case, accents, blanks, marks."""
    bare = without_accents(text).casefold()
    return " ".join(re.findall(r"\w+", bare))


def draft(columns: Mapping[str, pa.ChunkedArray], earlier: Iterable[WordEntry] = ()) -> list[WordEntry]:
    """A word list of some fields.

    Parameters
    ----------
    columns : fields of text by their name, all from one layer or several of each name put together.
    earlier : a list whose words are kept; its spellings that are met no more stay, with a count of 0.
    """
    known = {(e.field, e.spelling): e for e in earlier}
    out: list[WordEntry] = []
    for field, column in columns.items():
        found = [(str(v), n) for v, n in values_with_counts(column, MOST)]
        decided = {e.spelling: e.word for (f, _), e in known.items() if f in (ANY, field) and e.word}
        suggestions = suggested(found, decided)
        for spelling, count in found:
            out.append(WordEntry(field, spelling, count, suggestions[spelling], decided.get(spelling, "")))
        if column.null_count:
            out.append(WordEntry(field, NO_VALUE, column.null_count, EMPTY, decided.get(NO_VALUE, EMPTY)))
    met = {(e.field, e.spelling) for e in out}
    out += [replace(e, count=0) for place, e in known.items() if place not in met and e.field != ANY]
    return out


def suggested(found: Sequence[tuple[str, int]], decided: Mapping[str, str] | None = None) -> dict[str, str]:
    """The word suggested for each spelling: of near ones the most frequent, tidied; or what was decided for one like it.

    Parameters
    ----------
    found : spellings with how often each is met, the most frequent first.
    decided : words settled on for spellings.
    """
    heads = _Heads()
    exact: dict[str, str] = {}
    for known, settled in (decided or {}).items():
        if known != NO_VALUE and settled != EMPTY and skeleton(known) not in exact:
            exact[skeleton(known)] = settled
            heads.add(skeleton(known), settled)
    # what is short for something can be met before it: all words there are come first
    whole = _Heads()
    for spelling, _ in found:
        whole.add(skeleton(spelling), " ".join(spelling.split()))
    out = {}
    for spelling, _ in found:
        bare = skeleton(spelling)
        word: str | None = exact.get(bare) or heads.near(bare)
        if word is None:
            long = {exact.get(skeleton(w)) or heads.near(skeleton(w)) or w for w in whole.long_for(bare)}
            word = long.pop() if len(long) == 1 else None  # what is short for several is short for none
        if word is None:
            word = " ".join(spelling.split())
            heads.add(bare, word)
        exact.setdefault(bare, word)
        out[spelling] = word
    return out


class _Heads:
    """Words by their skeletons, to be found by near ones. Digits must be the same, so that plot 12 is not taken for plot 13."""

    def __init__(self) -> None:
        self._words: dict[str, str] = {}
        self._by_size: dict[tuple[tuple[str, ...], int], list[str]] = defaultdict(list)
        self._by_ends: dict[tuple[str, ...], list[str]] = defaultdict(list)

    def add(self, bare: str, word: str) -> None:
        if bare in self._words:
            return
        self._words[bare] = word
        self._by_size[_digits(bare), len(bare)].append(bare)
        self._by_ends[_ends(bare)].append(bare)

    def near(self, bare: str) -> str | None:
        """The word of the nearest skeleton: a letter left out, put in, wrong or changed about with its neighbour; two of these in
        longer ones. The word that was there first, of several."""
        if len(bare) < _SHORT:
            return None
        most = 2 if len(bare) >= _LONG else 1
        best: tuple[float, str] | None = None
        for size in range(len(bare) - most, len(bare) + most + 1):
            found = process.extractOne(bare, self._by_size.get((_digits(bare), size), ()), scorer=OSA.distance, score_cutoff=most)
            if found is not None and (best is None or found[1] < best[0]):
                best = (found[1], found[0])
        return None if best is None else self._words[best[1]]

    def long_for(self, bare: str) -> list[str]:
        """The words that this may be short for, as rd for road: their first and last letters, and others in their order."""
        return [self._words[h] for h in self._by_ends.get(_ends(bare), ()) if h != bare and _shortens(bare, h)]


def _digits(bare: str) -> tuple[str, ...]:
    return tuple(re.findall(r"\d+", bare))


def _ends(bare: str) -> tuple[str, ...]:
    """First and last letter of each part."""
    return tuple(part[0] + part[-1] for part in bare.split())


def _shortens(bare: str, long: str) -> bool:
    """Whether every part of a skeleton is that of the other, or short for it."""
    for short, whole in zip(bare.split(), long.split(), strict=True):
        if short == whole:
            continue
        letters = iter(whole)
        if len(short) < 2 or len(short) > len(whole) - 2 or not short.isalpha() or not all(c in letters for c in short):
            return False
    return True


def as_table(entries: Sequence[WordEntry]) -> pa.Table:
    """The list as a table."""
    return pa.table(
        {
            "field": pa.array([e.field for e in entries], pa.string()),
            "spelling": pa.array([e.spelling for e in entries], pa.string()),
            "count": pa.array([e.count for e in entries], pa.int64()),
            "suggestion": pa.array([e.suggestion for e in entries], pa.string()),
            "word": pa.array([e.word or None for e in entries], pa.string()),
        }
    )


def words_for(entries: Iterable[WordEntry], field: str) -> dict[str, str]:
    """For each spelling of a field the word to use; what a list says of all fields counts where it says nothing of this."""
    listed = list(entries)
    return {e.spelling: e.use for of in (ANY, field) for e in listed if e.field == of}


def brought(value: str | None, words: Mapping[str, str]) -> str | None:
    """A value brought to its word; None for no value."""
    word = words.get(NO_VALUE if value is None else value, value)
    return None if word == EMPTY else word
