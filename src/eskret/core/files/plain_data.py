"""Objects as JSON with arrays beside it, and back by the types that they declare: what is read can make nothing else, and run nothing."""

from __future__ import annotations

import dataclasses
import types
from collections.abc import Mapping, Sequence
from decimal import Decimal
from enum import Enum
from functools import cache
from pathlib import Path
from typing import Any, Union, get_args, get_origin, get_type_hints

import numpy as np

_ARRAY, _DECIMAL = "array", "decimal"


def to_plain(value: Any, arrays: list[np.ndarray]) -> Any:
    """Dataclasses, tuples, mappings and single values as JSON has them.

    Parameters
    ----------
    arrays : those that are met are added to it; JSON has their number.

    Raises
    ------
    TypeError : something else is in it.
    """
    if isinstance(value, Enum):
        return value.value
    if value is None or isinstance(value, bool | int | float | str):
        return value
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, np.ndarray):
        arrays.append(value)
        return {_ARRAY: len(arrays) - 1}
    if isinstance(value, Decimal):
        return {_DECIMAL: str(value)}
    if isinstance(value, Path):
        return str(value)
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return {f.name: to_plain(getattr(value, f.name), arrays) for f in dataclasses.fields(value)}
    if isinstance(value, Mapping):
        return {str(k): to_plain(v, arrays) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [to_plain(v, arrays) for v in value]
    raise TypeError(f"{type(value).__name__} is nothing that can be written down")


def from_plain(kind: Any, told: Any, arrays: Sequence[np.ndarray]) -> Any:
    """What ``to_plain`` was given, of this type.

    Raises
    ------
    TypeError, ValueError, KeyError, IndexError : it is of another form.
    """
    origin, of = get_origin(kind), get_args(kind)
    if origin in (Union, types.UnionType):
        return _one_of(of, told, arrays)
    if origin is tuple:
        if len(of) == 2 and of[1] is Ellipsis:
            return tuple(from_plain(of[0], v, arrays) for v in told)
        return tuple(from_plain(k, v, arrays) for k, v in zip(of, told, strict=True))
    if origin is list:
        return [from_plain(of[0], v, arrays) for v in told]
    if kind is np.ndarray:
        return arrays[told[_ARRAY]]
    if kind is Decimal:
        return Decimal(told[_DECIMAL])
    if dataclasses.is_dataclass(kind) and isinstance(kind, type):
        hints = _hints(kind)
        return kind(**{name: from_plain(hints[name], value, arrays) for name, value in told.items()})
    if isinstance(kind, type) and issubclass(kind, Enum | Path):
        return kind(told)
    return told


def _one_of(kinds: Sequence[Any], told: Any, arrays: Sequence[np.ndarray]) -> Any:
    if told is None:
        return None
    marked = {_ARRAY: np.ndarray, _DECIMAL: Decimal}
    if isinstance(told, dict) and len(told) == 1:
        kind = marked.get(next(iter(told)))
        if kind in kinds:
            return from_plain(kind, told, arrays)
    simple = [k for k in kinds if k is not types.NoneType and k not in marked.values()]
    return from_plain(simple[0], told, arrays) if len(simple) == 1 else told


@cache
def _hints(kind: type) -> dict[str, Any]:
    return get_type_hints(kind)
