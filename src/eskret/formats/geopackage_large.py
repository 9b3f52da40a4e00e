"""Write a layer of many rows into a GeoPackage by the library's own writer, which is several times faster than plain SQL.

The file is opened anew for it, which is why small layers go another way; its spatial index is filled here, faster still.
"""

from __future__ import annotations

import warnings
from collections.abc import Generator
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.crs import parse_crs
from eskret.core.encoded import Encoded, encode
from eskret.core.layer import Layer
from eskret.core.naming import number_collisions
from eskret.errors import DeliveryError, StoppedError
from eskret.formats.gdal import library
from eskret.formats.geopackage import GeoPackageWriter, bounds_of, declared, stored_values
from eskret.formats.reading import Watch, no_watch

LARGE = 20_000
"""From so many rows on a layer goes through the library's own writer, which is several times faster; a small one costs
less by plain SQL, where the file is not opened anew for it."""
_BATCH = 20_000


def is_large(layer: Layer) -> bool:
    """Whether a layer is one for ``write_large``: many rows, and shapes in two dimensions (or none)."""
    if len(layer) < LARGE or not layer.table.num_columns or (layer.drawn and layer.crs is None):
        return False
    return layer.encoded is not None or layer.geometry is None or not shapely.has_z(layer.geometry).any()


def write_large(path: Path, layer: Layer, name: str, description: str = "", watch: Watch = no_watch) -> None:
    """Add a layer of many rows to a GeoPackage that is there; its name must not be taken.

    Raises
    ------
    DeliveryError : it cannot be written; the file may then be half written, as only a staged one may be.
    """
    names = layer.table.column_names
    options: dict[str, Any] = {"FID": number_collisions(["fid"], taken=names)[0], "DESCRIPTION": description}
    table = _storable(layer.table)
    geom = number_collisions(["geom"], taken=names)[0]
    kind: str | None = None
    if layer.drawn:
        shapes, type_name, _ = declared(layer)
        column = (
            shapes.column if isinstance(shapes, Encoded) else pa.chunked_array([pa.array(encode(shapes), pa.binary())])
        )
        table = table.append_column(geom, column.cast(pa.binary()))
        options |= {"GEOMETRY_NAME": geom, "SPATIAL_INDEX": "NO"}  # it is filled faster here
        kind = {"GEOMETRY": "Unknown", "GEOMETRYCOLLECTION": "GeometryCollection"}.get(type_name) or (
            type_name.replace("MULTI", "Multi").replace("POINT", "Point").replace("LINESTRING", "LineString")
            .replace("POLYGON", "Polygon")
        )  # fmt: skip
    stopped: list[BaseException] = []

    def batches() -> Generator[pa.RecordBatch, None, None]:
        done = 0
        try:
            for batch in table.to_batches(max_chunksize=_BATCH):
                yield batch
                done += batch.num_rows
                watch(done, len(table))
        except BaseException as error:
            stopped.append(error)
            raise

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # a layer without a CRS is told elsewhere
            library().write_arrow(
                pa.RecordBatchReader.from_batches(table.schema, batches()), path, layer=name, driver="GPKG",
                geometry_name=geom if layer.drawn else None, geometry_type=kind, crs=_for_library(layer.crs) if layer.drawn else None,
                layer_options=options,
            )  # fmt: skip
    except Exception as error:
        if stopped and isinstance(stopped[0], StoppedError):
            raise stopped[0] from error
        text = str(error)
        if "full" in text or "disk" in text:
            raise DeliveryError("the disk is full", place=str(path), way_out="Make room and run again") from error
        raise DeliveryError(f"it cannot be written ({text[:160]})", place=str(path)) from error


def index_large(container: GeoPackageWriter, layer: Layer, name: str) -> None:
    """Give a layer that ``write_large`` wrote its spatial index."""
    if layer.drawn:
        geom = number_collisions(["geom"], taken=layer.table.column_names)[0]
        key = number_collisions(["fid"], taken=layer.table.column_names)[0]
        container.add_index(name, geom, key, bounds_of(declared(layer)[0]))


def _for_library(crs: str | None) -> str | None:
    return parse_crs(crs).to_wkt() if crs is not None else None


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
