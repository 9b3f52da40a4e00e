"""Carry layers from one GeoPackage into another, within a transaction on the one they come into.

Plain statements only: the file may be somebody else's, open in other programs, and of any version of the standard. The one
they come from is attached under a name and only read.
"""

from __future__ import annotations

import sqlite3
from typing import Any

import numpy as np

from eskret.core.expression import quote
from eskret.errors import DeliveryError
from eskret.formats.geopackage import rtree, writer

SOURCE = "staged"
"""The name under which the file is attached that layers come from."""


def columns_of(db: sqlite3.Connection, table: str, schema: str = "main") -> list[str]:
    """The columns of a table that can be written."""
    return [r[1] for r in db.execute(f"PRAGMA {schema}.table_xinfo({quote(table)})") if r[6] == 0]


def tables_of(db: sqlite3.Connection, schema: str = "main") -> set[str]:
    """Names of the tables of a file, in lower case."""
    return {r[0].lower() for r in db.execute(f"SELECT name FROM {schema}.sqlite_master WHERE type = 'table'")}


def geometry_of(db: sqlite3.Connection, layer: str, schema: str = "main") -> tuple[str, int] | None:
    """The geometry column of a layer and the number of its CRS in this file; None for a plain table."""
    row = db.execute(
        f"SELECT column_name, srs_id FROM {schema}.gpkg_geometry_columns WHERE lower(table_name) = lower(?)", (layer,)
    ).fetchone()
    return (str(row[0]), int(row[1])) if row else None


def key_of(db: sqlite3.Connection, layer: str, schema: str = "main") -> str:
    """The column that numbers a layer's rows.

    Raises
    ------
    DeliveryError : it has none, as a view has none.
    """
    keys = [r[1] for r in db.execute(f"PRAGMA {schema}.table_info({quote(layer)})") if r[5]]
    if len(keys) != 1:
        raise DeliveryError(
            f"the layer '{layer}' has no column that numbers its rows, so none of them can be changed",
            way_out="Save to a layer of another name",
        )
    return str(keys[0])


def know_numbers(db: sqlite3.Connection) -> None:
    """Teach a connection to write another file's number of a CRS into a geometry."""
    db.create_function("eskret_in_srs", 2, _in_srs, deterministic=True)


def _in_srs(blob: Any, number: int) -> Any:
    if not isinstance(blob, bytes) or len(blob) < 8 or blob[:2] != b"GP":
        return blob
    return blob[:4] + int(number).to_bytes(4, "little" if blob[3] & 1 else "big", signed=True) + blob[8:]


def srs_in(db: sqlite3.Connection, number: int) -> int:
    """The number that a CRS of the attached file has here; it is registered if it is new.

    Raises
    ------
    DeliveryError : the attached file does not say what its number means.
    """
    row = db.execute(
        "SELECT srs_name, organization, organization_coordsys_id, definition, description FROM "
        f"{SOURCE}.gpkg_spatial_ref_sys WHERE srs_id = ?",
        (number,),
    ).fetchone()
    if row is None:
        raise DeliveryError(f"nothing says which coordinate system number {number} is")
    name, organization, code, definition, description = row
    if organization.upper() == "NONE" and number > 0:
        found = db.execute("SELECT srs_id FROM main.gpkg_spatial_ref_sys WHERE definition = ?", (definition,)).fetchone()
    else:
        found = db.execute(
            "SELECT srs_id FROM main.gpkg_spatial_ref_sys WHERE upper(organization) = upper(?) AND organization_coordsys_id = ?",
            (organization, code),
        ).fetchone()
    if found:
        return int(found[0])
    taken = {r[0] for r in db.execute("SELECT srs_id FROM main.gpkg_spatial_ref_sys")}
    new = number if number not in taken else max(99_999, *taken) + 1
    db.execute(
        "INSERT INTO main.gpkg_spatial_ref_sys (srs_name, srs_id, organization, organization_coordsys_id, definition, "
        "description) VALUES (?,?,?,?,?,?)",
        (name, new, organization, code, definition, description),
    )
    return new


def carry(writer: writer.GeoPackageWriter, name: str) -> None:
    """Copy a layer of the attached file into this one, with its index, titles and what is said of it. There must be none of
    this name.

    Raises
    ------
    DeliveryError, sqlite3.Error : it cannot be; the transaction is to be rolled back.
    """
    db = writer.connection
    statement = db.execute(f"SELECT sql FROM {SOURCE}.sqlite_master WHERE type = 'table' AND name = ?", (name,)).fetchone()
    db.execute(statement[0])
    drawn = geometry_of(db, name, SOURCE)
    srs = srs_in(db, drawn[1]) if drawn else None
    columns = columns_of(db, name, SOURCE)
    values = [f"eskret_in_srs({quote(c)}, {srs})" if drawn and c == drawn[0] and srs != drawn[1] else quote(c) for c in columns]
    db.execute(f"INSERT INTO main.{quote(name)} ({', '.join(map(quote, columns))}) SELECT {', '.join(values)} FROM {SOURCE}.{quote(name)}")
    _contents(db, name, srs)
    if drawn and srs is not None:
        kind, z, m = db.execute(
            f"SELECT geometry_type_name, z, m FROM {SOURCE}.gpkg_geometry_columns WHERE table_name = ?", (name,)
        ).fetchone()
        db.execute(
            "INSERT INTO main.gpkg_geometry_columns (table_name, column_name, geometry_type_name, srs_id, z, m) VALUES (?,?,?,?,?,?)",
            (name, drawn[0], kind, srs, z, m),
        )
        if f"rtree_{name}_{drawn[0]}".lower() in tables_of(db, SOURCE):
            _index(db, name, drawn[0], key_of(db, name))
    _titles(writer, name)
    _records(writer, name)


def _contents(db: sqlite3.Connection, name: str, srs: int | None) -> None:
    row = db.execute(
        "SELECT data_type, identifier, description, last_change, min_x, min_y, max_x, max_y FROM "
        f"{SOURCE}.gpkg_contents WHERE table_name = ?",
        (name,),
    ).fetchone()
    data_type, identifier, *rest = row
    taken = {str(r[0]) for r in db.execute("SELECT identifier FROM main.gpkg_contents")}
    number = 2
    while identifier in taken:  # another layer is called so for people
        identifier, number = f"{name} ({number})", number + 1
    db.execute(
        "INSERT INTO main.gpkg_contents (table_name, data_type, identifier, description, last_change, min_x, min_y, max_x, "
        "max_y, srs_id) VALUES (?,?,?,?,?,?,?,?,?,?)",
        (name, data_type, identifier, *rest, srs),
    )


def _index(db: sqlite3.Connection, name: str, geom: str, key: str) -> None:
    tree = f"rtree_{name}_{geom}"
    rows = db.execute(f"SELECT id, minx, maxx, miny, maxy FROM {SOURCE}.{quote(tree)} ORDER BY id").fetchall()
    db.execute(f"CREATE VIRTUAL TABLE main.{quote(tree)} USING rtree(id, minx, maxx, miny, maxy)")
    found = np.array(rows, np.float64).reshape(-1, 5)
    ids = np.array([r[0] for r in rows], np.int64)
    rtree.fill(db, tree, ids, rtree.rounded(found[:, [1, 3, 2, 4]]))
    db.execute(
        "INSERT INTO main.gpkg_extensions (table_name, column_name, extension_name, definition, scope) "
        "VALUES (?,?,'gpkg_rtree_index',?,'write-only')",
        (name, geom, writer.RTREE_DEFINITION),
    )
    for statement in writer.index_triggers(name, geom, key):
        db.execute(statement)


def _titles(writer: writer.GeoPackageWriter, name: str) -> None:
    db = writer.connection
    if "gpkg_data_columns" in tables_of(db, SOURCE):
        found = db.execute(
            f"SELECT column_name, title FROM {SOURCE}.gpkg_data_columns WHERE table_name = ? AND title <> ''", (name,)
        ).fetchall()
        writer.put_titles(name, dict(found))


def _records(writer: writer.GeoPackageWriter, name: str) -> None:
    """Section, title, licence: what stands in the metadata extension."""
    db = writer.connection
    if "gpkg_metadata_reference" not in tables_of(db, SOURCE):
        return
    found = db.execute(
        "SELECT m.md_scope, m.md_standard_uri, m.mime_type, m.metadata FROM "
        f"{SOURCE}.gpkg_metadata m JOIN {SOURCE}.gpkg_metadata_reference r ON r.md_file_id = m.id "
        "WHERE r.reference_scope = 'table' AND r.table_name = ? ORDER BY m.id",
        (name,),
    ).fetchall()
    for row in found:
        writer.put_record(name, row)
