"""Figures and sentences as people read them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.words import bold, duration, format_quantity, pieces, pluralise, strip_markup
from eskret.errors import EskretError, ExpressionError, InputError, RehearsalError, SettingError, StoppedError
from eskret.operations.base import Finding, Level


def test_counts_and_durations() -> None:
    assert [pluralise(n, "feature") for n in (0, 1, 1204)] == ["0 features", "1 feature", "1,204 features"]
    assert pluralise(2, "entry", "entries") == "2 entries"
    assert [duration(s) for s in (0.04, 9.94, 42.4, 200, 3900)] == ["0.0 s", "9.9 s", "42 s", "3 min 20 s", "1 h 05 min"]


@pytest.mark.parametrize(
    ("value", "unit", "text"),
    [
        (1867.23, "ha", "1,867.2 ha"),
        (0.004321, "km", "0.00432 km"),
        (12.345, "km", "12.35 km"),
        (4310, "", "4,310"),
        (0, "ha", "0.0 ha"),
        (100.0, "km", "100.0 km"),
    ],
)
def test_totals_have_a_sensible_number_of_digits(value: float, unit: str, text: str) -> None:
    assert format_quantity(value, unit) == text


@given(st.lists(st.tuples(st.text(st.characters(exclude_categories=("Cc",)), max_size=9), st.booleans()), max_size=6))
def test_bold_parts_are_found_again(parts: list[tuple[str, bool]]) -> None:
    sentence = "".join(bold(text) if strong else text for text, strong in parts)
    assert strip_markup(sentence) == "".join(text for text, _ in parts)
    found = pieces(sentence)
    assert "".join(text for text, _ in found) == strip_markup(sentence)
    assert [text for text, strong in found if strong] == [text for text, strong in parts if strong and text]


def test_errors_are_sentences_with_place_and_way_out() -> None:
    assert InputError("it is empty.", place="a.gpx", way_out="Fetch it again.").sentence() == "a.gpx: it is empty. Fetch it again."
    assert ExpressionError("no field 'a'", way_out="Did you mean 'b'?").sentence() == "no field 'a'. Did you mean 'b'?"
    assert str(StoppedError()) == "Stopped; nothing was written."
    assert SettingError("wrong", setting="to").setting == "to"
    error = EskretError("broken")
    assert str(error.at("step 'x'")) == "step 'x': broken." and str(error.at("elsewhere")) == "step 'x': broken."
    found = [Finding(Level.ERROR, "One thing."), Finding(Level.ERROR, "Another.")]
    assert str(RehearsalError(found)) == "One thing (and 1 more). Nothing was run and nothing was written."
