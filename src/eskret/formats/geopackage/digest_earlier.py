"""The digest of a layer in its earlier form, which hung on who read the file: for records of then."""

from __future__ import annotations

import hashlib
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.ahead import ahead
from eskret.formats.gdal import library
from eskret.formats.geopackage import reader
from eskret.formats.vector import BATCH, failures, known_facts, unreadable


def layer_digest(path: Path, name: str) -> str:
    """A digest of a layer's rows as they stand in the file: fields, their types, values and geometry, in order.

    Raises
    ------
    InputError : it cannot be read.
    """
    found = hashlib.blake2b(digest_size=32)
    known = (known_facts(path) or {}).get(name)
    small = None
    if known is not None and known.count is not None and known.count <= reader.SMALL:
        small = reader.read_small(path, known)
    if small is not None:
        table, binary, _ = small
        found.update(str(table.schema).encode())
        for column in [*table.columns, *([binary] if binary is not None else [])]:
            _take_in(found, column)
        return found.hexdigest()
    try:
        with library().open_arrow(path, layer=name, use_pyarrow=True, batch_size=BATCH) as (_, stream):
            found.update(str([(f.name, _storage(f.type)) for f in stream.schema]).encode())
            with closing(ahead(stream)) as coming:
                for batch in coming:
                    for column in batch.columns:
                        plain_column = column.storage if isinstance(column, pa.ExtensionArray) else column
                        _take_in(found, pa.chunked_array([plain_column]))
    except failures() as error:
        raise unreadable(path, error) from error
    return found.hexdigest()


def _storage(kind: pa.DataType) -> str:
    return str(kind.storage_type if isinstance(kind, pa.ExtensionType) else kind)


def _take_in(found: Any, column: pa.ChunkedArray) -> None:
    """Values of a column into a digest: which are null, then the bytes of the others."""
    for chunk in column.chunks:
        found.update(np.packbits(np.asarray(chunk.is_null())).tobytes())
        if pa.types.is_string(chunk.type) or pa.types.is_binary(chunk.type):
            _, places, data = chunk.buffers()
            ends = np.frombuffer(places, np.int32)[chunk.offset : chunk.offset + len(chunk) + 1] if len(chunk) else np.zeros(1, int)
            found.update(np.diff(ends).tobytes())
            if data is not None:
                found.update(memoryview(data)[ends[0] : ends[-1]])
        elif pa.types.is_integer(chunk.type) or pa.types.is_floating(chunk.type) or pa.types.is_boolean(chunk.type):
            found.update(np.asarray(chunk.fill_null(False if pa.types.is_boolean(chunk.type) else 0)).tobytes())
        elif pa.types.is_date32(chunk.type):
            found.update(np.asarray(chunk.cast(pa.int32()).fill_null(0)).tobytes())
        elif pa.types.is_timestamp(chunk.type):
            found.update(np.asarray(chunk.cast(pa.int64()).fill_null(0)).tobytes())
        else:
            found.update(repr(chunk.to_pylist()).encode("utf-8", "replace"))
