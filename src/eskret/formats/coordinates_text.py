"""Text with coordinates: one point a line, in whatever layout somebody's instrument or colleague wrote it.

What the file does not say is found from its lines and can be overruled: encoding, the sign between values, whether the
first line names the columns, the decimal sign, and which columns are x and y.
"""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Generator, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import Remark
from eskret.core.naming import number_collisions
from eskret.core.words import pluralise
from eskret.errors import InputError
from eskret.formats import text
from eskret.formats.column_types import typed
from eskret.formats.vector import check_readable

ENDINGS = (".txt", ".csv", ".tsv", ".dat", ".asc", ".xyz", ".pts", ".tab", ".log")
_X = ("x", "lon", "long", "longitude", "lng", "easting", "east", "eastings", "e", "xcoord", "x_coord", "coord_x", "lon_dd")
_Y = ("y", "lat", "latitude", "northing", "north", "northings", "n", "ycoord", "y_coord", "coord_y", "lat_dd")
_NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?")
_COMMA_NUMBER = re.compile(r"[+-]?\d*,\d+([eE][+-]?\d+)?")
_GROUPED = re.compile(r"[+-]?[1-9]\d{0,2}(\.\d{3})+(,\d*)?")
_ANGLE = re.compile(
    r"""\s*(?P<before>[NSEWnsew])?\s*(?P<sign>[+-])?\s*(?P<d>\d+(?:\.\d+)?)\s*(?:[°dD:]|\s)\s*
    (?:(?P<m>\d+(?:\.\d+)?)\s*(?:['′:]|\s)?\s*(?:(?P<s>\d+(?:\.\d+)?)\s*(?:["″]|'')?\s*)?)?(?P<after>[NSEWnsew])?\s*""",
    re.VERBOSE,
)
_HALF = re.compile(r"\s*(?P<before>[NSEWnsew])?\s*(?P<d>\d+(?:\.\d+)?)\s*°?\s*(?P<after>[NSEWnsew])?\s*")


@dataclass(frozen=True)
class Layout:
    """How a text is laid out. ``x``, ``y`` and ``z`` are positions of columns (-1: not found, or none)."""

    spelling: text.Spelling
    delimiter: str
    header: bool
    decimal: str
    columns: tuple[str, ...]
    x: int = -1
    y: int = -1
    z: int = -1


@dataclass(frozen=True)
class Wish:
    """What somebody says of the layout; what is left empty is found. Columns are named, or numbered from 1."""

    encoding: str = ""
    delimiter: str = ""
    header: str = ""
    decimal: str = ""
    x: str = ""
    y: str = ""
    z: str = ""
    names: tuple[str, ...] = ()


@dataclass(frozen=True)
class Rows:
    """The records of a text.

    ``xyz`` is float64 (records, 3), NaN where there is none; ``table`` holds the other columns; ``bad`` gives, by
    position, what is wrong with a record (it stays in the arrays); ``lines`` the line each record stands in, from 1;
    ``remarks`` what there is to say of them.
    """

    layout: Layout
    xyz: np.ndarray
    table: pa.Table
    bad: dict[int, str]
    lines: np.ndarray
    remarks: tuple[Remark, ...] = ()


def layout_of(path: Path, wish: Wish | None = None) -> Layout:
    """Find how a text is laid out, as far as the wish leaves it open.

    Raises
    ------
    InputError : it is no text, or a column that is wished for is not there.
    """
    wish = wish or Wish()
    check_readable(path)
    spelling = text.spelling_of(path, wish.encoding)
    lines = text.sample_lines(path, spelling)
    if not lines:
        raise InputError("it holds no line of text", place=str(path), way_out="Check that it is the file you mean")
    delimiter = wish.delimiter or text.delimiter_of(lines, text.BLANKS)
    rows = [text.split_line(line, delimiter) for line in lines]
    decimal = wish.decimal or _decimal(rows[1:] or rows, delimiter)
    header = wish.header == "yes" if wish.header else _has_header(rows, decimal)
    names = _column_names(rows, header, wish.names)
    layout = Layout(spelling, delimiter, header, decimal, names)
    body = rows[1:] if header else rows
    x, y = _found_xy(layout, body)
    return replace(layout, x=_wished(path, layout, wish.x, x), y=_wished(path, layout, wish.y, y), z=_wished(path, layout, wish.z, -1))


def _decimal(rows: Sequence[Sequence[str]], delimiter: str) -> str:
    if delimiter == ",":
        return "."
    values = [v for row in rows for v in row]
    commas = sum(bool(_COMMA_NUMBER.fullmatch(v) or ("," in v and _GROUPED.fullmatch(v))) for v in values)
    points = sum("." in v and bool(_NUMBER.fullmatch(v)) for v in values)
    return "," if commas > points else "."


def _has_header(rows: Sequence[Sequence[str]], decimal: str) -> bool:
    """Whether the first line names columns: it has no number where the later lines have numbers."""
    if len(rows) < 2:
        return not any(number(v, decimal) is not None for v in rows[0])
    numeric = [
        n for n in range(len(rows[0])) if sum(len(r) > n and number(r[n], decimal) is not None for r in rows[1:]) > len(rows[1:]) / 2
    ]
    return bool(numeric) and all(number(rows[0][n], decimal) is None for n in numeric)


def _column_names(rows: Sequence[Sequence[str]], header: bool, given: Sequence[str]) -> tuple[str, ...]:
    # one line with a stray comma must not decide for all others
    width = len(rows[0]) if header else Counter(len(r) for r in rows).most_common(1)[0][0]
    names = [v.strip() for v in rows[0]] if header else []
    names = [*given, *names[len(given) :]]
    filled = [names[n] if n < len(names) and names[n] else f"column_{n + 1}" for n in range(max(width, len(given)))]
    return tuple(number_collisions(filled, limit=10_000))


def _found_xy(layout: Layout, body: Sequence[Sequence[str]]) -> tuple[int, int]:
    lower = [re.sub(r"[\s\[\(].*", "", c.casefold()) for c in layout.columns]
    x = next((lower.index(n) for n in _X if n in lower), -1)
    y = next((lower.index(n) for n in _Y if n in lower), -1)
    if x >= 0 and y >= 0:
        return x, y
    numeric = [
        n
        for n in range(len(layout.columns))
        if body and sum(len(r) > n and number(r[n], layout.decimal) is not None for r in body) > len(body) / 2
    ]
    # a running number is no coordinate
    numeric = [n for n in numeric if not _is_count([r[n] for r in body if len(r) > n])] or numeric
    return (numeric[0], numeric[1]) if len(numeric) >= 2 else (-1, -1)


def _is_count(values: Sequence[str]) -> bool:
    return len(values) > 1 and all(v == str(int(values[0]) + n) for n, v in enumerate(values)) if values and values[0].isdigit() else False


def _wished(path: Path, layout: Layout, wish: str, found: int) -> int:
    if not wish:
        return found
    lower = [c.casefold() for c in layout.columns]
    if wish.casefold() in lower:
        return lower.index(wish.casefold())
    if wish.isdigit() and 1 <= int(wish) <= len(layout.columns):
        return int(wish) - 1
    raise InputError(
        f"there is no column '{wish}'",
        place=str(path),
        way_out=f"It has {', '.join(layout.columns[:12])}, or numbers 1 to {len(layout.columns)}",
    )


def number(value: str, decimal: str = ".") -> float | None:
    """A coordinate of text: a number, or degrees with minutes and seconds (``47°14'14.8"N``); None where it is neither."""
    plain = value.strip()
    if decimal == ",":
        plain = (plain.replace(".", "") if _GROUPED.fullmatch(plain) else plain).replace(",", ".")
    if _NUMBER.fullmatch(plain):
        return float(plain)
    found = _ANGLE.fullmatch(plain) or _HALF.fullmatch(plain)
    if found is None:
        return None
    parts = found.groupdict()
    minutes, seconds = float(parts.get("m") or 0), float(parts.get("s") or 0)
    if minutes >= 60 or seconds >= 60:
        return None
    side = (parts["before"] or parts["after"] or "").upper()
    if parts["before"] and parts["after"]:
        return None
    degrees = float(parts["d"]) + minutes / 60 + seconds / 3600
    negative = parts.get("sign") == "-" or side in ("S", "W")
    return -degrees if negative else degrees


def rows_of(path: Path, wish: Wish | None = None) -> Rows:
    """All records of a text, remembered while the file does not change.

    Raises
    ------
    InputError : as ``layout_of``, and where no column of coordinates is found.
    """
    check_readable(path)
    state = path.stat()
    return _rows(path, wish or Wish(), state.st_mtime_ns, state.st_size)


@lru_cache(maxsize=8)
def _rows(path: Path, wish: Wish, changed: int, size: int) -> Rows:
    layout = layout_of(path, wish)
    if min(layout.x, layout.y) < 0 or layout.x == layout.y:
        raise InputError(
            "no two columns of coordinates are found in it",
            place=str(path),
            way_out=f"Say which columns are x and y; it has {', '.join(layout.columns[:12])}",
        )
    width = len(layout.columns)
    records, pieces, lines = _records(path, layout)
    recovered = _recovered(records, pieces, layout)
    xyz = np.full((len(records), 3), np.nan)
    bad: dict[int, str] = {}
    for n, row in enumerate(records):
        if len(row) != width:
            bad[n] = f"has {pluralise(len(row), 'value')} instead of {width}: {text.short(pieces[n])}"
            continue
        for axis, column in enumerate((layout.x, layout.y, layout.z)):
            if column < 0:
                continue
            found = number(row[column], layout.decimal)
            if found is None or not np.isfinite(found):
                if axis < 2:
                    bad.setdefault(n, f"'{row[column][:20]}' is no coordinate" if row[column] else "a coordinate is missing")
            else:
                xyz[n, axis] = found
    good = [row if len(row) == width else [""] * width for row in records]
    others = [n for n in range(width) if n not in (layout.x, layout.y)]
    columns, remarks = {}, list(layout.spelling.remarks)
    for n in others:
        values = pa.chunked_array([pa.array([row[n] or None for row in good], pa.string())])
        kept, looked = typed(values, layout.decimal)
        columns[layout.columns[n]] = kept.combine_chunks()
        remarks += looked.remarks(layout.columns[n], layout.decimal)
    table = pa.table(columns) if columns else pa.table({"line": pa.array(lines, pa.int64())})
    if recovered:
        shown = "; ".join(f"line {lines[n]}, '{name}' is {text.short(value)}" for n, name, value in recovered[:5])
        more = f" and {len(recovered) - 5:,} more" if len(recovered) > 5 else ""
        hold = "line holds" if len(recovered) == 1 else "lines hold"
        remarks.append(
            Remark(
                f"{len(recovered):,} {hold} the sign between values in one of them, put together where only one column can "
                f"hold it: {shown}{more}",
                look=True,
            )
        )
    return Rows(layout, xyz, table, bad, np.array(lines, np.int64), tuple(remarks))


def _records(path: Path, layout: Layout) -> tuple[list[list[str]], list[str], list[int]]:
    """The records cut into values; those of another width as they stand in the file, too; and the line of each."""
    records: list[list[str]] = []
    whole: list[str] = []
    lines: list[int] = []
    waiting = layout.header
    with text.lines_of(path, layout.spelling, newline="") as stream:
        taken: list[str] = []

        def kept() -> Generator[str, None, None]:
            for line in stream:
                taken.append(line)
                yield line

        if layout.delimiter == text.BLANKS:
            parsed: Any = ((n, line.split()) for n, line in enumerate(kept(), 1))
        else:
            reader = csv.reader(kept(), delimiter=layout.delimiter, skipinitialspace=True)
            parsed = ((reader.line_num, row) for row in reader)
        for line, row in parsed:
            standing = "".join(taken).rstrip("\r\n")
            taken.clear()
            if not any(v.strip() for v in row):
                continue
            if waiting:
                waiting = False
                continue
            records.append([v.strip() for v in row])
            whole.append(standing if len(row) != len(layout.columns) else "")
            lines.append(line)
    return records, whole, lines


def _recovered(records: list[list[str]], whole: Sequence[str], layout: Layout) -> list[tuple[int, str, str]]:
    """Put together, in place, values that were cut since they hold the sign between values: where just one column can hold it,
    the others being numbers. Gives the record, the column and the value of each."""
    width = len(layout.columns)
    long = [n for n, row in enumerate(records) if len(row) > width]
    if not long:
        return []
    good = [row for row in records if len(row) == width]
    numeric = {
        c
        for c in range(width)
        if c in (layout.x, layout.y) or (any(r[c] for r in good) and all(_may_be_number(r[c], layout) for r in good))
    }
    out = []
    for n in long:
        row = records[n]
        # blanks beside the sign are kept where it is plain that nothing is in quotes
        standing = whole[n].split(layout.delimiter) if layout.delimiter != text.BLANKS else row
        parts = standing if len(standing) == len(row) else row
        joint = " " if layout.delimiter == text.BLANKS else layout.delimiter
        more = len(row) - width
        ways = []
        for c in range(width):
            if c in numeric:
                continue
            tried = [*row[:c], joint.join(parts[c : c + more + 1]).strip(), *row[c + more + 1 :]]
            if all(_may_be_number(tried[k], layout) for k in numeric):
                ways.append((c, tried))
        if len(ways) == 1:
            c, records[n] = ways[0]
            out.append((n, layout.columns[c], records[n][c]))
    return out


def _may_be_number(value: str, layout: Layout) -> bool:
    return not value or number(value, layout.decimal) is not None
