"""Word lists: the spellings met in a field, how often, and the word to use for each.

A list is a CSV file (RFC 4180) with the columns ``field``, ``spelling``, ``count``, ``suggestion`` and ``word``. The
suggestion is drafted: near spellings are grouped, and the most frequent of a group is suggested for all of it. The word is
the analyst's own decision and is kept when the list is drafted anew.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import pyarrow as pa

from eskret.core.naming import without_accents
from eskret.core.profile import values_with_counts

COLUMNS = ("field", "spelling", "count", "suggestion", "word")
_NEAR = 0.82
_MOST = 20_000


@dataclass(frozen=True, slots=True)
class Entry:
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


def draft(columns: Mapping[str, pa.ChunkedArray], earlier: Iterable[Entry] = ()) -> list[Entry]:
    """A word list of some fields.

    Parameters
    ----------
    columns : fields of text by their name, all from one layer or several of each name put together.
    earlier : a list whose words are kept; its spellings that are met no more stay, with a count of 0.
    """
    known = {(e.field, e.spelling): e for e in earlier}
    out: list[Entry] = []
    for field, column in columns.items():
        found = [(str(v), n) for v, n in values_with_counts(column, _MOST)]
        decided = {e.spelling: e.word for (f, _), e in known.items() if f == field and e.word}
        suggestions = suggested(found, decided)
        for spelling, count in found:
            out.append(Entry(field, spelling, count, suggestions[spelling], decided.get(spelling, "")))
    met = {(e.field, e.spelling) for e in out}
    out += [replace(e, count=0) for place, e in known.items() if place not in met]
    return out


def suggested(found: Sequence[tuple[str, int]], decided: Mapping[str, str] | None = None) -> dict[str, str]:
    """The word suggested for each spelling: of near ones the most frequent, tidied; or what was decided for one like it.

    Parameters
    ----------
    found : spellings with how often each is met, the most frequent first.
    decided : words settled on for spellings.
    """
    heads: list[tuple[str, str]] = []  # a group's skeleton and its word
    exact: dict[str, str] = {}
    for known, settled in (decided or {}).items():
        if skeleton(known) not in exact:
            exact[skeleton(known)] = settled
            heads.append((skeleton(known), settled))
    out = {}
    for spelling, _ in found:
        bare = skeleton(spelling)
        word: str | None = exact.get(bare)
        if word is None:
            near = _nearest(bare, [h for h, _ in heads])
            word = next((w for h, w in heads if h == near), None) if near else None
        if word is None:
            word = " ".join(spelling.split())
            heads.append((bare, word))
        exact.setdefault(bare, word)
        out[spelling] = word
    return out


def _nearest(bare: str, heads: Sequence[str]) -> str | None:
    """The head that this is a near spelling of; digits must be the same, so that plot 12 is not taken for plot 13."""
    if len(bare) < 4:
        return None
    digits = re.findall(r"\d+", bare)
    same = [h for h in heads if re.findall(r"\d+", h) == digits and abs(len(h) - len(bare)) <= max(2, len(bare) // 4)]
    found = difflib.get_close_matches(bare, same, 1, _NEAR)
    return found[0] if found else None


def as_table(entries: Sequence[Entry]) -> pa.Table:
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


def words_for(entries: Iterable[Entry], field: str) -> dict[str, str]:
    """For each spelling of a field the word to use."""
    return {e.spelling: e.use for e in entries if e.field == field}
