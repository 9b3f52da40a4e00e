"""XML as UTF-8, whatever it is written in: parsers and libraries know few encodings besides.

The first line declares it (XML 1.0, section 4.3.3). A file that declares UTF-8, or nothing, and holds other bytes is not well-formed;
units and scripts write such all the same, so its lines that are no UTF-8 are read as cp1252, and that is told.
"""

from __future__ import annotations

import codecs
import re
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from eskret.core.accounts.account import Remark
from eskret.core.texts import codec_of
from eskret.errors import Code, InputError
from eskret.formats import text

ENDINGS = (".gpx", ".kml", ".gml")
"""Formats that are XML."""
_DECLARED = re.compile(rb"""^\s*<\?xml[^>]*?\sencoding\s*=\s*["']([^"']{1,40})["']""")
_TAKEN_OUT = re.compile(r"""^(\s*<\?xml[^>]*?)\s+encoding\s*=\s*["'][^"']*["']""")
_WIDE = ((codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"), (b"<\0?\0", "utf-16-le"), (b"\0<\0?", "utf-16-be"))


@dataclass(frozen=True)
class XmlText:
    """What a parser is given: the file itself, or its text as UTF-8; and what there is to say of it."""

    file: Path | bytes
    remarks: tuple[Remark, ...] = ()


def source_of(path: Path) -> XmlText:
    """What to give a parser of XML.

    Raises
    ------
    InputError : nobody knows the encoding that is declared, or the file is not in it.
    """
    state = path.stat()
    return _source(path, state.st_mtime_ns, state.st_size)


@lru_cache(maxsize=2)
def _source(path: Path, changed: int, size: int) -> XmlText:
    with path.open("rb") as stream:
        head = stream.read(400)
    codec = next((name for mark, name in _WIDE if head.startswith(mark)), "")
    declared = _DECLARED.match(head.removeprefix(codecs.BOM_UTF8))
    if not codec:
        word = declared[1].decode("ascii", "replace") if declared else "utf-8"
        codec = codec_of(word)
        if not codec or codec.startswith("utf-16"):
            raise unknown_encoding(path)
    if codec not in ("utf-8", "ascii"):
        try:
            return XmlText(_undeclared(path.read_bytes().decode(codec)))
        except UnicodeDecodeError as error:
            raise unknown_encoding(path) from error
    spelling = text.spelling_of(path, way_out="correct the first line")
    if spelling.codec.startswith("utf-8"):
        return XmlText(path)
    with text.opened(path, spelling) as stream:
        return XmlText(_undeclared(stream.read().decode()), spelling.remarks)


def _undeclared(whole: str) -> bytes:
    return _TAKEN_OUT.sub(r"\1", whole.removeprefix("\ufeff"), count=1).encode()


def unknown_encoding(path: Path) -> InputError:
    """What to say of a file whose first line names an encoding that nobody knows, or that is not its own."""
    return InputError(
        "the encoding that its first line names is not known, or not the one it is written in",
        place=str(path),
        way_out='Correct encoding="..." in its first line',
        code=Code.UNDECODABLE,
    )
