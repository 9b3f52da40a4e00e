"""The naming rule: what a layer, a field or a file made from a value is called.

1. Latin letters lose their accents (``é`` to ``e``, ``ß`` to ``ss``, ``ø`` to ``o``); letters of other scripts,
   and digits, stay.
2. Every run of anything else becomes one underscore; none stay at the ends.
3. Lower case, unless asked otherwise.
4. At most 60 characters, or fewer where the format says so.
5. Names a machine keeps for its devices (``con``, ``nul``, ``com1``) get an underscore at the end.
6. Two names equal but for case are numbered ``_2``, ``_3`` in their order; the first stays.
7. An empty result is no name: the caller sets the row aside or asks the analyst for one.

>>> clean_name("Bed 12 (A) / Nord-Øst")
'bed_12_a_nord_ost'
>>> clean_name("../../x"), clean_name("CON"), clean_name("Скала №7"), clean_name("  ")
('x', 'con_', 'скала_7', '')
>>> number_collisions(["pier", "Pier", "quay", "pier"])
['pier', 'Pier_2', 'quay', 'pier_3']
"""

from __future__ import annotations

import re
import string
import unicodedata
from collections.abc import Iterable, Mapping

from eskret.errors import SettingError

LIMIT = 60
_CAPITALS = str.maketrans(string.ascii_uppercase, string.ascii_lowercase)
_DEVICES = {"con", "prn", "aux", "nul", *(f"{d}{n}" for d in ("com", "lpt") for n in range(1, 10))}
# Latin letters that Unicode does not take apart into a letter and a mark
_LATIN = str.maketrans(
    {
        "ß": "ss",
        "ẞ": "SS",
        "æ": "ae",
        "Æ": "AE",
        "œ": "oe",
        "Œ": "OE",
        "ø": "o",
        "Ø": "O",
        "đ": "d",
        "Đ": "D",
        "ð": "d",
        "Ð": "D",
        "þ": "th",
        "Þ": "TH",
        "ł": "l",
        "Ł": "L",
        "ħ": "h",
        "Ħ": "H",
        "ı": "i",
        "ŋ": "n",
        "Ŋ": "N",
    }
)


def without_accents(text: str) -> str:
    """Take the marks off Latin letters, and off no others: in other scripts a mark can be the letter."""
    out: list[str] = []
    latin = False
    for sign in unicodedata.normalize("NFD", text).translate(_LATIN):
        if unicodedata.combining(sign):
            if not latin:
                out.append(sign)
            continue
        latin = "LATIN" in unicodedata.name(sign, "")
        out.append(sign)
    return unicodedata.normalize("NFC", "".join(out))


def clean_name(text: str, *, limit: int = LIMIT, keep_case: bool = False) -> str:
    """Apply rules 1 to 5 to one text; the empty text where nothing is left.

    Parameters
    ----------
    text : any text.
    limit : longest result, in characters.
    keep_case : leave capitals as they are.
    """
    bare = without_accents(text)
    # a combining mark that stayed belongs to the letter before it, and is no separator
    kept = "".join(c if c.isalnum() or unicodedata.category(c) in ("Mn", "Mc") else "_" for c in bare)
    name = re.sub("_+", "_", kept).strip("_")
    if not keep_case:
        name = name.lower()
    name = name[:limit].rstrip("_")
    if name.lower() in _DEVICES:
        # an underscore that is cut off again by the next cleaning would bring the device back
        name = f"{name}_" if len(name) < limit else f"{name[: limit - 1]}0"
    return name


def number_collisions(names: Iterable[str], *, limit: int = LIMIT, taken: Iterable[str] = ()) -> list[str]:
    """Make names unique, case ignored, by numbering the later ones; also against names already taken."""
    used = {name.casefold() for name in taken}
    out: list[str] = []
    for name in names:
        candidate, number = name, 1
        while candidate.casefold() in used:
            number += 1
            tail = f"_{number}"
            candidate = name[: limit - len(tail)].rstrip("_") + tail
        used.add(candidate.casefold())
        out.append(candidate)
    return out


AS_TYPED, TIDY = "as typed", "tidy"
"""What becomes of the names of layers: they stay as they are, or the rule is applied."""


def folded(name: str) -> str:
    """A name as SQL compares it: capitals of ASCII count as small letters, and no others."""
    return name.translate(_CAPITALS)


_PLACE = re.compile(r"\{([^{}]*)\}")


def placeholders(template: str) -> list[str]:
    """The names between braces in a template, in order."""
    return _PLACE.findall(template)


def fill_known(template: str, values: Mapping[str, object]) -> str:
    """Put those values into ``{braces}`` that there are; the rest stays as it is."""
    return _PLACE.sub(lambda m: str(values.get(m.group(1), m.group())), template)


def fill_template(template: str, values: Mapping[str, object]) -> str:
    """Put values into ``{braces}``.

    Raises
    ------
    SettingError : a name in braces that has no value.
    """

    def put(match: re.Match[str]) -> str:
        name = match.group(1)
        if name not in values:
            known = ", ".join("{" + k + "}" for k in values)
            raise SettingError(f"'{{{name}}}' stands for nothing here", way_out=f"Use one of {known}")
        return str(values[name])

    return _PLACE.sub(put, template)
