"""Expressions: ISO 9075 where it speaks (LIKE, nulls, CASE), locked everywhere, errors at their place."""

from __future__ import annotations

import re
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.expression import evaluate, parse, parse_condition, tokens, truth
from eskret.errors import ExpressionError

TABLE = pa.table(
    {
        "desc": ["Pile 1", "pile 2", None, "100%", "a_b", ""],
        "tonnes": pa.array([5, 20, None, 0, 7, 12], pa.int64()),
        "Name": ["O'Brien", "x", "y", "z", "w", "v"],
        "order": [1, 2, 3, 4, 5, 6],
        "ok": [True, False, None, True, True, False],
    }
)


def kept(where: str, **values: Any) -> list[int]:
    condition = parse_condition(where, TABLE.schema, values)
    return [i + 1 for i, t in enumerate(truth(condition, TABLE, values)[0]) if t]


# ISO 9075, <like predicate>: % is any run of characters, _ is one; the whole text is matched; case counts.
@pytest.mark.parametrize(
    ("where", "rows"),
    [
        ("desc LIKE 'Pile%'", [1]),
        ("desc LIKE '%ile%'", [1, 2]),
        ("desc LIKE 'Pile _'", [1]),
        ("desc LIKE ''", [6]),
        ("desc LIKE '%'", [1, 2, 4, 5, 6]),
        ("desc LIKE 'Pile'", []),
        ("desc LIKE '100!%' ESCAPE '!'", [4]),
        ("desc LIKE 'a!_b' ESCAPE '!'", [5]),
        ("desc NOT LIKE 'Pile%'", [2, 4, 5, 6]),
        ("desc ILIKE 'pile%'", [1, 2]),
    ],
)
def test_like(where: str, rows: list[int]) -> None:
    assert kept(where) == rows


@given(st.text(alphabet="ab%_P", max_size=6), st.lists(st.text(alphabet="abP", max_size=5), min_size=1, max_size=8))
def test_like_is_what_the_standard_says_for_any_pattern(pattern: str, texts: list[str]) -> None:
    table = pa.table({"t": texts})
    found = truth(parse_condition("t LIKE $p", table.schema, {"p": pattern}), table, {"p": pattern})[0]
    shape = re.compile("".join(".*" if c == "%" else "." if c == "_" else re.escape(c) for c in pattern), re.DOTALL)
    assert found.tolist() == [shape.fullmatch(t) is not None for t in texts]


# ISO 9075, three-valued logic: a comparison with null is unknown; NOT unknown is unknown; unknown OR true is true.
@pytest.mark.parametrize(
    ("where", "rows"),
    [
        ("tonnes > 5", [2, 5, 6]),
        ("NOT (tonnes > 5)", [1, 4]),
        ("tonnes = NULL", []),
        ("tonnes IS NULL", [3]),
        ("tonnes <> 5", [2, 4, 5, 6]),
        ("tonnes > 5 OR ok", [1, 2, 4, 5, 6]),
        ("ok IS NOT TRUE", [2, 3, 6]),
        ("tonnes IN (5, 7)", [1, 5]),
        ("tonnes NOT IN (5, NULL)", []),
        ("tonnes BETWEEN 5 AND 12", [1, 5, 6]),
        ("tonnes IS DISTINCT FROM 5", [2, 3, 4, 5, 6]),
        ("CASE WHEN tonnes > 10 THEN true ELSE ok END", [1, 2, 4, 5, 6]),
        ("coalesce(tonnes, 99) > 50", [3]),
        ("true", [1, 2, 3, 4, 5, 6]),
        ("tonnes / 2 = 2.5", [1]),
    ],
)
def test_null_logic(where: str, rows: list[int]) -> None:
    assert kept(where) == rows


def test_unknown_is_told_from_false() -> None:
    condition = parse_condition("tonnes > 5", TABLE.schema, {})
    true, unknown = truth(condition, TABLE, {})
    assert unknown.tolist() == [False, False, True, False, False, False]
    assert not (true & unknown).any()


def test_values_are_bound_and_quotes_in_them_do_no_harm() -> None:
    assert kept("name = $who", who="O'Brien") == [1]
    assert kept("name = $who", who="' OR true --") == []
    assert kept("desc LIKE $word || '%'", word="Pile") == [1]


def test_field_names_in_any_case_and_words_of_sql_may_be_written_bare() -> None:
    assert kept("NAME = 'x' AND order = 2 and DESC like 'pile%'") == [2]
    assert parse("desc || Name", TABLE.schema.names).fields == ("desc", "Name")


def test_a_parameter_may_stand_for_a_field() -> None:
    condition = parse_condition("$what > 5", TABLE.schema, {}, {"what": "order"})
    assert truth(condition, TABLE, {})[0].tolist() == [False] * 5 + [True]


@pytest.mark.parametrize(
    ("where", "says", "start"),
    [
        ("true) ; select 1 --", "a bracket is closed", 4),
        ("true), (false", "more than one expression", -1),
        ("tonnes = 1; drop table layer", "';' is not expected", 10),
        ("tonnes = = 3", "'=' is not expected", 9),
        ("true) from layer union select (1", "more than one expression", -1),
        ("(select 1) = 1", "a query inside", 0),
        ("tonnes +", "breaks off", 8),
        ("name = 'q", "not closed", 7),
        ("dsc LIKE 'a'", "Did you mean 'desc'?", 0),
        ("'a' = dsc", "no field 'dsc'", 6),
        ("tonnes LIKE 'a'", "LIKE does not work on whole number and text", None),
        ("tonnes > 'x'", "compared with a whole number", None),
        ("tonnes", "gives a value, not yes or no", 0),
        ("sum(tonnes) > 1", "works over many rows", 0),
        ("count(*) > 1", "works over many rows", None),
        ("row_number() over () = 1", "a window over other rows", None),
        ("* = 1", "", None),
        ("", "no condition yet", None),
        ("now() > '2020-01-01'", "could not be repeated", 0),
        ("random() < 0.5", "could not be repeated", 0),
        ("current_date > DATE '2020-01-01'", "could not be repeated", 0),
        ("foo(tonnes)", "no function foo()", None),
        ("$nope = 1", "there is no parameter $nope", 0),
        ("? = 1", "needs its name", None),
        ("read_text('/etc/passwd') = 'a'", "cannot be used", 0),
        ("getenv('HOME') = 'a'", "cannot be used", 0),
        ("tonnes IN (SELECT 1)", "a query inside", None),
        ("unnest([true])", "many rows", 0),
        ("current_setting('memory_limit') = ''", "cannot be used", 0),
    ],
)
def test_what_is_refused_and_where(where: str, says: str, start: int | None) -> None:
    with pytest.raises(ExpressionError) as caught:
        parse_condition(where, TABLE.schema, {})
    assert says in caught.value.sentence()
    if start is not None:
        assert caught.value.start == start


def test_places_are_in_the_analysts_text_even_where_names_were_quoted() -> None:
    with pytest.raises(ExpressionError) as caught:
        parse_condition("order > 1 AND dsc = 'a'", TABLE.schema, {})
    assert (caught.value.start, caught.value.length) == (14, 3)


def test_a_long_computation_is_cut_off() -> None:
    slow = parse("length(repeat(name, tonnes * 1000000)) > 1", TABLE.schema.names)
    with pytest.raises(ExpressionError, match="longer than 0.05 seconds|memory"):
        evaluate(slow, pa.concat_tables([TABLE] * 200), {}, seconds=0.05)


@given(st.text(max_size=40))
def test_any_text_is_refused_in_words_or_gives_a_value_a_row(text: str) -> None:
    try:
        expression = parse(text, TABLE.schema.names)
        column = evaluate(expression, TABLE, {}, seconds=5)
    except ExpressionError as error:
        assert error.sentence().strip()
    else:
        assert len(column) == TABLE.num_rows


@given(st.text(max_size=60))
def test_tokens_put_together_are_the_text(text: str) -> None:
    assert "".join(t.text for t in tokens(text)) == text
