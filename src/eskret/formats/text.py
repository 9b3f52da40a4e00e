"""What a text file does not say of itself: its encoding, the sign between its values, the types of its columns."""

from __future__ import annotations

import codecs
import csv
import io
import re
from collections import Counter
from collections.abc import Generator, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, TextIO

import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.accounts.account import Remark
from eskret.core.texts import ASSUMED, SINGLE_BYTE, codec_of, decode, proposal, sentences
from eskret.core.words import pluralise
from eskret.errors import Code, InputError

SAMPLE = 1 << 18
BLANKS = " "
"""Stands for a run of blanks and tabs between values."""

DELIMITERS = {"\t": "tab", ";": "semicolon", "|": "bar", ",": "comma", BLANKS: "blanks"}
_MARKS = ((codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"))
_WHOLE = r"^\s*[+-]?(0|[1-9][0-9]*)\s*$"
_NUMBER = r"^\s*[+-]?((0|[1-9][0-9]*)(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]+)?\s*$"
_NO_NUMBER = r"^\s*[+-]?(?i:nan|inf|infinity)\s*$"
"""As programs write what is no number, or endless, in a column of numbers (IEEE 754, 5.12.1)."""
_COMMA_NUMBER = r"^\s*[+-]?((0|[1-9][0-9]*)(,[0-9]*)?|,[0-9]+|[1-9][0-9]{0,2}(\.[0-9]{3})+(,[0-9]*)?)([eE][+-]?[0-9]+)?\s*$"
_DATE = r"^\d{4}-\d{2}-\d{2}$"
_TIME = r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?(Z|[+-]\d{2}:?\d{2})?$"
_ZONED = r"(Z|[+-]\d{2}:?\d{2})$"
_LOGICAL = r"^(true|false)$"
_TWO_NUMBERS = re.compile(r"\s*[+-]?\d+\s+[+-]?\d+\s*")


@dataclass(frozen=True)
class Spelling:
    """How a text is written down: ``codec``, and whether lines that are no UTF-8 stand among such that are (``mixed``).

    ``remarks`` are what there is to say of it.
    """

    codec: str
    mixed: bool = False
    remarks: tuple[Remark, ...] = ()

    def text_of(self, raw: bytes) -> str:
        """One line."""
        if self.mixed:
            try:
                return raw.decode("utf-8")
            except UnicodeDecodeError:
                pass
        return raw.decode(self.codec, "replace")


def spelling_of(path: Path, wanted: str = "", way_out: str = "name the encoding") -> Spelling:
    """How a text is written down: as its mark says, else as wanted, else UTF-8, and cp1252 for lines that are not.

    Raises
    ------
    InputError : the wanted encoding is not known, or the text is not in it, or it is no text at all.
    """
    with path.open("rb") as stream:
        head = stream.read(4)
    marked = next((name for mark, name in _MARKS if head.startswith(mark)), "")
    codec = codec_of(wanted)
    if wanted and not codec:
        raise InputError(f"no encoding is called '{wanted}'", place=str(path), way_out="Try utf-8 or cp1252")
    if marked and (not wanted or codec.startswith("utf")):
        return _checked(path, marked)
    return _checked(path, codec) if codec else _found(path, way_out)


def _checked(path: Path, codec: str) -> Spelling:
    decoder = codecs.getincrementaldecoder(codec)()
    try:
        with path.open("rb") as stream:
            while piece := stream.read(1 << 20):
                decoder.decode(piece)
        decoder.decode(b"", True)
    except UnicodeDecodeError as error:
        if codec not in SINGLE_BYTE:
            raise InputError(
                f"its text is not in {codec} (byte {error.start + 1:,})",
                place=str(path),
                way_out="Name another encoding, or leave it empty to have it found",
                code=Code.UNDECODABLE,
            ) from error
        with path.open("rb") as stream:
            found = Counter(decode(line, codec)[1] for line in stream)
        return Spelling(codec, remarks=tuple(_looks(sentences(found, codec, "line"))))
    return Spelling(codec)


def _found(path: Path, way_out: str) -> Spelling:
    """Lines that are no UTF-8 are taken for cp1252."""
    if _is_utf8(path):
        return Spelling("utf-8")
    unicode, others = 0, []
    with path.open("rb") as stream:
        for line in stream:
            if line.isascii():
                continue
            try:
                line.decode("utf-8")
                unicode += 1
            except UnicodeDecodeError:
                others.append(line)
    found = Counter(decode(line, ASSUMED)[1] for line in others)
    like = proposal(others, ASSUMED)
    what = "its text is not Unicode and was"
    if unicode:
        what = f"{pluralise(len(others), 'line is', 'lines are')} not UTF-8, as {pluralise(unicode, 'other is', 'others are')}, and were"
    hint = f"; it looks like {like}" if like else ""
    said = f"{what} read as {ASSUMED}{hint}; {way_out} if letters are wrong"
    return Spelling(ASSUMED, bool(unicode), tuple(_looks([said, *sentences(found, ASSUMED, "line")])))


def _is_utf8(path: Path) -> bool:
    decoder = codecs.getincrementaldecoder("utf-8")()
    good = True
    with path.open("rb") as stream:
        while piece := stream.read(1 << 20):
            if b"\0" in piece:
                raise InputError("it is no text", place=str(path), way_out="Check that it is the file you mean")
            if good:
                try:
                    decoder.decode(piece)
                except UnicodeDecodeError:
                    good = False
    try:
        decoder.decode(b"", True)
    except UnicodeDecodeError:
        return False
    return good


def _looks(texts: Iterable[str]) -> Generator[Remark, None, None]:
    for one in texts:
        yield Remark(one, look=True, code=Code.UNDECODABLE)


def opened(path: Path, spelling: Spelling) -> BinaryIO:
    """A text as UTF-8 without a mark, whatever it is written in."""
    if spelling.codec == "utf-8":
        return path.open("rb")
    raw = path.read_bytes()
    if not spelling.mixed:
        return io.BytesIO(raw.decode(spelling.codec, "replace").encode())
    return io.BytesIO("".join(spelling.text_of(line) for line in raw.splitlines(keepends=True)).encode())


def lines_of(path: Path, spelling: Spelling, newline: str | None = None) -> TextIO:
    """A text to be read line by line."""
    return io.TextIOWrapper(opened(path, spelling), encoding="utf-8", newline=newline)


def sample_lines(path: Path, spelling: Spelling, most: int = 200) -> list[str]:
    """The first lines that hold something."""
    with lines_of(path, spelling) as stream:
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


def decimal_of(columns: Iterable[pa.ChunkedArray]) -> str:
    """The decimal sign of a table of texts: the comma where more values can only be numbers with one than with a point."""
    commas = points = 0
    for column in columns:
        has_comma, has_point = (pc.any(pc.match_substring(column, sign)).as_py() for sign in ",.")
        values = pc.utf8_trim_whitespace(column.drop_null()) if has_comma or has_point else column
        if has_comma:
            commas += pc.sum(pc.and_(pc.match_substring(values, ","), pc.match_substring_regex(values, _COMMA_NUMBER))).as_py() or 0
        if has_point:
            points += pc.sum(pc.and_(pc.match_substring(values, "."), pc.match_substring_regex(values, _NUMBER))).as_py() or 0
    return "," if commas > points else "."


def typed(column: pa.ChunkedArray, decimal: str = ".") -> pa.ChunkedArray:
    """A column of text in the type that all its values have: whole number, number, date, date and time, yes/no; else text.

    Numbers with leading zeros are codes and stay text. Empty cells do not count.

    Parameters
    ----------
    decimal : the decimal sign of the table; the other of point and comma can stand between thousands.
    """
    values = column.drop_null()
    if not len(values):
        return column

    def all_match(pattern: str) -> bool:
        return bool(pc.all(pc.match_substring_regex(values, pattern)).as_py())

    try:
        if all_match(_WHOLE):
            return pc.utf8_trim_whitespace(_unsigned(column)).cast(pa.int64())
        if decimal == ".":
            numbers = pc.match_substring_regex(values, _NUMBER)
            if pc.any(numbers).as_py() and pc.all(pc.or_(numbers, pc.match_substring_regex(values, _NO_NUMBER))).as_py():
                return pc.utf8_trim_whitespace(_unsigned(column)).cast(pa.float64())
        elif all_match(_COMMA_NUMBER):
            plain = pc.replace_substring(pc.replace_substring(column, ".", ""), ",", ".")
            return pc.utf8_trim_whitespace(_unsigned(plain)).cast(pa.float64())
        if all_match(_LOGICAL):
            return column.cast(pa.bool_())
        if all_match(_DATE):
            return column.cast(pa.date32())
        if all_match(_TIME):
            zoned = pc.match_substring_regex(values, _ZONED)
            digits = max(len(f) for f in pc.unique(pc.replace_substring_regex(values, r"^[^.]*\.?(\d*).*$", r"\1")).to_pylist())
            unit = "ms" if digits <= 3 else "us" if digits <= 6 else "ns"
            if pc.all(zoned).as_py():
                return column.cast(pa.timestamp(unit, "UTC"))
            if not pc.any(zoned).as_py():
                return column.cast(pa.timestamp(unit))
    except pa.ArrowInvalid:
        pass  # a number of twenty digits, a 31st of June: it is text
    return column


def number_remarks(texts: pa.Table, columns: Sequence[pa.ChunkedArray | pa.Array], decimal: str) -> list[Remark]:
    """What there is to say of the decimal sign: points taken as standing between thousands, columns that have the other one."""
    sign, other = ("point", "comma") if decimal == "." else ("comma", "point")
    odd, pattern = (",", _COMMA_NUMBER) if decimal == "." else (".", _NUMBER)
    out = []
    for name, column in zip(texts.column_names, columns, strict=True):
        values = texts.column(name).drop_null()
        has = int(pc.sum(pc.match_substring(values, odd)).as_py() or 0)
        if not has:
            continue
        if pa.types.is_floating(column.type):
            hold = "value holds" if has == 1 else "values hold"
            text = f"{has:,} {hold} a {other} in '{name}', taken as standing between thousands"
        elif pa.types.is_string(column.type) and pc.all(pc.match_substring_regex(values, pattern)).as_py():
            text = f"'{name}' has numbers with a {other} and stays text"
        else:
            continue
        out.append(Remark(f"the decimal sign is a {sign}: {text}", look=True))
    return out


def short(text: str, most: int = 60) -> str:
    """A line as it can stand in a sentence."""
    plain = " ".join(text.split())
    return f"'{plain}'" if len(plain) <= most else f"'{plain[:most]} ...'"


def _unsigned(column: pa.ChunkedArray) -> pa.ChunkedArray:
    return pc.replace_substring_regex(column, r"^(\s*)\+", r"\1")
