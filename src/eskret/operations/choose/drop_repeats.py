"""Keep the first of features that repeat each other."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
import shapely
from pydantic import model_validator

from eskret.core.accounts.account import Remark
from eskret.core.layer import Certainty, Layer, LayerFacts
from eskret.core.tables.groupby import codes_of, group_codes
from eskret.core.words import bold, pluralise
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.row_wise import Chosen, RowFilter

REPEATS = "repeats an earlier feature"


class DropRepeats(RowFilter):
    """Keep one of each set of duplicate features, compared by fields, geometry or both.

    Features repeat each other when all the fields named hold the same values, an empty value being the same as another
    empty one, and, if geometry counts, when they draw the same shape: the same vertices, wherever a ring begins and
    whichever way it runs. The first in the layer's order is kept; the later ones are set aside.
    """

    id = "drop_repeats"
    title = "Drop repeats"
    phase = Phase.CHOOSE
    menu_order = 50
    nothing = "it is empty"
    also_known_as = (
        "duplicates",
        "remove duplicates",
        "unique",
        "unique records",
        "distinct",
        "dedupe",
        "identical",
        "first of each",
        "twins",
        "recorded twice",
        "same point twice",
        "same geometry",
    )

    class Settings(OperationSettings):
        fields: list[str] = setting(
            "Fields that repeat",
            kind="fields",
            default=[],
            example="licence",
            help="Features are repeats when all of these hold the same values.",
        )
        geometry: bool = setting("The same shape", kind="flag", default=False, help="Whether they must also draw the same shape.")

        @model_validator(mode="after")
        def _something(self) -> DropRepeats.Settings:
            if not self.fields and not self.geometry:
                raise ValueError("name a field, or let the shape count")
            return self

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        given = settings.get("fields")
        by = [str(f) for f in given] if isinstance(given, list) else []
        if settings.get("geometry"):
            by.append("shape")
        return f"Drop repeats of {bold(entering or '…')}" + (f" by {join_words(by, 4)}" if by else "")

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        found = named_fields.named(facts, settings.fields, "fields")
        if not found and settings.geometry and facts.kind == "table":
            found.append(Finding.error("a table has no shapes to compare.", "geometry", facts))
        return found

    def at_most(self, facts: LayerFacts, settings: Settings) -> LayerFacts:
        return replace(facts, certainty=Certainty.AT_MOST)  # as far as they reach, they still do

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def choose(self, layer: Layer, settings: Settings, context: Context) -> Chosen:
        repeats, told = context.once("repeats", lambda: _repeats(layer, settings, context))
        mine = repeats[context.rows_of(layer)]
        return Chosen(np.flatnonzero(~mine), [(REPEATS, np.flatnonzero(mine))], [*named_fields.no_numbers(layer, settings.fields), *told])


def _repeats(layer: Layer, settings: Any, context: Context) -> tuple[np.ndarray, Sequence[Remark]]:
    """Whether each row, of all those that there are, repeats an earlier one, and what there is to say of them."""
    table = context.columns_of(layer, settings.fields)
    codes = [codes_of(table.column(name)) for name in settings.fields]
    if settings.geometry:
        codes.append(codes_of(pa.chunked_array([_drawn(x) for x in ([layer] if context.large is None else context.large.chunks())])))
    groups = group_codes(codes, len(layer if context.large is None else context.large))
    repeats = np.ones(len(groups.of), bool)
    repeats[groups.first] = False
    if not repeats.any():
        return repeats, ()
    text = f"{pluralise(int((groups.sizes > 1).sum()), 'feature')} repeated, up to {int(groups.sizes.max()):,} times"
    return repeats, (Remark(text, layer.key),)


def _drawn(layer: Layer) -> pa.Array:
    """Which shape each row draws, told by a digest: a whole layer's shapes need not be held beside each other."""
    assert layer.geometry is not None
    shapes = shapely.to_wkb(shapely.normalize(layer.geometry), include_srid=False).tolist()
    return pa.array([None if s is None else hashlib.blake2b(s, digest_size=20).digest() for s in shapes], pa.binary())
