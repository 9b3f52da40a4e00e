"""The naming rule, by its examples and by what must hold for every text."""

from __future__ import annotations

import doctest

import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.core import naming
from eskret.core.naming import clean_name, fill_template, number_collisions, placeholders
from eskret.errors import SettingError


def test_the_examples_in_the_text_hold() -> None:
    found = doctest.testmod(naming)
    assert found.attempted >= 3 and found.failed == 0


@pytest.mark.parametrize(
    ("text", "name"),
    [
        ("Bed 12 (A)", "bed_12_a"),  # common practice: spaces, brackets and other signs become one underscore
        ("Straße – Æbelø", "strasse_aebelo"),
        ("__a__", "a"),
        ("aux", "aux_"),
        ("COM7", "com7_"),
        ("../../x", "x"),
        ("مرسى 3", "مرسى_3"),
        ("日本 湾", "日本_湾"),
        ("a\u0301\u0328b", "ab"),
        ("🦪", ""),
        ("x" * 300, "x" * 60),
        ("a" * 59 + " b", "a" * 59),
        ("हिन्दी", "हिन्दी"),
        ("İstanbul", "istanbul"),
    ],
)
def test_examples(text: str, name: str) -> None:
    assert clean_name(text) == name


@given(st.text(max_size=120), st.integers(2, 80), st.booleans())
def test_every_name_is_clean_and_cleaning_again_changes_nothing(text: str, limit: int, keep_case: bool) -> None:
    name = clean_name(text, limit=limit, keep_case=keep_case)
    assert len(name) <= limit
    assert not set(name) & set("/\\:*?\"<>| .{}$'\n\0")
    assert "__" not in name and not name.startswith("_")
    assert clean_name(name, limit=limit, keep_case=keep_case) == name


@given(st.lists(st.text(alphabet="abAB_1", max_size=6), max_size=12), st.lists(st.text(alphabet="abAB", max_size=3)))
def test_numbered_names_differ_by_more_than_case(names: list[str], taken: list[str]) -> None:
    out = number_collisions(names, limit=10, taken=taken)
    assert len(out) == len(names)
    folded = [n.casefold() for n in out]
    assert len(set(folded)) == len(folded)
    assert not set(folded) & {t.casefold() for t in taken}
    assert all(len(n) <= 10 for n in out)


def test_a_numbered_name_keeps_to_the_limit() -> None:
    assert number_collisions(["x" * 10, "X" * 10], limit=10) == ["x" * 10, "X" * 8 + "_2"]


def test_templates() -> None:
    assert fill_template("{district}_{layer}", {"district": "North", "layer": "beds"}) == "North_beds"
    assert placeholders("a{b}c{d}") == ["b", "d"]
    with pytest.raises(SettingError, match=r"'\{nope\}' stands for nothing here. Use one of \{layer\}"):
        fill_template("{nope}", {"layer": "x"})
