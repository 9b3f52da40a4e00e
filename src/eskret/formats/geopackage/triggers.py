"""What changing rows of a layer in a GeoPackage needs: the functions that its indexes' triggers call, and its list of contents."""

from __future__ import annotations

import sqlite3
import struct

import numpy as np
import shapely

from eskret.formats.geopackage import writer
from eskret.formats.geopackage.writer import GeoPackageWriter


def grow_contents(container: GeoPackageWriter, name: str, source: str) -> None:
    """The list of contents after rows came in: the box grows by that of the staged ones, the time is now."""
    db = container.connection
    box = "min_x, min_y, max_x, max_y"
    row = db.execute(f"SELECT {box} FROM {source}.gpkg_contents WHERE table_name = ?", (name,)).fetchone()
    if row is not None and None not in row:
        old = db.execute(f"SELECT {box} FROM main.gpkg_contents WHERE table_name = ?", (name,)).fetchone()
        low = [v if o is None else min(o, v) for o, v in zip(old[:2], row[:2], strict=True)]
        high = [v if o is None else max(o, v) for o, v in zip(old[2:], row[2:], strict=True)]
        db.execute("UPDATE main.gpkg_contents SET min_x = ?, min_y = ?, max_x = ?, max_y = ? WHERE table_name = ?", (*low, *high, name))
    db.execute("UPDATE main.gpkg_contents SET last_change = ? WHERE table_name = ?", (writer.now(), name))


def know_shapes(db: sqlite3.Connection) -> None:
    """Teach the connection the functions that the indexes' triggers call (GeoPackage 1.4, annex on the R-tree)."""
    for number, name in enumerate(("ST_MinX", "ST_MaxX", "ST_MinY", "ST_MaxY")):
        db.create_function(name, 1, lambda blob, n=number: _sides(blob)[n], deterministic=True)
    db.create_function("ST_IsEmpty", 1, _is_empty, deterministic=True)


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
