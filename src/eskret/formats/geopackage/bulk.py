"""Write a layer of many rows into a GeoPackage by columns, several times faster than by statements, whole or as it comes in chunks.

The file is opened anew for it, which is why small layers go another way.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable
from contextlib import closing
from itertools import chain
from pathlib import Path

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.ahead import ahead
from eskret.core.expression import quote
from eskret.core.layer import ChunkedLayer, GeometryKind, Layer
from eskret.formats.geopackage import rtree, writer
from eskret.formats.geopackage.columns import bound, nearest, sql_type
from eskret.formats.geopackage.digest_ahead import DigestAhead
from eskret.formats.geopackage.ingest import Ingest, ingesting
from eskret.formats.geopackage.shapes import (
    as_multiples,
    binary_of,
    bounds_of,
    declared_type,
    extent_of,
    geometry_blobs,
    ordinates_of,
    types_of,
)
from eskret.formats.geopackage.writer import DeclaredLayer, GeoPackageWriter
from eskret.formats.handed import Handed
from eskret.formats.reading import Watch, no_watch

LARGE = 20_000
"""From so many rows on a layer goes in by columns; a small one costs less by statements, where the file is not opened anew for it."""
BATCH = 20_000
"""Rows that are handed over at a time, unless their shapes are heavy."""
_HEAVY = 1 << 29
"""Bytes of shapes that a batch holds at most, but for those of one feature: places in it are numbers of 32 bits."""
_VERTEX = 32
"""Bytes that a vertex takes at most."""


def is_large(layer: Layer) -> bool:
    """Whether a layer is one to be put in by columns: many rows, and something in each."""
    return len(layer) >= LARGE and (layer.has_geometry or bool(layer.table.num_columns))


def takes_chunks(layer: ChunkedLayer) -> bool:
    """Whether a layer that comes in chunks can be written as it comes: there is something in each row."""
    return layer.has_geometry or bool(layer.field_names)


def write_large(path: Path, layer: Layer, name: str, description: str = "", watch: Watch = no_watch) -> LargeLayer:
    """Put a layer into a GeoPackage that is there, as ``LargeLayer.write`` does; its name must not be taken."""
    drawn = layer.has_geometry
    large = LargeLayer(path, name, types_of(layer) if drawn else frozenset(), layer.kind)
    large.write([layer], len(layer), description, watch)
    return large


class LargeLayer:
    """A layer that is put into a file by columns.

    Parameters
    ----------
    path : a staged file, a GeoPackage, which nothing else of this process has open.
    name : of the layer; it must not be taken.
    types : of all its shapes, as shapely numbers them: of single parts beside multiples all become multiples.
    """

    def __init__(self, path: Path, name: str, types: frozenset[int], kind: GeometryKind) -> None:
        self._path, self._name = path, name
        self._type, self._multiple = declared_type(types, kind)
        self._made = DeclaredLayer("", "", 0)
        self._type_name: str | None = None
        self._boxes = np.empty((0, 4), np.float32)
        self._extent = np.full(4, np.nan)
        self._ordinates = np.zeros(3, np.int64)
        self._written = 0
        self._indexed = False
        self.digest: str | None = None
        """The digest of its rows, where it is known without reading them."""

    def write(self, chunks: Iterable[Layer], rows: int, description: str = "", watch: Watch = no_watch) -> None:
        """Write its rows, which come in one layer or more; none of what stands in memory for one is there for the next.

        Raises
        ------
        DeliveryError : it cannot be written; the file may then be half written, as only a staged one may be.
        """
        source = iter(chunks)
        first = next(source)
        schema = nearest(first.table.slice(0, 0)).schema
        self._type_name = type_name = self._type if first.has_geometry else None
        with writer.writing(self._path) as container:
            fields = [(f.name, sql_type(f.type)) for f in schema]
            self._made = container.declare(self._name, fields, type_name, first.crs, description, numbered=False)
            self._indexed = type_name is not None and rtree.has_room(container.connection)
            if self._indexed:
                container.make_tree(self._name, self._made.geom)
        geom = self._made.geom if type_name is not None else None
        self._boxes = np.empty((rows if geom else 0, 4), np.float32)
        digest = DigestAhead(schema if geom is None else schema.append(pa.field(geom, pa.binary())), geom, rows)
        stored = pa.schema([pa.field(f.name, bound(pa.array([], f.type)).type) for f in schema])
        stored = stored if geom is None else stored.insert(0, pa.field(geom, pa.binary()))
        with closing(ahead(self._batches(chain([first], source), schema, geom, digest))) as coming:
            handed = Handed(coming, rows, watch)
            with handed.written_to(self._path), ingesting(self._path) as into:
                into.put(self._name, pa.RecordBatchReader.from_batches(stored, iter(handed)))
                if self._indexed:
                    self._index(into, watch)
        self.digest = digest.confirmed(self._path, self._name)

    def _batches(
        self, chunks: Iterable[Layer], schema: pa.Schema, geom: str | None, digest: DigestAhead
    ) -> Generator[pa.RecordBatch, None, None]:
        """Its rows as they are stored."""
        for chunk in chunks:
            for part in _parts(chunk):
                batch = nearest(part.table).cast(schema).combine_chunks()
                columns = [c.chunk(0) if c.num_chunks else pa.array([], c.type) for c in batch.columns]
                blobs = None
                if geom is not None:
                    shapes = as_multiples(part) if self._multiple else part.undecoded if part.undecoded is not None else part.geometry
                    assert shapes is not None
                    bounds, binary = bounds_of(shapes), binary_of(shapes)
                    self._boxes[self._written : self._written + len(part)] = rtree.rounded(bounds)
                    self._ordinates = self._ordinates + ordinates_of(shapes)
                    self._extent = extent_of(np.vstack([self._extent, bounds]))
                    blobs = geometry_blobs(shapes, binary, bounds, self._made.srs_id)
                    digest.take(pa.record_batch([*columns, binary], [*schema.names, geom]))
                else:
                    digest.take(pa.record_batch(columns, schema.names))
                self._written += len(part)
                values = [bound(c) for c in columns]
                yield pa.record_batch(values, schema.names) if blobs is None else pa.record_batch([blobs, *values], [geom, *schema.names])

    def _index(self, into: Ingest, watch: Watch) -> None:
        """Fill its spatial index."""
        tree = f"rtree_{self._name}_{self._made.geom}"
        ids, boxes = self._drawn()
        if len(ids):
            into.say(f"DELETE FROM {quote(tree + rtree.NODES)}")  # the root, as long as there was nothing in it
        for part, (numbers, values) in rtree.packed(ids, boxes):
            watch(0, 0)
            size = values.dtype.itemsize
            second = pa.array(values.astype(np.int64)) if part != rtree.NODES else _fixed(values.tobytes(), size)
            batch = pa.record_batch([pa.array(numbers.astype(np.int64)), second], list(rtree.FIELDS[part]))
            into.put(tree + part, pa.RecordBatchReader.from_batches(batch.schema, [batch]))

    def _drawn(self) -> tuple[np.ndarray, np.ndarray]:
        """Numbers of the features that are drawn, and their boxes."""
        boxes = self._boxes[: self._written]
        none = np.isnan(boxes[:, 0])
        if none.any():
            there = np.flatnonzero(~none)
            return there + 1, boxes[there]
        return np.arange(1, len(boxes) + 1, dtype=np.uint32), boxes

    def finish(self, container: GeoPackageWriter, watch: Watch = no_watch) -> None:
        """Say in the file what is known now that the rows are there: where they lie, how many there are, and what keeps its index."""
        container.number(self._name, self._made, self._written)
        container.put_count(self._name, self._written)
        if self._type_name is None:
            return
        container.put_extent(self._name, self._extent, self._ordinates)
        if not self._indexed:
            container.make_tree(self._name, self._made.geom)
            rtree.fill(container.connection, f"rtree_{self._name}_{self._made.geom}", *self._drawn(), watch)
        container.keep_index(self._name, self._made)


def _parts(layer: Layer) -> Generator[Layer, None, None]:
    """Some rows of a layer at a time; once where it has none."""
    for start in range(0, max(len(layer), 1), BATCH):
        yield from _light(layer.slice(start, min(start + BATCH, len(layer))))


def _light(part: Layer) -> Generator[Layer, None, None]:
    if part.column is None or len(part) < 2:
        heavy = 0
    elif part.wkb is not None:
        heavy = part.wkb.column.nbytes
    else:
        heavy = _VERTEX * int(shapely.get_num_coordinates(part.geometry).sum())
    if heavy <= _HEAVY:
        yield part
    else:
        for start, stop in ((0, len(part) // 2), (len(part) // 2, len(part))):
            yield from _light(part.slice(start, stop))


def _fixed(raw: bytes, size: int) -> pa.Array:
    """Binary of one size each."""
    places = np.arange(0, len(raw) + 1, size, dtype=np.int32)
    return pa.Array.from_buffers(pa.binary(), len(places) - 1, [None, pa.py_buffer(places), pa.py_buffer(raw)])
