"""The table of a shapefile: which encoding its texts and the names of its fields are in.

What the file declares counts, in a ``.cpg`` beside it or in the language byte of its head; else UTF-8 where its bytes are that;
else what the analyst says; else cp1252. The bytes themselves are looked at once, so that whatever is guessed can be told before
a run and in its ledger.

From memory: dBASE's head (number of records at byte 4, lengths of head and record at 8 and 10, language at 29, then 32 bytes a
field) and its language bytes; 0x57 stands for whatever the machine was set to, which is no declaration.
"""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Generator
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np

from eskret.core.accounts.account import Remark
from eskret.core.texts import ASSUMED, CUT, ODD, codec_of, decode, proposal, sentences
from eskret.core.words import pluralise
from eskret.errors import Code

_LANGUAGES = {
    0x01: "cp437",
    0x02: "cp850",
    0x03: "cp1252",
    0x04: "mac_roman",
    0x08: "cp865",
    0x09: "cp437",
    0x0A: "cp850",
    0x0B: "cp437",
    0x0D: "cp437",
    0x0E: "cp850",
    0x0F: "cp437",
    0x10: "cp850",
    0x11: "cp437",
    0x12: "cp850",
    0x13: "cp932",
    0x14: "cp850",
    0x15: "cp437",
    0x16: "cp850",
    0x17: "cp865",
    0x18: "cp437",
    0x19: "cp437",
    0x1A: "cp850",
    0x1B: "cp437",
    0x1C: "cp863",
    0x1D: "cp850",
    0x1F: "cp852",
    0x22: "cp852",
    0x23: "cp852",
    0x24: "cp860",
    0x25: "cp850",
    0x26: "cp866",
    0x37: "cp850",
    0x40: "cp852",
    0x4D: "cp936",
    0x4E: "cp949",
    0x4F: "cp950",
    0x50: "cp874",
    0x58: "cp1252",
    0x59: "cp1252",
    0x64: "cp852",
    0x65: "cp866",
    0x66: "cp865",
    0x67: "cp861",
    0x6A: "cp737",
    0x6B: "cp857",
    0x6C: "cp863",
    0x78: "cp950",
    0x79: "cp949",
    0x7A: "cp936",
    0x7B: "cp932",
    0x7C: "cp874",
    0x7D: "cp1255",
    0x7E: "cp1256",
    0x86: "cp737",
    0x87: "cp852",
    0x88: "cp857",
    0x96: "mac_cyrillic",
    0x97: "mac_latin2",
    0x98: "mac_greek",
    0xC8: "cp1250",
    0xC9: "cp1251",
    0xCA: "cp1254",
    0xCB: "cp1253",
    0xCC: "cp1257",
}
_NO_CODEC = {0x68: "Kamenicky (895)", 0x69: "Mazovia (620)"}
SPELLED = "ISO-8859-1"
"""How the library is asked for texts, so that every byte comes as one letter and none is lost."""
_NAME = 10
"""So many bytes the name of a field can have."""
_BLOCK = 1 << 25


@dataclass(frozen=True)
class Encoding:
    """What the texts of a file are in.

    ``why`` is ``ascii`` (nothing to decode), ``declared``, ``named`` (by the analyst), ``found`` (its bytes are UTF-8) or
    ``assumed``; ``declared`` is the file's own word, ``proposal`` another encoding that its texts look like.
    """

    codec: str
    why: str
    declared: str = ""
    proposal: str = ""
    found: tuple[tuple[str, int], ...] = ()
    mixed: int = 0
    """So many texts are no UTF-8 among others that are; 0 where all are alike."""
    cut: frozenset[bytes] = frozenset()
    """Texts that fill their field and whose last letter is not whole."""

    @property
    def as_it_is(self) -> bool:
        """Whether every byte is UTF-8 already."""
        return self.codec == "utf-8" and not self.found

    def text(self, spelled: str) -> str:
        """A text or a name that the library spelled byte by byte, as ``SPELLED`` has it read."""
        raw = spelled.encode("latin-1")
        if self.mixed:
            text, what = decode(raw, "utf-8")
            if not what:
                return text
        return decode(raw, self.codec, full=raw in self.cut)[0]

    def remarks(self) -> tuple[Remark, ...]:
        """What is to be told of it."""
        out = []
        hint = f"; they look like {self.proposal}" if self.proposal else ""
        if self.why == "assumed":
            says = f"declares {self.declared}, which its bytes are not" if self.declared else "does not say what its texts are in"
            are = f"{pluralise(self.mixed, 'text that is not UTF-8 is', 'texts that are not UTF-8 are')}" if self.mixed else "they are"
            out.append(
                Remark(
                    f"the file {says}: {are} read as {self.codec}{hint}. Name the encoding where letters are wrong",
                    look=True,
                    code=Code.UNDECODABLE,
                )
            )
        elif self.why == "found":
            out.append(Remark("the file does not say what its texts are in; their bytes are UTF-8 and read as that"))
        elif hint:
            out.append(Remark(f"texts are read as {self.codec}{hint}", look=True, code=Code.UNDECODABLE))
        out += [Remark(text, look=True, code=Code.UNDECODABLE) for text in sentences(Counter(dict(self.found)), self.codec)]
        return tuple(out)


def encoding_of(shapefile: Path, named: str = "", overruled: str = "") -> Encoding:
    """The encoding of a shapefile's texts.

    Parameters
    ----------
    named : what to take where the file declares none and is no UTF-8; a word that ``codec_of`` knows, or empty.
    overruled : what to take whatever the file declares; or empty.
    """
    table = companion(shapefile, ".dbf")
    if table is None:
        return Encoding("utf-8", "ascii")
    said = companion(shapefile, ".cpg")
    states = tuple((p.stat().st_mtime_ns, p.stat().st_size) if p is not None else (0, 0) for p in (table, said))
    return _encoding(table, said, codec_of(named), codec_of(overruled), states)


def declared(shapefile: Path) -> str:
    """The file's own word for what its texts are in; empty where it says nothing."""
    table = companion(shapefile, ".dbf")
    head = _Head.read(table) if table is not None else None
    return _declared(head.language, companion(shapefile, ".cpg"))[0] if head is not None else ""


def companion(path: Path, ending: str) -> Path | None:
    """The companion of a shapefile, whatever the case of its ending."""
    for other in (path.with_suffix(ending), path.with_suffix(ending.upper())):
        if other.exists():
            return other
    return None


@lru_cache(maxsize=1024)
def _encoding(table: Path, said: Path | None, named: str, overruled: str, states: tuple[tuple[int, int], ...]) -> Encoding:
    head = _Head.read(table)
    if head is None:
        return Encoding("utf-8", "ascii")
    beyond = [*((name, len(name) == _NAME) for name in head.odd_names), *head.beyond_ascii()]
    if not beyond:
        return Encoding("utf-8", "ascii")
    said_of_itself, codec = _declared(head.language, said)
    unicode = Counter(decode(raw, "utf-8", full=full)[1] for raw, full in beyond)
    # a letter that is cut at the end of a full field is what a writer of UTF-8 leaves behind
    is_utf8 = bool(unicode[""]) and not unicode[ODD]
    mixed = False
    if overruled:
        codec, why = overruled, "named"
    elif codec and (codec != "utf-8" or is_utf8):
        why = "declared"
    elif named:
        codec, why = named, "named"
    elif is_utf8:
        codec, why = "utf-8", "found"
    else:
        codec, why, mixed = ASSUMED, "assumed", bool(unicode[""])
    others = [(raw, full) for raw, full in beyond if not mixed or decode(raw, "utf-8", full=full)[1] == ODD]
    read = [(raw, decode(raw, codec, full=full)[1]) for raw, full in others]
    found = Counter(what for _, what in read)
    cut = {raw for raw, what in read if what == CUT}
    doubtful = why == "assumed" or found[ODD] > 0
    like = "UTF-8" if is_utf8 and codec != "utf-8" else proposal((raw for raw, _ in others), codec) if doubtful else ""
    kept = tuple((what, found[what]) for what in (ODD, CUT) if found[what])
    return Encoding(codec, why, said_of_itself, like, kept, len(others) if mixed else 0, frozenset(cut))


def _declared(language: int, said: Path | None) -> tuple[str, str]:
    """The file's own word for its encoding and the codec that is; both empty where it says nothing, the codec where nobody
    knows it."""
    if said is not None:
        try:
            word = said.read_bytes()[:100].decode("ascii", "replace").strip().strip("\0").lstrip("\ufeff\ufffd")
        except OSError:
            word = ""
        number = word.upper().removeprefix("LDID/")
        if number != word.upper() and number.isdigit():
            language = int(number)
        elif codec_of(word):
            return word, codec_of(word)
    return _NO_CODEC.get(language, _LANGUAGES.get(language, "")), _LANGUAGES.get(language, "")


@dataclass(frozen=True)
class _Head:
    path: Path
    rows: int
    first: int
    size: int
    language: int
    texts: tuple[tuple[int, int], ...]
    odd_names: tuple[bytes, ...]

    @classmethod
    def read(cls, path: Path) -> _Head | None:
        """The head of a table; None where it makes no sense, which its reader tells."""
        try:
            with path.open("rb") as stream:
                head = stream.read(32)
                rows, first, size = (int.from_bytes(head[a:b], "little") for a, b in ((4, 8), (8, 10), (10, 12)))
                fields = stream.read(max(0, first - 32))
        except OSError:
            return None
        if len(head) < 32 or not size:
            return None
        texts, odd, start = [], [], 1
        for place in range(0, len(fields) - 31, 32):
            one = fields[place : place + 32]
            if one[0] == 0x0D:
                break
            name = one[:11].split(b"\0")[0]
            # a text of more than 255 bytes has the rest of its length where other fields have their decimals
            width = one[16] + (one[17] << 8 if one[11:12] == b"C" else 0)
            if not name.isascii():
                odd.append(name)
            if one[11:12] == b"C" and start + width <= size:
                texts.append((start, start + width))
            start += width
        return cls(path, rows, first, size, head[29], tuple(texts), tuple(odd))

    def beyond_ascii(self) -> Generator[tuple[bytes, bool], None, None]:
        """Texts of the records that are not taken out, where any byte is beyond ASCII, and whether they fill their field."""
        there = max(0, (os.path.getsize(self.path) - self.first) // self.size)
        rows = min(self.rows, there)
        if not rows or not self.texts:
            return
        whole = np.memmap(self.path, np.uint8, "r", self.first, (rows, self.size))
        step = max(1, _BLOCK // self.size)
        for start in range(0, rows, step):
            block = whole[start : start + step]
            for a, b in self.texts:
                part = block[:, a:b]
                for row in np.flatnonzero((part >= 128).any(axis=1) & (block[:, 0] != 0x2A)).tolist():
                    raw = part[row].tobytes().split(b"\0")[0].rstrip(b" ")
                    yield raw, len(raw) == b - a
