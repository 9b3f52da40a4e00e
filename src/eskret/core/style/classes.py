"""Classes of numbers for a map: where one ends and the next begins."""

from __future__ import annotations

import itertools
import math
import threading
import warnings
from collections.abc import Sequence

import numpy as np

from eskret.core.scientific import map_classes

_guesses = threading.Lock()
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

    Notes
    -----
    The library is mapclassify. It draws its own first guesses for natural breaks; they are fixed here, so that the same
    values give the same classes.
    """
    known = np.asarray(values, float)
    known = known[np.isfinite(known)]
    different = np.unique(known)
    if len(different) < 2:
        return ()
    if len(different) <= count:
        # each value a class of its own
        return tuple(float(v) for v in different[:-1])
    with warnings.catch_warnings():
        # it warns of classes that fall together, which is dealt with below
        warnings.simplefilter("ignore")
        found = _natural(known, count) if method == "natural" else _even(known, method, count)
    limits = np.unique(found)
    limits = limits[(limits >= different[0]) & (limits < different[-1])]
    if method != "equal":
        # a limit between two neighbouring values says nothing that the one before it does not
        limits = limits[np.bincount(class_of(known, limits.tolist()), minlength=len(limits) + 1)[:-1] > 0]
    return tuple(limits.tolist())


def _even(known: np.ndarray, method: str, count: int) -> np.ndarray:
    mapclassify = map_classes()
    how = mapclassify.EqualInterval if method == "equal" else mapclassify.Quantiles
    return np.asarray(how(known, k=count).bins, float)


def _natural(known: np.ndarray, count: int) -> np.ndarray:
    mapclassify = map_classes()

    # its guesses come from numpy's one generator for all, which nobody else may turn meanwhile
    with _guesses:
        before = np.random.get_state()
        try:
            np.random.seed(4)
            return np.asarray(mapclassify.NaturalBreaks(_sample(known), k=count).bins, float)
        finally:
            np.random.set_state(before)


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
