"""Batches of rows that are added one after the other: in memory as long as they are few, else on disk, from where they are mapped."""

from __future__ import annotations

from contextlib import suppress

import pyarrow as pa

from eskret.core.files.scratch import drop_scratch, scratch_folder

_FEW = 64 << 20
"""Bytes that are kept in memory."""


class HeldBatches:
    """Rows of one table, added in batches and then read; what is on disk goes with the last that has it mapped."""

    def __init__(self, schema: pa.Schema) -> None:
        self._schema = schema
        self._batches: list[pa.RecordBatch] = []
        self._bytes = 0
        self._writer: pa.ipc.RecordBatchFileWriter | None = None

    def add(self, batch: pa.RecordBatch) -> None:
        """Add rows.

        Raises
        ------
        OSError : there is no room for them.
        """
        self._bytes += batch.nbytes
        if self._writer is None and self._bytes <= _FEW:
            self._batches.append(batch)
            return
        try:
            self._to_disk(batch)
        except OSError:
            with suppress(OSError):
                self.drop()
            raise

    def _to_disk(self, batch: pa.RecordBatch) -> None:
        if self._writer is None:
            self._folder = scratch_folder("rows")
            self._place = self._folder / "rows.arrow"
            self._writer = pa.ipc.new_file(str(self._place), self._schema)
            for one in self._batches:
                self._writer.write_batch(one)
            self._batches = []
        self._writer.write_batch(batch)

    @property
    def on_disk(self) -> bool:
        """Whether they are on disk: then nobody should copy all of them."""
        return self._writer is not None

    def drop(self) -> None:
        """Forget what was added."""
        if self._writer is not None:
            drop_scratch(self._folder)
            self._writer.close()

    def table(self) -> pa.Table:
        """What was added, as a table; nothing can be added any more.

        Raises
        ------
        OSError : there was no room for all of it.
        """
        if self._writer is None:
            return pa.Table.from_batches(self._batches, self._schema)
        try:
            self._writer.close()
            with pa.memory_map(str(self._place)) as source:
                return pa.ipc.open_file(source).read_all()
        finally:
            drop_scratch(self._folder)  # what is mapped stays for as long as it is
