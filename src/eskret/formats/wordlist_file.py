"""Word lists as CSV files."""

from __future__ import annotations

import csv
import os
from collections.abc import Mapping, Sequence
from pathlib import Path

from eskret.core.wordlist import ANY, COLUMNS, WordEntry
from eskret.errors import DeliveryError, InputError
from eskret.formats.text import BLANKS, delimiter_of, lines_of, sample_lines, spelling_of


def read_list(path: Path) -> list[WordEntry]:
    """The entries of a list, whatever it is written in and parted by: a word list, or anybody's two columns, which count as
    spelling and word in every field.

    Raises
    ------
    InputError : no such file, no text, or neither.
    """
    if not path.exists():
        raise InputError("there is no such word list", place=str(path), way_out="Draft one, or choose another")
    try:
        spelling = spelling_of(path, way_out="save it as UTF-8")
        sign = delimiter_of(sample_lines(path, spelling))
        with lines_of(path, spelling, newline="") as stream:
            rows = [row for row in csv.reader(stream, delimiter="," if sign == BLANKS else sign) if row]
    except csv.Error as error:
        raise InputError(f"it cannot be read as a word list ({error})", place=str(path), way_out="Save it as UTF-8 CSV") from error
    except OSError as error:
        raise InputError(f"it cannot be read ({error.strerror})", place=str(path)) from error
    heads = [h.strip() for h in rows[0]] if rows else []
    if {"field", "spelling"} <= set(heads):
        return [_entry(dict(zip(heads, row, strict=False))) for row in rows[1:]]
    if is_pairs(rows):
        return [WordEntry(ANY, row[0], 0, row[0], row[1].strip()) for row in rows]
    missing = next(c for c in ("field", "spelling") if c not in heads)
    raise InputError(
        f"it has no column '{missing}', and not just two",
        place=str(path),
        way_out=f"A word list has {', '.join(COLUMNS)}; a list of somebody else has a spelling and a word in each line",
    )


def is_pairs(rows: Sequence[Sequence[str]]) -> bool:
    """Whether a table is somebody's own list: a spelling and a word in each row."""
    return bool(rows) and all(len(row) == 2 for row in rows)


def _entry(row: Mapping[str, str]) -> WordEntry:
    count = (row.get("count") or "").strip()
    spelling = row.get("spelling") or ""
    return WordEntry(
        row.get("field") or "",
        spelling,
        int(count) if count.isdigit() else 0,
        row.get("suggestion") or spelling,
        (row.get("word") or "").strip(),
    )


def write_list(path: Path, entries: Sequence[WordEntry]) -> None:
    """Write a list whole; the file is either old or new.

    Raises
    ------
    DeliveryError : it cannot be written.
    """
    staged = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with staged.open("w", encoding="utf-8", newline="") as stream:
            rows = csv.writer(stream)
            rows.writerow(COLUMNS)
            rows.writerows((e.field, e.spelling, e.count, e.suggestion, e.word) for e in entries)
        staged.replace(path)
    except OSError as error:
        staged.unlink(missing_ok=True)
        raise DeliveryError(f"the word list cannot be written ({error.strerror})", place=str(path)) from error
