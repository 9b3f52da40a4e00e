"""What a step leaves of a large layer, written to disk chunk by chunk as it is made."""

from __future__ import annotations

import errno
import threading
from collections.abc import Generator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.files.scratch import drop_scratch, scratch_folder
from eskret.core.layer import GeometryKind, Layer, kind_of_types
from eskret.core.layer import chunks as chunking
from eskret.core.layer.chunks import rebatched
from eskret.errors import Code, EskretError
from eskret.workflow.cache.cached_layer import NUMBERS, SHAPES, TABLE, CachedLayer


class _Column:
    """Rows of one kind on their way into a file, so many a batch."""

    def __init__(self, path: Path, rows: int) -> None:
        self._path = path
        self._most = rows
        self._writer: Any = None
        self._waiting: list[pa.RecordBatch] = []
        self._rows = 0

    def add(self, table: pa.Table) -> None:
        if self._writer is None:
            self._schema = table.schema
            self._sink = pa.OSFile(str(self._path), "wb")
            self._writer = pa.ipc.new_file(self._sink, self._schema)
        self._waiting += table.cast(self._schema).to_batches()
        self._rows += table.num_rows
        if self._rows >= self._most:
            self._put(whole=False)

    def _put(self, whole: bool) -> None:
        batches, self._waiting, self._rows = self._waiting, [], 0
        for batch in rebatched(batches, self._most):
            if batch.num_rows == self._most or whole:
                self._writer.write_batch(batch)
            else:
                self._waiting, self._rows = [batch], batch.num_rows

    def close(self) -> None:
        if self._writer is not None:
            self._put(whole=True)
            self._writer.close()
            self._sink.close()


class Spool:
    """A layer being written, its facts gathered on the way.

    Parameters
    ----------
    home : a folder of its own, which is made.
    rows : how many are written at a time; so many wait in memory at most. As a chunk has, where nothing is said.
    """

    def __init__(self, home: Path, rows: int = 0) -> None:
        home.mkdir(parents=True)
        self.home = home
        self._like: Layer | None = None
        self._table, self._shapes, self._numbers = (_Column(home / name, rows or chunking.CHUNK) for name in (TABLE, SHAPES, NUMBERS))
        self._kinds: set[GeometryKind] = set()
        self._types: set[int] = set()
        self._box = np.array([np.inf, np.inf, -np.inf, -np.inf])
        self._rows = 0
        self._has_z = False

    def add(self, layer: Layer) -> None:
        """Put further rows behind those that are there.

        Raises
        ------
        EskretError : they cannot be written.
        """
        with self._room():
            self._add(layer)

    @contextmanager
    def _room(self) -> Generator[None, None, None]:
        try:
            yield
        except OSError as error:
            raise EskretError(
                f"what the step leaves cannot be kept while the run goes on ({error.strerror or error})",
                place=str(self.home.parent),
                way_out="Make room there, or name another folder in XDG_CACHE_HOME, and run again",
                code=Code.DISK_FULL if error.errno == errno.ENOSPC else Code.GENERAL,
            ) from error

    def _add(self, layer: Layer) -> None:
        first = layer if self._like is None else self._like
        self._like = first
        self._rows += len(layer)
        self._table.add(layer.table)
        if layer.column is not None:
            if len(layer):
                self._look(layer)
            binary = layer.column.binary()
            self._shapes.add(pa.table({"shape": binary if binary.type == pa.binary() else binary.cast(pa.binary())}))
        if first.ids is not None:
            ids = layer.ids if layer.ids is not None else np.full(len(layer), -1, np.int64)
            self._numbers.add(pa.table({"id": pa.array(ids, pa.int64())}))

    def _look(self, layer: Layer) -> None:
        if layer.wkb is not None:
            types = layer.wkb.library_types().tolist()
        else:
            assert layer.geometry is not None
            each = shapely.get_type_id(layer.geometry)
            types = np.unique(each[each >= 0]).tolist()
            self._has_z |= bool(shapely.has_z(layer.geometry).any())
        self._types |= set(types)
        if types:
            self._kinds.add(layer.kind)
        box = layer.extent()
        if box is not None:
            self._box = np.concatenate([np.minimum(self._box[:2], box[:2]), np.maximum(self._box[2:], box[2:])])

    def close(self) -> CachedLayer:
        """The layer as it lies on disk.

        Raises
        ------
        EskretError : it cannot be written.
        ValueError : nothing was added.
        """
        with self._room():
            for column in (self._table, self._shapes, self._numbers):
                column.close()
        if self._like is None:
            raise ValueError("no chunk was added")
        like = self._like
        kind = like.kind
        if len(self._kinds) == 1:
            kind = next(iter(self._kinds))
        elif self._kinds:
            kind = kind_of_types(np.array(sorted(self._types)))
        return CachedLayer(
            like.key,
            self._rows,
            self.home,
            "",
            like.crs,
            like.name,
            like.origin,
            dict(like.titles),
            kind,
            like.has_geometry,
            like.ids is not None,
            like.provenance,
            like.unnumbered,
            chunked=True,
            extent=tuple(self._box.tolist()) if np.isfinite(self._box).all() else None,
            types=frozenset(self._types),
            has_z=self._has_z,
        )


class Spools:
    """Where a run writes large layers: a folder of its own, gone with it."""

    def __init__(self) -> None:
        self._home: Path | None = None
        self._lock = threading.Lock()
        self._number = 0

    def place(self) -> Path | None:
        """A folder that is not there yet; None where the cache folder cannot be written, and layers are held whole."""
        with self._lock:
            if self._home is None:
                try:
                    self._home = scratch_folder("spool")
                except OSError:
                    return None
            self._number += 1
            return self._home / str(self._number)

    def drop(self) -> None:
        """Take everything away that was not moved elsewhere."""
        if self._home is not None:
            drop_scratch(self._home)
