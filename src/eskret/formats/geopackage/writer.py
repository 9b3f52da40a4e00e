"""Write layers into a GeoPackage (OGC 12-128r19, version 1.4) in one SQLite transaction.

The usual library call reopens the file for each layer, which costs the square of their number. Here the tables, the
geometry blobs, the contents and the R-trees are written by plain SQL: everything of one delivery, or nothing.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable, Generator, Iterable, Mapping, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np

from eskret.core.crs import crs_code, parse_crs, same_crs
from eskret.core.expression import quote
from eskret.core.layer import Layer
from eskret.core.layer.wkb import WkbArray, slices
from eskret.core.naming import folded, number_collisions
from eskret.errors import DeliveryError
from eskret.formats import sqlite
from eskret.formats.geopackage import rtree, sections
from eskret.formats.geopackage.columns import sql_type, stored_values
from eskret.formats.geopackage.shapes import Shapes, binary_of, bounds_of, declared, extent_of, geometry_blobs, ordinates_of
from eskret.formats.reading import Watch, no_watch

APPLICATION_ID = 0x47504B47  # "GPKG"
APPLICATION_IDS = (APPLICATION_ID, 0x47503130, 0x47503131)  # the last two are of versions 1.0 and 1.1
USER_VERSION = 10400
SLICE = 50_000
"""Rows that are written, or taken into a digest, at a time."""
_CLEAR_AFTER = 60
"""Layers after which the schema is cleared of them; a few are not worth it."""
_NUMBERED = "AUTOINCREMENT "
_NONE, _ALL, _SOME = 0, 1, 2
"""What is said of heights and measures: prohibited, mandatory, optional (12-128r19, table 9)."""
MAX_FIELDS = 1998  # SQLite's 2,000 columns less the key and the geometry
RESERVED_PREFIXES = ("gpkg_", "sqlite_", "rtree_")

_TABLES = """
CREATE TABLE IF NOT EXISTS gpkg_spatial_ref_sys (
  srs_name TEXT NOT NULL, srs_id INTEGER NOT NULL PRIMARY KEY, organization TEXT NOT NULL,
  organization_coordsys_id INTEGER NOT NULL, definition TEXT NOT NULL, description TEXT);
CREATE TABLE IF NOT EXISTS gpkg_contents (
  table_name TEXT NOT NULL PRIMARY KEY, data_type TEXT NOT NULL, identifier TEXT UNIQUE, description TEXT DEFAULT '',
  last_change DATETIME NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ','now')),
  min_x DOUBLE, min_y DOUBLE, max_x DOUBLE, max_y DOUBLE, srs_id INTEGER,
  CONSTRAINT fk_gc_r_srs_id FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys(srs_id));
CREATE TABLE IF NOT EXISTS gpkg_geometry_columns (
  table_name TEXT NOT NULL, column_name TEXT NOT NULL, geometry_type_name TEXT NOT NULL, srs_id INTEGER NOT NULL,
  z TINYINT NOT NULL, m TINYINT NOT NULL,
  CONSTRAINT pk_geom_cols PRIMARY KEY (table_name, column_name),
  CONSTRAINT uk_gc_table_name UNIQUE (table_name),
  CONSTRAINT fk_gc_tn FOREIGN KEY (table_name) REFERENCES gpkg_contents(table_name),
  CONSTRAINT fk_gc_srs FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id));
CREATE TABLE IF NOT EXISTS gpkg_extensions (
  table_name TEXT, column_name TEXT, extension_name TEXT NOT NULL, definition TEXT NOT NULL, scope TEXT NOT NULL,
  CONSTRAINT ge_tce UNIQUE (table_name, column_name, extension_name));
"""
_WGS84_WKT = (
    'GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563,AUTHORITY["EPSG","7030"]],'
    'AUTHORITY["EPSG","6326"]],PRIMEM["Greenwich",0,AUTHORITY["EPSG","8901"]],UNIT["degree",0.0174532925199433,'
    'AUTHORITY["EPSG","9122"]],AXIS["Latitude",NORTH],AXIS["Longitude",EAST],AUTHORITY["EPSG","4326"]]'
)
_SYSTEMS = (
    ("Undefined cartesian SRS", -1, "NONE", -1, "undefined", "undefined cartesian coordinate reference system"),
    ("Undefined geographic SRS", 0, "NONE", 0, "undefined", "undefined geographic coordinate reference system"),
    ("WGS 84 geodetic", 4326, "EPSG", 4326, _WGS84_WKT, "longitude/latitude coordinates in decimal degrees"),
)
RTREE_DEFINITION = "http://www.geopackage.org/spec120/#extension_rtree"


@dataclass(frozen=True)
class LayerEntry:
    """A layer in a GeoPackage: table name, ``features`` or ``attributes``, number of rows, and its section, if any."""

    name: str
    data_type: str
    rows: int
    section: str = ""


def entries(path: Path) -> list[LayerEntry]:
    """Layers of a GeoPackage, in the order they were registered.

    Raises
    ------
    InputError : no GeoPackage, or damaged.
    """
    db = None
    try:
        db = sqlite.connect(path)
        sqlite.limit_time(db, 120.0)
        db.execute("BEGIN")  # all of it as it was at one moment: somebody may be changing it
        rows = db.execute("SELECT table_name, data_type FROM gpkg_contents ORDER BY rowid").fetchall()
        section = {layer: s.name for s in sections.sections(db).values() for layer in s.layers}
        return [LayerEntry(n, t, db.execute(f"SELECT count(*) FROM {quote(n)}").fetchone()[0], section.get(n, "")) for n, t in rows]
    except sqlite3.Error as error:
        raise sqlite.unsound(error, path) from error
    finally:
        if db is not None:
            db.close()


@dataclass(frozen=True)
class DeclaredLayer:
    """A table made for a layer: its key, its column of shapes, the number that its CRS has in the file."""

    key: str
    geom: str
    srs_id: int


_FEW_TRIGGERS = 70
_TRIGGER_NAME = re.compile(r'CREATE TRIGGER "((?:[^"]|"")*)"')


class GeoPackageWriter:
    """Adds, replaces and removes layers of one file within one transaction.

    Use it through ``writing``; leaving it without an error commits.

    Parameters
    ----------
    plain : only statements that are safe on a file that other programs have open; else the schema of a staged file is written
        directly where that is faster.
    in_parts : commit some layers at a time: the file is thrown away where not all of it comes about.
    """

    def __init__(self, db: sqlite3.Connection, plain: bool = False, in_parts: bool = False) -> None:
        self._db = db
        self._in_parts = in_parts
        self._plain = plain
        self._triggers: list[tuple[str, str]] = []
        self._systems: dict[str, int] = {}
        self._fresh = 0  # layers written since the schema was last cleared
        self._hidden: list[tuple[object, ...]] = []  # rows of the schema that are put back at the end

    @property
    def connection(self) -> sqlite3.Connection:
        """The connection that this transaction is open on."""
        return self._db

    def make_tables(self) -> None:
        """Make the tables that the standard asks for, as far as they are not there."""
        for statement in _TABLES.split(";"):
            if statement.strip():
                self._db.execute(statement)
        self._db.executemany("INSERT OR IGNORE INTO gpkg_spatial_ref_sys VALUES (?,?,?,?,?,?)", _SYSTEMS)

    def names(self) -> list[str]:
        """Layers in the file, as this transaction sees it."""
        return [row[0] for row in self._db.execute("SELECT table_name FROM gpkg_contents ORDER BY rowid")]

    def remove(self, name: str) -> None:
        """Take a layer out, with everything that other tables say of it."""
        db = self._db
        for (column,) in db.execute(
            "SELECT column_name FROM main.gpkg_geometry_columns WHERE lower(table_name) = lower(?)", (name,)
        ).fetchall():
            # the triggers call functions that plain SQLite lacks: they go first
            prefix = f"rtree_{name}_{column}_"
            for (trigger,) in db.execute("SELECT name FROM main.sqlite_master WHERE type = 'trigger'").fetchall():
                if trigger.startswith(prefix):
                    db.execute(f"DROP TRIGGER main.{quote(trigger)}")
            db.execute(f"DROP TABLE IF EXISTS main.{quote(f'rtree_{name}_{column}')}")
        for (trigger,) in db.execute("SELECT name FROM main.sqlite_master WHERE type = 'trigger' AND tbl_name = ?", (name,)).fetchall():
            db.execute(f"DROP TRIGGER main.{quote(trigger)}")
        db.execute(f"DROP TABLE IF EXISTS main.{quote(name)}")
        sections.forget(db, name)
        tables = {row[0] for row in db.execute("SELECT name FROM main.sqlite_master WHERE type = 'table'")}
        for table in (
            "gpkg_geometry_columns",
            "gpkg_extensions",
            "gpkg_data_columns",
            "gpkg_ogr_contents",
            "gpkg_metadata_reference",
            "gpkg_contents",
        ):
            if table in tables:
                db.execute(f"DELETE FROM main.{table} WHERE lower(table_name) = lower(?)", (name,))

    def sections(self) -> dict[str, sections.Section]:
        """Sections of the file, by name."""
        return sections.sections(self._db)

    def put_titles(self, name: str, titles: Mapping[str, str]) -> None:
        """Record titles of a layer's fields; of those that it has."""
        if titles:
            there = {r[1] for r in self._db.execute(f"PRAGMA table_info({quote(name)})")}
            sections.put_titles(self._db, name, {f: t for f, t in titles.items() if f in there})

    def put_record(self, name: str, record: Sequence[object]) -> None:
        """Add a metadata record of a layer: scope, URI of the standard, MIME type, text."""
        sections.put_record(self._db, name, record)

    def put_in_section(self, name: str, section: str, crs: str) -> None:
        """Say that a layer belongs to a section."""
        sections.put_in_section(self._db, name, section, crs)

    def assign(self, name: str, section: str) -> None:
        """Put a layer that is there into a section, or take it out of every one (for an empty name).

        Raises
        ------
        DeliveryError : the section has another CRS.
        """
        if not section:
            sections.forget(self._db, name)
            return
        row = self._db.execute(
            "SELECT s.organization, s.organization_coordsys_id, s.definition, g.srs_id FROM gpkg_geometry_columns g JOIN "
            "gpkg_spatial_ref_sys s ON s.srs_id = g.srs_id WHERE g.table_name = ?",
            (name,),
        ).fetchone()
        known = self.sections().get(section)
        crs = "" if row is None or row[3] <= 0 else crs_code(row[2] if row[0] == "NONE" else f"{row[0]}:{row[1]}")
        if row is not None and not crs:
            raise DeliveryError(f"layer '{name}' has no coordinate system, and a section has one", way_out="Give it one")
        if known and known.crs and crs and not same_crs(known.crs, crs):
            raise DeliveryError(
                f"layer '{name}' is in {crs}, and the section '{section}' is in {known.crs}",
                way_out="Save it to that section by a step, which brings it over, or choose another section",
            )
        self.put_in_section(name, section, known.crs if known and known.crs else crs)

    def rename(self, old: str, new: str) -> None:
        """Give a layer another name, which must not be taken.

        Raises
        ------
        DeliveryError : there is no such layer, or the new name is taken or cannot be.
        """
        there = {folded(n): n for n in self.names()}
        if folded(old) not in there:
            raise DeliveryError(f"there is no layer '{old}'", way_out=f"There are {', '.join(there.values()) or 'none'}")
        if folded(new) in there and folded(new) != folded(old):
            raise DeliveryError(f"there is a layer '{new}' already", way_out="Choose another name")
        if not new or new.lower().startswith(RESERVED_PREFIXES):
            raise DeliveryError(f"a layer cannot be called '{new}'", way_out="Choose another name")
        old = there[folded(old)]
        key = next(r[1] for r in self._db.execute(f"PRAGMA table_info({quote(old)})") if r[5])
        columns = self._db.execute(
            "SELECT column_name FROM gpkg_extensions WHERE table_name = ? AND extension_name = 'gpkg_rtree_index'", (old,)
        ).fetchall()
        if folded(new) == folded(old) and new != old:
            # a table's name does not count its case: it goes over another one
            between = f"{new}_{len(there)}"
            self.rename(old, between)
            old = between
        sections.rename(self._db, old, new, [c for (c,) in columns])
        for (column,) in columns:
            for statement in index_triggers(new, column, key):
                self._db.execute(statement)

    def add(self, layer: Layer, name: str, description: str = "", watch: Watch = no_watch) -> None:
        """Write a layer under a name that is not taken."""
        shapes: Shapes | None = None
        type_name, bounds = "", np.empty((0, 4))
        if layer.has_geometry:
            shapes, type_name, _ = declared(layer)
            bounds = bounds_of(shapes)
        fields = [(f.name, sql_type(f.type)) for f in layer.table.schema]
        made = self.declare(name, fields, type_name if shapes is not None else None, layer.crs, description)

        def blobs(start: int, stop: int) -> list[bytes | None]:
            assert shapes is not None
            some = shapes.slice(start, stop) if isinstance(shapes, WkbArray) else shapes[start:stop]
            return slices(geometry_blobs(some, binary_of(some), bounds[start:stop], made.srs_id))

        self._rows(layer, name, None if shapes is None else blobs, made.geom, watch)
        if shapes is not None:
            self.put_extent(name, extent_of(bounds), ordinates_of(shapes))
            self._add_index(name, made, rtree.rounded(bounds), watch)
        self.put_titles(name, layer.titles)
        self._fresh += 1
        if self._fresh >= _CLEAR_AFTER and not self._plain:
            self._clear_schema()

    def declare(
        self,
        name: str,
        fields: Sequence[tuple[str, str]],
        type_name: str | None,
        crs: str | None = None,
        description: str = "",
        *,
        numbered: bool = True,
    ) -> DeclaredLayer:
        """Make the table of a layer, and say in the tables of the standard that there is one.

        Parameters
        ----------
        fields : names and types, as SQL has them.
        type_name : of its shapes; None for a plain table.
        numbered : its numbers never come again; else ``number`` sees to that once its rows are there, which is faster.
        """
        db, taken = self._db, [n for n, _ in fields]
        key, geom = (number_collisions([n], taken=taken)[0] for n in ("fid", "geom"))
        made = DeclaredLayer(key, geom, self._system(crs))
        columns = [f"{quote(made.key)} INTEGER PRIMARY KEY {_NUMBERED if numbered else ''}NOT NULL"]
        if type_name is not None:
            columns.append(f"{quote(made.geom)} {type_name}")
        columns += [f"{quote(n)} {kind}" for n, kind in fields]
        db.execute(f"CREATE TABLE {quote(name)} ({', '.join(columns)})")
        drawn = type_name is not None
        db.execute(
            "INSERT INTO gpkg_contents (table_name, data_type, identifier, description, last_change, srs_id) VALUES (?,?,?,?,?,?)",
            (name, "features" if drawn else "attributes", name, description, now(), made.srs_id if drawn else None),
        )
        if drawn:
            db.execute("INSERT INTO gpkg_geometry_columns VALUES (?,?,?,?,0,0)", (name, made.geom, type_name, made.srs_id))
        return made

    def number(self, name: str, made: DeclaredLayer, rows: int) -> None:
        """Let the numbers of a layer never come again, as if its table had been made so (SQLite, "AUTOINCREMENT"): with every row
        put into such a table SQLite looks for the last number among those of all tables."""
        db = self._db
        db.execute("CREATE TABLE gpkg_numbered (n INTEGER PRIMARY KEY AUTOINCREMENT)")  # makes the table of last numbers
        db.execute("DROP TABLE gpkg_numbered")
        begins = f"CREATE TABLE {quote(name)} ({quote(made.key)} INTEGER PRIMARY KEY "
        db.execute("PRAGMA writable_schema = ON")
        db.execute(
            "UPDATE sqlite_master SET sql = ? || substr(sql, ?) WHERE type = 'table' AND name = ? AND substr(sql, 1, ?) = ?",
            (begins + _NUMBERED, len(begins) + 1, name, len(begins), begins),
        )
        db.execute("PRAGMA writable_schema = RESET")
        db.execute("INSERT INTO sqlite_sequence (name, seq) VALUES (?, ?)", (name, rows))

    def put_count(self, name: str, rows: int) -> None:
        """Say how many features a layer has, where the library that most programs read with looks for it before it counts."""
        db, lower = self._db, f"lower({_text(name)})"
        db.execute(
            "CREATE TABLE IF NOT EXISTS gpkg_ogr_contents (table_name TEXT NOT NULL PRIMARY KEY, feature_count INTEGER DEFAULT NULL)"
        )
        db.execute("INSERT OR REPLACE INTO gpkg_ogr_contents VALUES (?, ?)", (name, rows))
        for event, sign in (("insert", "+"), ("delete", "-")):
            db.execute(
                f"CREATE TRIGGER {quote(f'trigger_{event}_feature_count_{name}')} AFTER {event.upper()} ON {quote(name)} BEGIN UPDATE "
                f"gpkg_ogr_contents SET feature_count = feature_count {sign} 1 WHERE lower(table_name) = {lower}; END"
            )

    def put_extent(self, name: str, extent: np.ndarray, ordinates: np.ndarray) -> None:
        """Say where the features of a layer lie, and whether they have heights and measures.

        Parameters
        ----------
        extent : xmin, ymin, xmax, ymax (4), NaN where nothing is drawn.
        ordinates : as ``ordinates_of`` counts them.
        """
        if not np.isnan(extent).any():
            set_box = "UPDATE gpkg_contents SET min_x = ?, min_y = ?, max_x = ?, max_y = ? WHERE table_name = ?"
            self._db.execute(set_box, (*extent.tolist(), name))
        there, *having = ordinates.tolist()
        said = [_NONE if not n else _ALL if n == there else _SOME for n in having]
        if any(said):
            self._db.execute("UPDATE gpkg_geometry_columns SET z = ?, m = ? WHERE table_name = ?", (*said, name))

    def _clear_schema(self) -> None:
        """Take the tables of the layers written so far out of the schema until the end.

        Whenever a table is made, the library goes through all of its schema, so that thousands of layers with their indexes
        take the square of their number. What a table holds stays where it is: its row in the schema names the page it
        begins at, and is put back, as it was, by ``settle`` (SQLite, "The Schema Table").
        """
        self._fresh = 0
        db = self._db
        db.execute("PRAGMA writable_schema = ON")
        mine = "type = 'table' AND name NOT LIKE 'gpkg\\_%' ESCAPE '\\' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'"
        whole = f"{mine} AND tbl_name NOT IN (SELECT tbl_name FROM sqlite_master WHERE type <> 'table')"
        self._hidden += db.execute(f"SELECT type, name, tbl_name, rootpage, sql FROM sqlite_master WHERE {whole}").fetchall()
        db.execute(f"DELETE FROM sqlite_master WHERE {whole}")
        db.execute("PRAGMA writable_schema = RESET")
        if self._in_parts:
            # every statement asks each index that the transaction has touched
            db.execute("COMMIT")
            db.execute("BEGIN IMMEDIATE")

    def _rows(self, layer: Layer, name: str, blobs: Callable[[int, int], list[bytes | None]] | None, geom: str, watch: Watch) -> None:
        """Insert in slices, so that texts of a large layer never stand in memory all at once."""
        named = ([geom] if blobs is not None else []) + layer.table.column_names
        total = len(layer)
        for start in range(0, total, SLICE):
            part = layer.table.slice(start, SLICE)
            values: list[Sequence[Any]] = [stored_values(c) for c in part.columns]
            if blobs is not None:
                values.insert(0, blobs(start, start + part.num_rows))
            if named:
                sqlite.insert(self._db, quote(name), [quote(n) for n in named], list(zip(*values, strict=True)))
            else:
                self._db.executemany(f"INSERT INTO {quote(name)} DEFAULT VALUES", [()] * part.num_rows)
            watch(min(start + SLICE, total), total)

    def make_tree(self, name: str, geom: str) -> None:
        """Make the table of a spatial index, with nothing in it yet."""
        self._db.execute(f"CREATE VIRTUAL TABLE {quote(f'rtree_{name}_{geom}')} USING rtree(id, minx, maxx, miny, maxy)")

    def keep_index(self, name: str, made: DeclaredLayer) -> None:
        """Say of a spatial index that it is there, and see to it that it stays current."""
        self._db.execute("INSERT INTO gpkg_extensions VALUES (?,?,'gpkg_rtree_index',?,'write-only')", (name, made.geom, RTREE_DEFINITION))
        self._triggers += [(name, statement) for statement in index_triggers(name, made.geom, made.key)]

    def _add_index(self, name: str, made: DeclaredLayer, boxes: np.ndarray, watch: Watch = no_watch) -> None:
        """Fill the spatial index of a layer whose rows are numbered from 1; ``boxes`` as ``rtree.rounded`` gives them (n, 4)."""
        self.make_tree(name, made.geom)
        there = np.flatnonzero(~np.isnan(boxes[:, 0]))
        rtree.fill(self._db, f"rtree_{name}_{made.geom}", there + 1, boxes[there], watch)
        self.keep_index(name, made)

    def settle(self) -> None:
        """Write what was put off to the end: the triggers that keep the indexes current.

        Each one created by itself makes the library take in its schema anew, whose size grows with every layer; of many,
        the schema's rows are written at once (SQLite, "The Schema Table": its text is all there is to a trigger).
        """
        if self._hidden:
            self._db.execute("PRAGMA writable_schema = ON")
            self._db.executemany("INSERT INTO sqlite_master (type, name, tbl_name, rootpage, sql) VALUES (?, ?, ?, ?, ?)", self._hidden)
            self._db.execute("PRAGMA writable_schema = RESET")
            self._hidden = []
        pending, self._triggers = self._triggers, []
        if self._plain or len(pending) <= _FEW_TRIGGERS:
            for _, statement in pending:
                self._db.execute(statement)
            return
        rows = [(_TRIGGER_NAME.match(s).group(1).replace('""', '"'), t, s) for t, s in pending]  # type: ignore[union-attr]
        self._db.execute("PRAGMA writable_schema = ON")
        self._db.executemany("INSERT INTO sqlite_master (type, name, tbl_name, rootpage, sql) VALUES ('trigger', ?, ?, 0, ?)", rows)
        self._db.execute("PRAGMA writable_schema = RESET")

    def _system(self, crs: str | None) -> int:
        """The srs_id of a CRS, registered if it is new."""
        if crs is None:
            return -1
        if crs not in self._systems:
            self._systems[crs] = self._registered(crs)
        return self._systems[crs]

    def _registered(self, crs: str) -> int:
        db = self._db
        known = parse_crs(crs)
        found = known.to_authority(min_confidence=70)
        organization, code = (found[0], int(found[1])) if found and found[1].isdigit() else ("NONE", 0)
        if organization == "OGC" or (organization == "NONE" and known.equals(parse_crs("EPSG:4326"), True)):
            organization, code = "EPSG", 4326
        definition = known.to_wkt("WKT1_GDAL")
        if code:
            row = db.execute(
                "SELECT srs_id FROM gpkg_spatial_ref_sys WHERE upper(organization) = ? AND organization_coordsys_id = ?",
                (organization.upper(), code),
            ).fetchone()
        else:
            row = db.execute("SELECT srs_id FROM gpkg_spatial_ref_sys WHERE definition = ?", (definition,)).fetchone()
        if row:
            return int(row[0])
        taken = {r[0] for r in db.execute("SELECT srs_id FROM gpkg_spatial_ref_sys")}
        number = code if code and code not in taken else max(99_999, *taken) + 1
        db.execute(
            "INSERT INTO gpkg_spatial_ref_sys VALUES (?,?,?,?,?,?)", (known.name, number, organization, code or number, definition, None)
        )
        return number


@dataclass(frozen=True)
class _Schema:
    """What stands in a file: layers in the order they were registered, names of tables and views, of triggers, and sections."""

    layers: tuple[str, ...]
    tables: frozenset[str]
    triggers: frozenset[str]
    sections: Mapping[str, sections.Section]


_seen: dict[Path, tuple[tuple[object, ...], _Schema]] = {}
"""Schemas by file, with the state the file was in: SQLite takes seconds to read that of thousands of layers, and asks for it anew
whenever the file is opened."""
_MOST_SEEN = 32


def _state(path: Path) -> tuple[object, ...] | None:
    """What is another one whenever the file is: its counter of changes (SQLite, "Database File Format", 1.3.7) among it. None where
    changes stand in a file beside it."""
    if path.with_name(f"{path.name}-wal").exists():
        return None
    with path.open("rb") as stream:
        head = stream.read(100)
    stat = path.stat()
    return head, stat.st_ino, stat.st_size, stat.st_mtime_ns


def _schema(path: Path) -> _Schema:
    """
    Raises
    ------
    sqlite3.Error : no GeoPackage, or damaged.
    """
    path = path.absolute()
    with closing(sqlite.connect(path)) as db:  # whatever was begun and not committed is rolled back by that
        state = _state(path)
        known = _seen.get(path)
        if known is not None and state is not None and known[0] == state:
            return known[1]
        layers = tuple(str(r[0]) for r in db.execute("SELECT table_name FROM gpkg_contents ORDER BY rowid"))
        named = db.execute("SELECT type, name FROM sqlite_master WHERE type <> 'index'").fetchall()
        found = _Schema(
            layers,
            frozenset(str(n) for t, n in named if t != "trigger"),
            frozenset(str(n) for t, n in named if t == "trigger"),
            sections.sections(db),
        )
        if state is not None and state == _state(path):
            if len(_seen) >= _MOST_SEEN:
                _seen.pop(next(iter(_seen)), None)
            _seen[path] = state, found
    return found


def layer_list(path: Path) -> list[str]:
    """Names of the layers of a GeoPackage, in the order they were registered; their rows are not counted.

    Raises
    ------
    InputError : no GeoPackage, or damaged.
    """
    try:
        return list(_schema(path).layers)
    except sqlite3.Error as error:
        raise sqlite.unsound(error, path) from error


def holds_only(path: Path, names: Iterable[str]) -> bool:
    """Whether a file is a GeoPackage of these layers and of nothing else that somebody might miss.

    Making it anew is then the same as taking out one layer after the other, and a hundred times faster for hundreds.
    """
    taken = {folded(n) for n in names}
    try:
        there = _schema(path)
    except sqlite3.Error:
        return False
    layers = set(map(folded, there.layers))
    own = {t for t in map(folded, there.tables) if not t.startswith(("gpkg_", "rtree_", "sqlite_"))}
    foreign = any(not t.startswith(("rtree_", "gpkg_", "trigger_")) for t in map(folded, there.triggers))
    return layers <= taken and own <= layers and not foreign


def sections_of(path: Path) -> dict[str, sections.Section]:
    """Sections of a file; none where it is not there.

    Raises
    ------
    InputError : no GeoPackage, or damaged.
    """
    if not path.exists():
        return {}
    try:
        return dict(_schema(path).sections)
    except sqlite3.Error as error:
        raise sqlite.unsound(error, path) from error


@contextmanager
def writing(path: Path, *, in_place: bool = False, in_parts: bool = False) -> Generator[GeoPackageWriter, None, None]:
    """Open a file (new or there) for one transaction; an error leaves it as it was.

    Parameters
    ----------
    in_place : the file is no staged one: other programs may have it open. It is locked by SQLite's means and synced at the end,
        its journal mode stays as it is, and only plain statements are used.
    in_parts : the file is a staged one, which is thrown away after an error: of thousands of layers some are committed at a time.

    Raises
    ------
    DeliveryError : the file is no GeoPackage, another program holds it, or the disk is full.
    """
    new = not path.exists()
    if not new:
        sqlite.roll_back_hot(path)
    db = sqlite3.connect(path, isolation_level=None, timeout=sqlite.PATIENCE if in_place else 2.0)
    try:
        if new:
            db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
            db.execute(f"PRAGMA user_version = {USER_VERSION}")
        elif db.execute("PRAGMA application_id").fetchone()[0] not in APPLICATION_IDS:
            raise DeliveryError("the file is there and is no GeoPackage", place=str(path), way_out="Choose another name")
        if not in_place:
            db.execute("PRAGMA journal_mode = DELETE").fetchall()
        # a staged file is synced once, before it is committed
        db.execute(f"PRAGMA synchronous = {'FULL' if in_place else 'OFF'}")
        db.execute("PRAGMA cache_size = -65536")
        db.execute("BEGIN EXCLUSIVE" if in_place else "BEGIN IMMEDIATE")
        try:
            writer = GeoPackageWriter(db, plain=in_place, in_parts=in_parts)
            writer.make_tables()
            yield writer
            writer.settle()
            db.execute("COMMIT")
        except BaseException:
            if db.in_transaction:
                db.execute("ROLLBACK")
            raise
    except sqlite3.Error as error:
        raise sqlite.refused(error, path) from error
    finally:
        db.close()


def _text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


def now() -> str:
    """The time as the standard writes it."""
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.%f")[:-3] + "Z"


def index_triggers(table: str, geom: str, key: str) -> list[str]:
    """The triggers that keep the R-tree current, as the extension's annex states them for version 1.4."""
    t, c, i = quote(table), quote(geom), quote(key)
    tree = quote(f"rtree_{table}_{geom}")

    def name(kind: str) -> str:
        return quote(f"rtree_{table}_{geom}_{kind}")

    box = f"ST_MinX(NEW.{c}), ST_MaxX(NEW.{c}), ST_MinY(NEW.{c}), ST_MaxY(NEW.{c})"
    there = f"(NEW.{c} NOTNULL AND NOT ST_IsEmpty(NEW.{c}))"
    gone = f"(NEW.{c} ISNULL OR ST_IsEmpty(NEW.{c}))"
    was = f"(OLD.{c} NOTNULL AND NOT ST_IsEmpty(OLD.{c}))"
    was_not = f"(OLD.{c} ISNULL OR ST_IsEmpty(OLD.{c}))"
    put = f"INSERT OR REPLACE INTO {tree} VALUES (NEW.{i}, {box});"
    move = (
        f"UPDATE {tree} SET minx = ST_MinX(NEW.{c}), maxx = ST_MaxX(NEW.{c}), miny = ST_MinY(NEW.{c}), "
        f"maxy = ST_MaxY(NEW.{c}) WHERE id = NEW.{i};"
    )
    return [
        f"CREATE TRIGGER {name('insert')} AFTER INSERT ON {t} WHEN {there} BEGIN {put} END",
        f"CREATE TRIGGER {name('update2')} AFTER UPDATE OF {c} ON {t} WHEN OLD.{i} = NEW.{i} AND {gone} "
        f"BEGIN DELETE FROM {tree} WHERE id = OLD.{i}; END",
        f"CREATE TRIGGER {name('update4')} AFTER UPDATE ON {t} WHEN OLD.{i} != NEW.{i} AND {gone} "
        f"BEGIN DELETE FROM {tree} WHERE id IN (OLD.{i}, NEW.{i}); END",
        f"CREATE TRIGGER {name('update5')} AFTER UPDATE ON {t} WHEN OLD.{i} != NEW.{i} AND {there} "
        f"BEGIN DELETE FROM {tree} WHERE id = OLD.{i}; {put} END",
        f"CREATE TRIGGER {name('update6')} AFTER UPDATE OF {c} ON {t} WHEN OLD.{i} = NEW.{i} AND {there} AND {was} BEGIN {move} END",
        f"CREATE TRIGGER {name('update7')} AFTER UPDATE OF {c} ON {t} WHEN OLD.{i} = NEW.{i} AND {there} AND {was_not} BEGIN {put} END",
        f"CREATE TRIGGER {name('delete')} AFTER DELETE ON {t} WHEN OLD.{c} NOT NULL BEGIN DELETE FROM {tree} WHERE id = OLD.{i}; END",
    ]
