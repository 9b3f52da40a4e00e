"""The keys of layers that are made of values: a template filled for each, cleaned, made unique; and which values make none."""

from __future__ import annotations

from collections.abc import Sequence

from eskret.core.naming import LIMIT, clean_name, number_collisions
from eskret.operations.base import Context


def part_names(values: Sequence[str], template: str, context: Context, layer: str) -> tuple[list[str], list[str]]:
    """The key of each value's layer, empty for a value that makes none, and the values that were shortened for it.

    A value that holds no letter or digit makes one where the template numbers them. A long value is cut so that what else the
    template says, such as a number, stays.
    """
    names, cut = [], []
    for number, value in enumerate(values, 1):
        extra = {"layer": layer, "n": number, "step": context.step}
        usable = bool(value) and (bool(clean_name(value)) or "{n}" in template)
        name = clean_name(context.fill(template, {**extra, "value": value}), limit=10_000) if usable else ""
        if len(name) > LIMIT:
            cut.append(value)
            spare = max(1, len(clean_name(value, limit=10_000)) - (len(name) - LIMIT))
            short = clean_name(value, limit=spare)
            name = clean_name(context.fill(template, {**extra, "value": short}))
        names.append(name)
    unique = iter(number_collisions([n for n in names if n]))
    return [next(unique) if n else "" for n in names], cut
