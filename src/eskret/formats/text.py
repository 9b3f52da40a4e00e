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
from typing import Any, BinaryIO, TextIO

from eskret.core.accounts.account import Remark
from eskret.core.texts import ASSUMED, SINGLE_BYTE, codec_of, decode, proposal, sentences
from eskret.core.words import pluralise
from eskret.errors import Code, InputError

SAMPLE = 1 << 18
BLANKS = " "
"""Stands for a run of blanks and tabs between values."""

DELIMITERS = {"\t": "tab", ";": "semicolon", "|": "bar", ",": "comma", BLANKS: "blanks"}
_MARKS = ((codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"))
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
    return io.BufferedReader(_Pieces(_recoded(path, spelling)), 1 << 20)


def _recoded(path: Path, spelling: Spelling) -> Generator[bytes, None, None]:
    with path.open("rb") as stream:
        if spelling.mixed:
            for line in stream:
                yield spelling.text_of(line).encode()
            return
        decoder = codecs.getincrementaldecoder(spelling.codec)("replace")
        while piece := stream.read(1 << 20):
            yield decoder.decode(piece).encode()
        yield decoder.decode(b"", True).encode()


class _Pieces(io.RawIOBase):
    """Bytes that come in pieces, as a file that is read from its beginning to its end."""

    def __init__(self, pieces: Generator[bytes, None, None]) -> None:
        self._pieces, self._rest = pieces, b""

    def readable(self) -> bool:
        return True

    def readinto(self, into: Any) -> int:
        while not self._rest:
            try:
                self._rest = next(self._pieces)
            except StopIteration:
                return 0
        some = len(into)
        given, self._rest = self._rest[:some], self._rest[some:]
        into[: len(given)] = given
        return len(given)

    def close(self) -> None:
        self._pieces.close()
        super().close()


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


def short(text: str, most: int = 60) -> str:
    """A line as it can stand in a sentence."""
    plain = " ".join(text.split())
    return f"'{plain}'" if len(plain) <= most else f"'{plain[:most]} ...'"
