"""GeoParquet 1.1."""

from __future__ import annotations

from pathlib import Path
from typing import Any, ClassVar

from eskret.formats import parquet
from eskret.formats.format import Format, Pairs, Put, Writing
from eskret.formats.holding import Holds
from eskret.formats.reading import Watch, no_watch


class GeoParquet(Format):
    """One layer in columns, with every type."""

    title = "GeoParquet"
    read_endings = {".parquet": "GeoParquet"}
    written_endings = (".parquet",)
    reads_with: ClassVar[Any] = parquet
    changes = True
    words = frozenset({"title", "description", "licence"})
    values = Holds("GeoParquet", nan=True, most=0, digits=9, decimals=True, empties=True)

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        parquet.write(path, pairs[0][0], how.words, watch)
        return Put(self.count(path))

    def count(self, path: Path) -> int:
        return parquet.count(path)
