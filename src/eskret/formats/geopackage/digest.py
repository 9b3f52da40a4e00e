"""A digest of a layer's content, read from the file it stands in: to know later whether somebody changed it.

It is taken from what the database holds, row by row in the order of their keys, so that it does not hang on what else the
file contains, how it is journalled, or who reads it.
"""

from __future__ import annotations

import hashlib
import sqlite3
from array import array
from collections.abc import Generator, Iterable, Mapping, Sequence
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

from eskret.core.expression import quote
from eskret.errors import InputError
from eskret.formats import sqlite
from eskret.formats.reading import Watch, no_watch

FORM = "r1:"
"""How digests of this form begin; those of earlier versions have no such mark."""
BLOCK = 4096  # part of the form: values go into the digest by columns, so many rows at a time
_ENVELOPES = (0, 32, 48, 48, 64, 0, 0, 0)


def layer_digest(path: Path, name: str, like: str = FORM) -> str:
    """A digest of a layer's rows as they stand in the file: fields, their types, values and geometry, in order.

    Parameters
    ----------
    like : a digest that it is to be compared with, which may be of an earlier form.

    Raises
    ------
    InputError : it cannot be read.
    """
    if not like.startswith(FORM):
        from eskret.formats.geopackage import digest_earlier

        return digest_earlier.layer_digest(path, name)
    found = layer_digests(path, [name])
    if name not in found:
        raise InputError(f"there is no layer '{name}' in it", place=str(path), way_out="Check its name")
    return found[name]


def layer_digests(path: Path, names: Iterable[str], like: Mapping[str, str] | None = None, watch: Watch = no_watch) -> dict[str, str]:
    """Digests of several layers of a file, those that are there, through one connection: to open a file of many layers costs
    more than to read one.

    Parameters
    ----------
    like : digests that they are to be compared with, which may be of an earlier form.

    Raises
    ------
    InputError : it cannot be read.
    """
    earlier = {n for n, d in (like or {}).items() if not d.startswith(FORM)}
    try:
        with closing(sqlite.connect(path)) as db:
            there = {row[0] for row in db.execute("SELECT table_name FROM gpkg_contents")}
            out = {name: rows_digest(db, name, watch=watch) for name in names if name in there and name not in earlier}
        return out | {name: layer_digest(path, name, "") for name in names if name in there & earlier}
    except sqlite3.Error as error:
        raise sqlite.unsound(error, path) from error


def counted(path: Path, names: Sequence[str], known: Mapping[str, str], watch: Watch = no_watch) -> dict[str, tuple[int, str]]:
    """Rows and digests of layers of a file as they stand there, through one connection; digests that are ``known`` are not taken anew.

    Raises
    ------
    InputError : it cannot be read, or holds no such layer.
    """
    out = {}
    try:
        with closing(sqlite.connect(path)) as db:
            for name in names:
                rows = int(db.execute(f"SELECT count(*) FROM {quote(name)}").fetchone()[0])
                out[name] = rows, known.get(name) or rows_digest(db, name, watch=watch)
    except sqlite3.Error as error:
        raise sqlite.unsound(error, path) from error
    return out


def rows_digest(db: sqlite3.Connection, layer: str, schema: str = "main", watch: Watch = no_watch) -> str:
    """The digest of a layer through a connection, within whatever transaction is open on it.

    Raises
    ------
    sqlite3.Error : there is no such layer, or the file is damaged.
    """
    fields, key, drawn = fields_of(db, layer, schema)
    found = hashlib.blake2b(repr(fields).encode(), digest_size=32)
    names = [n for n, _ in fields] + ([drawn] if drawn else [])
    order = f" ORDER BY {quote(key)}" if key else ""
    what = ", ".join(map(quote, names)) or "1"
    with _bytes_for_texts(db):
        cursor = db.execute(f"SELECT {what} FROM {schema}.{quote(layer)}{order}")
        return FORM + _digest_of(found, cursor, names, drawn, watch)


def fields_of(db: sqlite3.Connection, layer: str, schema: str = "main") -> tuple[list[tuple[str, str]], str | None, str | None]:
    """The fields of a layer with their types as declared, its key, and its column of shapes.

    Raises
    ------
    sqlite3.Error : there is no such layer, or the file is damaged.
    """
    info = db.execute(f"PRAGMA {schema}.table_info({quote(layer)})").fetchall()
    if not info:
        raise sqlite3.OperationalError(f"no such layer: {layer}")
    geometry = db.execute(f"SELECT column_name FROM {schema}.gpkg_geometry_columns WHERE table_name = ?", (layer,)).fetchone()
    key = next((r[1] for r in info if r[5]), None)
    drawn = geometry[0] if geometry else None
    return [(r[1], r[2].upper()) for r in info if r[1] not in (key, drawn)], key, drawn


def values_of(
    db: sqlite3.Connection, layer: str, names: Sequence[str], drawn: str | None, key: str, first: int, last: int
) -> list[Sequence[object]]:
    """The values of rows from one key to another, by columns, as they go into a digest."""
    what = ", ".join(map(quote, names)) or "1"
    with _bytes_for_texts(db):
        rows = db.execute(
            f"SELECT {what} FROM {quote(layer)} WHERE {quote(key)} BETWEEN ? AND ? ORDER BY {quote(key)}", (first, last)
        ).fetchall()
    return _columns(rows, drawn) if names and rows else []


@contextmanager
def _bytes_for_texts(db: sqlite3.Connection) -> Generator[None, None, None]:
    before, db.text_factory = db.text_factory, bytes  # a text that is not sound UTF-8 is content, too
    try:
        yield
    finally:
        db.text_factory = before


def _columns(rows: Sequence[Sequence[object]], drawn: str | None) -> list[Sequence[object]]:
    columns: list[Sequence[object]] = list(zip(*rows, strict=True))
    if drawn:
        columns[-1] = [_bare(b) for b in columns[-1]]
    return columns


def _digest_of(found: Any, cursor: sqlite3.Cursor, names: Sequence[str], drawn: str | None, watch: Watch) -> str:
    rows = 0
    while chunk := cursor.fetchmany(BLOCK):
        rows += len(chunk)
        watch(rows, 0)
        for column in _columns(chunk, drawn) if names else ():
            take_in(found, column)
    found.update(rows.to_bytes(8, "little"))
    return str(found.hexdigest())


def _bare(blob: object) -> object:
    """The shape in a GeoPackage's binary (12-128r19, clause 2.1.3): the head names the number that a CRS has in this file."""
    if not isinstance(blob, bytes) or blob[:2] != b"GP" or len(blob) < 8:
        return blob
    return blob[8 + _ENVELOPES[(blob[3] >> 1) & 7] :]


def take_in(found: Any, column: Sequence[Any]) -> None:
    """Values of a column: of which kinds they are, then the values."""
    kinds = {type(v) for v in column}
    if len(kinds) > 1:
        letters = {type(None): b"n", int: b"i", float: b"f", bytes: b"b"}
        found.update(b"".join([letters[type(v)] for v in column]))
        for kind in (int, float, bytes):
            if kind in kinds:
                take_in(found, [v for v in column if type(v) is kind])
        return
    kind = kinds.pop()
    found.update(kind.__name__.encode())
    if kind is int:
        found.update(array("q", column).tobytes())
    elif kind is float:
        found.update(array("d", column).tobytes())
    elif kind is not type(None):
        found.update(array("q", map(len, column)).tobytes())
        found.update(b"".join(column))
