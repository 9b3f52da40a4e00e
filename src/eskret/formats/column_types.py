"""The types of columns of text, found from values that come some at a time: of a table of many millions no column is held whole."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.accounts.account import Remark

_POINT, _COMMA = ".", ","
_WHOLE = r"^\s*[+-]?(0|[1-9][0-9]*)\s*$"
_NUMBER = r"^\s*[+-]?((0|[1-9][0-9]*)(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]+)?\s*$"
_NO_NUMBER = r"^\s*[+-]?(?i:nan|inf|infinity)\s*$"
"""As programs write what is no number, or endless, in a column of numbers (IEEE 754, 5.12.1)."""
_COMMA_NUMBER = r"^\s*[+-]?((0|[1-9][0-9]*)(,[0-9]*)?|,[0-9]+|[1-9][0-9]{0,2}(\.[0-9]{3})+(,[0-9]*)?)([eE][+-]?[0-9]+)?\s*$"
_DATE = r"^\d{4}-\d{2}-\d{2}$"
_TIME = r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?(Z|[+-]\d{2}:?\d{2})?$"
_ZONED = r"(Z|[+-]\d{2}:?\d{2})$"
_PLUS = r"^(\s*)\+"
_LOGICAL = r"^(true|false)$"
_OTHERS = (_LOGICAL, _DATE, _TIME)
_FIRST = 64
"""Values that are tried before all of a batch are: most columns are of another type by the first."""


class TextColumn:
    """A column of text whose values are looked at some at a time; then it is known what all of them are: whole numbers, numbers, dates,
    dates and times, yes or no; else text.

    Numbers with leading zeros are codes and stay text. Empty cells do not count.

    Parameters
    ----------
    decimal : the decimal sign of the table, where it is known before all of it was seen.
    """

    def __init__(self, decimal: str = "") -> None:
        self._decimal = decimal
        self._left = {_WHOLE, _NUMBER, _COMMA_NUMBER, *_OTHERS}
        """Patterns that all values fit so far."""
        self._some = False
        self._numbers = False  # whether any number was among what may stand in a column of numbers
        self._no_numbers = False
        self._zoned: set[bool] = set()
        self._digits = 0
        self._signs = {_POINT: 0, _COMMA: 0}
        self._read_as = {_POINT: 0, _COMMA: 0}
        self._is_text = False

    def look(self, column: pa.Array) -> None:
        """Look at further values."""
        values = column.drop_null()
        if not len(values):
            return
        self._some = True
        self._count_signs(values)
        if not self._left:
            return
        if self._holds(_WHOLE, values):
            self._numbers = True
            self._left -= set(_OTHERS)
            return
        self._look_for_numbers(values)
        if self._holds(_COMMA_NUMBER, values):
            self._left -= set(_OTHERS)
        for pattern in _OTHERS:
            if self._holds(pattern, values) and pattern == _TIME:
                zoned = pc.match_substring_regex(values, _ZONED)
                self._zoned |= set(pc.unique(zoned).to_pylist())
                fractions = pc.unique(pc.replace_substring_regex(values, r"^[^.]*\.?(\d*).*$", r"\1"))
                self._digits = max(self._digits, *map(len, fractions.to_pylist()))

    def _holds(self, pattern: str, values: pa.Array) -> bool:
        if pattern not in self._left:
            return False
        some = (values.slice(0, _FIRST), values.slice(_FIRST))
        fits = all(pc.all(pc.match_substring_regex(v, pattern), min_count=0).as_py() for v in some)
        if not fits:
            self._left.discard(pattern)
        return fits

    def _look_for_numbers(self, values: pa.Array) -> None:
        if _NUMBER not in self._left:
            return
        for some in (values.slice(0, _FIRST), values.slice(_FIRST)):
            numbers = pc.match_substring_regex(some, _NUMBER)
            if not pc.all(numbers, min_count=0).as_py():
                if not pc.all(pc.or_(numbers, pc.match_substring_regex(some, _NO_NUMBER))).as_py():
                    self._left.discard(_NUMBER)
                    return
                self._no_numbers = True
            self._numbers |= bool(pc.any(numbers).as_py())

    def _count_signs(self, values: pa.Array) -> None:
        for sign, pattern in ((_POINT, _NUMBER), (_COMMA, _COMMA_NUMBER)):
            if sign == self._decimal:
                continue
            having = pc.match_substring(values, sign)
            count = int(pc.sum(having).as_py() or 0)
            self._signs[sign] += count
            if count and not self._decimal:
                number = pc.match_substring_regex(values.filter(having), pattern)
                self._read_as[sign] += int(pc.sum(number).as_py() or 0)

    @property
    def commas_over_points(self) -> int:
        """How many more values can only be numbers with a comma than with a point."""
        return self._read_as[_COMMA] - self._read_as[_POINT]

    def type_of(self, decimal: str) -> pa.DataType:
        """The type of all values, where the table has this decimal sign; the other of point and comma can stand between thousands."""
        if self._is_text or not self._some:
            return pa.string()
        if _WHOLE in self._left:
            return pa.int64()
        if (_NUMBER in self._left and self._numbers) if decimal == _POINT else _COMMA_NUMBER in self._left:
            return pa.float64()
        if _LOGICAL in self._left:
            return pa.bool_()
        if _DATE in self._left:
            return pa.date32()
        if _TIME in self._left and len(self._zoned) == 1:
            unit = "ms" if self._digits <= 3 else "us" if self._digits <= 6 else "ns"
            return pa.timestamp(unit, "UTC" if True in self._zoned else None)
        return pa.string()

    def typed(self, column: pa.Array, decimal: str) -> pa.Array | None:
        """Values in the type of all; None where one cannot be that after all (a number of twenty digits, a 31st of June): then all of
        them are text."""
        kind = self.type_of(decimal)
        if pa.types.is_string(kind):
            return column
        number = pa.types.is_integer(kind) or pa.types.is_floating(kind)
        if pa.types.is_floating(kind) and decimal == _COMMA:
            column = pc.replace_substring(pc.replace_substring(column, ".", ""), ",", ".")
        try:
            return column.cast(kind)
        except pa.ArrowInvalid:
            # with blanks about them, or a plus before
            plain = pc.utf8_trim_whitespace(pc.replace_substring_regex(column, _PLUS, r"\1")) if number else None
        try:
            if plain is not None:
                return plain.cast(kind)
        except pa.ArrowInvalid:
            pass
        self._is_text = True
        return None

    def remarks(self, name: str, decimal: str) -> list[Remark]:
        """What there is to say of the decimal sign: points taken as standing between thousands, a column that has the other one."""
        sign, other = ("point", "comma") if decimal == _POINT else ("comma", "point")
        odd = _COMMA if decimal == _POINT else _POINT
        has, kind = self._signs[odd], self.type_of(decimal)
        if not has:
            return []
        numbers = _COMMA_NUMBER in self._left if decimal == _POINT else _NUMBER in self._left and not self._no_numbers
        if pa.types.is_floating(kind):
            hold = "value holds" if has == 1 else "values hold"
            text = f"{has:,} {hold} a {other} in '{name}', taken as standing between thousands"
        elif pa.types.is_string(kind) and numbers:
            text = f"'{name}' has numbers with a {other} and stays text"
        else:
            return []
        return [Remark(f"the decimal sign is a {sign}: {text}", look=True)]


def decimal_of(columns: Sequence[TextColumn]) -> str:
    """The decimal sign of a table: the comma where more values can only be numbers with one than with a point."""
    return _COMMA if sum(c.commas_over_points for c in columns) > 0 else _POINT


def typed(column: pa.ChunkedArray, decimal: str = _POINT) -> tuple[pa.ChunkedArray, TextColumn]:
    """A column that is there whole, in the type that all its values have."""
    found = TextColumn(decimal)
    for chunk in column.chunks:
        found.look(chunk)
    chunks = [found.typed(chunk, decimal) for chunk in column.chunks]
    whole = [c for c in chunks if c is not None]
    if len(whole) < len(chunks):
        return column, found
    return pa.chunked_array(whole, found.type_of(decimal)), found
