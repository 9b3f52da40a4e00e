"""The geometry of many features as one column: as binary, as shapes, or as binary whose shapes are made when they are asked for."""

from __future__ import annotations

import threading
from collections.abc import Generator
from enum import StrEnum

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.layer.wkb import WkbArray, encoded


class GeometryKind(StrEnum):
    """What a layer draws: points, lines, areas, several of these, or nothing."""

    POINT = "point"
    LINE = "line"
    POLYGON = "area"
    MIXED = "mixed"
    TABLE = "table"


# shapely's type numbers: 0 point, 1 line, 2 ring, 3 polygon, 4-6 their multiples, 7 collection, -1 none
_KIND_OF_TYPE = {
    0: GeometryKind.POINT,
    4: GeometryKind.POINT,
    1: GeometryKind.LINE,
    2: GeometryKind.LINE,
    5: GeometryKind.LINE,
    3: GeometryKind.POLYGON,
    6: GeometryKind.POLYGON,
}


def kind_of(geometry: np.ndarray | None) -> GeometryKind:
    """The kind of an array of geometry; nulls do not count, an array of nulls only is MIXED."""
    if geometry is None:
        return GeometryKind.TABLE
    types = np.unique(shapely.get_type_id(geometry))
    kinds = {_KIND_OF_TYPE.get(int(t), GeometryKind.MIXED) for t in types if t >= 0}
    return kinds.pop() if len(kinds) == 1 else GeometryKind.MIXED


def kind_of_types(types: np.ndarray) -> GeometryKind:
    """The kind of shapely's type numbers; of none, MIXED."""
    kinds = {_KIND_OF_TYPE.get(int(t), GeometryKind.MIXED) for t in types}
    return kinds.pop() if len(kinds) == 1 else GeometryKind.MIXED


class GeometryColumn:
    """One geometry a feature. Immutable; whether its shapes were made already changes nothing but how long an answer takes.

    Parameters
    ----------
    given : shapes (n), or binary of them.
    array : the shapes of the binary, where somebody made them already.
    """

    __slots__ = ("__weakref__", "_array", "_lock", "wkb")

    def __init__(self, given: np.ndarray | WkbArray, array: np.ndarray | None = None) -> None:
        self.wkb = given if isinstance(given, WkbArray) else None
        """The binary, where that is what it came as: flat, and without nulls."""
        self._lock = threading.Lock()
        shapes = array if isinstance(given, WkbArray) else np.asarray(given, dtype=object)
        if shapes is not None and shapes.flags.writeable:
            shapes = shapes.view()
            shapes.flags.writeable = False
        self._array: np.ndarray | None = shapes

    def __reduce__(self) -> tuple[type[GeometryColumn], tuple[np.ndarray | WkbArray]]:
        return GeometryColumn, (self.wkb if self.wkb is not None else self.array,)

    def __len__(self) -> int:
        return len(self.wkb) if self.wkb is not None else len(self.array)

    @property
    def array(self) -> np.ndarray:
        """The shapes (n, read-only), made once.

        Raises
        ------
        shapely.errors.ShapelyError : the binary is damaged.
        """
        with self._lock:
            if self._array is None:
                assert self.wkb is not None
                self._array = self.wkb.decode()
                self._array.flags.writeable = False
            return self._array

    @property
    def undecoded(self) -> WkbArray | None:
        """The binary, as long as nobody asked for the shapes: what it can tell is had without making them."""
        return self.wkb if self._array is None else None

    def kind(self) -> GeometryKind:
        """The kind of all of them; nulls do not count."""
        return kind_of(self.array) if self.wkb is None else kind_of_types(self.wkb.library_types())

    def at(self, rows: np.ndarray) -> np.ndarray:
        """The shapes at these positions, without making the others."""
        binary = self.undecoded
        return self.array[rows] if binary is None else binary.take(rows).decode()

    def chunks(self, size: int) -> Generator[np.ndarray, None, None]:
        """The shapes, so many at a time, without keeping those that were not made yet."""
        for start in range(0, len(self), size):
            binary = self.undecoded
            stop = min(start + size, len(self))
            yield self.array[start:stop] if binary is None else binary.slice(start, stop).decode()

    def bounds(self) -> np.ndarray:
        """xmin, ymin, xmax, ymax of each feature (n, 4); NaN for none."""
        binary = self.undecoded
        found = binary.bounds() if binary is not None else None
        return found if found is not None else np.asarray(shapely.bounds(self.array)).reshape(-1, 4)

    def total_bounds(self) -> np.ndarray:
        """xmin, ymin, xmax, ymax of all; NaN where nothing is drawn."""
        boxes = self.wkb.bounds() if self.wkb is not None and len(self) else None
        if boxes is None:
            return np.asarray(shapely.total_bounds(self.array))
        return np.concatenate([np.fmin.reduce(boxes[:, :2], axis=0), np.fmax.reduce(boxes[:, 2:], axis=0)])

    def take(self, rows: np.ndarray) -> GeometryColumn:
        """The features at these positions, in this order."""
        binary = self.undecoded
        return GeometryColumn(self.array[rows] if binary is None else binary.take(rows))

    def slice(self, start: int, stop: int) -> GeometryColumn:
        """The features from one position to another."""
        binary = self.undecoded
        return GeometryColumn(self.array[start:stop] if binary is None else binary.slice(start, stop))

    def with_shapes(self, rows: np.ndarray, shapes: np.ndarray) -> GeometryColumn:
        """Other shapes for the features at these positions."""
        binary = self.undecoded
        changed = binary.with_shapes(rows, shapes) if binary is not None else None
        if changed is not None:
            return GeometryColumn(changed)
        array = self.array.copy()
        array[rows] = shapes
        return GeometryColumn(array)

    def binary(self) -> pa.Array | pa.ChunkedArray:
        """ISO binary of each, null for none."""
        return self.wkb.column if self.wkb is not None else encoded(self.array)
