"""Parts of large libraries, imported when they are first needed and by one thread at a time.

Two threads that import different parts of SciPy at once wait for each other, and the interpreter ends one of them with a fault.
"""

from __future__ import annotations

import threading
from typing import Any

import numpy as np

_importing = threading.RLock()


def kd_tree(places: np.ndarray) -> Any:
    """A tree of places (n, 2 or 3) that finds the nearest."""
    with _importing:
        from scipy.spatial import cKDTree
    return cKDTree(places)


def connected(a: np.ndarray, b: np.ndarray, count: int) -> np.ndarray:
    """For each of ``count`` nodes the number of those that hang together with it (int), where ``a`` and ``b`` are the ends of edges."""
    with _importing:
        from scipy.sparse import coo_matrix
        from scipy.sparse.csgraph import connected_components
    return np.asarray(connected_components(coo_matrix((np.ones(len(a)), (a, b)), shape=(count, count)), directed=False)[1])
