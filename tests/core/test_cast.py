"""A field in another type: a value becomes what it is by itself, whatever else stands in its column."""

from __future__ import annotations

import pyarrow as pa
import pytest

from eskret.core.tables.cast import retyped, type_called


@pytest.mark.parametrize("word", ["whole", "number", "yes/no", "date", "time", "text"])
@pytest.mark.parametrize("value", ["0x1F", "007", " 5 ", "+5", "1e3", "1.0", "yes", "1", "true", "2031-02-28", "2031-02-31", "nan", ""])
def test_a_value_does_not_hang_on_its_neighbours(word: str, value: str) -> None:
    def made(*values: str) -> list[object]:
        return retyped(pa.chunked_array([list(values)]), type_called(word)).column.to_pylist()

    assert repr(made(value)[0]) == repr(made(value, "no such value")[0])
