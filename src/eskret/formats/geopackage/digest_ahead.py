"""The digest of a layer's rows taken on their way into the file, of columns of Arrow: to read them again takes as long as to write them.

It is only believed where the file agrees: its columns are declared as was assumed, it has as many rows, and some blocks of them, read
from it, are what they were thought to be. Where anything says otherwise the rows are read.
"""

from __future__ import annotations

import hashlib
import sqlite3
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

import numpy as np
import pyarrow as pa

from eskret.core.expression import quote
from eskret.core.layer.chunks import rebatched
from eskret.core.layer.wkb import buffers
from eskret.formats import sqlite
from eskret.formats.geopackage.columns import bound, sql_type
from eskret.formats.geopackage.digest import BLOCK, FORM, fields_of, take_in, values_of

_TRIED = 3
"""Blocks that are read again."""


class DigestAhead:
    """Takes batches that go into a layer, and says what the digest of the layer will be.

    Parameters
    ----------
    schema : of the batches.
    rows : how many there will be, at most.
    geom : the column of binary shapes among them, which stands last; None for a plain table.
    """

    def __init__(self, schema: pa.Schema, geom: str | None, rows: int) -> None:
        self._fields = [(f.name, sql_type(f.type)) for f in schema if f.name != geom]
        self._found = hashlib.blake2b(repr(self._fields).encode(), digest_size=32)
        self._waiting: list[pa.RecordBatch] = []
        self._blocks: dict[int, bytes] = {}
        self._tried = frozenset(np.linspace(0, max(rows - 1, 0) // BLOCK, _TRIED).astype(int).tolist())
        self._rows = 0

    def take(self, batch: pa.RecordBatch) -> None:
        """Take in a batch, in its turn."""
        self._waiting.append(batch)
        if sum(b.num_rows for b in self._waiting) >= BLOCK:
            waiting, self._waiting = self._waiting, []
            for block in rebatched(waiting, BLOCK):
                if block.num_rows == BLOCK:
                    self._block(block)
                else:
                    self._waiting = [block]

    def _block(self, block: pa.RecordBatch) -> None:
        number = self._rows // BLOCK
        own = hashlib.blake2b(digest_size=16) if number in self._tried else None
        self._rows += block.num_rows
        for column in block.columns:
            for part in _parts(column):
                self._found.update(part)
                if own is not None:
                    own.update(part)
        if own is not None:
            self._blocks[number] = own.digest()

    def confirmed(self, path: Path, name: str) -> str | None:
        """The digest, where the layer in the file is as it was thought to be; None where its rows must be read."""
        for block in rebatched(self._waiting, BLOCK):
            self._block(block)
        self._waiting = []
        self._found.update(self._rows.to_bytes(8, "little"))
        with closing(sqlite.connect(path)) as db:
            return FORM + self._found.hexdigest() if self._agrees(db, name) else None

    def _agrees(self, db: sqlite3.Connection, name: str) -> bool:
        fields, key, drawn = fields_of(db, name)
        if fields != self._fields or key is None:
            return False
        # each by itself is looked up; all of one query would go through the rows
        asked = ", ".join(f"(SELECT {what} FROM {quote(name)})" for what in (f"min({quote(key)})", f"max({quote(key)})", "count(*)"))
        least, most, count = db.execute(f"SELECT {asked}").fetchone()
        if count != self._rows or (count and (least, most) != (1, count)):
            return False
        names = [n for n, _ in fields] + ([drawn] if drawn else [])
        for number, thought in self._blocks.items():
            own = hashlib.blake2b(digest_size=16)
            begin = number * BLOCK
            for column in values_of(db, name, names, drawn, key, begin + 1, begin + BLOCK):
                take_in(own, column)
            if own.digest() != thought:
                return False
        return True


def _parts(column: pa.Array) -> list[bytes]:
    """What ``digest.take_in`` gives to the hash for these values as the database holds them."""
    column = bound(column)
    kind = column.type
    letter, name = (b"b", b"bytes") if pa.types.is_string(kind) or pa.types.is_binary(kind) else (b"i", b"int")
    if pa.types.is_floating(kind):
        letter, name = b"f", b"float"
    if column.null_count == len(column):
        return [b"NoneType"]
    out: list[bytes] = []
    if column.null_count:
        none = np.asarray(column.is_null())
        out.append(np.where(none, b"n", letter).tobytes())
        column = column.drop_null()
    if letter == b"b":
        return [*out, name, *_texts(column)]
    # the database holds no zero below nothing
    values = np.asarray(column.cast(pa.int64())) if letter == b"i" else np.asarray(column) + 0.0
    return [*out, name, values.tobytes()]


def _texts(column: pa.Array) -> Sequence[bytes]:
    ends, raw = buffers(column if pa.types.is_binary(column.type) else column.cast(pa.binary()))
    return np.diff(ends).tobytes(), raw[ends[0] : ends[-1]].tobytes()
