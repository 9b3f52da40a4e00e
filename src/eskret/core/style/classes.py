"""Classes of numbers for a map: where one ends and the next begins."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Sequence

import numpy as np

SAMPLE = 20_000
"""From more values than this, natural breaks are found in a sample of so many, the least and the greatest among them."""


def breaks_of(values: np.ndarray, method: str, count: int) -> tuple[float, ...]:
    """The limits between classes, ascending: one fewer than classes, or fewer still where the values do not give so many.

    A value on a limit belongs to the class below it.

    Parameters
    ----------
    values : float64; NaN and infinite ones do not count.
    method : ``quantiles`` (as many features in each), ``natural`` (least variance within classes) or ``equal`` (steps of
        one size).
    count : classes wanted, 2 or more.

    """
    known = np.asarray(values, float)
    known = known[np.isfinite(known)]
    different = np.unique(known)
    if len(different) < 2:
        return ()
    if len(different) <= count:
        # each value a class of its own
        return tuple(float(v) for v in different[:-1])
    found = _natural(known, count) if method == "natural" else _even(known, method, count)
    limits = np.unique(found)
    limits = limits[(limits >= different[0]) & (limits < different[-1])]
    if method != "equal":
        # a limit between two neighbouring values says nothing that the one before it does not
        limits = limits[np.bincount(class_of(known, limits.tolist()), minlength=len(limits) + 1)[:-1] > 0]
    return tuple(limits.tolist())


def _even(known: np.ndarray, method: str, count: int) -> np.ndarray:
    if method == "equal":
        return np.linspace(known.min(), known.max(), count + 1)[1:]
    return np.quantile(known, np.arange(1, count + 1) / count)


def _natural(known: np.ndarray, count: int) -> np.ndarray:
    """The greatest value of each class, of those classes whose squared distances from their means are least in sum.

    Found exactly, class by class: the best way to end the first ``c`` classes at a value is found from the best ways to end ``c - 1``,
    and where the last class begins moves up with where it ends, so that of all places only a few must be tried for each.
    W. D. Fisher, "On grouping for maximum homogeneity", J. Am. Stat. Assoc. 53 (1958), 789-798.
    """
    values, weights = np.unique(_sample(known), return_counts=True)
    centred = values - values.mean()
    sums = [np.concatenate([[0.0], np.cumsum(weights * centred**power)]) for power in (0, 1, 2)]
    size = len(values)

    def spread(begin: np.ndarray, end: np.ndarray) -> np.ndarray:
        """Squared distances from the mean of the values from one place up to another."""
        number, total, squares = (x[end] - x[begin] for x in sums)
        return np.maximum(squares - total**2 / number, 0.0)

    least = np.concatenate([[np.inf], spread(np.zeros(size, int), np.arange(1, size + 1))])
    begins = []
    for classes in range(2, count + 1):
        least, begin = _one_more(least, spread, classes, size)
        begins.append(begin)
    ends = [size]
    for begin in reversed(begins):
        ends.insert(0, int(begin[ends[0]]))
    return values[np.array(ends) - 1]


def _one_more(
    before: np.ndarray, spread: Callable[[np.ndarray, np.ndarray], np.ndarray], classes: int, size: int
) -> tuple[np.ndarray, np.ndarray]:
    """The least spread with one class more, for every end, and where that class then begins: halves of the ends at a time."""
    least, begin = np.full(size + 1, np.inf), np.zeros(size + 1, int)
    low, high = np.array([classes]), np.array([size])  # ends that are still to be found
    first, last = np.array([classes - 1]), np.array([size - 1])  # where the class of the middle one may begin
    while len(low):
        middle = (low + high) // 2
        until = np.minimum(last, middle - 1)
        number = until - first + 1
        starts = np.concatenate([[0], np.cumsum(number)[:-1]])
        tried = np.arange(number.sum()) - np.repeat(starts - first, number)
        found = before[tried] + spread(tried, np.repeat(middle, number))
        least[middle] = np.minimum.reduceat(found, starts)
        best = np.flatnonzero(found == np.repeat(least[middle], number))
        of = np.searchsorted(starts, best, side="right") - 1
        begin[middle[of[::-1]]] = tried[best[::-1]]  # the first of several that are as good
        low, high = np.concatenate([low, middle + 1]), np.concatenate([middle - 1, high])
        first, last = np.concatenate([first, begin[middle]]), np.concatenate([begin[middle], last])
        there = low <= high
        low, high, first, last = low[there], high[there], first[there], last[there]
    return least, begin


def _sample(known: np.ndarray) -> np.ndarray:
    if len(known) <= SAMPLE:
        return known
    some = np.random.default_rng(4).choice(known, SAMPLE - 2, replace=False)
    return np.concatenate([some, [known.min(), known.max()]])


def class_of(values: np.ndarray, breaks: Sequence[float]) -> np.ndarray:
    """The class of each value, from 0 (int16); -1 for NaN."""
    found = np.searchsorted(np.asarray(breaks, float), values, side="left").astype(np.int16)
    return np.where(np.isnan(values), np.int16(-1), found)


def class_labels(breaks: Sequence[float], least: float, greatest: float) -> list[str]:
    """``up to 2.5``, ``2.5 to 7``, ``above 7``, with as many digits as tell the limits apart."""
    if not breaks:
        text = written([least, greatest])
        return [text[0] if text[0] == text[1] else f"{text[0]} to {text[1]}"]
    limits = written(list(breaks))
    middle = [f"{a} to {b}" for a, b in itertools.pairwise(limits)]
    return [f"up to {limits[0]}", *middle, f"above {limits[-1]}"]


def written(numbers: Sequence[float]) -> list[str]:
    """Numbers with the fewest decimals that tell them apart to a hundredth of their distances."""
    steps = np.diff(np.unique(np.asarray(numbers, float)))
    least = float(steps.min()) if len(steps) else abs(float(numbers[0])) if len(numbers) else 1.0
    digits = 0
    if math.isfinite(least) and least > 0:
        digits = min(12, max(0, 1 - math.floor(math.log10(least))))
    while digits and all(float(f"{n:.{digits - 1}f}") == float(f"{n:.{digits}f}") for n in numbers):
        digits -= 1
    return [f"{n:,.{digits}f}" for n in numbers]


def histogram(values: np.ndarray, bars: int) -> tuple[np.ndarray, np.ndarray]:
    """How many values there are in each of ``bars`` equal steps: counts (int64), limits (bars + 1)."""
    known = values[np.isfinite(values)]
    if not len(known):
        return np.zeros(bars, np.int64), np.linspace(0, 1, bars + 1)
    low, high = float(known.min()), float(known.max())
    return np.histogram(known, bars, (low, high) if high > low else (low - 0.5, high + 0.5))
