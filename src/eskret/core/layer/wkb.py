"""Geometry as well-known binary in Arrow, decoded only when somebody asks for shapes.

Making a shape costs about a microsecond, and a million of them more than reading the file. What a step only passes on,
counts, sums or asks about by coordinates is answered from the binary itself.
"""

from __future__ import annotations

from collections.abc import Generator, Sequence
from functools import cached_property
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import shapely

POINT, LINE, POLYGON = 1, 2, 3
_LIBRARY_TYPE = {1: 0, 2: 1, 3: 3, 4: 4, 5: 5, 6: 6}  # of the binary's type numbers, shapely's
_MOST_RINGS = 64
_POINT_BYTES = 21
_SOME = 16_384
"""Features whose bytes are worked on at a time."""


class WkbArray:
    """Geometry of many features as binary: little-endian, two dimensions, no nulls. Immutable.

    Use ``from_arrow`` to make one: it says no where the binary is of another form.
    """

    def __init__(self, column: pa.ChunkedArray, types: np.ndarray, known: tuple[np.ndarray, np.ndarray] | None = None) -> None:
        self.column = column
        self.types = types
        """Type number of each as in the binary: 1 point, 2 line, 3 polygon, 4 to 6 their multiples."""
        self._known = known  # boxes and sizes, where they were worked out before

    def __len__(self) -> int:
        return len(self.column)

    @classmethod
    def from_arrow(cls, column: pa.ChunkedArray) -> WkbArray | None:
        """The column, or None where it has nulls, big-endian, Z, M, an SRID, collections or curves."""
        types = []
        for chunk in column.chunks:
            found = _types(chunk)
            if found is None:
                return None
            types.append(found)
        return cls(column, np.concatenate(types) if types else np.empty(0, np.uint8))

    @classmethod
    def joined(cls, parts: Sequence[WkbArray]) -> WkbArray:
        """All of these, one after the other; what each knows of its boxes and sizes stays known."""
        column = pa.chunked_array([chunk for part in parts for chunk in part.column.chunks], parts[0].column.type)
        types = np.concatenate([part.types for part in parts])
        measured = [m for part in parts if (m := part.measured) is not None]
        known = None
        if len(measured) == len(parts) and (types == types[:1]).all():
            known = np.concatenate([m[0] for m in measured]), np.concatenate([m[1] for m in measured])
        return cls(column, types, known)

    @classmethod
    def of_points(cls, xy: np.ndarray) -> WkbArray:
        """Points at these coordinates (n, 2), none of them NaN."""
        return cls(pa.chunked_array([_points(xy)]), np.full(len(xy), POINT, np.uint8))

    def decode(self) -> np.ndarray:
        """The shapes, made anew.

        Raises
        ------
        shapely.errors.ShapelyError : a value that is no well-known binary.
        """
        array = self._from_points()
        if array is None:
            parts = [part._decoded() for part in self._parts()]
            array = np.concatenate(parts) if parts else np.empty(0, object)
        return array

    def _decoded(self) -> np.ndarray:
        array = self._from_pieces()
        return array if array is not None else decode(self._whole)

    def _parts(self) -> Generator[WkbArray, None, None]:
        """The features some at a time: what is worked out of their bytes stays small, and in the processor's reach."""
        done = 0
        for chunk in self.column.chunks:
            for start in range(0, len(chunk), _SOME):
                rows = chunk.slice(start, _SOME)
                yield WkbArray(pa.chunked_array([rows]), self.types[done : done + len(rows)])
                done += len(rows)

    def _from_points(self) -> np.ndarray | None:
        """Shapes of points, made of their coordinates at once; None for others, and where one has none."""
        xy = self.xy if len(self) else None
        return None if xy is None or np.isnan(xy).any() else np.asarray(shapely.points(xy), object)

    def _from_pieces(self) -> np.ndarray | None:
        """Shapes of polygons of single parts, made of their vertices at once, which takes half the time; None for others."""
        if not len(self) or not (self.types == POLYGON).all() or self.pieces is None:
            return None
        xy, starts, owner = self.pieces
        rings = np.searchsorted(owner, np.arange(len(self) + 1))
        try:
            return np.asarray(shapely.from_ragged_array(shapely.GeometryType.POLYGON, xy, (starts, rings)), object)
        except (shapely.errors.ShapelyError, ValueError):
            return None  # a ring that is none: the other way says it

    def take(self, rows: np.ndarray) -> WkbArray:
        """The features at these positions, in this order."""
        known = self._told
        if known is not None:
            known = (known[0][rows], known[1][rows])
        return WkbArray(pa.chunked_array([self._whole.take(pa.array(rows, pa.int64()))]), self.types[rows], known)

    def slice(self, start: int, stop: int) -> WkbArray:
        """The features from one position to another."""
        known = None if self._told is None else (self._told[0][start:stop], self._told[1][start:stop])
        return WkbArray(pa.chunked_array([self._whole.slice(start, stop - start)]), self.types[start:stop], known)

    def with_shapes(self, rows: np.ndarray, shapes: np.ndarray) -> WkbArray | None:
        """Other shapes for the features at these positions; None where those are of a form that this cannot be."""
        new = WkbArray.from_arrow(pa.chunked_array([encoded(shapes)]))
        if new is None or new.column.type != self.column.type:
            return None
        place = np.arange(len(self))
        place[rows] = len(self) + np.arange(len(rows))
        column = pa.concat_arrays([self._whole, *new.column.chunks]).take(pa.array(place, pa.int64()))
        boxes, sizes = self.bounds(), self.sizes
        known = None
        if boxes is not None and sizes is not None:
            size = shapely.area(shapes) if self.types[0] in (POLYGON, 6) else shapely.length(shapes)
            known = (np.concatenate([boxes, shapely.bounds(shapes)])[place], np.concatenate([sizes, size])[place])
        return WkbArray(pa.chunked_array([column]), np.concatenate([self.types, new.types])[place], known)

    def as_multiples(self) -> WkbArray:
        """Single parts as multiples of one part, as a file wants them whose layers have one type of geometry."""
        out = [
            b"\x01" + int(t + 3).to_bytes(4, "little") + b"\x01\0\0\0" + (b or b"") if t <= POLYGON else b
            for t, b in zip(self.types.tolist(), slices(self._whole), strict=True)
        ]
        types = np.where(self.types <= POLYGON, self.types + 3, self.types).astype(self.types.dtype)
        return WkbArray(pa.chunked_array([pa.array(out, pa.binary())]), types, self._told)

    @cached_property
    def _whole(self) -> pa.Array:
        whole = self.column.combine_chunks()
        return pa.concat_arrays(whole.chunks) if isinstance(whole, pa.ChunkedArray) else whole

    def library_types(self) -> np.ndarray:
        """Distinct type numbers as shapely has them."""
        return np.array([_LIBRARY_TYPE[int(t)] for t in np.unique(self.types)], np.int64)

    @cached_property
    def xy(self) -> np.ndarray | None:
        """Coordinates (n, 2) where all are points, else None; NaN for an empty one."""
        if not (self.types == POINT).all():
            return None
        ends, raw = buffers(self._whole)
        if not len(self) or (np.diff(ends) != 21).any():
            return None if len(self) else np.empty((0, 2))
        return raw[ends[0] : ends[-1]].reshape(-1, 21)[:, 5:].copy().view("<f8")

    @cached_property
    def pieces(self) -> tuple[np.ndarray, np.ndarray, np.ndarray] | None:
        """Vertices of lines or polygons of single parts: coordinates (v, 2), where each piece (a line, a ring) begins
        in them (p + 1), and the feature it belongs to (p). None where there are other kinds, empty ones or very many rings.
        """
        kinds = np.unique(self.types)
        if len(kinds) != 1 or kinds[0] not in (LINE, POLYGON):
            return None
        ends, raw = buffers(self._whole)
        at = ends[:-1] + 5
        owner = np.arange(len(self))
        begins, counts, owners = [], [], []
        over = np.zeros(len(self), np.int64)  # where each feature ends by its own figures
        if kinds[0] == LINE:
            number = _numbers(raw, at)
            begins.append(at + 4)
            counts.append(number)
            owners.append(owner)
            over = at + 4 + 16 * number
        else:
            rings = _numbers(raw, at)
            if rings.min(initial=1) < 1 or rings.max(initial=1) > _MOST_RINGS:
                return None
            at = at + 4
            for ring in range(int(rings.max(initial=0))):
                there = rings > ring
                at, owner, rings = at[there], owner[there], rings[there]
                if len(at) and at.max() + 4 > len(raw):
                    return None  # its own figures lead beyond its end: it is damaged
                number = _numbers(raw, at)
                begins.append(at + 4)
                counts.append(number)
                owners.append(owner)
                at = at + 4 + 16 * number
                over[owner] = at
        if (over != ends[1:]).any():
            return None
        begin, count, of = np.concatenate(begins), np.concatenate(counts), np.concatenate(owners)
        if count.min(initial=2) < 2:
            return None
        order = np.argsort(begin, kind="stable")
        begin, count, of = begin[order], count[order], of[order]
        starts = np.concatenate([[0], np.cumsum(count)])
        return _vertices(raw, begin, count), starts, of

    @cached_property
    def measured(self) -> tuple[np.ndarray, np.ndarray] | None:
        """Of lines or polygons of single parts the box (n, 4) and the planar size of each; None of others."""
        if self._known is not None:
            return self._known
        if not len(self) or not ((self.types == LINE).all() or (self.types == POLYGON).all()):
            return None
        found = []
        for part in self._parts():
            box, size = part._boxes(), part._sizes()
            if box is None or size is None:
                return None
            found.append((box, size))
        return np.concatenate([f[0] for f in found]), np.concatenate([f[1] for f in found])

    @property
    def _told(self) -> tuple[np.ndarray, np.ndarray] | None:
        """As ``measured``, where somebody asked before."""
        return self._known if self._known is not None else self.__dict__.get("measured")

    def bounds(self) -> np.ndarray | None:
        """xmin, ymin, xmax, ymax of each (n, 4), NaN for an empty point; None where the shapes must be asked."""
        if self.xy is not None:
            return np.hstack([self.xy, self.xy])
        return None if self.measured is None else self.measured[0]

    @property
    def sizes(self) -> np.ndarray | None:
        """Planar length of lines or area of polygons (holes taken off); None where the shapes must be asked."""
        return None if self.measured is None else self.measured[1]

    def _boxes(self) -> np.ndarray | None:
        if self.pieces is None:
            return None
        xy, starts, owner = self.pieces
        first = np.flatnonzero(np.r_[True, owner[1:] != owner[:-1]]) if len(owner) else np.empty(0, np.int64)
        at = starts[first]
        return np.hstack([np.minimum.reduceat(xy, at, axis=0), np.maximum.reduceat(xy, at, axis=0)]) if len(at) else None

    def _sizes(self) -> np.ndarray | None:
        if self.pieces is None:
            return None
        xy, starts, owner = self.pieces
        out = np.zeros(len(self))
        if not len(owner):
            return out
        if self.types[0] == LINE:
            legs = np.hypot(*np.diff(xy, axis=0).T) if len(xy) > 1 else np.empty(0)
            legs = np.append(legs, 0.0)
            legs[starts[1:] - 1] = 0.0  # no leg from one piece to the next
            np.add.at(out, owner, np.add.reduceat(legs, starts[:-1]))
            return out
        # from each ring's own first vertex: far from the origin the products would lose their last digits
        base = np.repeat(xy[starts[:-1]], np.diff(starts), axis=0)
        x, y = (xy - base).T
        cross = np.append(x[:-1] * y[1:] - x[1:] * y[:-1], 0.0)
        cross[starts[1:] - 1] = 0.0
        ring = np.abs(np.add.reduceat(cross, starts[:-1])) / 2
        shell = np.r_[True, owner[1:] != owner[:-1]]
        np.add.at(out, owner, np.where(shell, ring, -ring))
        return out


def buffers(column: pa.Array) -> tuple[np.ndarray, np.ndarray]:
    """Where each value begins in the bytes (n + 1), and the bytes."""
    kind = np.int64 if pa.types.is_large_binary(column.type) else np.int32
    _, places, data = column.buffers()
    ends: np.ndarray = np.frombuffer(places, kind)[column.offset : column.offset + len(column) + 1] if places else np.zeros(1, kind)
    return ends.astype(np.int64), np.frombuffer(data, np.uint8) if data is not None else np.empty(0, np.uint8)


def _numbers(raw: np.ndarray, at: np.ndarray) -> np.ndarray:
    """The 32-bit whole numbers that begin at these bytes."""
    return raw[at[:, None] + np.arange(4)].view("<u4").ravel().astype(np.int64)


def _vertices(raw: np.ndarray, begin: np.ndarray, count: np.ndarray) -> np.ndarray:
    """Vertices of pieces that begin at these bytes."""
    if not len(begin):
        return np.empty((0, 2))
    step = np.diff(begin)
    if (count == count[0]).all() and (step == step[:1]).all():
        # records of one length, as of points on a grid or boxes: cut out as a table
        apart = (int(step[0]) if len(step) else 0, 1)
        table = np.lib.stride_tricks.as_strided(raw[int(begin[0]) :], (len(begin), 16 * int(count[0])), apart)
        return np.ascontiguousarray(table).view("<f8").reshape(-1, 2)
    bytes_ = memoryview(raw.data)
    ends = begin + 16 * count
    cut = b"".join([bytes_[a:b] for a, b in zip(begin.tolist(), ends.tolist(), strict=True)])
    return np.frombuffer(cut, "<f8").reshape(-1, 2)


def _types(column: pa.Array) -> np.ndarray | None:
    if not (pa.types.is_binary(column.type) or pa.types.is_large_binary(column.type)) or column.null_count:
        return None
    if not len(column):
        return np.empty(0, np.uint8)
    ends, raw = buffers(column)
    if (np.diff(ends) < 5).any():
        return None
    heads = raw[ends[:-1, None] + np.arange(5)]
    # byte order 1, and a type number of one digit without a flag for Z, M or a reference system
    fits = (heads[:, 0] == 1).all() and (heads[:, 1] >= 1).all() and (heads[:, 1] <= 6).all() and not heads[:, 2:].any()
    return heads[:, 1].copy() if fits else None


def decode(column: pa.Array) -> np.ndarray:
    """Shapely geometry of a column of binary.

    Raises
    ------
    shapely.errors.ShapelyError : a value that is no well-known binary.
    """
    return np.asarray(shapely.from_wkb(np.array(slices(column), dtype=object)), dtype=object)


def slices(column: pa.Array) -> list[bytes | None]:
    """A column of binary as Python bytes (the library's own way to do this would import a data frame library)."""
    if not len(column):
        return []
    wide = pa.types.is_large_binary(column.type)
    _, places, data = column.buffers()
    if data is None:
        return [None] * len(column)
    ends = np.frombuffer(places, np.int64 if wide else np.int32)[column.offset : column.offset + len(column) + 1]
    raw = memoryview(data)
    out: list[bytes | None] = [bytes(raw[a:b]) for a, b in pairwise(ends.tolist())]
    if column.null_count:
        for row in np.flatnonzero(np.asarray(pc.is_null(column))).tolist():
            out[row] = None
    return out


def encode(geometry: np.ndarray) -> list[bytes | None]:
    """ISO binary, little-endian."""
    return list(shapely.to_wkb(geometry, byte_order=1, flavor="iso"))


def encoded(geometry: np.ndarray) -> pa.Array:
    """As ``encode``, as a column of binary; of points in two dimensions by their coordinates at once."""
    flat = len(geometry) and bool((shapely.get_type_id(geometry) == 0).all())
    if not flat or shapely.is_empty(geometry).any() or shapely.has_z(geometry).any() or shapely.has_m(geometry).any():
        return pa.array(encode(geometry), pa.binary())
    return _points(shapely.get_coordinates(geometry))


def _points(xy: np.ndarray) -> pa.Array:
    raw = np.empty((len(xy), _POINT_BYTES), np.uint8)
    raw[:, :5] = (1, POINT, 0, 0, 0)
    raw[:, 5:] = np.ascontiguousarray(xy, "<f8").view(np.uint8).reshape(-1, 16)
    places = np.arange(len(xy) + 1, dtype=np.int32) * _POINT_BYTES
    return pa.Array.from_buffers(pa.binary(), len(xy), [None, pa.py_buffer(places), pa.py_buffer(raw)])
