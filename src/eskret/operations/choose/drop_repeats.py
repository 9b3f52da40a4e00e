"""Keep the first of features that repeat each other."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
import shapely
from pydantic import model_validator

from eskret.core.account import Relation, Remark
from eskret.core.groups import Groups, codes_of, group_codes
from eskret.core.layer import Layer, LayerFacts
from eskret.core.rows import remaining
from eskret.core.words import bold, counted
from eskret.operations import figuring
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Level, Outcome, Phase, in_words
from eskret.operations.kept import kept_outcome
from eskret.operations.settings import OperationSettings, setting

REPEATS = "repeats an earlier feature"


class DropRepeats(EachLayer):
    """Keep the first of features that repeat each other, in fields, in geometry or in both.

    Features repeat each other when all the fields named hold the same values, an empty value being the same as another
    empty one, and, if geometry counts, when they draw the same shape: the same vertices, wherever a ring begins and
    whichever way it runs. The first in the layer's order is kept; the later ones are set aside.
    """

    id = "drop_repeats"
    title = "Drop repeats"
    phase = Phase.CHOOSE
    rank = 50
    relation = Relation.KEPT
    also_known_as = ("duplicates", "unique", "distinct", "dedupe", "identical", "first of each", "twins")

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

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        given = settings.get("fields")
        by = [str(f) for f in given] if isinstance(given, list) else []
        if settings.get("geometry"):
            by.append("shape")
        return f"Drop repeats of {bold(entering or '…')}" + (f" by {in_words(by, 4)}" if by else "")

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        missing = [f for f in settings.fields if f not in facts.names()]
        if missing:
            text = f"{facts.key}: there is no field '{missing[0]}'. It has {in_words(facts.names(), 12)}."
            return Forecast((), (Finding(Level.ERROR, text, setting="fields", layer=facts.key),))
        if settings.geometry and facts.kind == "table":
            text = f"{facts.key}: a table has no shapes to compare."
            return Forecast((), (Finding(Level.ERROR, text, setting="geometry", layer=facts.key),))
        return Forecast((replace(facts, certainty="at most"),))

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        groups = _groups(layer, settings)
        kept = np.sort(groups.first)
        repeats = remaining(len(layer), kept)
        remarks = figuring.no_numbers(layer, settings.fields)
        if len(repeats):
            sizes = groups.sizes
            text = f"{counted(int((sizes > 1).sum()), 'feature')} repeated, up to {int(sizes.max()):,} times"
            remarks.append(Remark(text, layer.key))
        return kept_outcome(layer, kept, [(REPEATS, repeats)], context, remarks, (), "it is empty")


def _groups(layer: Layer, settings: Any) -> Groups:
    codes = [codes_of(layer.table.column(name)) for name in settings.fields]
    if settings.geometry:
        assert layer.geometry is not None
        shapes = shapely.to_wkb(shapely.normalize(layer.geometry), include_srid=False)
        codes.append(codes_of(pa.chunked_array([pa.array(shapes.tolist(), pa.binary())])))
    return group_codes(codes, len(layer))
