"""Write one layer to a new file through the library that knows most vector formats, as Arrow."""

from __future__ import annotations

import warnings
from collections.abc import Generator, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.crs import parse_crs
from eskret.core.layer import ChunkedLayer, Field, GeometryKind, Layer
from eskret.core.layer.wkb import WkbArray, encoded
from eskret.core.naming import number_collisions
from eskret.errors import DeliveryError
from eskret.formats.fitting import Bounds, Choices
from eskret.formats.format import Coming, Format, Pairs, Put, Writing
from eskret.formats.gdal import library, unsynced
from eskret.formats.geopackage.shapes import as_multiples, declared, declared_type
from eskret.formats.handed import Handed
from eskret.formats.holding import Holds
from eskret.formats.reading import Watch, no_watch

BATCH = 20_000
"""Rows that the library is handed at a time."""
TYPES = {
    "MULTIPOINT": "MultiPoint",
    "POINT": "Point",
    "LINESTRING": "LineString",
    "MULTILINESTRING": "MultiLineString",
    "POLYGON": "Polygon",
    "MULTIPOLYGON": "MultiPolygon",
    "GEOMETRYCOLLECTION": "GeometryCollection",
}


def write(path: Path, layer: Layer, name: str, *, options: Mapping[str, object] | None = None, watch: Watch = no_watch) -> None:
    """Write a file that is not there yet; its ending says the format. The attributes must be of types that the format has.

    Raises
    ------
    DeliveryError : it cannot be written.
    """
    geom = number_collisions(["geometry"], taken=layer.table.column_names)[0]
    table, kind = with_shapes(layer, geom)
    write_table(path, table, name, geom=geom, kind=kind, crs=crs_text(layer.crs), options=options or {}, watch=watch)


def with_shapes(layer: Layer, geom: str) -> tuple[pa.Table, str]:
    """The attributes with the geometry as binary in a column, and its type as the library calls it."""
    shapes, type_name, has_z = declared(layer)
    has_m = False
    if isinstance(shapes, WkbArray):
        binary = shapes.column
    else:
        has_m = bool(shapely.has_m(shapes).any())
        binary = pa.chunked_array([encoded(shapes)])
    table = layer.table.append_column(geom, binary.cast(pa.binary()))
    if has_m:
        return table, "Unknown"  # the library has no word for such a type, and takes it from the shapes
    return table, TYPES.get(type_name, "Unknown") + (" Z" if has_z else "")


def crs_text(crs: str | None) -> str | None:
    """A CRS as the library takes it."""
    return parse_crs(crs).to_wkt() if crs is not None else None


def write_table(
    path: Path,
    table: pa.Table,
    name: str,
    *,
    geom: str | None,
    kind: str | None,
    crs: str | None,
    options: Mapping[str, Any],
    driver: str | None = None,
    watch: Watch = no_watch,
) -> None:
    """Write a table with its geometry column to a file, or as a new layer of one.

    Raises
    ------
    DeliveryError : it cannot be written; the file may then be half written, as only a staged one may be.
    """
    batches = table.to_batches(max_chunksize=BATCH)
    write_batches(path, table.schema, batches, len(table), name, geom=geom, kind=kind, crs=crs, options=options, driver=driver, watch=watch)


def write_batches(
    path: Path,
    schema: pa.Schema,
    batches: Iterable[pa.RecordBatch],
    rows: int,
    name: str,
    *,
    geom: str | None,
    kind: str | None,
    crs: str | None,
    options: Mapping[str, Any],
    driver: str | None = None,
    watch: Watch = no_watch,
) -> None:
    """As ``write_table``, of batches that are made while it writes; ``rows`` is how many there will be at most.

    Raises
    ------
    DeliveryError : it cannot be written; the file may then be half written, as only a staged one may be.
    EskretError : whatever making a batch raised.
    """
    handed = Handed(batches, rows, watch)
    with handed.written_to(path), warnings.catch_warnings(), unsynced():
        warnings.simplefilter("ignore")  # a layer without a CRS is told elsewhere
        library().write_arrow(
            pa.RecordBatchReader.from_batches(schema, iter(handed)),
            path,
            layer=name,
            driver=driver,
            geometry_name=geom,
            geometry_type=kind,
            crs=crs,
            layer_options=dict(options),
        )


def count(path: Path) -> int:
    """Features in a file, as the library finds them."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return int(library().read_info(path, force_feature_count=True)["features"])


def of_one_kind(layer: Layer) -> bool:
    """Whether all shapes are points, or lines, or areas, single or several in one."""
    if layer.geometry is None:
        return False
    types = np.unique(shapely.get_type_id(layer.geometry))
    kinds = {{0: 0, 4: 0, 1: 1, 2: 1, 5: 1, 3: 2, 6: 2}.get(int(t), -1) for t in types if t >= 0}
    return len(kinds) <= 1 and -1 not in kinds


_LARGEST = 1 << 31
"""Bytes that a part of a shapefile holds."""


class ByLibrary(Format):
    """Written by the library, with options."""

    tables = False

    def options(self, layer: Layer) -> Mapping[str, str]:
        """What the library is told."""
        return {}

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        layer, name = pairs[0]
        write(path, layer, name, options=self.options(layer), watch=watch)
        return Put(self.count(path))

    def count(self, path: Path) -> int:
        return count(path)


class Shapefile(ByLibrary):
    """Points, lines or areas, with short names, short texts and neither times nor flags."""

    title = "a shapefile"
    read_endings = {".shp": "shapefile"}
    written_endings = (".shp",)
    changes = True
    kinds = frozenset({GeometryKind.POINT, GeometryKind.LINE, GeometryKind.POLYGON})
    companions = (".shx", ".dbf", ".prj", ".cpg")
    left_over = (".qix", ".sbn", ".sbx", ".fix", ".cst")
    bounds = Bounds(
        "a shapefile", name_bytes=10, text_bytes=254, most_fields=255, whole_digits=18, times=False, flags=False, empty_texts=False
    )
    values = Holds("a shapefile", nan=True, infinity=False, blanks=False, largest=1e23, decimal_places=15)

    def options(self, layer: Layer) -> Mapping[str, str]:
        return {"ENCODING": "UTF-8"}

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        put = super().write(path, pairs, how, watch)
        for part in (path, path.with_suffix(".dbf")):
            if part.stat().st_size >= _LARGEST:
                raise DeliveryError(
                    f"its {part.suffix[1:]} part is larger than the 2 GB that a shapefile holds",
                    place=str(path.name),
                    way_out="Save to a GeoPackage, or split the layer",
                )
        return put


class FlatGeobuf(ByLibrary):
    """One layer with an index, which puts its features in another order."""

    title = "FlatGeobuf"
    read_endings = {".fgb": "FlatGeobuf"}
    written_endings = (".fgb",)
    changes = True
    bounds = Bounds("FlatGeobuf", dates=False, zones=False)
    values = Holds("FlatGeobuf", nan=True, measures=False)

    def options(self, layer: Layer) -> Mapping[str, str]:
        return _indexed(_nowhere(layer))

    def takes_chunks(self, layer: ChunkedLayer) -> bool:
        return not layer.has_z

    def looks_first(self, chunks: Iterable[Layer], like: ChunkedLayer, how: Writing, watch: Watch = no_watch) -> np.ndarray | None:
        found = False
        for chunk in chunks:
            watch(0, len(like))
            found = found or _nowhere(chunk)
        return np.array([found])

    def write_chunks(self, path: Path, coming: Coming, how: Writing, watch: Watch = no_watch) -> Put:
        type_name, multiple = declared_type(coming.like.types, coming.like.kind)
        first = next(coming.chunks)
        geom = number_collisions(["geometry"], taken=first.table.column_names)[0]

        def table(chunk: Layer) -> pa.Table:
            shapes = as_multiples(chunk) if multiple else chunk.undecoded if chunk.undecoded is not None else chunk.geometry
            assert shapes is not None
            binary = shapes.column if isinstance(shapes, WkbArray) else pa.chunked_array([encoded(shapes)])
            return chunk.table.append_column(geom, binary.cast(pa.binary()))

        begin = table(first)

        def batches() -> Generator[pa.RecordBatch, None, None]:
            yield from begin.to_batches(max_chunksize=BATCH)
            for chunk in coming.chunks:
                yield from table(chunk).cast(begin.schema).to_batches(max_chunksize=BATCH)

        write_batches(
            path,
            begin.schema,
            batches(),
            len(coming.like),
            how.name,
            geom=geom,
            kind=TYPES.get(type_name, "Unknown"),
            crs=crs_text(first.crs),
            options=_indexed(bool(coming.looked[0])),
            watch=watch,
        )
        return Put(self.count(path))

    def field_losses(self, fields: Sequence[Field], choices: Choices, kind: GeometryKind) -> list[str]:
        told = "features are put in another order, for the index that the format has"
        return [*super().field_losses(fields, choices, kind), told]


def _nowhere(layer: Layer) -> bool:
    """Whether a feature has no shape."""
    return layer.wkb is None and layer.geometry is not None and bool(shapely.is_missing(layer.geometry).any())


def _indexed(nowhere: bool) -> dict[str, str]:
    # the index has no place for features without a shape
    return {"SPATIAL_INDEX": "NO" if nowhere else "YES"}


class Gml(Format):
    """Read only."""

    title = "GML"
    read_endings = {".gml": "GML"}
