"""What makes shapes invalid, and where in them."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np
import shapely

_TOLD = re.compile(r"^(.*?)\[(\S+) (\S+)[^\]]*\]$")  # as GEOS says it: a kind of fault, and the place in brackets


@dataclass(frozen=True)
class Fault:
    """One fault: all of it as the library tells it, its kind in small letters, the place as text and as a box (4, NaN for none)."""

    text: str
    what: str
    place: str
    box: tuple[float, float, float, float]


_NOWHERE = (float("nan"),) * 4


def faults_of(shapes: np.ndarray) -> list[Fault]:
    """The first fault of each of some invalid shapes."""
    return [_fault(str(told)) for told in shapely.is_valid_reason(shapes)]


def _fault(text: str) -> Fault:
    found = _TOLD.match(text)
    if not found:
        return Fault(text, "unknown fault", "", _NOWHERE)
    what, place = found.group(1).lower(), text[len(found.group(1)) + 1 : -1]
    try:
        x, y = float(found.group(2)), float(found.group(3))
    except ValueError:
        return Fault(text, what, place, _NOWHERE)
    return Fault(text, what, place, (x, y, x, y))
