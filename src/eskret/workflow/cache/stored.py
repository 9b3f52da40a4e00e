"""Read stored results: everything is memory-mapped, nothing is computed. Used by the window."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.files.arrays import read_arrays
from eskret.core.layer import own_name
from eskret.core.words import format_quantity
from eskret.workflow.cache.cached_layer import IDS

DRAWN, ROWS = "drawn.arrays", "rows.arrays"


@dataclass(frozen=True)
class Shapes:
    """Geometry as arrays to draw from; see ``results`` for their meaning."""

    xy: np.ndarray
    starts: np.ndarray
    kinds: np.ndarray
    first: np.ndarray
    boxes: np.ndarray

    def __len__(self) -> int:
        return len(self.boxes)

    def pieces(self, row: int) -> list[np.ndarray]:
        """Vertices (n, 2) of each piece of one feature."""
        return [self.xy[self.starts[i] : self.starts[i + 1]] for i in range(self.first[row], self.first[row + 1])]


class StoredLayer:
    """A layer that a worker stored; ``info`` is what it said of it."""

    def __init__(self, info: Mapping[str, Any]) -> None:
        self.info = info
        self.home = Path(info["path"])
        self.key = str(info["key"])
        self.name = str(info["name"])
        self.kind = str(info["kind"])
        self.crs: Mapping[str, Any] | None = info["crs"]
        self.origin = str(info.get("origin") or "")

    @property
    def own_name(self) -> str:
        """What it is called where it came from, as long as its key says so."""
        return own_name(self)

    @property
    def rows(self) -> int:
        return int(self.info["rows"])

    @cached_property
    def table(self) -> pa.Table:
        with pa.memory_map(str(self.home / "table.arrow")) as source:
            return pa.ipc.open_file(source).read_all()

    @cached_property
    def ids(self) -> np.ndarray | None:
        """The numbers that the source gives its features, where it gives any (int64)."""
        return read_arrays(self.home / IDS, mapped=True)[0] if self.info.get("numbered") else None

    @cached_property
    def shapes(self) -> Shapes | None:
        if not self.info["drawn"]:
            return None
        return Shapes(*read_arrays(self.home / DRAWN, mapped=True))


@dataclass(frozen=True)
class StoredAside:
    """Rows of a layer that entered, set aside or altered: positions and, for each, a number into what to say of it.

    ``amounts`` are by how much (NaN for nothing to tell), in the unit of each reason; None where there are none. ``where`` are the
    spots it is about (n, 4), boxes as they are drawn, NaN for the whole feature.
    """

    rows: np.ndarray
    codes: np.ndarray
    reasons: tuple[str, ...]
    amounts: np.ndarray | None = None
    units: tuple[str, ...] = ()
    where: np.ndarray | None = None

    @classmethod
    def open(cls, info: Mapping[str, Any]) -> StoredAside:
        units = tuple(info.get("units", ()))
        rows, codes, *more = read_arrays(Path(info["path"]) / ROWS)
        amounts, where = (*more, None, None)[:2]
        return cls(rows, codes, tuple(info["reasons"]), amounts, units, where)

    def only(self, reason: str) -> StoredAside:
        """Those rows of it for which a reason is given."""
        codes = [n for n, told in enumerate(self.reasons) if told == reason]
        there = np.isin(self.codes, codes)
        amounts = None if self.amounts is None else self.amounts[there]
        where = None if self.where is None else self.where[there]
        return StoredAside(self.rows[there], self.codes[there], self.reasons, amounts, self.units, where)

    def spot_in(self, row: int) -> tuple[float, float, float, float] | None:
        """The box in a feature that it is about; None for the whole of it."""
        at = int(np.searchsorted(self.rows, row))
        if self.where is None or at >= len(self.rows) or self.rows[at] != row or np.isnan(self.where[at]).any():
            return None
        west, south, east, north = self.where[at].tolist()
        return west, south, east, north

    def of(self, reason: str) -> np.ndarray:
        """The rows for which a reason is given (int64)."""
        return np.asarray(self.only(reason).rows, np.int64)

    def text(self, at: int) -> str:
        """What to say of one of the rows."""
        code = int(self.codes[at])
        if self.amounts is None or np.isnan(self.amounts[at]):
            return self.reasons[code]
        return f"{self.reasons[code]}: {format_quantity(float(self.amounts[at]), self.units[code])}"
