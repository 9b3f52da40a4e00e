"""Tables without geometry: CSV, TSV (RFC 4180, and what people make of it) and XLSX."""

from __future__ import annotations

import csv as csv_lines
import datetime as dt
import errno
from collections.abc import Callable, Generator, Sequence
from dataclasses import replace
from functools import lru_cache, partial
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.csv

from eskret.core.accounts.account import Remark
from eskret.core.files.held_batches import HeldBatches
from eskret.core.files.user_state import cache_place
from eskret.core.geometry.parallel import in_threads
from eskret.core.layer import GeometryKind, Layer, LayerFacts
from eskret.core.layer import chunks as chunking
from eskret.core.naming import number_collisions
from eskret.core.words import pluralise
from eskret.errors import Code, InputError
from eskret.formats import archives, text
from eskret.formats.column_types import TextColumn, decimal_of
from eskret.formats.reading import AS_DECLARED, Reading, Texts, Watch, no_watch
from eskret.formats.vector import check_readable


def layer_names(path: Path) -> list[str]:
    """The sheets of a workbook that hold something; for a text its own name."""
    if path.suffix.lower() != ".xlsx":
        check_readable(path)
        return [path.stem]
    return list(_sheets(path))


def facts(path: Path, name: str, key: str, texts: Texts = AS_DECLARED) -> LayerFacts:
    """Facts of a table; it is read for them, since nothing else tells its types."""
    return read(path, name, key, texts).facts()


def read(path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch) -> Reading:
    """Read a table.

    Raises
    ------
    InputError : it cannot be read, or has no such sheet.
    """
    watch(0, 0)
    if path.suffix.lower() == ".xlsx":
        sheets = _sheets(path)
        if name not in sheets:
            raise InputError(f"it has no sheet '{name}'", place=str(path), way_out=f"It has {', '.join(sheets)}")
        reading = sheets[name]
    else:
        check_readable(path)
        state = path.stat()
        reading = _delimited(path, texts.codec, state.st_mtime_ns, state.st_size)
    return replace(reading, layer=reading.layer.with_key(key))


# -- delimited text

_BLOCK = 1 << 24
"""Bytes that are parsed at a time; a record is shorter."""
_MANY = 5_000
"""Rows from which on threads are worth it."""
T = TypeVar("T")


@lru_cache(maxsize=8)
def _delimited(path: Path, encoding: str, changed: int, size: int) -> Reading:
    spelling = text.spelling_of(path, encoding)
    lines = text.sample_lines(path, spelling)
    if not lines:
        raise InputError("it holds no line of text", place=str(path), way_out="Fetch it again from its source")
    delimiter = "\t" if path.suffix.lower() == ".tsv" else text.delimiter_of(lines)
    if delimiter == text.BLANKS:
        delimiter = ","
    head = text.split_line(lines[0], delimiter)
    names, remarks = _names(head)
    bad: list[tuple[int, int, str]] = []
    remarks += spelling.remarks
    columns = [TextColumn("." if delimiter == "," else "") for _ in names]
    texts = HeldBatches(pa.schema([(n, pa.string()) for n in names]))
    try:
        for batch in _parsed(path, spelling, delimiter, names, bad):
            _each([partial(c.look, values) for c, values in zip(columns, batch.columns, strict=True)], batch)
            texts.add(batch)
        decimal = "." if delimiter == "," else decimal_of(columns)
        held = _typed(texts.table(), columns, decimal)
        table = held.table()
    except OSError as error:
        if error.errno not in (errno.ENOSPC, errno.EFBIG, errno.EDQUOT):
            raise
        raise InputError(
            "there is no room for its records, which lie on disk while they are read",
            place=str(path),
            way_out=f"Make room where {cache_place()} is, about three times what it takes itself",
            code=Code.DISK_FULL,
        ) from error
    remarks += [r for column, name in zip(columns, names, strict=True) for r in column.remarks(name, decimal)]
    aside = []
    if bad:
        # positions among the records: each bad one stands after the good ones before it
        aside = [(f"has not {pluralise(len(names), 'value')} as the header has", np.array([n for n, _, _ in bad], np.int64))]
        shown = "; ".join(f"record {n + 2} has {w}: {text.short(t)}" for n, w, t in bad[:5]) + (" ..." if len(bad) > 5 else "")
        have = "record has" if len(bad) == 1 else "records have"
        remarks.append(Remark(f"{len(bad):,} {have} not as many values as the header's {len(names)}: {shown}", look=True))
    layer = Layer(path.stem, table if held.on_disk else table.combine_chunks(), None, None, path.stem, str(path))
    return Reading(layer, len(table) + len(bad), tuple(aside), tuple(remarks))


def _each(work: Sequence[Callable[[], T]], batch: pa.RecordBatch) -> list[T]:
    """What is done with each column: of many rows several at the same time."""
    return in_threads(work) if batch.num_rows > _MANY else [one() for one in work]


def _typed(texts: pa.Table, columns: Sequence[TextColumn], decimal: str) -> HeldBatches:
    """The columns in their types."""
    while True:
        held = HeldBatches(pa.schema([(n, c.type_of(decimal)) for n, c in zip(texts.column_names, columns, strict=True)]))
        for batch in texts.to_batches():
            values = _each([partial(c.typed, v, decimal) for c, v in zip(columns, batch.columns, strict=True)], batch)
            if any(v is None for v in values):
                break  # of one more it turned out that it is text
            held.add(pa.record_batch(values, texts.column_names))
        else:
            return held
        held.drop()


def chunks(path: Path, key: str, texts: Texts, watch: Watch, least: int) -> Generator[Reading, None, None] | None:
    """Read a table so many records at a time; None where it has no more than ``least``.

    Raises
    ------
    InputError : as ``read``.
    """
    whole = read(path, path.stem, key, texts, watch)
    if path.suffix.lower() == ".xlsx" or len(whole.layer) <= least:
        return None
    return _sliced(whole, watch)


def _sliced(whole: Reading, watch: Watch) -> Generator[Reading, None, None]:
    """Some of what was read at a time; records that were set aside with those before and behind which they stand."""
    bad = np.concatenate([rows for _, rows in whole.set_aside]) if whole.set_aside else np.empty(0, np.int64)
    reason = whole.set_aside[0][0] if whole.set_aside else ""
    rows = len(whole.layer)
    first = 0
    for start in range(0, rows, chunking.CHUNK):
        stop = min(start + chunking.CHUNK, rows)
        # the record behind the last good one: as many bad ones stand before it as their positions say
        end = whole.found if stop == rows else stop + int(np.searchsorted(bad - np.arange(len(bad)), stop, side="left"))
        mine = bad[(bad >= first) & (bad < end)] - first
        watch(stop, rows)
        aside = ((reason, mine),) if len(mine) else ()
        yield Reading(whole.layer.slice(start, stop), end - first, aside, whole.remarks if not start else ())
        first = end


def _parsed(
    path: Path, spelling: text.Spelling, delimiter: str, names: Sequence[str], bad: list[tuple[int, int, str]]
) -> Generator[pa.RecordBatch, None, None]:
    """The records as text, some at a time; of those that have not as many values as they should, what ``bad`` gets to know."""
    csv = pyarrow.csv

    def skip(row: Any) -> str:
        # the first record below the header is number 2
        bad.append((row.number - 2, row.actual_columns, str(row.text)))
        return "skip"

    try:
        with path.open("rb") if spelling.codec == "utf-8" else text.opened(path, spelling) as stream:
            yield from csv.open_csv(
                stream,
                read_options=csv.ReadOptions(use_threads=False, column_names=list(names), skip_rows_after_names=1, block_size=1 << 24),
                parse_options=csv.ParseOptions(delimiter=delimiter, newlines_in_values=True, invalid_row_handler=skip),
                convert_options=csv.ConvertOptions(
                    column_types={n: pa.string() for n in names},
                    strings_can_be_null=True,
                    null_values=[""],
                    quoted_strings_can_be_null=False,
                ),
            )
    except pa.ArrowInvalid as error:
        if _has_no_rows(path, spelling, delimiter):
            return
        raise InputError(
            f"it cannot be read as a table ({str(error)[:120]})", place=str(path), way_out="Open it where it was made and save it again"
        ) from error


def _has_no_rows(path: Path, spelling: text.Spelling, delimiter: str) -> bool:
    """Whether there is nothing behind the head of a table: the library takes that for a mistake."""
    with text.lines_of(path, spelling, newline="") as stream:
        rows = csv_lines.reader(stream, delimiter=delimiter)
        next(rows, None)
        return not any(row for row in rows)


def _names(head: Sequence[object]) -> tuple[list[str], list[Remark]]:
    """Names of columns: empty ones numbered, equal ones told apart."""
    said: list[Remark] = []
    given = [str(h).strip() if h is not None else "" for h in head]
    named = [h or f"column_{n}" for n, h in enumerate(given, 1)]
    names = number_collisions(named, limit=10_000)
    for n, (old, new) in enumerate(zip(given, names, strict=True), 1):
        if not old:
            said.append(Remark(f"column {n} has no name in the header and is called '{new}'"))
        elif old != new:
            said.append(Remark(f"a second column '{old}' is called '{new}'"))
    return names, said


# -- workbooks


def _sheets(path: Path) -> dict[str, Reading]:
    check_readable(path)
    state = path.stat()
    return _workbook(path, state.st_mtime_ns, state.st_size)


@lru_cache(maxsize=4)
def _workbook(path: Path, changed: int, size: int) -> dict[str, Reading]:
    import python_calamine

    archives.check(path)
    try:
        book = python_calamine.load_workbook(str(path))
        sheets = {name: book.get_sheet_by_name(name).to_python(skip_empty_area=True) for name in book.sheet_names}
    except python_calamine.PasswordError as error:
        raise InputError("it is locked with a password", place=str(path), way_out="Save it without one") from error
    except (python_calamine.CalamineError, OSError, ValueError) as error:
        raise InputError(
            "it cannot be read as a workbook; it is damaged, or not what its ending says",
            place=str(path),
            way_out="Open it where it was made and save it again",
        ) from error
    out = {name: _sheet(path, name, rows) for name, rows in sheets.items() if any(any(c != "" for c in r) for r in rows)}
    if not out:
        raise InputError("none of its sheets holds anything", place=str(path), way_out="Check that it is the file you mean")
    return out


def _sheet(path: Path, name: str, rows: Sequence[Sequence[object]]) -> Reading:
    """The first row with something in it names the columns."""
    start = next(n for n, row in enumerate(rows) if any(c != "" for c in row))
    head = [_header(c) for c in rows[start]]
    while head and not head[-1] and all(row[len(head) - 1 :][:1] in ([], [""]) for row in rows[start + 1 :]):
        head.pop()
    names, remarks = _names(head)
    body = [row for row in rows[start + 1 :] if any(c != "" for c in row)]
    columns = {}
    for n, column in enumerate(names):
        values, remark = _cells([row[n] if n < len(row) else "" for row in body])
        columns[column] = values
        if remark:
            remarks.append(Remark(f"'{column}' {remark}"))
    table = pa.table(columns)
    layer = Layer(name, table, None, None, name, str(path), kind=GeometryKind.TABLE)
    return Reading(layer, len(body), (), tuple(remarks))


def _header(cell: object) -> str:
    return str(int(cell)) if isinstance(cell, float) and cell.is_integer() else str(cell).strip()


_TYPES: tuple[tuple[type | tuple[type, ...], pa.DataType, Callable[[Any], Any]], ...] = (
    (bool, pa.bool_(), bool),
    ((int, float), pa.float64(), float),
    (dt.datetime, pa.timestamp("ms"), lambda v: v),
    (dt.date, pa.date32(), lambda v: v),
    (dt.time, pa.time64("us"), lambda v: v),
    (str, pa.string(), lambda v: v),
)


def _cells(cells: Sequence[Any]) -> tuple[pa.Array, str]:
    """A column of cells in the one type they have; of several types it is text, and that is said."""
    values = [None if c == "" else c for c in cells]
    if any(isinstance(v, float) for v in values):
        # a cell holds no endless number: it stands there in letters
        values = [float(v) if v in ("inf", "-inf") else v for v in values]
    kinds = {_kind(v) for v in values if v is not None}
    if not kinds:
        return pa.array(values, pa.string()), ""
    if kinds == {2, 3}:
        return pa.array(
            [v if v is None or isinstance(v, dt.datetime) else dt.datetime(v.year, v.month, v.day) for v in values], pa.timestamp("ms")
        ), ""
    if len(kinds) > 1:
        return pa.array([None if v is None else _header(v) for v in values], pa.string()), "holds several types and is text"
    _, arrow, convert = _TYPES[kinds.pop()]
    out = pa.array([None if v is None else convert(v) for v in values], arrow)
    if pa.types.is_floating(arrow) and all(v is None or (float(v).is_integer() and abs(v) < 2**53) for v in values):
        out = out.cast(pa.int64())
    return out, ""


def _kind(value: object) -> int:
    return next((n for n, (types, _, _) in enumerate(_TYPES) if isinstance(value, types)), 5)
