"""Tables: delimited text, whose shapes are columns, and workbooks."""

from __future__ import annotations

import datetime as dt
from pathlib import Path
from typing import Any, ClassVar

from eskret.core.layer import Layer
from eskret.formats import delimited, tables, workbook
from eskret.formats.fitting import Bounds
from eskret.formats.format import Capacity, Format, Pairs, Put, Writing
from eskret.formats.holding import Holds
from eskret.formats.reading import Watch, no_watch


class Csv(Format):
    """One table as text (RFC 4180)."""

    title = "CSV"
    read_endings = {".csv": "CSV", ".tsv": "TSV"}
    written_endings = (".csv",)
    reads_with: ClassVar[Any] = tables
    changes = True
    values = Holds("CSV", frozenset({"bytes", "list"}), nan=True, most=0, digits=9, decimals=True, places=False, empties=True, untyped=True)

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        delimited.write(path, pairs[0][0], watch)
        return Put(self.count(path))

    def count(self, path: Path) -> int:
        return delimited.count(path)

    def as_stored(self, layer: Layer) -> Layer:
        return Layer(layer.key, delimited.with_geometry(layer)) if layer.has_geometry else layer


class Workbook(Format):
    """A sheet a layer (ISO/IEC 29500)."""

    title = "a workbook"
    read_endings = {".xlsx": "XLSX"}
    written_endings = (".xlsx",)
    reads_with: ClassVar[Any] = tables
    capacity = Capacity.SET
    name_limit = workbook.SHEET_NAME
    typed_limit = workbook.SHEET_NAME
    barred = "[]:*?/\\"
    words = frozenset({"title", "description"})
    bounds = Bounds(
        "a workbook",
        text_signs=workbook.MOST_SIGNS,
        most_fields=workbook.MOST_FIELDS - 2,
        most_rows=workbook.MOST_ROWS,
        zones=False,
        empty_texts=False,
    )
    values = Holds("a workbook", places=False, empties=True, whole_digits=15, first_day=dt.date(1900, 1, 1))

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        workbook.write(path, pairs, how.words, watch)
        return Put(self.count(path))

    def count(self, path: Path) -> int:
        return sum(workbook.count(path))
