"""Sections, titles and renaming in a GeoPackage: what the standard's extension tables say of its layers.

A section is a name that several layers share, with one coordinate system for all of them. It is recorded a table at a
time in the metadata extension (OGC 12-128r19, annex F.8), so that any reader still opens the file; titles of fields go
into the schema extension (annex F.9). Everything here works inside the transaction of whoever opened the database.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from eskret.core.expression import quote

STANDARD = "urn:eskret:section"
"""Names the kind of metadata record, as the extension asks for (a URI)."""

_METADATA = (
    "CREATE TABLE IF NOT EXISTS gpkg_metadata (id INTEGER CONSTRAINT m_pk PRIMARY KEY ASC NOT NULL, md_scope TEXT NOT NULL "
    "DEFAULT 'dataset', md_standard_uri TEXT NOT NULL, mime_type TEXT NOT NULL DEFAULT 'text/xml', metadata TEXT NOT NULL "
    "DEFAULT '')",
    "CREATE TABLE IF NOT EXISTS gpkg_metadata_reference (reference_scope TEXT NOT NULL, table_name TEXT, column_name TEXT, "
    "row_id_value INTEGER, timestamp DATETIME NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ','now')), md_file_id INTEGER "
    "NOT NULL, md_parent_id INTEGER, CONSTRAINT crmr_mfi_fk FOREIGN KEY (md_file_id) REFERENCES gpkg_metadata(id), "
    "CONSTRAINT crmr_mpi_fk FOREIGN KEY (md_parent_id) REFERENCES gpkg_metadata(id))",
)
_SCHEMA = (
    "CREATE TABLE IF NOT EXISTS gpkg_data_columns (table_name TEXT NOT NULL, column_name TEXT NOT NULL, name TEXT, "
    "title TEXT, description TEXT, mime_type TEXT, constraint_name TEXT, CONSTRAINT pk_gdc PRIMARY KEY (table_name, "
    "column_name), CONSTRAINT gdc_tn UNIQUE (table_name, name))",
    "CREATE TABLE IF NOT EXISTS gpkg_data_column_constraints (constraint_name TEXT NOT NULL, constraint_type TEXT NOT NULL, "
    "value TEXT, min NUMERIC, min_is_inclusive BOOLEAN, max NUMERIC, max_is_inclusive BOOLEAN, description TEXT, "
    "CONSTRAINT gdcc_ntv UNIQUE (constraint_name, constraint_type, value))",
)


@dataclass(frozen=True)
class Section:
    """A section: its name, its CRS as a code, and the layers in it."""

    name: str
    crs: str
    layers: tuple[str, ...] = ()


def _tables(db: sqlite3.Connection) -> set[str]:
    return {row[0] for row in db.execute("SELECT name FROM main.sqlite_master WHERE type IN ('table', 'view')")}


def _register(db: sqlite3.Connection, extension: str, place: str, tables: tuple[str, ...]) -> None:
    for table in tables:
        known = db.execute("SELECT 1 FROM gpkg_extensions WHERE table_name = ? AND extension_name = ?", (table, extension)).fetchone()
        if not known:
            db.execute(
                "INSERT INTO gpkg_extensions VALUES (?, NULL, ?, ?, 'read-write')",
                (table, extension, f"http://www.geopackage.org/spec121/#{place}"),
            )


def sections(db: sqlite3.Connection) -> dict[str, Section]:
    """All sections of the file by name, in the order they were made."""
    if not {"gpkg_metadata", "gpkg_metadata_reference"} <= _tables(db):
        return {}
    rows = db.execute(
        "SELECT r.table_name, m.metadata FROM gpkg_metadata m JOIN gpkg_metadata_reference r ON r.md_file_id = m.id "
        "WHERE m.md_standard_uri = ? AND r.reference_scope = 'table' ORDER BY m.id",
        (STANDARD,),
    ).fetchall()
    out: dict[str, Section] = {}
    for table, text in rows:
        try:
            told = json.loads(text)
            name, crs = str(told["section"]), str(told["crs"])
        except (ValueError, KeyError, TypeError):
            continue  # somebody else's record under this name
        before = out.get(name, Section(name, crs))
        out[name] = Section(name, before.crs or crs, (*before.layers, table))
    return out


def put_in_section(db: sqlite3.Connection, layer: str, section: str, crs: str) -> None:
    """Say that a layer belongs to a section; it belongs to no other then."""
    forget(db, layer)
    text = json.dumps({"section": section, "crs": crs}, ensure_ascii=False)
    put_record(db, layer, ("dataset", STANDARD, "application/json", text))


def put_record(db: sqlite3.Connection, layer: str, record: Sequence[object]) -> None:
    """Add a metadata record of a layer.

    Parameters
    ----------
    record : scope, URI of the standard, MIME type, text.
    """
    for statement in _METADATA:
        db.execute(statement)
    _register(db, "gpkg_metadata", "extension_metadata", ("gpkg_metadata", "gpkg_metadata_reference"))
    number = db.execute(
        "INSERT INTO gpkg_metadata (md_scope, md_standard_uri, mime_type, metadata) VALUES (?, ?, ?, ?)", tuple(record)
    ).lastrowid
    db.execute("INSERT INTO gpkg_metadata_reference (reference_scope, table_name, md_file_id) VALUES ('table', ?, ?)", (layer, number))


def forget(db: sqlite3.Connection, layer: str) -> None:
    """Take a layer out of its section, and the record with it."""
    if not {"gpkg_metadata", "gpkg_metadata_reference"} <= _tables(db):
        return
    records = db.execute(
        "SELECT m.id FROM gpkg_metadata m JOIN gpkg_metadata_reference r ON r.md_file_id = m.id "
        "WHERE m.md_standard_uri = ? AND lower(r.table_name) = lower(?)",
        (STANDARD, layer),
    ).fetchall()
    for (number,) in records:
        db.execute("DELETE FROM gpkg_metadata_reference WHERE md_file_id = ?", (number,))
        db.execute("DELETE FROM gpkg_metadata WHERE id = ?", (number,))


def titles(db: sqlite3.Connection, layer: str) -> dict[str, str]:
    """Titles of a layer's fields, by field."""
    if "gpkg_data_columns" not in _tables(db):
        return {}
    rows = db.execute("SELECT column_name, title FROM gpkg_data_columns WHERE lower(table_name) = lower(?) AND title IS NOT NULL", (layer,))
    return {name: title for name, title in rows if title}


def put_titles(db: sqlite3.Connection, layer: str, given: Mapping[str, str]) -> None:
    """Record titles of fields."""
    if not given:
        return
    for statement in _SCHEMA:
        db.execute(statement)
    _register(db, "gpkg_schema", "extension_schema", ("gpkg_data_columns", "gpkg_data_column_constraints"))
    db.executemany(
        "INSERT OR REPLACE INTO gpkg_data_columns (table_name, column_name, name, title) VALUES (?, ?, NULL, ?)",
        [(layer, field, title) for field, title in given.items()],
    )


def rename(db: sqlite3.Connection, old: str, new: str, indexed: Sequence[str]) -> None:
    """Give a layer another name everywhere; the triggers of its spatial indexes are to be made anew after it.

    Parameters
    ----------
    indexed : its geometry columns with a spatial index. The triggers of these call functions that plain SQLite lacks,
        so they go first.
    """
    for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = ?", (old,)).fetchall():
        # those of the index, and those by which the library counts rows under the old name; what else there is goes along
        if name.startswith((f"rtree_{old}_", "trigger_insert_feature_count_", "trigger_delete_feature_count_")):
            db.execute(f"DROP TRIGGER {quote(name)}")
    db.execute("PRAGMA legacy_alter_table = ON")
    for column in indexed:
        db.execute(f"ALTER TABLE {quote(f'rtree_{old}_{column}')} RENAME TO {quote(f'rtree_{new}_{column}')}")
    db.execute(f"ALTER TABLE {quote(old)} RENAME TO {quote(new)}")
    db.execute("PRAGMA legacy_alter_table = OFF")
    there = _tables(db)
    if "gpkg_ogr_contents" in there:
        # without those triggers its count would grow old; without the row everybody counts
        db.execute("DELETE FROM gpkg_ogr_contents WHERE lower(table_name) = lower(?)", (old,))
    for table in ("gpkg_geometry_columns", "gpkg_extensions", "gpkg_data_columns", "gpkg_metadata_reference", "gpkg_contents"):
        if table in there:
            db.execute(f"UPDATE {table} SET table_name = ? WHERE lower(table_name) = lower(?)", (new, old))
    db.execute("UPDATE gpkg_contents SET identifier = ? WHERE table_name = ? AND identifier = ?", (new, new, old))
