"""Figures and counts in plain words, and sentences with words in bold."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime

from eskret.errors import SettingError

PER_CENT = "%"
"""The unit of a share: it is told of each layer, and those of several are not added."""
_ON, _OFF = "\x0e", "\x0f"


def bold(text: str) -> str:
    """Mark a part of a sentence; ``pieces`` finds it again. The marks are no characters that a name can hold."""
    return f"{_ON}{text}{_OFF}"


def pieces(sentence: str) -> list[tuple[str, bool]]:
    """A sentence cut where boldness changes: text, and whether it is bold."""
    out = []
    for part in sentence.split(_ON):
        strong, _, rest = part.partition(_OFF) if _OFF in part else ("", "", part)
        out += [(strong, True)] * bool(strong) + [(rest, False)] * bool(rest)
    return out


def strip_markup(sentence: str) -> str:
    """A sentence without its marks."""
    return sentence.replace(_ON, "").replace(_OFF, "")


def nearest_word(wanted: str, known: Iterable[str], least: int = 60) -> str:
    """Of words what comes nearest to one that was typed; empty where nothing comes near.

    Parameters
    ----------
    least : per cent of letters that must be alike.
    """
    # not before it is needed: most commands have nothing to correct
    from rapidfuzz import fuzz, process

    best = process.extractOne(wanted, list(known), scorer=fuzz.ratio, processor=str.lower, score_cutoff=least)
    return str(best[0]) if best else ""


def did_you_mean(wanted: str, known: Iterable[str], otherwise: str = "", shown: str = "'{}'") -> str:
    """*Did you mean 'kind'?*, with what comes nearest to what was typed; something else where nothing comes near.

    Parameters
    ----------
    shown : how what is meant is written.
    """
    best = nearest_word(wanted, known)
    return f"Did you mean {shown.format(best)}?" if best else otherwise


def pluralise(number: int, noun: str, plural: str = "") -> str:
    """``1 point``, ``1,204 points``."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"


_OF_KIND = {"point": "point", "line": "line", "area": "area", "mixed": "shape", "table": "row"}


def counted_kind(number: int, kind: str) -> str:
    """The features of a layer of a kind: ``1 area``, ``412 areas``, ``18 rows``."""
    return pluralise(number, _OF_KIND.get(kind, "feature"))


def moment(told: str) -> str:
    """A time of ISO 8601 as whoever looks reads it on the clock: ``2031-10-06 09:12``."""
    try:
        return datetime.fromisoformat(told).astimezone().strftime("%Y-%m-%d %H:%M")
    except ValueError:
        return told


def duration(seconds: float) -> str:
    """``0.3 s``, ``42 s``, ``3 min 20 s``, ``1 h 05 min``."""
    if seconds < 9.95:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60:02d} s"
    return f"{whole // 3600} h {whole % 3600 // 60:02d} min"


def byte_words(size: float) -> str:
    """Bytes in words that are never nothing."""
    for unit, one in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if size >= one:
            return f"{size / one:,.1f} {unit}"
    return f"{size:.0f} bytes"


def bytes_in(text: str) -> int:
    """Bytes as a person writes them: ``500MB``, ``2 GB``.

    Raises
    ------
    InputError : it is none.
    """
    found = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([kmgt]?b?)\s*", text.lower())
    unit = found[2].removesuffix("b") if found else ""
    if found is None:
        raise SettingError(f"'{text}' is no size", way_out="Write it as 500MB or 2GB")
    return int(float(found[1]) * {"": 1, "k": 1000, "m": 1000**2, "g": 1000**3, "t": 1000**4}[unit])


def format_quantity(value: float, unit: str = "") -> str:
    """A total with a sensible number of digits: ``1,867.2 ha``, ``0.004 km``."""
    size = abs(value)
    if size >= 100 or size == 0 or float(value).is_integer():
        text = f"{value:,.1f}" if not float(value).is_integer() or unit else f"{value:,.0f}"
    else:
        text = f"{value:,.3g}" if size < 1 else f"{value:,.2f}"
    return f"{text} {unit}".rstrip()
