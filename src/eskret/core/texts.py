"""Bytes that are texts: which encodings have a name here, and how columns of them are decoded.

Nothing is decoded with signs dropped in silence: whoever decodes is told how many texts held bytes that the encoding has no sign
for, and how many were cut in the midst of a letter.
"""

from __future__ import annotations

import codecs
import re
from collections import Counter
from collections.abc import Callable, Iterable
from functools import lru_cache
from itertools import islice

import numpy as np
import pyarrow as pa

from eskret.core.words import pluralise

ASSUMED = "cp1252"
"""What is taken for texts that say nothing of themselves and are not Unicode: Latin letters as most desktops wrote them."""

# codecs of Python's own that are not encodings of texts as files hold them
_NONE_OF_A_FILE = {"idna", "punycode", "unicode-escape", "raw-unicode-escape", "undefined", "mbcs", "oem", "utf-7"}
_NUMBERED = {
    "65001": "utf-8",
    "20127": "ascii",
    "10000": "mac_roman",
    "10006": "mac_greek",
    "10007": "mac_cyrillic",
    "10029": "mac_latin2",
    "10079": "mac_iceland",
    "10081": "mac_turkish",
    "54936": "gb18030",
    "51932": "euc_jp",
    "51949": "euc_kr",
    "20866": "koi8_r",
    "21866": "koi8_u",
    "1200": "utf-16-le",
    "1201": "utf-16-be",
}
_SAYS_NOTHING = {"", "system", "ansi", "oem", "default", "none", "unknown"}


@lru_cache(maxsize=256)
def codec_of(word: str) -> str:
    """The codec that a word in a file or a setting names; empty where it names none.

    >>> codec_of("ANSI 1252"), codec_of("88591"), codec_of("OEM 850"), codec_of("UTF8"), codec_of("system"), codec_of("rot13")
    ('cp1252', 'iso8859-1', 'cp850', 'utf-8', '', '')
    """
    plain = word.strip().strip("\0").strip().lower().replace("_", "-")
    if plain in _SAYS_NOTHING:
        return ""
    bare = re.sub(r"[\s\-/]+", "", plain)
    number = re.fullmatch(r"(?:ansi|oem|cp|windows|win|ibm|ms|codepage|x|iso)?(\d{3,5})", bare)
    latin = re.fullmatch(r"(?:iso)?8859(\d{1,2})|285(?:9(\d)|60(\d))", bare)
    tried = [plain, bare]
    if latin:
        part = latin[1] or latin[2] or str(10 + int(latin[3]))
        tried.insert(0, f"iso8859-{part}")
    elif number:
        tried[:0] = [_NUMBERED.get(number[1], ""), f"cp{number[1]}"]
    for name in filter(None, tried):
        try:
            info = codecs.lookup(name)
        except (LookupError, ValueError):
            continue
        if getattr(info, "_is_text_encoding", True) and info.name not in _NONE_OF_A_FILE:
            return info.name
    return ""


_PAGES = (1250, 1251, 1252, 1253, 1254, 1255, 1256, 1257, 1258, 437, 720, 737, 775, 850, 852, 855, 857, 858)
_MORE_PAGES = (860, 861, 862, 863, 864, 865, 866, 869, 874)
_PARTS = (1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 13, 14, 15, 16)
_APPLE = ("roman", "greek", "cyrillic", "latin2", "turkish", "iceland")
SINGLE_BYTE = frozenset(
    {"ascii", "koi8-r", "koi8-u"}
    | {f"cp{n}" for n in (*_PAGES, *_MORE_PAGES)}
    | {f"iso8859-{n}" for n in _PARTS}
    | {f"mac-{name}" for name in _APPLE}
)
"""Encodings in which a letter is a byte, so that none can be cut."""
_USUAL = [
    "cp1252",
    "cp850",
    "cp1250",
    "cp852",
    "cp1251",
    "cp866",
    "cp1253",
    "cp737",
    "cp1254",
    "cp857",
    "cp1255",
    "cp1256",
    "cp1257",
    "cp437",
    "cp932",
    "cp949",
    "cp950",
    "gb18030",
    "euc_jp",
    "koi8_r",
    "iso8859_2",
    "iso8859_5",
    "iso8859_7",
    "iso8859_9",
    "mac_roman",
]
_SAMPLE = 1 << 16

ODD, CUT, OTHER = "odd", "cut", "other"
"""What decoding finds: bytes that the encoding has no sign for, a letter that is not whole, a text in another encoding."""


def decode(raw: bytes, codec: str, *, full: bool = False) -> tuple[str, str]:
    """One text, and ``ODD``, ``CUT`` or nothing.

    Parameters
    ----------
    full : whether it fills all the room it has: then a last letter that is not whole was cut off, and is left out.
    """
    try:
        return raw.decode(codec), ""
    except UnicodeDecodeError as error:
        # the longest letter of any encoding here has four bytes
        if full and codec not in SINGLE_BYTE and error.end >= len(raw) and len(raw) - error.start < 4:
            try:
                return raw[: error.start].decode(codec), CUT
            except UnicodeDecodeError:
                pass
        return raw.decode(codec, "replace"), ODD


def sentences(found: Counter[str], codec: str, what: str = "text") -> list[str]:
    """What there is to say of texts that were decoded."""
    out = []
    if found[ODD]:
        holds = "holds" if found[ODD] == 1 else "hold"
        out.append(f"{pluralise(found[ODD], what)} {holds} bytes that {codec} has no sign for; '\ufffd' stands in their place")
    if found[CUT]:
        was = "was" if found[CUT] == 1 else "were"
        out.append(f"{pluralise(found[CUT], what)} {was} cut in the midst of a letter, which is left out")
    return out


def proposal(texts: Iterable[bytes], codec: str) -> str:
    """An encoding that texts look like, where a library that compares them with languages is sure; empty where it is not, or
    sees the one that they are read as."""
    from charset_normalizer import from_bytes

    sample = b"\n".join(dict.fromkeys(islice(texts, 20_000)))[:_SAMPLE]
    best = from_bytes(sample, cp_isolation=_USUAL).best()
    if best is None or best.chaos > 0.05 or best.coherence < 0.3:
        return ""
    # several can give the same letters: then the most usual one is named
    found = next((n for n in map(codec_of, _USUAL) if _same(sample, n, best.encoding)), codec_of(best.encoding))
    return "" if not found or sample.decode(found, "replace") == sample.decode(codec, "replace") else found


def _same(raw: bytes, codec: str, other: str) -> bool:
    try:
        return raw.decode(codec) == raw.decode(other)
    except UnicodeDecodeError:
        return False


def is_unicode(column: pa.ChunkedArray | pa.Array) -> bool:
    """Whether a column of texts is UTF-8, as Arrow's texts must be and are not always."""
    try:
        column.validate(full=True)
    except pa.ArrowInvalid:
        return False
    return True


def is_text(kind: pa.DataType) -> bool:
    """Whether a column of this type holds texts."""
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))


def recoded(column: pa.ChunkedArray, change: Callable[[bytes], tuple[str, str]]) -> tuple[pa.ChunkedArray, Counter[str]]:
    """A column of texts with the bytes of each changed into a text, and how many rows have what was found beside it."""
    binary = pa.large_binary() if pa.types.is_large_string(column.type) else pa.binary()
    chunks: list[pa.Array] = []
    known: dict[bytes, tuple[str, str]] = {}
    found: Counter[str] = Counter()
    for chunk in column.chunks:
        coded = chunk.view(binary).dictionary_encode()
        values = coded.dictionary.to_pylist()
        for raw in values:
            if raw not in known:
                known[raw] = change(raw)
        often = np.bincount(np.asarray(coded.indices.drop_null()), minlength=len(values))
        for raw, times in zip(values, often.tolist(), strict=True):
            found[known[raw][1]] += times
        chunks.append(pa.array([known[raw][0] for raw in values], pa.string()).take(coded.indices))
    del found[""]
    return pa.chunked_array(chunks, pa.string()), found


def settled(table: pa.Table, codec: str = "") -> tuple[pa.Table, list[str]]:
    """A table whose texts are UTF-8, whatever bytes they came as, and what there is to say.

    Parameters
    ----------
    codec : what texts are in that are not UTF-8; ``ASSUMED`` where empty.
    """
    name = codec or ASSUMED

    def change(raw: bytes) -> tuple[str, str]:
        try:
            return raw.decode("utf-8"), ""
        except UnicodeDecodeError:
            text, what = decode(raw, name)
            return text, what or OTHER

    said = []
    for n, field in enumerate(table.schema):
        if is_text(field.type) and not is_unicode(table.column(n)):
            column, found = recoded(table.column(n), change)
            table = table.set_column(n, field.name, column)
            are = "text is" if found.total() == 1 else "texts are"
            said.append(f"'{field.name}': {found.total():,} {are} not UTF-8 and read as {name}")
            said += [f"'{field.name}': {words}" for words in sentences(found, name)]
    return table, said
