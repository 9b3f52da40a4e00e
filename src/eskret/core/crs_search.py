"""Find a coordinate system by name, code or area, in the register that comes with the projection library."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from pyproj.database import query_crs_info
from pyproj.enums import PJType

from eskret.core.crs import CrsFacts, crs_facts

_KINDS = (PJType.GEOGRAPHIC_2D_CRS, PJType.PROJECTED_CRS)


@dataclass(frozen=True, slots=True)
class CrsEntry:
    """A coordinate system of the register: its code, name, and area of use in words."""

    code: str
    name: str
    area: str

    def facts(self) -> CrsFacts:
        """Unit and bounds; this takes the library a moment for each."""
        return crs_facts(self.code)


@lru_cache(maxsize=1)
def _register() -> tuple[tuple[CrsEntry, str], ...]:
    found = [
        CrsEntry(f"{i.auth_name}:{i.code}", i.name, i.area_of_use.name if i.area_of_use else "")
        for i in query_crs_info(pj_types=list(_KINDS), allow_deprecated=False)
        if i.auth_name in ("EPSG", "OGC")
    ]
    found.sort(key=lambda k: (k.code.split(":")[0], int(k.code.split(":")[1]) if k.code.split(":")[1].isdigit() else 0))
    return tuple((k, f"{k.code} {k.name} {k.area}".casefold()) for k in found)


def find(words: str, recent: Sequence[str] = (), most: int = 60) -> list[CrsEntry]:
    """Coordinate systems in which all the words stand, best first.

    Parameters
    ----------
    words : parts of a name, a code or an area, such as ``utm 26n`` or ``azores``; for none, the recent ones.
    recent : codes used lately, which come first among those that fit.
    """
    wanted = re.findall(r"[\w.]+", words.casefold())
    if not wanted:
        by_code = {k.code: k for k, _ in _register()}
        return [by_code[c] for c in recent if c in by_code][:most]
    scored = []
    for order, (known, text) in enumerate(_register()):
        if all(w in text for w in wanted):
            code, name = known.code.split(":")[1].casefold(), known.name.casefold()
            exact = any(w == code or w == known.code.casefold() for w in wanted)
            in_name = sum(w in re.findall(r"[\w.]+", name) for w in wanted)
            place = recent.index(known.code) if known.code in recent else len(recent) + 1
            scored.append(((place, not exact, -in_name, len(name), order), known))
    scored.sort(key=lambda pair: pair[0])
    return [known for _, known in scored[:most]]
