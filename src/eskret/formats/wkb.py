"""Geometry to and from well-known binary, a batch at a time; what was read and not changed is not encoded again."""

from __future__ import annotations

import weakref
from itertools import pairwise

import numpy as np
import pyarrow as pa
import shapely

_kept: dict[int, tuple[weakref.ref[np.ndarray], pa.ChunkedArray]] = {}


def decode(column: pa.Array) -> np.ndarray:
    """Shapely geometry of a column of binary.

    Raises
    ------
    shapely.errors.ShapelyError : a value that is no well-known binary.
    """
    return np.asarray(shapely.from_wkb(np.array(slices(column), dtype=object)), dtype=object)


def slices(column: pa.Array) -> list[bytes | None]:
    """A column of binary as Python bytes (a library's own way to do this would import a data frame library)."""
    if not len(column):
        return []
    wide = pa.types.is_large_binary(column.type)
    _, places, data = column.buffers()
    if data is None:
        return [None] * len(column)
    ends = np.frombuffer(places, np.int64 if wide else np.int32)[column.offset : column.offset + len(column) + 1]
    raw = memoryview(data)
    at = ends.tolist()
    out: list[bytes | None] = [bytes(raw[a:b]) for a, b in pairwise(at)]
    if column.null_count:
        for row in np.flatnonzero(np.asarray(column.is_null())).tolist():
            out[row] = None
    return out


def remember(geometry: np.ndarray, encoded: pa.ChunkedArray) -> None:
    """Keep the binary that an array of geometry was decoded from, for as long as the array lives.

    Only little-endian binary in two dimensions is kept: that has one form in every flavour.
    """
    if not all(_plain(chunk) for chunk in encoded.chunks):
        return
    key = id(geometry)
    _kept[key] = (weakref.ref(geometry, lambda _: _kept.pop(key, None)), encoded)


def recall(geometry: np.ndarray) -> pa.ChunkedArray | None:
    """The binary of exactly this array (or of the whole one that it is a view of), where it is known."""
    for array in (geometry, geometry.base):
        known = _kept.get(id(array))
        if array is not None and known is not None and known[0]() is array and _same_memory(geometry, array):
            return known[1]
    return None


def _same_memory(a: np.ndarray, b: np.ndarray) -> bool:
    return a.shape == b.shape and a.strides == b.strides and a.ctypes.data == b.ctypes.data


def encode(geometry: np.ndarray, start: int, stop: int) -> list[bytes | None]:
    """ISO binary, little-endian, of some rows of an array."""
    known = recall(geometry)
    if known is not None:
        return [b for chunk in known.slice(start, stop - start).chunks for b in slices(chunk)]
    return list(shapely.to_wkb(geometry[start:stop], byte_order=1, flavor="iso"))


def _plain(column: pa.Array) -> bool:
    if pa.types.is_large_binary(column.type):
        kind: type = np.int64
    elif pa.types.is_binary(column.type):
        kind = np.int32
    else:
        return False
    _, places, data = column.buffers()
    if column.null_count or data is None or not len(column):
        return not len(column)
    ends: np.ndarray = np.frombuffer(places, kind)[column.offset : column.offset + len(column) + 1]
    if (np.diff(ends) < 5).any():
        return False
    raw = np.frombuffer(data, np.uint8)
    heads = raw[ends[:-1, None] + np.arange(5)]
    # byte order 1, and a type number without a flag for Z, M or a reference system
    return bool((heads[:, 0] == 1).all() and (heads[:, 1] <= 7).all() and not heads[:, 2:].any())
