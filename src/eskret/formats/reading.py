"""What every reader hands back, and how it hears of Stop."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from eskret.core.accounts.account import Remark
from eskret.core.layer import Layer, LayerFacts

Watch = Callable[[int, int], None]
"""Called now and then with records done and records in all (0 where unknown); raises StoppedError to end the reading."""


@dataclass(frozen=True)
class Texts:
    """What a file's texts are to be read as: ``codec`` where it declares nothing, or ``always``, whatever it declares."""

    codec: str = ""
    always: bool = False


AS_DECLARED = Texts()


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

    def facts(self) -> LayerFacts:
        """The layer's facts, with what there is to say of it."""
        return replace(self.layer.facts(), told=self.remarks)
