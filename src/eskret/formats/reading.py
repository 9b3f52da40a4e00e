"""What every reader hands back, and how it hears of Stop."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from eskret.core.account import Remark
from eskret.core.layer import Layer

Watch = Callable[[int, int], None]
"""Called now and then with records done and records in all (0 where unknown); raises StoppedError to end the reading."""


def no_watch(done: int, of: int) -> None:
    """Nobody watches."""


@dataclass(frozen=True)
class Reading:
    """A layer as it was read.

    ``found`` is the number of records in the file; ``set_aside`` pairs a reason with the positions (int64, among
    the records found) of those that did not become a row.
    """

    layer: Layer
    found: int
    set_aside: tuple[tuple[str, np.ndarray], ...] = ()
    remarks: tuple[Remark, ...] = ()
