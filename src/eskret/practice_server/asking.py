"""What a request for features asks for, checked word by word."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from eskret.practice_server.storage import ItemQuery, StoredDataset, sortable

LIMIT, MOST = 10, 10_000
"""How many features a page has where nobody says, and at most (17-069r4, 7.15.2)."""


class BadRequestError(Exception):
    """A request cannot be answered as it stands; ``status`` says why in HTTP."""

    def __init__(self, says: str, status: int = 400) -> None:
        self.says = says
        self.status = status
        super().__init__(says)


@dataclass(frozen=True)
class Asked:
    """Which features, and which page of them; ``form`` is html, json or empty. ``rest`` are the words kept for the next page."""

    wanted: ItemQuery
    limit: int
    after: int
    form: str
    rest: Sequence[tuple[str, str]]


def asked(words: Iterable[tuple[str, str]], dataset: StoredDataset) -> Asked:
    """Understand a query.

    Raises
    ------
    BadRequestError : a word that is not known (17-069r4, requirement 8) or has a value it cannot have (requirement 9).
    """
    limit, after, form = LIMIT, 0, ""
    boxes: Sequence[Sequence[float]] = ()
    begins = ends = ""
    values, rest = [], []
    for name, value in words:
        if name == "limit":
            limit = min(_whole(name, value, 1), MOST)
        elif name == "after":
            after = _whole(name, value, 0)
        elif name == "f":
            if value not in ("json", "html"):
                raise BadRequestError("'f' can be json or html")
            form = value
        elif name == "bbox":
            boxes = _boxes(value)
        elif name == "datetime":
            begins, ends = _times(value)
        elif name in dataset.properties:
            values.append((name, value))
        else:
            raise BadRequestError(f"there is no parameter '{name}' here")
        if name not in ("after", "limit", "f"):
            rest.append((name, value))
    return Asked(ItemQuery(boxes, begins, ends, values), limit, after, form, rest)


def _whole(name: str, value: str, least: int) -> int:
    if not value.isascii() or not value.isdigit() or len(value) > 18 or int(value) < least:
        raise BadRequestError(f"'{name}' must be a whole number from {least} on, and is '{value}'")
    return int(value)


def _boxes(value: str) -> Sequence[Sequence[float]]:
    try:
        numbers = [float(v) for v in value.split(",")]
    except ValueError:
        numbers = []
    if len(numbers) not in (4, 6) or not all(map(math.isfinite, numbers)):
        raise BadRequestError("'bbox' must be four or six numbers: west, south, east, north")
    half = len(numbers) // 2
    (west, south), (east, north) = numbers[:2], numbers[half : half + 2]
    heights = [numbers[2], numbers[5]] if half == 3 else []
    if south > north or abs(south) > 90 or abs(north) > 90:
        raise BadRequestError("'bbox' has its south above its north, or beyond a pole")
    if west <= east:
        return [[west, south, east, north, *heights]]
    # it goes over the antimeridian
    return [[west, south, 180.0, north, *heights], [-180.0, south, east, north, *heights]]


def _times(value: str) -> tuple[str, str]:
    """The first and the last moment asked for, empty where that end is open."""
    parts = value.split("/")
    if len(parts) > 2:
        raise BadRequestError("'datetime' must be a time, or two with a slash between")
    found = []
    for part in parts:
        open_end = part in ("", "..") and len(parts) == 2
        moment = ("", "") if open_end else sortable(part.replace("z", "Z"))
        if moment is None:
            raise BadRequestError(f"'{part}' is no time as RFC 3339 has it")
        found.append(moment)
    begins, ends = found[0][0], found[-1][1]
    if begins and ends and begins > ends:
        raise BadRequestError("'datetime' ends before it begins")
    return begins, ends
