"""Whether two GeoJSON features are the same, allowing for how a service may write the same thing otherwise."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from datetime import UTC, date, datetime
from typing import Any

Fields = frozenset[str] | None
"""The fields that count; None for all."""


def same(a: Mapping[str, Any] | None, b: Mapping[str, Any] | None, decimals: int, own: Fields = None) -> bool:
    """Whether both say the same; of their properties those ``own`` alone, where it is given.

    Ids and other members do not count, nor does whether an empty property is there as null or not at all. Coordinates may
    differ by half of the last decimal; rings may begin elsewhere or run the other way; times may be in another zone.
    """
    if a is None or b is None:
        return a is b
    mine, theirs = (held(f, own) for f in (a, b))
    if mine.keys() != theirs.keys() or not all(same_value(v, theirs[n]) for n, v in mine.items()):
        return False
    return same_shape(a.get("geometry"), b.get("geometry"), decimals)


def held(feature: Mapping[str, Any], own: Fields = None) -> dict[str, Any]:
    """The properties of a feature that hold something and count."""
    every = feature.get("properties") or {}
    return {n: v for n, v in every.items() if v is not None and (own is None or n in own)}


def same_value(a: object, b: object) -> bool:
    """Whether two values of a property mean the same."""
    if isinstance(a, bool) or isinstance(b, bool):
        return a is b
    if isinstance(a, int | float) and isinstance(b, int | float):
        return a == b or math.isclose(a, b, rel_tol=1e-12)
    if isinstance(a, str) and isinstance(b, str) and a != b:
        first, second = moment(a), moment(b)
        return first is not None and first == second
    return bool(a == b)


def comparable_value(value: object) -> object:
    """A value in one form of those that ``same_value`` has for the same."""
    if isinstance(value, int) and not isinstance(value, bool):
        return float(value)
    if isinstance(value, str):
        found = moment(value)
        return value if found is None else found.isoformat()
    return value


def moment(text: str) -> datetime | date | None:
    """The date, or the time in UTC, that a text means; None where it is neither."""
    if not 10 <= len(text) <= 40 or text[4:5] != "-":
        return None
    try:
        if len(text) == 10:
            return date.fromisoformat(text)
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    return found.replace(tzinfo=UTC) if found.tzinfo is None else found.astimezone(UTC)


def same_shape(a: Mapping[str, object] | None, b: Mapping[str, object] | None, decimals: int) -> bool:
    """Whether two GeoJSON geometries are the same within half of the last decimal."""
    if a is None or b is None:
        return a is None and b is None
    if a == b:
        return True
    if a.get("type") != b.get("type"):
        return False
    import numpy as np
    import orjson
    import shapely

    shapes = shapely.from_geojson([orjson.dumps(a), orjson.dumps(b)], on_invalid="ignore")
    if shapely.is_missing(shapes).any():
        return False
    rounded = shapely.transform(shapes, lambda c: np.round(c, decimals) + 0.0, include_z=bool(shapely.has_z(shapes).all()))
    if bool(shapely.equals_exact(rounded[0], rounded[1], 0.0, normalize=True)):
        return True
    within = 0.51 * 10.0**-decimals
    return bool(shapely.equals_exact(shapely.normalize(shapes[0]), shapely.normalize(shapes[1]), within))


def box_of(feature: Mapping[str, object]) -> tuple[float, float, float, float] | None:
    """West, south, east, north of a feature; None where it has no place."""
    shape = feature.get("geometry")
    if not shape:
        return None
    x: list[float] = []
    y: list[float] = []
    waiting: list[object] = [shape]
    while waiting:
        one = waiting.pop()
        if isinstance(one, Mapping):
            waiting += one.get("geometries") or [one.get("coordinates") or []]
        elif isinstance(one, Sequence) and one and isinstance(one[0], int | float):
            x.append(one[0])
            y.append(one[1])
        elif isinstance(one, Sequence):
            waiting += one
    return (min(x), min(y), max(x), max(y)) if x else None
