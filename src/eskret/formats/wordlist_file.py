"""Word lists as CSV files."""

from __future__ import annotations

import csv
import os
from collections.abc import Sequence
from pathlib import Path

from eskret.core.wordlist import COLUMNS, Entry
from eskret.errors import DeliveryError, InputError


def read_list(path: Path) -> list[Entry]:
    """The entries of a list.

    Raises
    ------
    InputError : no such file, no text, or not the columns of a word list.
    """
    try:
        with path.open(encoding="utf-8-sig", newline="") as stream:
            rows = csv.DictReader(stream)
            missing = [c for c in ("field", "spelling") if c not in (rows.fieldnames or [])]
            if missing:
                raise InputError(
                    f"it has no column '{missing[0]}'", place=str(path), way_out=f"A word list has {', '.join(COLUMNS)}"
                )
            return [_entry(row) for row in rows if row.get("spelling") is not None]
    except FileNotFoundError as error:
        raise InputError(
            "there is no such word list", place=str(path), way_out="Draft one, or choose another"
        ) from error
    except (UnicodeDecodeError, csv.Error) as error:
        raise InputError(
            f"it cannot be read as a word list ({error})", place=str(path), way_out="Save it as UTF-8 CSV"
        ) from error
    except OSError as error:
        raise InputError(f"it cannot be read ({error.strerror})", place=str(path)) from error


def _entry(row: dict[str, str | None]) -> Entry:
    count = (row.get("count") or "").strip()
    spelling = row.get("spelling") or ""
    return Entry(
        row.get("field") or "", spelling, int(count) if count.isdigit() else 0, row.get("suggestion") or spelling,
        (row.get("word") or "").strip(),
    )  # fmt: skip


def write_list(path: Path, entries: Sequence[Entry]) -> None:
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
