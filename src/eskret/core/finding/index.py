"""Rank things by how well they fit what somebody typed.

A word weighs the more, the fewer things it is said of (K. Spärck Jones, "A statistical interpretation of term specificity", 1972), and
the more, the nearer to the name it is said. What is said from one thing to another must be said in that direction.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from math import log

from rapidfuzz import fuzz, process

from eskret.core.finding.terms import meaning, said, stem, words_of

_NAME, _ALSO, _SUMMARY, _MORE = 1.0, 0.85, 0.5, 0.15
_MEANT = 0.7  # a word that means the same, against the word itself
_BEGUN, _SLIPPED = 0.6, 0.7  # a word begun, or with a slip of the finger
_PHRASE = 1.1
_TAIL = 0.15  # of the best: what fits less only lengthens the list
_AS_IT_STANDS = 1.5  # all that was typed is a name or another word for it
_WAY, _WRONG_WAY = 0.9, 0.45
_ALIKE = 80  # per cent of letters, above which an unknown word is taken for a known one


@dataclass(frozen=True)
class Entry:
    """What can be found: its name, other words for it, what it does, and what else is said of it.

    ``turns`` are the kinds of things that it makes into others, such as points into lines.
    """

    name: str
    also: Sequence[str] = ()
    summary: str = ""
    more: str = ""
    turns: Sequence[tuple[str, str]] = ()


@dataclass
class _Known:
    weights: dict[str, float] = field(default_factory=dict)  # of stems and meanings
    phrases: list[tuple[frozenset[str], ...]] = field(default_factory=list)
    whole: frozenset[str] = frozenset()  # names and other words for it, as they stand
    pairs: frozenset[tuple[str, str]] = frozenset()

    def says(self, text: str, weight: float) -> None:
        for one in said(text).stems:
            self.weights[one] = max(weight, self.weights.get(one, 0.0))
            if means := meaning(one):
                self.weights[means] = max(weight * _MEANT, self.weights.get(means, 0.0))


@dataclass(frozen=True)
class Term:
    """A word that was typed, as it is looked for: stems that it may stand for, with how surely each is meant."""

    word: str
    stems: Mapping[str, float]
    rarity: float
    known: bool


class Index:
    """Things that are found by words."""

    def __init__(self, entries: Sequence[Entry]) -> None:
        self._known = [self._learn(e) for e in entries]
        self._words: dict[str, str] = {}  # every word that is said of something, with its stem
        for entry in entries:
            for text in (entry.name, *entry.also, entry.summary):
                self._words.update((w, stem(w)) for w in said(text).words)
        often: dict[str, int] = {}
        for known in self._known:
            for one, weight in known.weights.items():
                if weight > _MORE:
                    often[one] = often.get(one, 0) + 1
        self._rarity = {one: log(1 + len(entries) / n) for one, n in often.items()}
        self._rarest = log(1 + len(entries))

    @staticmethod
    def _learn(entry: Entry) -> _Known:
        known = _Known()
        for text, weight in ((entry.more, _MORE), (entry.summary, _SUMMARY), *((a, _ALSO) for a in entry.also), (entry.name, _NAME)):
            known.says(text, weight)
        phrases = [said(text) for text in (entry.name, *entry.also)]
        known.phrases = [tuple(frozenset(filter(None, (s, meaning(s)))) for s in one.stems) for one in phrases if one.stems]
        known.whole = frozenset(" ".join(words_of(text)) for text in (entry.name, *entry.also))
        known.pairs = frozenset(entry.turns).union(*(p.pairs for p in phrases))
        return known

    def terms(self, words: str) -> list[Term]:
        """What somebody typed, as it is looked for."""
        typed = list(dict.fromkeys(said(words).words))
        return [self._term(word, n == len(typed) - 1 and not words.endswith(" ")) for n, word in enumerate(typed)]

    def _term(self, word: str, last: bool) -> Term:
        one = stem(word)
        stems: dict[str, float] = {}
        if one in self._rarity or any(one in k.weights for k in self._known):
            stems[one] = 1.0
        if means := meaning(one):
            stems[means] = 1.0
        known = bool(stems)
        if (last and len(word) > 1) or (not stems and len(word) > 2):
            for other, of in self._words.items():
                if other.startswith(word) and of not in stems:
                    stems[of] = _BEGUN
        if not stems and len(word) > 3:
            # a slip hardly ever is in the first letter, where another word is meant: night is not right
            like = [other for other in self._words if other[:1] == word[:1] or other in word or word in other]
            for other, *_ in process.extract(word, like, scorer=fuzz.ratio, score_cutoff=_ALIKE, limit=3):
                stems[self._words[other]] = _SLIPPED
                if means := meaning(self._words[other]):
                    stems.setdefault(means, _SLIPPED)
        rarity = max((self._rarity.get(s, 0.0) for s in stems if s == one), default=0.0)
        rarity = rarity or max((self._rarity.get(s, 0.0) for s in stems), default=self._rarest)
        return Term(word, stems, rarity, known or bool(stems))

    def ranked(self, words: str) -> list[tuple[float, int]]:
        """How well each entry fits, with its place among them, best first; those that hardly do are left out."""
        terms = self.terms(words)
        whole = sum(t.rarity for t in terms)
        typed = " ".join(words_of(words))
        if not whole and not typed:
            return []
        pairs = said(words).pairs
        out = []
        for n, known in enumerate(self._known):
            met = sum(t.rarity * max((w * known.weights.get(s, 0.0) for s, w in t.stems.items()), default=0.0) for t in terms)
            as_it_stands = typed in known.whole
            if not met and not as_it_stands:
                continue
            score = (
                met / (whole or 1.0)
                + _AS_IT_STANDS * as_it_stands
                + _PHRASE * max((self._meets(terms, whole, p) for p in known.phrases), default=0.0)
            )
            if pairs & known.pairs:
                score += _WAY
            elif any(p[::-1] in known.pairs for p in pairs):
                score *= _WRONG_WAY
            out.append((score, n))
        out.sort(key=lambda s: (-s[0], s[1]))
        return [s for s in out if s[0] >= _TAIL * out[0][0]]

    def _meets(self, terms: Sequence[Term], whole: float, phrase: tuple[frozenset[str], ...]) -> float:
        """How much a phrase and what was typed have in common, of both: 1 where they say the same."""
        of_phrase = sum(max(self._rarity.get(s, 0.0) for s in word) for word in phrase)
        there, typed = 0.0, 0.0
        for word in phrase:
            best = max(
                ((max((w for s, w in t.stems.items() if s in word), default=0.0) * self._surely(t, word), t) for t in terms),
                key=lambda b: b[0],
            )
            if best[0]:
                there += best[0] * max(self._rarity.get(s, 0.0) for s in word)
                typed += best[0] * best[1].rarity
        if not there:
            return 0.0
        share, covered = min(there / of_phrase, 1.0), min(typed / whole, 1.0)
        return 2 * share * covered / (share + covered)

    @staticmethod
    def _surely(term: Term, word: frozenset[str]) -> float:
        """Less where only the meaning is the same."""
        return 1.0 if stem(term.word) in word or any(w < 1 for w in term.stems.values()) else _MEANT
