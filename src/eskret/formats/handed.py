"""Batches handed to a library that makes an error of its own of whatever is raised while it asks for the next one."""

from __future__ import annotations

import shutil
from collections.abc import Generator, Iterable
from contextlib import contextmanager
from pathlib import Path

import pyarrow as pa

from eskret.errors import Code, DeliveryError
from eskret.formats.reading import Watch, no_watch

_LEAST_ROOM = 1 << 20


class Handed:
    """Batches that a library asks for one after the other while it writes.

    Parameters
    ----------
    rows : how many there will be, at most.
    """

    def __init__(self, batches: Iterable[pa.RecordBatch], rows: int, watch: Watch = no_watch) -> None:
        self._batches, self._rows, self._watch = batches, rows, watch
        self._raised: BaseException | None = None
        self.done = 0
        """Rows that were handed over."""

    def __iter__(self) -> Generator[pa.RecordBatch, None, None]:
        try:
            for batch in self._batches:
                yield batch
                self.done += batch.num_rows
                self._watch(self.done, self._rows)
        except BaseException as error:
            self._raised = error
            raise

    @contextmanager
    def written_to(self, path: Path) -> Generator[None, None, None]:
        """Do the writing within this.

        Raises
        ------
        DeliveryError : it cannot be written; the file may then be half written, as only a staged one may be.
        Exception : whatever making a batch raised.
        """
        try:
            yield
        except Exception as error:
            if isinstance(self._raised, Exception):  # not the end that the library put to it
                raise self._raised from error
            if no_room(path):
                raise DeliveryError("the disk is full", place=str(path), way_out="Make room and run again", code=Code.DISK_FULL) from error
            raise DeliveryError(f"it cannot be written ({str(error)[:160]})", place=str(path)) from error


def no_room(path: Path) -> bool:
    """Whether the disk is full: a library may say of a failed writing only that it failed."""
    folder = path.parent
    return folder.is_dir() and shutil.disk_usage(folder).free < _LEAST_ROOM
