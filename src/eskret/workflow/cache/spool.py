"""What a step leaves of a large layer, written to disk chunk by chunk as it is made."""

from __future__ import annotations

import errno
import threading
from collections.abc import Generator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.files.scratch import drop_scratch, scratch_folder, sweep_scratch
from eskret.core.layer import GeometryKind, Layer, kind_of_types
from eskret.core.layer import chunks as chunking
from eskret.errors import Code, EskretError
from eskret.workflow.cache.cached_layer import NUMBERS, SHAPES, TABLE, CachedLayer


class _File:
    """Rows of one kind on their way into a file."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._writer: Any = None
        self._waiting: list[pa.Table] = []

    def add(self, table: pa.Table) -> None:
        if self._writer is None:
            self._schema = table.schema
            self._sink = pa.OSFile(str(self._path), "wb")
            self._writer = pa.ipc.new_file(self._sink, self._schema)
        self._waiting.append(table.cast(self._schema))

    def put(self, rows: Sequence[int]) -> None:
        """Write what waits, so many rows a batch; the rest goes on waiting."""
        if not self._waiting:
            return
        whole = pa.concat_tables(self._waiting)
        done = 0
        for many in rows:
            for batch in whole.slice(done, many).combine_chunks().to_batches():
                self._writer.write_batch(batch)
            done += many
        rest = whole.slice(done)
        self._waiting = [rest] if rest.num_rows else []

    def close(self) -> None:
        if self._writer is not None:
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
        self._table, self._shapes, self._numbers = self._files = [_File(home / name) for name in (TABLE, SHAPES, NUMBERS)]
        self._most = rows or chunking.CHUNK
        self._waiting: list[np.ndarray] = []
        """Bytes of the shape of each row that waits to be written."""
        self._many = self._heavy = 0
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
        weight = np.zeros(len(layer), np.int64)
        if layer.column is not None:
            if len(layer):
                self._look(layer)
            binary = layer.column.binary()
            shapes = binary if binary.type == pa.binary() else binary.cast(pa.binary())
            self._shapes.add(pa.table({"shape": shapes}))
            weight = np.asarray(pc.binary_length(shapes).fill_null(0)).astype(np.int64)
        if first.ids is not None:
            ids = layer.ids if layer.ids is not None else np.full(len(layer), -1, np.int64)
            self._numbers.add(pa.table({"id": pa.array(ids, pa.int64())}))
        self._waiting.append(weight)
        self._many += len(layer)
        self._heavy += int(weight.sum())
        if self._many >= self._most or self._heavy >= chunking.HEAVY:
            self._put(last=False)

    def _put(self, last: bool) -> None:
        """Write what waits, a chunk a batch; where more is to come, what is no whole chunk yet waits for it."""
        weights = np.concatenate(self._waiting) if self._waiting else np.empty(0, np.int64)
        ends = np.cumsum(weights)
        rows: list[int] = []
        start = 0
        while start < len(weights):
            full = int(np.searchsorted(ends, (ends[start - 1] if start else 0) + chunking.HEAVY, side="right"))
            stop = min(start + self._most, max(full, start + 1))
            if stop >= len(weights) and not last and stop - start < self._most:
                break
            rows.append(min(stop, len(weights)) - start)
            start = stop
        for file in self._files:
            file.put(rows)
        self._waiting = [weights[start:]]
        self._many, self._heavy = max(len(weights) - start, 0), int(weights[start:].sum())

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
            self._put(last=True)
            for file in self._files:
                file.close()
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
    """Where a run writes large layers: a folder of its own, gone with it. What killed runs left there is taken away first, also by a
    run that needs none: it may be much."""

    def __init__(self) -> None:
        sweep_scratch()
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
