"""Rows of two tables that have the same key, and what keeps keys apart that a person would take for the same."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from itertools import combinations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.tables.groupby import Groups, group_rows
from eskret.core.tables.values import settled

REPAIRS = {
    "types": "one is text and one a number",
    "blanks": "blanks differ",
    "case": "upper and lower case differ",
    "zeros": "zeros stand in front",
}


@dataclass(frozen=True)
class Match:
    """Which rows go together.

    ``group`` is, for every row of the left side, the group of rows on the right with its key (int64, -1 for none);
    ``groups`` are those of the right side by key, rows with an empty key in none.
    """

    group: np.ndarray
    groups: Groups

    def of(self, rows: slice) -> Match:
        """The match of some of the left rows."""
        return Match(self.group[rows], self.groups)

    @property
    def found(self) -> np.ndarray:
        """Left rows that find one."""
        return self.group >= 0

    @property
    def wanted(self) -> np.ndarray:
        """How many left rows each group of the right is found by (int64)."""
        return np.bincount(self.group[self.group >= 0], minlength=self.groups.count)


def match(left: pa.ChunkedArray, right: pa.ChunkedArray, repairs: Iterable[str] = ()) -> Match:
    """Match rows by their key; an empty key matches nothing.

    Parameters
    ----------
    left, right : the key of each row. Without the repair ``types`` they must be of one kind (see ``comparable``).
    repairs : names out of ``REPAIRS``.
    """
    mended = set(repairs)
    left, right = settled(left), settled(right)
    if mended or not comparable(left.type, right.type):
        left, right = _plain(left, mended), _plain(right, mended)
    elif left.type != right.type:
        left, right = left.cast(pa.float64()), right.cast(pa.float64())
    groups = group_rows(pa.table({"k": right}), ["k"], without_empty=True)
    heads = right.take(pa.array(groups.first, pa.int64()))
    found = pc.index_in(left, value_set=heads.combine_chunks() if isinstance(heads, pa.ChunkedArray) else heads)
    if isinstance(found, pa.ChunkedArray):
        found = found.combine_chunks()
    at = np.asarray(found.fill_null(-1)).astype(np.int64)
    at[np.asarray(left.is_null())] = -1
    return Match(at, groups)


def comparable(left: pa.DataType, right: pa.DataType) -> bool:
    """Whether two types of key can be equal as they are."""

    def family(kind: pa.DataType) -> str:
        if pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind):
            return "number"
        return "text" if pa.types.is_string(kind) or pa.types.is_large_string(kind) else str(kind)

    return family(left) == family(right)


def _plain(column: pa.ChunkedArray, repairs: set[str]) -> pa.ChunkedArray:
    """Keys as texts, made alike as far as the repairs say."""
    if pa.types.is_floating(column.type):
        texts = [None if v is None else str(int(v)) if v.is_integer() else repr(v) for v in column.to_pylist()]
        out = pa.chunked_array([pa.array(texts, pa.string())])
    elif pa.types.is_string(column.type):
        out = column
    elif pa.types.is_integer(column.type):
        out = column.cast(pa.string())
    else:
        out = pa.chunked_array([pa.array([None if v is None else str(v) for v in column.to_pylist()], pa.string())])
    if "blanks" in repairs:
        out = pc.utf8_trim_whitespace(pc.replace_substring_regex(out, r"[\s\x{00a0}]+", " "))
    if "types" in repairs and pa.types.is_string(column.type):
        out = pc.replace_substring_regex(out, r"^([+-]?\d+)\.0+$", r"\1")
    if "case" in repairs:
        out = pc.utf8_lower(out)
    if "zeros" in repairs:
        out = pc.replace_substring_regex(out, r"^0+(\d)", r"\1")
    return pc.if_else(pc.equal(out, ""), None, out)


@dataclass(frozen=True)
class Diagnosis:
    """How well two keys match, and what would let more of them: ``repairs``, with which ``repaired`` of the left rows
    find one instead of ``found``."""

    found: int
    left: int
    right_left_over: int
    right: int
    repairs: tuple[str, ...] = ()
    repaired: int = 0


def diagnose(left: pa.ChunkedArray, right: pa.ChunkedArray, repairs: Iterable[str] = ()) -> Diagnosis:
    """How well two keys match, and the fewest repairs that let the most match."""
    have = set(repairs)
    if "types" not in have and not comparable(left.type, right.type):
        found, over = 0, len(right)
    else:
        matched = match(left, right, have)
        found = int(matched.found.sum())
        over = _left_over(matched, len(right))
    open_ = [r for r in REPAIRS if r not in have]
    if found == len(left) - left.null_count or not open_:
        return Diagnosis(found, len(left), over, len(right))
    # a number and a text only meet as texts, whatever else is repaired
    must = {"types"} if "types" in open_ and not comparable(left.type, right.type) else set()
    most = int(match(left, right, {*have, *open_}).found.sum())
    if most <= found:
        return Diagnosis(found, len(left), over, len(right))
    for size in range(1, len(open_) + 1):
        for some in combinations(open_, size):
            if must <= set(some) and int(match(left, right, {*have, *some}).found.sum()) == most:
                return Diagnosis(found, len(left), over, len(right), tuple(some), most)
    return Diagnosis(found, len(left), over, len(right))


def _left_over(found: Match, rows: int) -> int:
    taken = found.wanted > 0
    return rows - int(found.groups.sizes[taken].sum())
