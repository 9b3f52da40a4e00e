"""Objects written down as JSON with arrays beside it: they come back as they went, and what is read can make nothing else."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass, field
from decimal import Decimal
from enum import StrEnum
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.accounts.account import Altered, ControlTotal, InputAccount, OutputAccount, Relation, Remark, Role, SetAside
from eskret.core.files.plain_data import from_plain, to_plain
from eskret.errors import Code
from eskret.operations.base import Delivered, Outcome


class Colour(StrEnum):
    RED = "red"


@dataclass(frozen=True)
class Inner:
    names: tuple[str, ...] = ()
    pairs: tuple[tuple[str, float, str], ...] = ()
    figure: float | int | Decimal = 0


@dataclass(frozen=True)
class Outer:
    colour: Colour
    path: Path
    inner: Inner
    maybe: Inner | None = None
    rows: np.ndarray | None = None
    also: list[int] = field(default_factory=list)


def through(kind: type, value: object) -> object:
    """Written down, as text, and read again."""
    arrays: list[np.ndarray] = []
    told = json.dumps(to_plain(value, arrays))
    return from_plain(kind, json.loads(told), arrays)


texts = st.text(max_size=8)
inner = st.builds(
    Inner,
    st.lists(texts, max_size=3).map(tuple),
    st.lists(st.tuples(texts, st.floats(allow_nan=False), texts), max_size=3).map(tuple),
    st.one_of(st.integers(), st.floats(allow_nan=False), st.decimals(allow_nan=False, allow_infinity=False)),
)


@given(
    inner, st.one_of(st.none(), inner), st.one_of(st.none(), st.lists(st.integers(-(2**62), 2**62), max_size=5)), st.lists(st.integers())
)
def test_what_is_written_down_comes_back(one: Inner, maybe: Inner | None, rows: list[int] | None, also: list[int]) -> None:
    value = Outer(Colour.RED, Path("/a/Ø b"), one, maybe, None if rows is None else np.array(rows, np.int64), also)
    back = through(Outer, value)
    assert isinstance(back, Outer) and (back.colour, back.path, back.inner, back.maybe, back.also) == (
        value.colour,
        value.path,
        value.inner,
        value.maybe,
        value.also,
    )
    assert type(back.inner.figure) is type(value.inner.figure)
    assert (back.rows is None) == (rows is None) and (rows is None or back.rows.tolist() == rows)


def test_an_outcome_with_all_that_it_can_have_comes_back() -> None:
    aside = SetAside.from_reasons([("is too far", np.array([3, 1]))])
    value = Outcome(
        inputs=(
            InputAccount(Role.FROM, "a", 9, aside, (Altered("moved", np.array([2]), np.array([1.5]), "m"), Altered("cut", np.array([4])))),
        ),
        outputs=(OutputAccount("a", 7, (("tonnes", math.inf, ""),), (ControlTotal("sum", "", Decimal("1.10"), Decimal("1.10")),), "x"),),
        lineage=np.arange(7),
        remarks=(Remark("one cut", "a", True, Code.GENERAL, (("features", 1),)),),
        delivered=(Delivered(Path("/out/a.gpkg"), "a", 7, None),),
        relation=Relation.KEPT,
        failed="",
    )
    back = through(Outcome, value)
    assert isinstance(back, Outcome) and back.lineage.tolist() == value.lineage.tolist() and back.into is None
    assert back.outputs == value.outputs and back.remarks == value.remarks and back.delivered == value.delivered
    (mine,) = back.inputs
    assert mine.set_aside.counts() == [("is too far", 2)] and mine.set_aside.rows.tolist() == [1, 3] and mine.first
    assert [(a.what, a.rows.tolist(), None if a.amounts is None else a.amounts.tolist(), a.unit) for a in mine.altered] == [
        ("moved", [2], [1.5], "m"),
        ("cut", [4], None, ""),
    ]
    assert back.relation is Relation.KEPT and isinstance(back.relation, Relation)


def test_numbers_of_arrays_become_plain_ones_and_nan_stays() -> None:
    assert through(Inner, Inner(figure=np.float64(1.5))) == Inner(figure=1.5)
    back = through(Inner, Inner(pairs=(("a", math.nan, ""),)))
    assert isinstance(back, Inner) and math.isnan(back.pairs[0][1])


@pytest.mark.parametrize("thing", [object(), lambda: 1, {1, 2}, b"bytes", Inner])
def test_what_has_no_form_is_not_written_down(thing: object) -> None:
    with pytest.raises(TypeError, match="nothing that can be written down"):
        to_plain({"a": thing}, [])


@pytest.mark.parametrize(
    "told",
    [
        {"colour": "blue", "path": "a", "inner": {}},
        {"colour": "red", "path": 5, "inner": {}},
        {"colour": "red", "path": "a", "inner": {}, "more": 1},
        {"colour": "red", "path": "a", "inner": {"pairs": [["a", 1.0]]}},
        {"colour": "red", "path": "a", "inner": {}, "rows": {"array": 7}},
        {"colour": "red", "path": "a", "inner": 3},
        {},
    ],
)
def test_what_is_of_another_form_is_refused(told: dict) -> None:
    with pytest.raises((TypeError, ValueError, KeyError, IndexError, AttributeError)):
        from_plain(Outer, told, [])
