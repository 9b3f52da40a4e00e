"""What every reader hands back, and how it hears of Stop."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import Remark
from eskret.core.layer import Field, GeometryKind, Layer, LayerFacts

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


NUMBER = Field("number", pa.int64())
"""The field that features get which have none."""
NUMBERED = Remark("its features have no fields; they are numbered")


def numbers(rows: int) -> pa.Table:
    """So many rows with that field."""
    return pa.table({NUMBER.name: pa.array(range(1, rows + 1), NUMBER.type)})


def numbered(facts: LayerFacts) -> LayerFacts:
    """Facts of a layer as it is read: of shapes without any field, with their number."""
    bare = not facts.fields and facts.kind is not GeometryKind.TABLE
    return replace(facts, fields=(NUMBER,), told=(*facts.told, NUMBERED)) if bare else facts


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
    kept: np.ndarray | None = None
    """Where only some of the rest were wanted: the positions of these (int64), among the records found."""
    unread: int = 0
    """How many were not wanted, or not read for that."""

    def facts(self) -> LayerFacts:
        """The layer's facts, with what there is to say of it."""
        return replace(self.layer.facts(), told=self.remarks)
