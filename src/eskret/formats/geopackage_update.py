"""Change rows of a layer that is in a GeoPackage, where they are: everything else that the file says of it stays."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from typing import Any

import numpy as np
import shapely

from eskret.core.crs import same_crs
from eskret.core.expression import quote
from eskret.core.layer import Layer
from eskret.errors import DeliveryError
from eskret.formats import geopackage, sqlite
from eskret.formats.geopackage import GeoPackageWriter


def change(
    container: GeoPackageWriter, name: str, layer: Layer, added: np.ndarray, changed: np.ndarray, ids: Sequence[int],
    crs: str | None,
) -> None:  # fmt: skip
    """Append rows of a layer, and put others in the place of those with these ids. The indexes follow by the file's triggers.

    Parameters
    ----------
    layer : in the CRS of the layer that is there; fields that are not there are added to it.
    added, changed : rows of the layer (int64); ``ids`` as many as ``changed``.

    Raises
    ------
    DeliveryError : the layer that is there is in another CRS.
    """
    know_shapes(container)
    db = container.connection
    info = db.execute(f"PRAGMA table_info({quote(name)})").fetchall()
    key = next(r[1] for r in info if r[5])
    row = db.execute("SELECT column_name, srs_id FROM gpkg_geometry_columns WHERE table_name = ?", (name,)).fetchone()
    if row is not None and layer.crs is not None and crs is not None and not same_crs(layer.crs, crs):
        raise DeliveryError(f"the layer '{name}' is in {crs}", way_out="Bring the new rows to it")
    there = {r[1].casefold(): r[1] for r in info}
    for field in layer.table.schema:
        if field.name.casefold() not in there:
            db.execute(f"ALTER TABLE {quote(name)} ADD COLUMN {quote(field.name)} {geopackage.sql_type(field.type)}")
            there[field.name.casefold()] = field.name
    columns = [there[n.casefold()] for n in layer.table.column_names]
    geometry = [row[0]] if row is not None and layer.drawn else []
    if len(added):
        sqlite.insert(db, quote(name), [quote(c) for c in [*geometry, *columns]], _rows(layer, added, row))
    if len(changed):
        places = ", ".join(f"{quote(c)} = ?" for c in [*geometry, *columns])
        values = [(*v, i) for v, i in zip(_rows(layer, changed, row), ids, strict=True)]
        db.executemany(f"UPDATE {quote(name)} SET {places} WHERE {quote(key)} = ?", values)
    _contents(container, name, layer, np.concatenate([added, changed]))


def _rows(layer: Layer, rows: np.ndarray, declared: Any) -> list[tuple[Any, ...]]:
    part = layer.take(rows)
    values: list[Sequence[Any]] = [geopackage.stored_values(c) for c in part.table.columns]
    if declared is not None and part.geometry is not None:
        shapes, _, _ = geopackage.declared(part)
        bounds = geopackage.bounds_of(shapes)
        values.insert(0, geopackage.geometry_blobs(shapes, int(declared[1]), bounds, 0, len(part)))
    return list(zip(*values, strict=True))


def _contents(container: GeoPackageWriter, name: str, layer: Layer, rows: np.ndarray) -> None:
    """The list of contents: the box grows, the time is now."""
    db = container.connection
    box = layer.take(rows).extent() if layer.drawn and len(rows) else None
    if box is not None:
        old = db.execute(
            "SELECT min_x, min_y, max_x, max_y FROM gpkg_contents WHERE table_name = ?", (name,)
        ).fetchone()
        low = [v if o is None else min(o, v) for o, v in zip(old[:2], box[:2], strict=True)]
        high = [v if o is None else max(o, v) for o, v in zip(old[2:], box[2:], strict=True)]
        db.execute(
            "UPDATE gpkg_contents SET min_x = ?, min_y = ?, max_x = ?, max_y = ? WHERE table_name = ?",
            (*low, *high, name),
        )
    db.execute("UPDATE gpkg_contents SET last_change = ? WHERE table_name = ?", (geopackage.now(), name))


def know_shapes(container: GeoPackageWriter) -> None:
    """Teach the connection the functions that the indexes' triggers call (GeoPackage 1.4, annex on the R-tree)."""
    for number, name in enumerate(("ST_MinX", "ST_MaxX", "ST_MinY", "ST_MaxY")):
        container.connection.create_function(name, 1, lambda blob, n=number: _sides(blob)[n], deterministic=True)
    container.connection.create_function("ST_IsEmpty", 1, _is_empty, deterministic=True)


def _is_empty(blob: bytes | None) -> int | None:
    return None if blob is None else int(bool(blob[3] & 0x10) or bool(np.isnan(_sides(blob)[0])))


def _sides(blob: bytes | None) -> tuple[float, ...]:
    """minx, maxx, miny, maxy of a geometry as GeoPackage holds it: from its head, else from the shape itself."""
    if blob is None:
        return (float("nan"),) * 4
    kind = (blob[3] >> 1) & 7
    if kind:
        return struct.unpack_from("<4d" if blob[3] & 1 else ">4d", blob, 8)
    west, south, east, north = shapely.bounds(shapely.from_wkb(blob[8:]))
    return float(west), float(east), float(south), float(north)


def rows_of(container: GeoPackageWriter, name: str) -> int:
    """How many rows a layer has."""
    return int(container.connection.execute(f"SELECT count(*) FROM {quote(name)}").fetchone()[0])
