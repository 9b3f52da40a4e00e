"""Write layers as the sheets of a workbook (Office Open XML): points with x and y, other shapes as well-known text."""

from __future__ import annotations

import datetime as dt
import zipfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa

from eskret.core.layer import Layer
from eskret.formats import tables
from eskret.formats.delimited import with_geometry
from eskret.formats.fitting import Bounds
from eskret.formats.format import Capacity, Format, Pairs, Put, Reader, Writing
from eskret.formats.holding import Holds
from eskret.formats.reading import Watch, no_watch

_STEP = 5_000
MOST_ROWS = 1_048_575
MOST_FIELDS = 16_384
MOST_SIGNS = 32_767
SHEET_NAME = 31


def write(path: Path, layers: Sequence[tuple[Layer, str]], words: Mapping[str, str], watch: Watch = no_watch) -> None:
    """Write a new workbook, a sheet for each layer. Whole numbers of more than 15 digits are written as text: a workbook holds
    numbers with no more."""
    import xlsxwriter

    options = {"constant_memory": True, "strings_to_formulas": False, "strings_to_urls": False, "nan_inf_to_errors": False}
    book = xlsxwriter.Workbook(str(path), options)
    try:
        book.set_properties({"title": words.get("title", ""), "comments": words.get("description", "")})
        head = book.add_format({"bold": True})
        day, moment = (book.add_format({"num_format": "yyyy-mm-dd"}), book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss"}))
        for layer, name in layers:
            sheet = book.add_worksheet(name)
            table = with_geometry(layer)
            for column, title in enumerate(table.column_names):
                sheet.write_string(0, column, title, head)
            sheet.freeze_panes(1, 0)
            for start in range(0, table.num_rows, _STEP):
                part = table.slice(start, _STEP)
                columns = [_values(c) for c in part.columns]
                for row in range(part.num_rows):
                    if all(values[row] is None for values in columns):
                        sheet.write_blank(start + row + 1, 0, None, day)  # so that the row is there
                    for column, values in enumerate(columns):
                        _put(sheet, start + row + 1, column, values[row], day, moment)
                watch(min(start + _STEP, table.num_rows), table.num_rows)
    finally:
        book.close()


def _values(column: pa.ChunkedArray) -> list[object]:
    if pa.types.is_timestamp(column.type) and column.type.tz:
        # a workbook knows no zones: the hour is that of UTC
        column = column.cast(pa.timestamp("ms", "UTC"), safe=False).cast(pa.timestamp("ms"))
    elif pa.types.is_timestamp(column.type):
        column = column.cast(pa.timestamp("ms"), safe=False)
    return list(column.to_pylist())


def _put(sheet: Any, row: int, column: int, value: Any, day: Any, moment: Any) -> None:
    if value is None or value != value:
        return
    if isinstance(value, bool):
        sheet.write_boolean(row, column, value)
    elif isinstance(value, int) and abs(value) >= 10**15:
        sheet.write_string(row, column, str(value))
    elif isinstance(value, int | float):
        if value in (float("inf"), float("-inf")):
            sheet.write_string(row, column, str(value))
        else:
            sheet.write_number(row, column, value)
    elif isinstance(value, dt.datetime):
        _dated(sheet, row, column, value, moment)
    elif isinstance(value, dt.date):
        _dated(sheet, row, column, dt.datetime(value.year, value.month, value.day), day)
    else:
        sheet.write_string(row, column, str(value))


def _dated(sheet: Any, row: int, column: int, value: dt.datetime, form: Any) -> None:
    """A date, or its text where a workbook's calendar does not reach back as far."""
    if value.year < 1900:
        sheet.write_string(row, column, value.isoformat(" ").removesuffix(" 00:00:00"))
    else:
        sheet.write_datetime(row, column, value, form)


def count(path: Path) -> list[int]:
    """Rows below the heads of each sheet, counted in the file itself."""
    out = []
    with zipfile.ZipFile(path) as archive:
        number = 1
        while f"xl/worksheets/sheet{number}.xml" in archive.namelist():
            found, tail = 0, b""
            with archive.open(f"xl/worksheets/sheet{number}.xml") as stream:
                while piece := stream.read(1 << 20):
                    text = tail + piece
                    found += text.count(b"<row ") - tail.count(b"<row ")
                    tail = text[-4:]
            out.append(found - 1)
            number += 1
    return out


class Workbook(Format):
    """A sheet a layer (ISO/IEC 29500)."""

    title = "a workbook"
    read_endings = {".xlsx": "XLSX"}
    written_endings = (".xlsx",)
    reads_with = Reader(tables.layer_names, tables.facts, tables.read)
    capacity = Capacity.SET
    name_limit = SHEET_NAME
    typed_limit = SHEET_NAME
    barred = "[]:*?/\\"
    words = frozenset({"title", "description"})
    bounds = Bounds("a workbook", text_signs=MOST_SIGNS, most_fields=MOST_FIELDS - 2, most_rows=MOST_ROWS, zones=False, empty_texts=False)
    values = Holds("a workbook", places=False, empties=True, whole_digits=15, first_day=dt.date(1900, 1, 1))

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        write(path, pairs, how.words, watch)
        return Put(self.count(path))

    def count(self, path: Path) -> int:
        return sum(count(path))
