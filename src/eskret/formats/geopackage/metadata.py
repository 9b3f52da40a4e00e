"""What a layer of a GeoPackage is, for those who find it: title, description and licence in its metadata extension."""

from __future__ import annotations

from collections.abc import Mapping
from xml.sax.saxutils import escape

from eskret.formats.geopackage.writer import GeoPackageWriter, now

_TABLES = """
CREATE TABLE IF NOT EXISTS gpkg_metadata (
  id INTEGER CONSTRAINT m_pk PRIMARY KEY ASC NOT NULL, md_scope TEXT NOT NULL DEFAULT 'dataset', md_standard_uri TEXT NOT NULL,
  mime_type TEXT NOT NULL DEFAULT 'text/xml', metadata TEXT NOT NULL DEFAULT '');
CREATE TABLE IF NOT EXISTS gpkg_metadata_reference (
  reference_scope TEXT NOT NULL, table_name TEXT, column_name TEXT, row_id_value INTEGER,
  timestamp DATETIME NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ','now')), md_file_id INTEGER NOT NULL, md_parent_id INTEGER,
  CONSTRAINT crmr_mfi_fk FOREIGN KEY (md_file_id) REFERENCES gpkg_metadata(id),
  CONSTRAINT crmr_mpi_fk FOREIGN KEY (md_parent_id) REFERENCES gpkg_metadata(id));
"""
_DEFINITION = "http://www.geopackage.org/spec140/#extension_metadata"
_STANDARD = "http://purl.org/dc/elements/1.1/"
_ELEMENTS = {"title": "title", "description": "description", "licence": "rights"}


def put_about(container: GeoPackageWriter, name: str, words: Mapping[str, str]) -> None:
    """Say what a layer is, as Dublin Core elements; what was said before is said no more."""
    told = {n: t for n, t in words.items() if t and n in _ELEMENTS}
    if not set(told) - {"description"}:
        return  # a description alone stands in the list of contents
    db = container.connection
    for statement in _TABLES.split(";"):
        if statement.strip():
            db.execute(statement)
    for table in ("gpkg_metadata", "gpkg_metadata_reference"):
        db.execute(
            "INSERT OR IGNORE INTO gpkg_extensions SELECT ?, NULL, 'gpkg_metadata', ?, 'read-write' WHERE NOT EXISTS "
            "(SELECT 1 FROM gpkg_extensions WHERE table_name = ? AND extension_name = 'gpkg_metadata')",
            (table, _DEFINITION, table),
        )
    inner = "".join(f"<dc:{_ELEMENTS[n]}>{escape(t)}</dc:{_ELEMENTS[n]}>" for n, t in told.items())
    text = f'<?xml version="1.0" encoding="UTF-8"?><metadata xmlns:dc="{_STANDARD}">{inner}</metadata>'
    number = db.execute(
        "INSERT INTO gpkg_metadata (md_scope, md_standard_uri, mime_type, metadata) VALUES ('dataset', ?, 'text/xml', ?)", (_STANDARD, text)
    ).lastrowid
    # only what says the same: the section of a layer, and what others noted of it, stand in records of other kinds
    before = "md_file_id IN (SELECT id FROM gpkg_metadata WHERE md_standard_uri = ?)"
    db.execute(f"DELETE FROM gpkg_metadata_reference WHERE reference_scope = 'table' AND table_name = ? AND {before}", (name, _STANDARD))
    db.execute(
        "INSERT INTO gpkg_metadata_reference (reference_scope, table_name, timestamp, md_file_id) VALUES ('table', ?, ?, ?)",
        (name, now(), number),
    )
    unused = "id NOT IN (SELECT md_file_id FROM gpkg_metadata_reference)"
    db.execute(f"DELETE FROM gpkg_metadata WHERE md_standard_uri = ? AND {unused}", (_STANDARD,))
