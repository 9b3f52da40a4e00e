"""Which row came of which: kept by a run that is asked to, and gone along, back to the records and on to all that came of them."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from eskret.core.accounts.account import SetAside
from eskret.core.layer import ChunkedLayer, Layer
from eskret.core.tables.rows import remaining
from eskret.operations.base import Outcome
from eskret.workflow.cache.cached_layer import LayerHandle

Place = tuple[str, str]
"""A layer as it left a step: the step's id and the layer's key there."""


@dataclass(frozen=True)
class RowLink:
    """What one task did with rows.

    Parameters
    ----------
    entering, leaving : places with their numbers of rows, in order; rows are counted through all of them.
    origin : for every row that leaves the one that entered, -1 for none (int64); None where nobody can tell.
    into : instead, for every row that entered the one that left, -1 for none (int64).
    aside : rows that were set aside, of each layer that entered.
    pairs : instead of both, of a layer that a setting names: its rows, and those that leave into which they went (int64 each).
    """

    step: str
    entering: tuple[tuple[Place, int], ...]
    leaving: tuple[tuple[Place, int], ...]
    origin: np.ndarray | None
    into: np.ndarray | None
    aside: tuple[SetAside, ...]
    pairs: tuple[np.ndarray, np.ndarray] | None = None

    def back(self, rows: np.ndarray) -> np.ndarray:
        """The rows that entered of which these came that leave (int64, ascending)."""
        if self.pairs is not None:
            return np.unique(self.pairs[0][np.isin(self.pairs[1], rows)])
        if self.into is not None:
            return np.flatnonzero(np.isin(self.into, rows))
        if self.origin is None:
            return np.empty(0, np.int64)
        found = self.origin[rows]
        return np.unique(found[found >= 0])

    def on(self, rows: np.ndarray) -> np.ndarray:
        """The rows that leave which came of these (int64, ascending)."""
        if self.pairs is not None:
            return np.unique(self.pairs[1][np.isin(self.pairs[0], rows)])
        if self.into is not None:
            found = self.into[rows]
            return np.unique(found[found >= 0])
        return np.empty(0, np.int64) if self.origin is None else np.flatnonzero(np.isin(self.origin, rows))


class RowLinks:
    """All links of a run, from whichever thread they come."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self.by_step: dict[str, list[RowLink]] = {}

    def record(
        self,
        step: str,
        entering: Sequence[LayerHandle],
        outcomes: Sequence[Outcome],
        others: Mapping[str, Sequence[Layer | ChunkedLayer]] | None = None,
    ) -> None:
        """Take what a task made of the layers that entered it, and of those that its settings name."""
        for outcome in outcomes:
            links = [_link(step, entering, outcome), *_brought(step, outcome, others or {})]
            with self._lock:
                self.by_step.setdefault(step, []).extend(links)


def _link(step: str, entering: Sequence[LayerHandle], outcome: Outcome) -> RowLink:
    places = tuple((_place_of(x), len(x)) for x in entering)
    leaving = tuple(((step, x.key), len(x)) for x in outcome.layers)
    out, into = sum(n for _, n in leaving), sum(n for _, n in places)
    first = [account for account in outcome.inputs if account.first]
    aside = tuple(a.set_aside for a in first) if len(first) == len(places) else tuple(SetAside() for _ in places)
    origin: np.ndarray | None = None
    if outcome.into is not None:
        return RowLink(step, places, leaving, None, np.asarray(outcome.into, np.int64), aside)
    if outcome.lineage is not None and len(outcome.lineage) <= out:
        # rows that came of another layer alone stand at the end
        origin = np.concatenate([np.asarray(outcome.lineage, np.int64), np.full(out - len(outcome.lineage), -1, np.int64)])
    elif places:
        kept = remaining(into, _through(places, [a.rows for a in aside]))
        origin = kept if len(kept) == out else None
    return RowLink(step, places, leaving, origin, None, aside)


def _brought(step: str, outcome: Outcome, others: Mapping[str, Sequence[Layer | ChunkedLayer]]) -> list[RowLink]:
    """Links from the layers that settings name."""
    leaving = tuple(((step, x.key), len(x)) for x in outcome.layers)
    out = []
    for one in outcome.brought:
        layers = others.get(one.setting, ())
        places = tuple((_place_of(x), len(x)) for x in layers)
        accounts = [a.set_aside for a in outcome.inputs if a.setting == one.setting]
        aside = tuple(accounts) if len(accounts) == len(places) else tuple(SetAside() for _ in places)
        out.append(RowLink(step, places, leaving, None, None, aside, one.pairs()))
    return out


def _place_of(layer: LayerHandle | Layer | ChunkedLayer) -> Place:
    return layer.provenance[0] if layer.provenance else ("", layer.key)


def _through(places: Sequence[tuple[Place, int]], rows: Sequence[np.ndarray]) -> np.ndarray:
    """Rows of several layers, counted through all of them."""
    begins = np.cumsum([0, *(n for _, n in places)])
    return np.concatenate([np.empty(0, np.int64), *(r + b for r, b in zip(rows, begins, strict=False))]).astype(np.int64)


@dataclass(frozen=True)
class Station:
    """Where a feature is on its way: rows of a layer as it left a step; or, with a ``reason``, rows of a layer that were set aside when
    they entered ``by``."""

    place: Place
    rows: np.ndarray
    by: str = ""
    reason: str = ""
    here: bool = False
    """Whether it is the one that was asked for."""


@dataclass
class _Found:
    rows: dict[Place, np.ndarray] = field(default_factory=dict)

    def add(self, place: Place, rows: np.ndarray) -> None:
        if len(rows):
            self.rows[place] = np.union1d(self.rows.get(place, np.empty(0, np.int64)), rows)


def way(links: Mapping[str, Sequence[RowLink]], order: Sequence[str], place: Place, rows: np.ndarray) -> list[Station]:
    """All stations of some rows of a layer: what they came of, step by step, they themselves, and what came of them.

    Parameters
    ----------
    links : of each step.
    order : the steps, each behind those that it takes from.
    """
    rows = np.unique(np.asarray(rows, np.int64))
    at = order.index(place[0])
    back, on = _Found({place: rows}), _Found({place: rows})
    for id in reversed(order[: at + 1]):
        for link in links.get(id, ()):
            asked = _through(link.leaving, [back.rows.get(p, np.empty(0, np.int64)) for p, _ in link.leaving])
            if len(asked):
                _spread(back, link.entering, link.back(asked))
    aside: dict[tuple[str, Place, str], np.ndarray] = {}
    for id in order[at + 1 :]:
        for link in links.get(id, ()):
            mine = [on.rows.get(p, np.empty(0, np.int64)) for p, _ in link.entering]
            asked = _through(link.entering, mine)
            if not len(asked):
                continue
            for (p, _), told, have in zip(link.entering, link.aside, mine, strict=True):
                for code in np.unique(told.codes[np.isin(told.rows, have)]).tolist():
                    gone = told.rows[(told.codes == code) & np.isin(told.rows, have)]
                    aside[id, p, told.reasons[code]] = gone
            _spread(on, link.leaving, link.on(asked))
    places = {id: n for n, id in enumerate(order)}
    before = [Station(p, r) for p, r in back.rows.items() if p != place]
    after = [Station(p, r) for p, r in on.rows.items() if p != place]
    after += [Station(p, r, id, reason) for (id, p, reason), r in aside.items()]
    before.sort(key=lambda s: (places.get(s.place[0], -1), s.place[1]))
    after.sort(key=lambda s: (places.get(s.by or s.place[0], -1), bool(s.by), s.place[1]))
    return [*before, Station(place, rows, here=True), *after]


def _spread(found: _Found, layers: Sequence[tuple[Place, int]], rows: np.ndarray) -> None:
    begins = np.cumsum([0, *(count for _, count in layers)])
    cuts = np.searchsorted(rows, begins)  # they ascend
    for n, (place, _) in enumerate(layers):
        found.add(place, rows[cuts[n] : cuts[n + 1]] - begins[n])
