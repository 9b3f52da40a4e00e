"""Rows by their positions."""

from __future__ import annotations

import numpy as np


def remaining(count: int, rows: np.ndarray) -> np.ndarray:
    """Of ``count`` rows those that are not among ``rows`` (int64, ascending); -1 stands for none."""
    named = np.asarray(rows, np.int64)
    there = np.ones(count, bool)
    there[named[named >= 0]] = False
    return np.flatnonzero(there)
