"""A layer some rows at a time: one that is too large to be held whole goes through the steps in chunks.

Chunks have a fixed number of rows, so that whatever is added up over them comes out the same on every machine.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable, Mapping, Sequence
from typing import Protocol, runtime_checkable

import pyarrow as pa

from eskret.core.layer.column import GeometryKind
from eskret.core.layer.layer import Layer
from eskret.core.layer.schema import LayerFacts
from eskret.core.memory import may_take

CHUNK = 65_536
"""Rows of a chunk."""
HEAVY = 32 << 20
"""Bytes of shapes that a chunk has at most, unless it is of one row: some shapes are as heavy as thousands of others."""
LARGE = 4 * CHUNK
"""Layers of more rows go through in chunks wherever a step can take them so."""
WHOLE = 6
"""Times the bytes of a layer in its file that a step takes which has it whole: shapes that are made, and what comes of them."""


def large(weight: float) -> int:
    """Rows from which on a layer goes through in chunks, where a feature takes so many bytes (0: nobody knows): fewer of heavy ones,
    where a run may take little memory. Nothing that comes of it hangs on that."""
    return LARGE if not weight else int(max(CHUNK, min(LARGE, may_take() / 4 / WHOLE / weight)))


@runtime_checkable
class ChunkedLayer(Protocol):
    """A layer that lies on disk and is read a chunk at a time."""

    @property
    def key(self) -> str: ...
    @property
    def name(self) -> str: ...
    @property
    def origin(self) -> str: ...
    @property
    def own_name(self) -> str: ...
    @property
    def unnumbered(self) -> str: ...
    @property
    def step(self) -> str: ...
    @property
    def provenance(self) -> tuple[tuple[str, str], ...]: ...
    @property
    def crs(self) -> str | None: ...
    @property
    def kind(self) -> GeometryKind: ...
    @property
    def titles(self) -> Mapping[str, str]: ...
    @property
    def has_geometry(self) -> bool: ...
    @property
    def types(self) -> frozenset[int]:
        """Types of its shapes, as shapely numbers them."""

    @property
    def has_z(self) -> bool: ...
    @property
    def field_names(self) -> list[str]: ...
    def __len__(self) -> int: ...
    def facts(self) -> LayerFacts: ...
    def chunks(self) -> Generator[Layer, None, None]:
        """Its rows, ``CHUNK`` at a time."""

    def columns(self, names: Sequence[str]) -> pa.Table:
        """Some of its fields, of all rows."""

    def load(self) -> Layer:
        """The whole of it, in memory."""


def together(*streams: Iterable[pa.RecordBatch]) -> Generator[tuple[pa.RecordBatch, ...], None, None]:
    """Batches of the same rows out of several streams that have as many, each as long as the shortest that is there of them."""
    sources = [(batch for batch in stream if batch.num_rows) for stream in streams]
    waiting = [next(source, None) for source in sources]
    while all(batch is not None for batch in waiting):
        rows = min(batch.num_rows for batch in waiting if batch is not None)
        yield tuple(batch.slice(0, rows) for batch in waiting if batch is not None)
        for n, batch in enumerate(waiting):
            if batch is not None:
                waiting[n] = batch.slice(rows) if batch.num_rows > rows else next(sources[n], None)


def rebatched(batches: Iterable[pa.RecordBatch], rows: int) -> Generator[pa.RecordBatch, None, None]:
    """The rows of batches of any size, so many in each but the last."""
    waiting: list[pa.RecordBatch] = []
    there = 0
    for batch in batches:
        while batch.num_rows:
            part = batch.slice(0, rows - there)
            waiting.append(part)
            there += part.num_rows
            batch = batch.slice(part.num_rows)
            if there == rows:
                yield _one(waiting)
                waiting, there = [], 0
    if waiting:
        yield _one(waiting)


def _one(batches: list[pa.RecordBatch]) -> pa.RecordBatch:
    if len(batches) == 1:
        return batches[0]
    return pa.Table.from_batches(batches).combine_chunks().to_batches()[0]
