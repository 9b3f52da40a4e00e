"""The arithmetic of the ledger.

For every input of a step: rows in = rows used + rows set aside. A row is *used* if at least one row that leaves
descends from it; every row set aside has a reason. Control totals are figures computed on each side on their own
that must agree within a stated tolerance.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from enum import StrEnum
from itertools import islice
from typing import Any, Protocol

import numpy as np

from eskret.errors import AccountError, Code


class Role(StrEnum):
    """Through what rows come into a step, where that is no setting of its operation; the values stand in files and reports."""

    FROM = "from"
    FILES = "files"
    ALSO = "also"


FIRST = (Role.FROM, Role.FILES)
"""The settings through which the rows come that a step is about; the layers of others are only compared with."""


class Relation(StrEnum):
    """How the rows that leave relate to the rows used."""

    KEPT = "kept"
    ONE_FOR_ONE = "one for one"
    GROUPED = "grouped"
    MULTIPLIED = "multiplied"
    NEW = "new rows"
    REPORT = "report"


class State(StrEnum):
    """What became of a step."""

    BALANCED = "balanced"
    LOOK = "look"
    FAILED = "failed"


Reason = tuple[str, np.ndarray]
"""Why rows are set aside, and their positions (int64)."""


@dataclass(frozen=True)
class SetAside:
    """Rows set aside: positions in the input (int64, ascending) and, for each, a number into ``reasons``."""

    rows: np.ndarray = field(default_factory=lambda: np.empty(0, np.int64))
    codes: np.ndarray = field(default_factory=lambda: np.empty(0, np.int16))
    reasons: tuple[str, ...] = ()
    unread: tuple[tuple[str, int], ...] = ()
    """Further ones that are counted and not listed, since an index told of them without their being read: reason and number."""

    @classmethod
    def from_reasons(cls, by_reason: Sequence[Reason]) -> SetAside:
        """Build from pairs of reason and positions. A reason without rows is kept for its place among the others, and told nowhere.

        Raises
        ------
        AccountError : a row with two reasons.
        """
        kept = [(reason, np.asarray(rows, np.int64)) for reason, rows in by_reason]
        if not any(len(rows) for _, rows in kept):
            return cls(reasons=tuple(reason for reason, _ in kept))
        rows = np.concatenate([r for _, r in kept])
        codes = np.concatenate([np.full(len(r), n, np.int16) for n, (_, r) in enumerate(kept)])
        order = np.argsort(rows, kind="stable")
        rows, codes = rows[order], codes[order]
        if (np.diff(rows) == 0).any():
            raise AccountError("a row was set aside for two reasons")
        return cls(rows, codes, tuple(reason for reason, _ in kept))

    def __len__(self) -> int:
        return len(self.rows) + sum(number for _, number in self.unread)

    def counts(self) -> list[tuple[str, int]]:
        """Reason and number of rows, in the order of the reasons."""
        numbers = np.bincount(self.codes, minlength=len(self.reasons)).tolist()
        listed = [(reason, number) for reason, number in zip(self.reasons, numbers, strict=True) if number]
        return listed + [(reason, number) for reason, number in self.unread if number]


@dataclass(frozen=True)
class Altered:
    """Rows that were used but not as they came: what was done, to which, and by how much (same length). One of no rows is told
    nowhere, as a remark without a text. ``where`` are boxes (n, 4) in the layer's CRS: the spot in each feature that it is about,
    a hole or an overlap that may be far smaller; None, or NaN, where it is the whole feature."""

    what: str
    rows: np.ndarray
    amounts: np.ndarray | None = None
    unit: str = ""
    where: np.ndarray | None = None

    def __len__(self) -> int:
        return len(self.rows)


class Keyed(Protocol):
    """What has a key and rows."""

    @property
    def key(self) -> str: ...
    def __len__(self) -> int: ...


@dataclass(frozen=True)
class InputAccount:
    """What became of the rows of one layer that entered through one setting."""

    setting: str
    layer: str
    rows: int
    set_aside: SetAside = field(default_factory=SetAside)
    altered: tuple[Altered, ...] = ()

    @classmethod
    def of(cls, layer: Keyed, set_aside: SetAside | None = None, altered: tuple[Altered, ...] = ()) -> InputAccount:
        """Of a layer that the step is about; all its rows are used where nothing is said."""
        return cls(Role.FROM, layer.key, len(layer), set_aside or SetAside(), altered)

    @property
    def used(self) -> int:
        return self.rows - len(self.set_aside)

    @property
    def first(self) -> bool:
        """Whether these are the rows that the step is about, not those of a layer that a setting names."""
        return self.setting in FIRST

    def to_json(self) -> dict[str, object]:
        return {
            "setting": self.setting,
            "layer": self.layer,
            "rows": self.rows,
            "used": self.used,
            "set_aside": [{"reason": r, "count": n} for r, n in self.set_aside.counts()],
            "altered": [{"what": a.what, "count": len(a)} for a in self.altered],
        }


Figure = float | int | Decimal


@dataclass(frozen=True)
class ControlTotal:
    """A figure that must come out the same on two ways: ``expected`` on one, ``found`` on the other. Whole numbers and decimals must
    be just the same, others within the tolerance."""

    name: str
    unit: str
    expected: Figure
    found: Figure
    tolerance: float = 1e-9
    worst: bool = False
    """Whether of several such the one that is furthest off counts; else they are added up."""

    @property
    def agrees(self) -> bool:
        if not isinstance(self.expected, float) and not isinstance(self.found, float):
            return bool(self.expected == self.found)
        return self._near(float(self.expected), float(self.found))

    def _near(self, expected: float, found: float) -> bool:
        if not (np.isfinite(expected) and np.isfinite(found)):
            return expected == found or (np.isnan(expected) and np.isnan(found))
        return bool(abs(expected - found) <= self.tolerance * max(1.0, abs(expected), abs(found)))

    def to_json(self) -> dict[str, object]:
        return {
            # what arrays give is no number of JSON's
            "name": self.name,
            "unit": self.unit,
            "expected": float(self.expected),
            "found": float(self.found),
            "agrees": self.agrees,
        }


@dataclass(frozen=True)
class OutputAccount:
    """Rows and totals of one layer that leaves. ``totals`` are figures of the layer; ``controls`` prove them. ``like`` is the same
    for layers whose totals may be added up: of one kind, with the same fields, that came the same way."""

    layer: str
    rows: int
    totals: tuple[tuple[str, float, str], ...] = ()
    controls: tuple[ControlTotal, ...] = ()
    like: str = ""

    def to_json(self) -> dict[str, object]:
        return {
            "layer": self.layer,
            "rows": self.rows,
            "like": self.like,
            "totals": [{"name": n, "value": v, "unit": u} for n, v, u in self.totals],
            "controls": [c.to_json() for c in self.controls],
        }


_COUNT = re.compile(r"\{\{|\}\}|\{(\w+)(?:([|:])([^|{}]*)(?:\|([^|{}]*))?)?\}")


def told_counts(template: str, counts: Mapping[str, int]) -> str:
    """A text with its counts: ``{n}`` is a number alone, ``{n|row}`` and ``{n|child|children}`` a number with what is counted,
    ``{n:is|are}`` a word that goes with it. Names that come from data are put in with ``verbatim``."""

    def fill(found: re.Match[str]) -> str:
        name, how, one, many = found.groups()
        if name is None:
            return found[0][0]
        number = counts[name]
        if how is None:
            return f"{number:,}"
        word = one if number == 1 else many or one + "s"
        return word if how == ":" else f"{number:,} {word}"

    return _COUNT.sub(fill, template)


def verbatim(name: str) -> str:
    """A name to stand in a template as it is."""
    return name.replace("{", "{{").replace("}", "}}")


class Least(float):
    """A figure of which the least counts, where the same is told of several parts of a layer."""


class Most(float):
    """A figure of which the greatest counts."""


class Frequencies(dict[str, tuple[int, str]]):
    """How often there was what, and what is told of the first of each."""


class Firsts(tuple[str, ...]):
    """The first of some different values, a few: of several parts of a layer those of the first that has any."""

    MOST = 4

    @classmethod
    def of(cls, values: Iterable[str]) -> Firsts:
        return cls(islice(dict.fromkeys(values), cls.MOST))


Told = int | float | Frequencies | Firsts
"""A figure that a remark tells: numbers of several parts of a layer are added up."""


@dataclass(frozen=True)
class Remark:
    """Something a step has to say. A remark that asks for a ``look`` changes the step's state. ``code`` is what it is about, for
    programs; ``counts`` the figures in it. One without a text is told nowhere: it only keeps the place of what may be said of
    another part of the layer."""

    text: str
    layer: str = ""
    look: bool = False
    code: Code = Code.GENERAL
    counts: tuple[tuple[str, int], ...] = ()
    about: str = field(default="", compare=False, repr=False)
    """What the same of several parts of a layer has in common, where it tells figures: it is told once, of all of them."""
    figures: Mapping[str, Told] = field(default_factory=dict, compare=False, repr=False)
    tell: Callable[[Mapping[str, Any]], str] | None = field(default=None, compare=False, repr=False)
    """The text, from the figures."""

    @classmethod
    def counted(cls, template: str, layer: str = "", look: bool = False, code: Code = Code.GENERAL, **counts: int) -> Remark:
        """A remark that tells counts.

        Parameters
        ----------
        template : with each count as ``{n}``, or with a noun: ``{n|feature has|features have} no place there``.
        """
        return cls.figured(template, lambda figures: told_counts(template, figures), layer, look, code, **counts)

    @classmethod
    def of_some(cls, template: str, layer: str = "", look: bool = False, code: Code = Code.GENERAL, *, n: int) -> Remark:
        """A remark that tells a count as ``counted`` does, and of none nothing."""
        return cls.figured(template, lambda figures: told_counts(template, figures) if figures["n"] else "", layer, look, code, n=n)

    @classmethod
    def figured(
        cls,
        about: str,
        tell: Callable[[Mapping[str, Any]], str],
        layer: str = "",
        look: bool = False,
        code: Code = Code.GENERAL,
        **figures: Told,
    ) -> Remark:
        """A remark that tells figures, made of them by ``tell``; ``about`` is the same for those that tell the same."""
        return cls(tell(figures), layer, look, code, _counts(figures), about, figures, tell)

    def once(self) -> Remark:
        """The same, as one that is of no part: told of several parts with the same words, it is told once, and nothing is added up."""
        return replace(self, about="", figures={}, tell=None)

    def to_json(self) -> dict[str, object]:
        return {"text": self.text, "layer": self.layer, "look": self.look, "code": str(self.code), "counts": dict(self.counts)}


def _counts(figures: Mapping[str, Told]) -> tuple[tuple[str, int], ...]:
    return tuple((name, figure) for name, figure in figures.items() if isinstance(figure, int))


def added_up(first: Sequence[Remark], second: Sequence[Remark]) -> list[Remark]:
    """What was said of two parts of a layer, said of both: the same once, of figures of both, in the order in which it is said."""
    out = list(first)
    places = {_alike(one): n for n, one in enumerate(out)}
    at = 0
    for one in second:
        found = places.get(_alike(one))
        if found is not None:
            out[found], at = _both(out[found], one), found + 1
            continue
        out.insert(at, one)
        places = {_alike(x): n for n, x in enumerate(out)}
        at += 1
    return out


def _alike(one: Remark) -> tuple[object, ...]:
    return one.about or one.text, one.layer, one.look, one.code


def _both(one: Remark, other: Remark) -> Remark:
    if one.tell is None:
        return one
    figures = dict(one.figures)
    for name, figure in other.figures.items():
        figures[name] = _together(figures[name], figure) if name in figures else figure
    return replace(one, text=one.tell(figures), counts=_counts(figures), figures=figures)


def _together(one: Any, other: Any) -> Told:
    if isinstance(one, Frequencies):
        more = {what: (one[what][0] + n, one[what][1]) if what in one else (n, first) for what, (n, first) in other.items()}
        return Frequencies({**one, **more})
    if isinstance(one, Firsts):
        return Firsts.of((*one, *other))
    if isinstance(one, Least):
        return min(one, other)
    return max(one, other) if isinstance(one, Most) else one + other


def check_rows(account: InputAccount, lineage: np.ndarray | None) -> None:
    """Prove in = used + set aside for one input.

    Parameters
    ----------
    account : the input's account.
    lineage : for every row that leaves, the position of the row it descends from (int64), or, where several rows become
        one, the positions of all of them; None where the step vouches for its own accounts, as a source does.

    Raises
    ------
    AccountError : naming the layer and the figures that disagree.
    """
    aside = account.set_aside.rows
    if len(aside) and (aside[0] < 0 or aside[-1] >= account.rows):
        raise AccountError(f"a row set aside is not one of the {account.rows} rows", place=account.layer)
    if lineage is None:
        return
    if len(lineage) and (lineage.min() < 0 or lineage.max() >= account.rows):
        raise AccountError(f"a row that leaves comes from none of the {account.rows} rows", place=account.layer)
    seen = np.zeros(account.rows, bool)
    seen[lineage] = True
    if seen[aside].any():
        raise AccountError(f"{int(seen[aside].sum())} rows were both used and set aside", place=account.layer)
    seen[aside] = True
    if not seen.all():
        raise AccountError(f"{int((~seen).sum())} rows were neither used nor set aside", place=account.layer)


def check_groups(into: np.ndarray, out: int, layer: str) -> None:
    """Prove that every row that leaves was made of some row, and that none went into a row that does not leave.

    Raises
    ------
    AccountError : naming the layer and how many.
    """
    made = np.unique(into[into >= 0])
    if len(made) != out or (len(made) and made[-1] >= out):
        raise AccountError(f"{out} rows left and {len(made)} were made of rows that entered", place=layer)


def check_relation(relation: Relation, used: int, out: int, layer: str) -> None:
    """Prove that the number of rows that leave fits the relation.

    Raises
    ------
    AccountError : naming the layer and the figures.
    """
    fits = {
        Relation.KEPT: out == used,
        Relation.ONE_FOR_ONE: out == used,
        Relation.GROUPED: out <= used and (out > 0) == (used > 0),
        Relation.MULTIPLIED: out >= used,
        Relation.NEW: True,
        Relation.REPORT: True,
    }[relation]
    if not fits:
        raise AccountError(f"{used} rows were used and {out} left, which is not '{relation}'", place=layer)


def check_controls(outputs: Sequence[OutputAccount]) -> None:
    """Prove that every control total agrees.

    Raises
    ------
    AccountError : naming the total and both figures.
    """
    for output in outputs:
        for control in output.controls:
            if not control.agrees:
                raise AccountError(
                    f"the {control.name} should be {control.expected:.12g} {control.unit} and is {control.found:.12g}", place=output.layer
                )


def state_of(remarks: Sequence[Remark]) -> State:
    """The state of a step whose accounts were proved: balanced, or look where a remark asks for it."""
    return State.LOOK if any(r.look for r in remarks) else State.BALANCED
