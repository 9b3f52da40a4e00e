"""The name of a field that a step makes or writes over."""

from __future__ import annotations

from collections.abc import Sequence

from eskret.core.layer import LayerFacts
from eskret.core.naming import AS_TYPED, clean_name
from eskret.operations.base import Context, Finding


def field_called(names: Sequence[str], wanted: str, context: Context) -> str:
    """The field as it is called there, case ignored; else as it was typed, or cleaned, as the workflow has names."""
    there = {n.casefold(): n for n in names}
    found = there.get(wanted.casefold())
    if found is not None:
        return found
    typed = " ".join(wanted.split())
    return (typed if context.names == AS_TYPED else clean_name(typed, keep_case=True)) or "field"


def told_of_field(facts: LayerFacts, wanted: str, name: str, setting: str = "field") -> list[Finding]:
    """That a field is called otherwise than was typed, or is there already."""
    if name in facts.names():
        return [Finding.look(f"the field '{name}' is there already and is written over.", setting, facts)]
    if wanted == name:
        return []
    return [Finding.note(f"the field is called '{name}', since names are tidied here.", setting, facts)]
