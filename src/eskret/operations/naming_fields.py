"""The name of a field that a step makes or writes over."""

from __future__ import annotations

from collections.abc import Sequence

from eskret.core.naming import clean_name


def field_called(names: Sequence[str], wanted: str) -> str:
    """The field as it is called there, case ignored; else the name cleaned."""
    there = {n.casefold(): n for n in names}
    return there.get(wanted.casefold()) or clean_name(wanted, keep_case=True) or "field"
