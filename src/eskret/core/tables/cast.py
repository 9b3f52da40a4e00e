"""Change the type of a field, and tell what that loses."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.accounts.account import Firsts

TYPES = {
    "as it comes": "as it comes",
    "whole": "whole number",
    "number": "number",
    "text": "text",
    "yes/no": "yes/no",
    "date": "date",
    "time": "date and time",
}
"""Types by the word a workflow file has for them."""

_TRUE, _FALSE = {"true", "yes", "y", "1", "t"}, {"false", "no", "n", "0", "f"}


NO_EXAMPLES = Firsts()


@dataclass(frozen=True)
class Retyped:
    """A field in another type. ``lost`` are the rows (int64) whose value could not be, ``examples`` the first of those values;
    ``rounded`` how many lost their decimals."""

    column: pa.ChunkedArray
    lost: np.ndarray
    examples: Firsts = NO_EXAMPLES
    rounded: int = 0


def type_called(word: str) -> pa.DataType:
    """The type for a word of ``TYPES``."""
    return {
        "whole": pa.int64(),
        "number": pa.float64(),
        "text": pa.string(),
        "yes/no": pa.bool_(),
        "date": pa.date32(),
        "time": pa.timestamp("us", "UTC"),
    }[word]


def retyped(column: pa.ChunkedArray, kind: pa.DataType) -> Retyped:
    """A field in another type; a value that cannot be becomes empty and is told."""
    nothing = np.empty(0, np.int64)
    if column.type == kind:
        return Retyped(column, nothing)
    if pa.types.is_floating(column.type) and pa.types.is_integer(kind):
        usable = pc.and_(pc.is_finite(column), pc.less(pc.abs(column), 9.2e18))
        whole = pc.round(pc.if_else(usable, column, None))
        rounded = int(pc.sum(pc.not_equal(whole, column)).as_py() or 0)
        return _told(column, whole.cast(kind), rounded)
    if pa.types.is_boolean(column.type) and not pa.types.is_string(kind):
        column = column.cast(pa.int64())
    try:
        return Retyped(column.cast(kind), nothing)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        values = [_as(v, kind) for v in column.to_pylist()]
        return _told(column, pa.chunked_array([pa.array(values, kind)]))


def _told(column: pa.ChunkedArray, made: pa.ChunkedArray, rounded: int = 0) -> Retyped:
    lost = np.flatnonzero(np.asarray(column.is_valid()) & np.asarray(made.is_null()))
    some = pc.unique(column.take(pa.array(lost))).slice(0, Firsts.MOST).to_pylist()
    return Retyped(made, lost, Firsts.of(map(repr, some)), rounded)


def _as(value: object, kind: pa.DataType) -> object:
    if value is None:
        return None
    if pa.types.is_string(kind):
        return str(value)
    if pa.types.is_boolean(kind):
        word = str(value).strip().lower()
        return True if word in _TRUE else False if word in _FALSE else None
    if isinstance(value, str):
        value = value.strip()
        if pa.types.is_integer(kind):
            # what Arrow takes for a whole number when all of a column is that, it is beside others as well
            with suppress(ValueError, OverflowError):
                number = float(value)
                return int(value) if value.lstrip("+-").isdigit() else int(number) if number.is_integer() else None
    try:
        return pa.array([value]).cast(kind)[0].as_py()
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError, pa.ArrowTypeError, OverflowError):
        return None
