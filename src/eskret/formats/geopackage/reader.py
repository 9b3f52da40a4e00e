"""Read a GeoPackage by plain SQLite: facts of its layers at once, and small layers whole.

The library opens a file anew for every layer and reads the description of all its layers each time, which costs the
square of their number. Here one connection tells everything. Large layers are read by the library, which is faster there.
"""

from __future__ import annotations

import datetime as dt
import sqlite3
import threading
from collections.abc import Callable, Sequence
from contextlib import closing
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.crs import crs_code, parse_crs
from eskret.core.expression import quote
from eskret.core.layer import Certainty, Field, GeometryKind, LayerFacts
from eskret.errors import CrsError, InputError
from eskret.formats import sqlite
from eskret.formats.geopackage import sections

COUNTING = 30.0
"""Seconds that counting the layers of a file may take."""
SMALL = 5_000
"""Up to so many rows a layer is read here."""

_KINDS = {
    "POINT": GeometryKind.POINT,
    "MULTIPOINT": GeometryKind.POINT,
    "LINESTRING": GeometryKind.LINE,
    "MULTILINESTRING": GeometryKind.LINE,
    "POLYGON": GeometryKind.POLYGON,
    "MULTIPOLYGON": GeometryKind.POLYGON,
    "CIRCULARSTRING": GeometryKind.LINE,
    "COMPOUNDCURVE": GeometryKind.LINE,
    "CURVE": GeometryKind.LINE,
    "MULTICURVE": GeometryKind.LINE,
    "CURVEPOLYGON": GeometryKind.POLYGON,
    "SURFACE": GeometryKind.POLYGON,
    "MULTISURFACE": GeometryKind.POLYGON,
}
# SQL types as OGC 12-128r19, table 1, has them; whatever else is declared is left to the library
_TYPES: dict[str, tuple[pa.DataType, Callable[[Any], Any]]] = {
    "BOOLEAN": (pa.bool_(), bool),
    "TINYINT": (pa.int64(), int),
    "SMALLINT": (pa.int64(), int),
    "MEDIUMINT": (pa.int64(), int),
    "INT": (pa.int64(), int),
    "INTEGER": (pa.int64(), int),
    "FLOAT": (pa.float64(), float),
    "DOUBLE": (pa.float64(), float),
    "REAL": (pa.float64(), float),
    "TEXT": (pa.string(), str),
    "BLOB": (pa.binary(), bytes),
    "DATE": (pa.date32(), dt.date.fromisoformat),
    "DATETIME": (pa.timestamp("ms", "UTC"), lambda v: dt.datetime.fromisoformat(v).astimezone(dt.UTC)),
}
_ENVELOPES = {0: 0, 1: 32, 2: 48, 3: 48, 4: 64}


def all_facts(path: Path) -> dict[str, LayerFacts] | None:
    """Facts of all layers by their name (their key is not settled), remembered while the file does not change.

    None where the file has something that only the library understands.
    """
    try:
        sqlite.roll_back_hot(path)
        state = path.stat()
    except OSError:
        return None
    # an open transaction of another program stands beside the file
    if any(path.with_name(path.name + e).exists() for e in ("-wal", "-journal")):
        return None
    with _facts_lock:
        return _facts(path, (state.st_ino, state.st_ctime_ns, state.st_mtime_ns, state.st_size))


@lru_cache(maxsize=32)
def _facts(path: Path, state: tuple[int, ...]) -> dict[str, LayerFacts] | None:
    try:
        db = sqlite.connect(path)
        sqlite.limit_time(db, COUNTING)
        try:
            if db.execute("PRAGMA application_id").fetchone()[0] != 0x47504B47:
                return None
            return _told(path, db)
        finally:
            db.close()
    except (sqlite3.Error, ValueError, TypeError) as error:
        if isinstance(error, sqlite3.Error) and sqlite.is_interrupted(error):
            raise sqlite.unsound(error, path) from error  # the library would count on for ever
        return None


def _told(path: Path, db: sqlite3.Connection) -> dict[str, LayerFacts] | None:
    geometry = {
        t: (c, k, s, z, m)
        for t, c, k, s, z, m in db.execute(
            "SELECT table_name, column_name, upper(geometry_type_name), srs_id, z, m FROM gpkg_geometry_columns"
        )
    }
    systems = {
        n: _crs(o, c, d)
        for n, o, c, d in db.execute("SELECT srs_id, organization, organization_coordsys_id, definition FROM gpkg_spatial_ref_sys")
    }
    tables = {r[0] for r in db.execute("SELECT name FROM sqlite_master WHERE type IN ('table', 'view')")}
    for (view,) in db.execute(
        "SELECT name FROM sqlite_master WHERE type = 'view' AND name IN (SELECT table_name FROM gpkg_contents)"
    ).fetchall():
        db.execute(f"SELECT count(*) FROM {quote(view)}").fetchone()  # one without end is found out here
    titles: dict[str, dict[str, str]] = {}
    if "gpkg_data_columns" in tables:
        for table, column, title in db.execute("SELECT table_name, column_name, title FROM gpkg_data_columns"):
            titles.setdefault(table, {})[column] = title or ""
    counts: dict[str, int | None] = {}
    if "gpkg_ogr_contents" in tables:
        # kept current by triggers, where the library wrote the file: counting would go through all of it
        counts = dict(db.execute("SELECT table_name, feature_count FROM gpkg_ogr_contents").fetchall())
    out: dict[str, LayerFacts] = {}
    rows = db.execute("SELECT table_name, data_type, min_x, min_y, max_x, max_y FROM gpkg_contents ORDER BY rowid").fetchall()
    for name, data_type, *box in rows:
        if data_type not in ("features", "attributes") or name not in tables:
            return None
        described = geometry.get(name)
        if (data_type == "features") != (described is not None) or (described is not None and described[4]):
            return None
        if described is not None and is_curved(described[1]):
            return None  # the library's way tells of curves
        fields = []
        key = ""
        for _, column, declared, _, _, primary in db.execute(f"PRAGMA table_info({quote(name)})"):
            if primary:
                key = column
            elif described is None or column != described[0]:
                kind = _TYPES.get(declared.upper().split("(")[0])
                if kind is None:
                    return None
                fields.append(Field(column, kind[0], titles.get(name, {}).get(column, "")))
        if not key or len({f.name.casefold() for f in fields}) < len(fields):
            return None
        count = counts.get(name)
        if count is None:
            count = db.execute(f"SELECT count(*) FROM {quote(name)}").fetchone()[0]
        kind_ = GeometryKind.TABLE if described is None else _KINDS.get(described[1], GeometryKind.MIXED)
        whole = None if described is None or None in box or not count else (float(box[0]), float(box[1]), float(box[2]), float(box[3]))
        crs = systems.get(described[2]) if described is not None else None
        out[name] = LayerFacts(name, name, kind_, crs, tuple(fields), count, Certainty.KNOWN, whole, str(path))
    return out


def is_curved(declared: str) -> bool:
    """Whether a geometry type is one of curves (OGC 12-128r19, annex G)."""
    return any(word in declared for word in ("CURVE", "CIRCULAR", "SURFACE"))


def declared_type(path: Path, name: str) -> str:
    """The geometry type that a layer's table is declared with, in capitals; empty where none is."""
    try:
        with closing(sqlite.connect(path)) as db:
            found = db.execute("SELECT upper(geometry_type_name) FROM gpkg_geometry_columns WHERE table_name = ?", (name,)).fetchone()
    except (sqlite3.Error, OSError):
        return ""
    return str(found[0] or "") if found else ""


def _crs(organization: str, code: int, definition: str) -> str | None:
    if is_undefined(definition):
        return None
    try:
        if organization.upper() not in ("NONE", ""):
            return crs_code(parse_crs(f"{organization}:{code}"))
    except CrsError:
        pass
    try:
        return crs_code(parse_crs(definition))
    except CrsError:
        return None


def is_undefined(definition: str) -> bool:
    """Whether a CRS only says that there is none: the standard's own two records, and what the library writes for it."""
    return definition in ("undefined", "") or "Undefined" in definition.split(",")[0]


Rows = tuple[pa.Table, "pa.ChunkedArray | None", np.ndarray]
"""Attributes, geometry as binary where there is any, and the numbers that the file gives the rows."""

_MANY, _TOGETHER = 4, 500_000
_lock, _facts_lock = threading.Lock(), threading.Lock()


def read_small(path: Path, facts: LayerFacts) -> Rows | None:
    """Rows of a small layer: attributes, geometry as binary, and the numbers that the file gives the rows.

    None where a value is not what its column declares, as SQLite allows: the library then says how it reads it.

    Raises
    ------
    InputError : the file is damaged.
    """
    state = path.stat()
    with _lock:  # two threads that want layers of one file must not both read all of them
        together = _small_layers(path, (state.st_ino, state.st_ctime_ns, state.st_mtime_ns, state.st_size))
    if facts.name in together:
        return together[facts.name]
    return _read(path, [facts])[facts.name]


@lru_cache(maxsize=2)
def _small_layers(path: Path, state: tuple[int, ...]) -> dict[str, Rows | None]:
    """All small layers of a file that has many, read at once: to open it costs more than to read one."""
    known = [f for f in (all_facts(path) or {}).values() if f.count is not None and f.count <= SMALL]
    if len(known) < _MANY or sum(f.count or 0 for f in known) > _TOGETHER:
        return {}
    return _read(path, known)


def _read(path: Path, layers: Sequence[LayerFacts]) -> dict[str, Rows | None]:
    try:
        db = sqlite.connect(path)
        try:
            return {facts.name: _decoded_rows(db, facts) for facts in layers}
        finally:
            db.close()
    except sqlite3.Error as error:
        raise InputError(
            f"it cannot be read; it is damaged, cut short, or not what its ending says ({error})",
            place=str(path),
            way_out="Open it where it was made and save it again",
        ) from error


def _decoded_rows(db: sqlite3.Connection, facts: LayerFacts) -> Rows | None:
    try:
        return _rows(db, facts)
    except sqlite3.OperationalError as error:
        if getattr(error, "sqlite_errorcode", None) is None:
            return None  # no error of the database's: a text is not UTF-8
        raise


def _rows(db: sqlite3.Connection, facts: LayerFacts) -> Rows | None:
    described = db.execute("SELECT column_name FROM gpkg_geometry_columns WHERE table_name = ?", (facts.name,)).fetchone()
    key = next(r[1] for r in db.execute(f"PRAGMA table_info({quote(facts.name)})") if r[5])
    names = [key, *([described[0]] if described else []), *facts.names()]
    rows = db.execute(f"SELECT {', '.join(map(quote, names))} FROM {quote(facts.name)} ORDER BY {quote(key)}").fetchall()
    columns = list(zip(*rows, strict=True)) if rows else [() for _ in names]
    ids = np.array(columns.pop(0), np.int64)
    try:
        binary = pa.chunked_array([pa.array([_bare(b) for b in columns.pop(0)], pa.binary())]) if described else None
        arrays = [_column(values, f.type) for values, f in zip(columns, facts.fields, strict=True)]
    except (ValueError, TypeError, KeyError, pa.ArrowException):
        return None
    return pa.table(arrays, schema=facts.schema()), binary, ids


def with_shape(path: Path, name: str, ids: Sequence[int]) -> set[int]:
    """Of these rows those that have something where their shape should be.

    Raises
    ------
    InputError : the file is damaged.
    """
    out: set[int] = set()
    try:
        with closing(sqlite.connect(path)) as db:
            row = db.execute("SELECT column_name FROM gpkg_geometry_columns WHERE lower(table_name) = lower(?)", (name,)).fetchone()
            key = next((r[1] for r in db.execute(f"PRAGMA table_info({quote(name)})") if r[5]), None)
            if row is None or key is None:
                return out
            # a shape that is known to be empty is none, and not damaged: its head says so
            asked = f"SELECT {quote(key)}, {quote(row[0])} FROM {quote(name)} WHERE {quote(row[0])} NOTNULL AND {quote(key)} IN "
            for start in range(0, len(ids), 500):
                some = ids[start : start + 500]
                for id, blob in db.execute(f"{asked} ({', '.join('?' * len(some))})", some):
                    if not (isinstance(blob, bytes) and blob[:2] == b"GP" and len(blob) > 3 and blob[3] & 0x10):
                        out.add(int(id))
    except sqlite3.Error as error:
        raise sqlite.unsound(error, path) from error
    return out


def _bare(blob: bytes | None) -> bytes | None:
    """The well-known binary in a GeoPackage's (12-128r19, clause 2.1.3)."""
    if blob is None:
        return None
    if not isinstance(blob, bytes) or blob[:2] != b"GP" or len(blob) < 8:
        raise ValueError
    return blob[8 + _ENVELOPES[(blob[3] >> 1) & 7] :]


def _column(values: tuple[Any, ...], kind: pa.DataType) -> pa.Array:
    given = {type(v) for v in values} - {type(None)}
    if pa.types.is_string(kind) or pa.types.is_binary(kind):
        if given <= ({str} if pa.types.is_string(kind) else {bytes}):
            return pa.array(values, kind)
        raise TypeError
    if pa.types.is_floating(kind) and given <= {float, int}:
        return pa.array([None if v is None else float(v) for v in values], kind)
    if (pa.types.is_integer(kind) or pa.types.is_boolean(kind)) and given <= {int}:
        if pa.types.is_boolean(kind) and not set(values) <= {0, 1, None}:
            raise ValueError
        return pa.array([None if v is None else bool(v) for v in values] if pa.types.is_boolean(kind) else values, kind)
    if pa.types.is_temporal(kind) and given <= {str}:
        convert = next(c for t, c in _TYPES.values() if t == kind)
        return pa.array([None if v is None else convert(v) for v in values], kind)
    raise TypeError


def titles_of(path: Path, name: str) -> dict[str, str]:
    """Titles of a layer's fields; none where the file says nothing of them."""
    try:
        db = sqlite.connect(path)
        try:
            return sections.titles(db, name)
        finally:
            db.close()
    except sqlite3.Error:
        return {}


_LOOKED_AT = 1_000


def weight(path: Path, name: str) -> float:
    """About how many bytes a feature of a layer takes, by the first of them; 0 where they cannot be looked at."""
    try:
        with closing(sqlite.connect(path)) as db:
            sqlite.limit_time(db, 1.0)  # a view can take any time
            columns = [row[1] for row in db.execute(f"PRAGMA table_info({quote(name)})")]
            each = " + ".join(f"coalesce(length(CAST({quote(c)} AS BLOB)), 0)" for c in columns)
            (found,) = db.execute(f"SELECT avg({each}) FROM (SELECT * FROM {quote(name)} LIMIT {_LOOKED_AT})").fetchone()
    except sqlite3.Error:
        return 0.0
    return float(found or 0.0)
