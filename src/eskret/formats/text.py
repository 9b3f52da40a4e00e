"""What a text file does not say of itself: its encoding, the sign between its values, the types of its columns."""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc

from eskret.errors import InputError

SAMPLE = 1 << 18
BLANKS = " "
"""Stands for a run of blanks and tabs between values."""

DELIMITERS = {"\t": "tab", ";": "semicolon", "|": "bar", ",": "comma", BLANKS: "blanks"}
_MARKS = ((codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"))
_WHOLE = r"^\s*[+-]?(0|[1-9][0-9]*)\s*$"
_NUMBER = r"^\s*[+-]?((0|[1-9][0-9]*)(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]+)?\s*$"
_COMMA_NUMBER = r"^\s*[+-]?(0|[1-9][0-9]*)(,[0-9]+)?\s*$"
_DATE = r"^\d{4}-\d{2}-\d{2}$"
_TIME = r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?(Z|[+-]\d{2}:?\d{2})?$"
_ZONED = r"(Z|[+-]\d{2}:?\d{2})$"
_LOGICAL = r"^(true|false)$"
_TWO_NUMBERS = re.compile(r"\s*[+-]?\d+\s+[+-]?\d+\s*")


def encoding_of(path: Path, wanted: str = "") -> tuple[str, bool]:
    """The encoding of a text, and whether it is sure: Unicode shows itself, cp1252 is what is taken for the rest.

    Raises
    ------
    InputError : the wanted encoding is not known, or the text is not in it.
    """
    with path.open("rb") as stream:
        head = stream.read(4)
        marked = next((name for mark, name in _MARKS if head.startswith(mark)), "")
        stream.seek(0)
        if wanted:
            _decoded(path, stream, wanted)
            return marked if marked and codecs.lookup(wanted).name.startswith("utf") else wanted, True
        if marked:
            _decoded(path, stream, marked)
            return marked, True
        decoder = codecs.getincrementaldecoder("utf-8")()
        try:
            while piece := stream.read(1 << 20):
                if b"\0" in piece:
                    raise InputError("it is no text", place=str(path), way_out="Check that it is the file you mean")
                decoder.decode(piece)
            decoder.decode(b"", True)
        except UnicodeDecodeError:
            return "cp1252", False
    return "utf-8", True


def _decoded(path: Path, stream: io.BufferedReader, encoding: str) -> None:
    try:
        decoder = codecs.getincrementaldecoder(encoding)()
        while piece := stream.read(1 << 20):
            decoder.decode(piece)
        decoder.decode(b"", True)
    except LookupError as error:
        raise InputError(
            f"no encoding is called '{encoding}'", place=str(path), way_out="Try utf-8 or cp1252"
        ) from error
    except UnicodeDecodeError as error:
        raise InputError(
            f"its text is not in {encoding} (byte {error.start + 1:,})", place=str(path),
            way_out="Name another encoding, or leave it empty to have it found",
        ) from error  # fmt: skip


def sample_lines(path: Path, encoding: str, most: int = 200) -> list[str]:
    """The first lines that hold something."""
    with path.open(encoding=encoding, errors="replace", newline=None) as stream:
        text = stream.read(SAMPLE)
    lines = text.split("\n")
    if len(text) == SAMPLE and len(lines) > 1:
        lines.pop()  # cut in the middle
    return [line for line in lines if line.strip()][:most]


def split_line(line: str, delimiter: str) -> list[str]:
    """The values of a line, blanks around them taken off; a value in quotes may hold the delimiter."""
    if delimiter == BLANKS:
        return line.split()
    return [v.strip() for v in next(csv.reader([line], delimiter=delimiter, skipinitialspace=True), [])]


def delimiter_of(lines: Sequence[str], default: str = ",") -> str:
    """The sign that cuts most lines into the same number of values, two or more."""
    best, best_score = default, 0.0
    for place, sign in enumerate(DELIMITERS):
        rows = [split_line(line, sign) for line in lines]
        counts = Counter(len(r) for r in rows if len(r) > 1)
        if not counts:
            continue
        width, often = counts.most_common(1)[0]
        score = often / len(rows) - place / 1000
        # 47,23 26,13: the comma there is a decimal sign, since it leaves two numbers in one value
        if sign == "," and sum(any(_TWO_NUMBERS.fullmatch(v) for v in r) for r in rows) > len(rows) / 2:
            score -= 0.5
        # in "ST01, 47.2, 26.1" blanks part values too, and leave the signs hanging on them
        if sign == BLANKS and (width > 8 or sum(any(v[-1] in ",;" for v in r) for r in rows) > len(rows) / 2):
            score -= 0.5
        if score > best_score:
            best, best_score = sign, score
    return best


def typed(column: pa.ChunkedArray, comma: bool = False) -> pa.ChunkedArray:
    """A column of text in the type that all its values have: whole number, number, date, date and time, yes/no; else text.

    Numbers with leading zeros are codes and stay text. Empty cells do not count.

    Parameters
    ----------
    comma : whether a comma can be a decimal sign.
    """
    values = column.drop_null()
    if not len(values):
        return column

    def all_match(pattern: str) -> bool:
        return bool(pc.all(pc.match_substring_regex(values, pattern)).as_py())

    try:
        if all_match(_WHOLE):
            return pc.utf8_trim_whitespace(_unsigned(column)).cast(pa.int64())
        if all_match(_NUMBER):
            return pc.utf8_trim_whitespace(_unsigned(column)).cast(pa.float64())
        if comma and all_match(_COMMA_NUMBER):
            return pc.utf8_trim_whitespace(_unsigned(pc.replace_substring(column, ",", "."))).cast(pa.float64())
        if all_match(_LOGICAL):
            return column.cast(pa.bool_())
        if all_match(_DATE):
            return column.cast(pa.date32())
        if all_match(_TIME):
            zoned = pc.match_substring_regex(values, _ZONED)
            if pc.all(zoned).as_py():
                return column.cast(pa.timestamp("ms", "UTC"))
            if not pc.any(zoned).as_py():
                return column.cast(pa.timestamp("ms"))
    except pa.ArrowInvalid:
        pass  # a number of twenty digits, a 31st of June: it is text
    return column


def _unsigned(column: pa.ChunkedArray) -> pa.ChunkedArray:
    return pc.replace_substring_regex(column, r"^(\s*)\+", r"\1")
