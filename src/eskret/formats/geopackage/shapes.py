"""The shapes of a layer as a GeoPackage has them: one declared type, and a binary with a head (OGC 12-128r19, clause 2.1.3)."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.layer import GeometryKind, Layer
from eskret.core.layer.wkb import POINT, WkbArray, encoded

_TYPE_NAMES = ("POINT", "LINESTRING", "LINESTRING", "POLYGON", "MULTIPOINT", "MULTILINESTRING", "MULTIPOLYGON", "GEOMETRYCOLLECTION")
_HEAD = np.dtype([("magic", "S2"), ("version", "u1"), ("flags", "u1"), ("srs", "<i4"), ("box", "<f8", 4)])
_SHORT = 8
"""Bytes of a head without a box."""

Shapes = np.ndarray | WkbArray
"""Geometry of a layer: shapes, or the binary that they were read as."""


def bounds_of(shapes: Shapes) -> np.ndarray:
    """xmin, ymin, xmax, ymax of each (n, 4), NaN for none."""
    found = shapes.bounds() if isinstance(shapes, WkbArray) else None
    return found if found is not None else shapely.bounds(shapes.decode() if isinstance(shapes, WkbArray) else shapes)


_MULTIPLES: dict[int, tuple[int, Callable[..., np.ndarray]]] = {
    0: (4, shapely.multipoints),
    1: (5, shapely.multilinestrings),
    3: (6, shapely.multipolygons),
}
"""Of a type of single parts its multiple, and what makes that."""


def declared_type(types: frozenset[int], kind: GeometryKind) -> tuple[str, bool]:
    """What shapes of these types (as shapely numbers them) are declared as, and whether single ones become multiples for it."""
    if not types:
        name = {GeometryKind.POINT: "POINT", GeometryKind.LINE: "LINESTRING", GeometryKind.POLYGON: "POLYGON"}.get(kind, "GEOMETRY")
        return name, False
    if len(types) == 1:
        return _TYPE_NAMES[next(iter(types))], False
    if any(types == {single, many} for single, (many, _) in _MULTIPLES.items()):
        return _TYPE_NAMES[max(types)], True
    return "GEOMETRY", False


def as_multiples(layer: Layer) -> Shapes:
    """The geometry with single parts as multiples of one."""
    if layer.undecoded is not None:
        return layer.undecoded.as_multiples()
    assert layer.geometry is not None
    out, types = layer.geometry.copy(), shapely.get_type_id(layer.geometry)
    for single, (_, build) in _MULTIPLES.items():
        rows = np.flatnonzero(types == single)
        if len(rows):
            out[rows] = build(out[rows], indices=np.arange(len(rows)))
    return out


def declared(layer: Layer) -> tuple[Shapes, str, bool]:
    """The geometry with one declared type: single parts beside multi parts of their kind become multi parts."""
    if layer.wkb is not None:
        types = frozenset(layer.wkb.library_types().tolist())
        if len(types) == 1 or layer.undecoded is not None:
            name, multiple = declared_type(types, layer.kind)
            if len(types) == 1 or multiple:
                return as_multiples(layer) if multiple else layer.wkb, name, False
    assert layer.geometry is not None
    geometry = layer.geometry
    each = shapely.get_type_id(geometry)
    name, multiple = declared_type(frozenset(np.unique(each[each >= 0]).tolist()), layer.kind)
    return as_multiples(layer) if multiple else geometry, name, bool(shapely.has_z(geometry).any())


def types_of(layer: Layer) -> frozenset[int]:
    """The types of the shapes of a layer, as shapely numbers them; nulls do not count."""
    if layer.wkb is not None:
        return frozenset(layer.wkb.library_types().tolist())
    assert layer.geometry is not None
    each = np.unique(shapely.get_type_id(layer.geometry))
    return frozenset(each[each >= 0].tolist())


def ordinates_of(shapes: Shapes) -> np.ndarray:
    """How many shapes have places at all, how many of them heights, and how many measures (3)."""
    if isinstance(shapes, WkbArray):
        return np.array([len(shapes), 0, 0])
    there = ~(shapely.is_missing(shapes) | shapely.is_empty(shapes))
    return np.array([there.sum(), (shapely.has_z(shapes) & there).sum(), (shapely.has_m(shapes) & there).sum()])


def extent_of(bounds: np.ndarray) -> np.ndarray:
    """xmin, ymin, xmax, ymax of all (4) of those of each (n, 4); NaN for none."""
    if not len(bounds):
        return np.full(4, np.nan)
    return np.concatenate([np.fmin.reduce(bounds[:, :2], axis=0), np.fmax.reduce(bounds[:, 2:], axis=0)])


def binary_of(shapes: Shapes) -> pa.Array:
    """ISO binary of each, little-endian, in one piece; null for none."""
    if not isinstance(shapes, WkbArray):
        return encoded(shapes)
    whole = shapes.column.combine_chunks()
    return (pa.concat_arrays(whole.chunks) if isinstance(whole, pa.ChunkedArray) else whole).cast(pa.binary())


def geometry_blobs(shapes: Shapes, binary: pa.Array, bounds: np.ndarray, srs_id: int) -> pa.Array:
    """GeoPackage binary of each: a head with an envelope (none for points and for what is empty), then its ISO binary.

    Parameters
    ----------
    binary, bounds : of the shapes, as ``binary_of`` and ``bounds_of`` give them.
    """
    if isinstance(shapes, WkbArray):
        points, empty = shapes.types == POINT, np.isnan(bounds[:, 0])
    else:
        points, empty = shapely.get_type_id(shapes) == 0, shapely.is_empty(shapes)
    heads = np.zeros(len(bounds), _HEAD)
    boxed = ~(points | empty)
    heads["magic"], heads["srs"] = b"GP", srs_id
    heads["flags"] = 1 | (boxed.astype("u1") << 1) | (empty.astype("u1") << 4)
    heads["box"] = bounds[:, [0, 2, 1, 3]]
    long = np.where(boxed, _HEAD.itemsize, _SHORT)
    raw = heads.view(np.uint8).reshape(-1, _HEAD.itemsize)
    raw = raw[np.arange(_HEAD.itemsize) < long[:, None]] if not boxed.all() else raw
    ends = np.concatenate([[0], np.cumsum(long)]).astype(np.int32)
    head = pa.Array.from_buffers(pa.binary(), len(bounds), [None, pa.py_buffer(ends), pa.py_buffer(np.ascontiguousarray(raw))])
    return pc.binary_join_element_wise(head, binary, b"")
