"""Write a layer of many rows into a GeoPackage by the library's own writer, which is several times faster than plain SQL.

The file is opened anew for it, which is why small layers go another way; its spatial index is filled here, faster still.
"""

from __future__ import annotations

from collections.abc import Generator, Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.layer import ChunkedLayer, GeometryKind, Layer
from eskret.core.layer.wkb import WkbArray, encoded
from eskret.core.naming import number_collisions
from eskret.formats import library_write
from eskret.formats.geopackage import rtree
from eskret.formats.geopackage.digest_ahead import DigestAhead
from eskret.formats.geopackage.writer import GeoPackageWriter, as_multiples, bounds_of, declared, declared_type, stored_values
from eskret.formats.reading import Watch, no_watch

LARGE = 20_000
"""From so many rows on a layer goes through the library's own writer, which is several times faster; a small one costs
less by plain SQL, where the file is not opened anew for it."""


def is_large(layer: Layer, name: str) -> bool:
    """Whether a layer is one for ``write_large``: many rows, shapes in two dimensions (or none), a name that the library takes,
    which refuses some that begin with a sign."""
    if len(layer) < LARGE or not _is_named(name) or not layer.table.num_columns or (layer.has_geometry and layer.crs is None):
        return False
    return layer.wkb is not None or layer.geometry is None or not shapely.has_z(layer.geometry).any()


def _is_named(name: str) -> bool:
    """Whether the library takes a name for a layer."""
    return not name[:1].isascii() or name[:1].isalnum() or name[:1] == "_"


def write_large(path: Path, layer: Layer, name: str, description: str = "", watch: Watch = no_watch) -> str | None:
    """Add a layer of many rows to a GeoPackage that is there; its name must not be taken.

    Returns
    -------
    The digest of its rows, where it is known without reading them.

    Raises
    ------
    DeliveryError : it cannot be written; the file may then be half written, as only a staged one may be.
    """
    names = layer.table.column_names
    options: dict[str, object] = {"FID": number_collisions(["fid"], taken=names)[0], "DESCRIPTION": description}
    storable = layer.with_table(_storable(layer.table))
    geom, table, kind, crs = None, storable.table, None, None
    if layer.has_geometry:
        geom = number_collisions(["geom"], taken=names)[0]
        table, kind = library_write.with_shapes(storable, geom)
        options |= {"GEOMETRY_NAME": geom, "SPATIAL_INDEX": "NO"}  # it is filled faster here
        crs = library_write.crs_text(layer.crs)
    digest = DigestAhead(table.schema, geom)
    batches = digest.through(table.to_batches(max_chunksize=library_write.BATCH))
    library_write.write_batches(
        path, table.schema, batches, len(table), name, geom=geom, kind=kind, crs=crs, options=options, driver="GPKG", watch=watch
    )
    return digest.confirmed(path, name)


def index_large(container: GeoPackageWriter, layer: Layer, name: str, watch: Watch = no_watch) -> None:
    """Give a layer that ``write_large`` wrote its spatial index."""
    if layer.has_geometry:
        _index(container, name, layer.table.column_names, rtree.rounded(bounds_of(declared(layer)[0])), watch)


def _index(container: GeoPackageWriter, name: str, names: Sequence[str], boxes: np.ndarray, watch: Watch) -> None:
    geom, key = (number_collisions([n], taken=names)[0] for n in ("geom", "fid"))
    container.add_index(name, geom, key, boxes, watch)


def takes_chunks(layer: ChunkedLayer, name: str) -> bool:
    """Whether a layer that comes in chunks can be written as it comes: as ``is_large`` says."""
    return _is_named(name) and bool(layer.field_names) and (not layer.has_geometry or (layer.crs is not None and not layer.has_z))


class ChunkWriter:
    """Writes a layer that comes in chunks, as ``write_large`` does one that is there whole.

    Parameters
    ----------
    types : of all its shapes, as shapely numbers them: of single parts beside multiples all become multiples.
    """

    def __init__(self, path: Path, name: str, types: frozenset[int], kind: GeometryKind) -> None:
        self._path, self._name = path, name
        self._type, self._multiple = declared_type(types, kind)
        self._boxes = np.empty((0, 4), np.float32)
        self._written = 0
        self._names: list[str] = []
        self.digest: str | None = None
        """The digest of its rows, where it is known without reading them."""

    def write(self, chunks: Generator[Layer, None, None], rows: int, description: str = "", watch: Watch = no_watch) -> None:
        """Write them; none of what stands in memory for one chunk is there for the next.

        Raises
        ------
        DeliveryError : it cannot be written; the file may then be half written, as only a staged one may be.
        """
        first = next(chunks)
        self._names = names = first.table.column_names
        options: dict[str, object] = {"FID": number_collisions(["fid"], taken=names)[0], "DESCRIPTION": description}
        geom = number_collisions(["geom"], taken=names)[0] if first.has_geometry else None
        if geom is not None:
            options |= {"GEOMETRY_NAME": geom, "SPATIAL_INDEX": "NO"}
        self._boxes = np.empty((rows if geom is not None else 0, 4), np.float32)
        table = self._table(first, geom)
        digest = DigestAhead(table.schema, geom)

        def batches() -> Generator[pa.RecordBatch, None, None]:
            yield from table.to_batches(max_chunksize=library_write.BATCH)
            for chunk in chunks:
                yield from self._table(chunk, geom).cast(table.schema).to_batches(max_chunksize=library_write.BATCH)

        library_write.write_batches(
            self._path,
            table.schema,
            digest.through(batches()),
            rows,
            self._name,
            geom=geom,
            kind=None if geom is None else library_write.TYPES.get(self._type, "Unknown"),
            crs=None if geom is None else library_write.crs_text(first.crs),
            options=options,
            driver="GPKG",
            watch=watch,
        )
        self.digest = digest.confirmed(self._path, self._name)

    def _table(self, chunk: Layer, geom: str | None) -> pa.Table:
        table = _storable(chunk.table)
        if geom is None:
            return table
        shapes = as_multiples(chunk) if self._multiple else chunk.undecoded if chunk.undecoded is not None else chunk.geometry
        assert shapes is not None
        self._boxes[self._written : self._written + len(chunk)] = rtree.rounded(bounds_of(shapes))
        self._written += len(chunk)
        binary = shapes.column if isinstance(shapes, WkbArray) else pa.chunked_array([encoded(shapes)])
        return table.append_column(geom, binary.cast(pa.binary()))

    def index(self, container: GeoPackageWriter, watch: Watch = no_watch) -> None:
        """Give the layer its spatial index."""
        if len(self._boxes):
            _index(container, self._name, self._names, self._boxes[: self._written], watch)


def _storable(table: pa.Table) -> pa.Table:
    """The attributes in the types that the standard has: what it has not is stored as the nearest, as by plain SQL."""
    columns = []
    for column in table.columns:
        kind = column.type
        if pa.types.is_nested(kind) or pa.types.is_time(kind) or pa.types.is_decimal(kind):
            text = pa.types.is_nested(kind) or pa.types.is_time(kind)
            column = pa.chunked_array([pa.array(stored_values(column), pa.string() if text else pa.float64())])
        elif pa.types.is_timestamp(kind):
            column = column.cast(pa.timestamp("ms", kind.tz), safe=False).cast(pa.timestamp("ms", "UTC"))
        elif pa.types.is_date(kind):
            column = column.cast(pa.date32())
        elif pa.types.is_integer(kind):
            column = column.cast(pa.int64())
        elif pa.types.is_floating(kind):
            column = pc.if_else(pc.is_nan(column), None, column).cast(pa.float64())
        elif pa.types.is_large_string(kind):
            column = column.cast(pa.string())
        columns.append(column)
    return pa.table(columns, names=table.column_names)
