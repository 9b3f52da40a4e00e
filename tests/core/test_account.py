"""The arithmetic of the ledger: in = used + set aside, always, and every break of it is found."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.accounts.account import (
    ControlTotal,
    InputAccount,
    OutputAccount,
    Relation,
    Remark,
    SetAside,
    State,
    check_controls,
    check_relation,
    check_rows,
    state_of,
)
from eskret.errors import AccountError

fates = st.lists(st.sampled_from(["used", "a", "b"]), max_size=40)


def split(fate: list[str]) -> tuple[np.ndarray, SetAside]:
    where = np.array(fate, dtype=object)
    rows = np.arange(len(fate))
    aside = SetAside.from_reasons([(reason, rows[where == reason]) for reason in ("a", "b")])
    return rows[where == "used"], aside


@given(fates)
def test_any_division_of_rows_balances(fate: list[str]) -> None:
    used, aside = split(fate)
    account = InputAccount("from", "x", len(fate), aside)
    check_rows(account, used)
    assert account.used + len(aside) == account.rows
    assert dict(aside.counts()) == {r: fate.count(r) for r in ("a", "b") if r in fate}
    assert (np.diff(aside.rows) > 0).all()


@given(fates.filter(lambda f: "used" in f and len(set(f)) > 1), st.randoms())
def test_a_row_that_is_lost_or_doubled_is_found(fate: list[str], random: object) -> None:
    used, aside = split(fate)
    account = InputAccount("from", "x", len(fate), aside)
    with pytest.raises(AccountError, match="neither used nor set aside"):
        check_rows(account, used[1:])
    with pytest.raises(AccountError, match="both used and set aside"):
        check_rows(account, np.append(used, aside.rows[0]))
    with pytest.raises(AccountError, match="comes from none"):
        check_rows(account, np.append(used, len(fate)))


def test_one_row_cannot_have_two_reasons() -> None:
    with pytest.raises(AccountError, match="two reasons"):
        SetAside.from_reasons([("a", np.array([1, 2])), ("b", np.array([2]))])


def test_a_row_set_aside_must_be_one_of_the_input() -> None:
    aside = SetAside.from_reasons([("a", np.array([5]))])
    with pytest.raises(AccountError, match="not one of the 5 rows"):
        check_rows(InputAccount("from", "x", 5, aside), None)


@pytest.mark.parametrize(
    ("relation", "used", "out", "fits"),
    [
        (Relation.KEPT, 3, 3, True),
        (Relation.KEPT, 3, 2, False),
        (Relation.ONE_FOR_ONE, 3, 4, False),
        (Relation.GROUPED, 3, 1, True),
        (Relation.GROUPED, 3, 0, False),
        (Relation.GROUPED, 0, 0, True),
        (Relation.GROUPED, 3, 4, False),
        (Relation.MULTIPLIED, 3, 7, True),
        (Relation.MULTIPLIED, 3, 2, False),
        (Relation.NEW, 0, 9, True),
    ],
)
def test_relations(relation: Relation, used: int, out: int, fits: bool) -> None:
    if fits:
        check_relation(relation, used, out, "x")
    else:
        with pytest.raises(AccountError, match=f"{used} rows were used and {out} left"):
            check_relation(relation, used, out, "x")


@given(st.floats(1e-6, 1e12), st.floats(-1e-10, 1e-10))
def test_control_totals_agree_within_their_tolerance(value: float, relative: float) -> None:
    assert ControlTotal("area", "ha", value, value * (1 + relative)).agrees
    assert not ControlTotal("area", "ha", value + 1, value * 1.01 + 1.1).agrees


def test_a_total_that_disagrees_fails_with_both_figures() -> None:
    output = OutputAccount("beds", 3, (), (ControlTotal("area", "ha", 12.5, 12.0),))
    with pytest.raises(AccountError, match=r"beds: the area should be 12.5 ha and is 12"):
        check_controls([output])


def test_only_a_remark_that_asks_for_it_makes_a_look() -> None:
    assert state_of([Remark("said")]) is State.BALANCED
    assert state_of([Remark("said"), Remark("odd", look=True)]) is State.LOOK
