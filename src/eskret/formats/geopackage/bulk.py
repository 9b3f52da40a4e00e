"""Write a layer of many rows into a GeoPackage by the library's own writer, which is several times faster than plain SQL.

The file is opened anew for it, which is why small layers go another way; its spatial index is filled here, faster still.
"""

from __future__ import annotations

from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.layer import Layer
from eskret.core.naming import number_collisions
from eskret.formats import library_write
from eskret.formats.geopackage.writer import GeoPackageWriter, bounds_of, declared, stored_values
from eskret.formats.reading import Watch, no_watch

LARGE = 20_000
"""From so many rows on a layer goes through the library's own writer, which is several times faster; a small one costs
less by plain SQL, where the file is not opened anew for it."""


def is_large(layer: Layer, name: str) -> bool:
    """Whether a layer is one for ``write_large``: many rows, shapes in two dimensions (or none), a name that the library takes,
    which refuses some that begin with a sign."""
    if (
        len(layer) < LARGE
        or (name[:1].isascii() and not name[:1].isalnum() and name[:1] != "_")
        or not layer.table.num_columns
        or (layer.has_geometry and layer.crs is None)
    ):
        return False
    return layer.wkb is not None or layer.geometry is None or not shapely.has_z(layer.geometry).any()


def write_large(path: Path, layer: Layer, name: str, description: str = "", watch: Watch = no_watch) -> None:
    """Add a layer of many rows to a GeoPackage that is there; its name must not be taken.

    Raises
    ------
    DeliveryError : it cannot be written; the file may then be half written, as only a staged one may be.
    """
    names = layer.table.column_names
    options: dict[str, object] = {"FID": number_collisions(["fid"], taken=names)[0], "DESCRIPTION": description}
    storable = layer.with_table(_storable(layer.table))
    if not layer.has_geometry:
        library_write.write_table(path, storable.table, name, geom=None, kind=None, crs=None, options=options, driver="GPKG", watch=watch)
        return
    geom = number_collisions(["geom"], taken=names)[0]
    table, kind = library_write.with_shapes(storable, geom)
    options |= {"GEOMETRY_NAME": geom, "SPATIAL_INDEX": "NO"}  # it is filled faster here
    crs = library_write.crs_text(layer.crs)
    library_write.write_table(path, table, name, geom=geom, kind=kind, crs=crs, options=options, driver="GPKG", watch=watch)


def index_large(container: GeoPackageWriter, layer: Layer, name: str) -> None:
    """Give a layer that ``write_large`` wrote its spatial index."""
    if layer.has_geometry:
        geom = number_collisions(["geom"], taken=layer.table.column_names)[0]
        key = number_collisions(["fid"], taken=layer.table.column_names)[0]
        container.add_index(name, geom, key, bounds_of(declared(layer)[0]))


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
