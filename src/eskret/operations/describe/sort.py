"""Put rows in order."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.account import InputAccount, OutputAccount, Relation
from eskret.core.layer import Layer, LayerFacts
from eskret.core.totals import totals_of
from eskret.core.words import bold
from eskret.operations import figuring
from eskret.operations.base import Context, EachLayer, Forecast, Outcome, Phase, in_words
from eskret.operations.settings import OperationSettings, setting

_DOWN = " down"


class Sort(EachLayer):
    """Put the rows of a layer in the order of their values.

    By several fields, the first counting most. Write down after a field for the greatest first: tonnes down. Rows whose
    value is empty come last either way; equal ones keep their order. Formats that order rows by place, such as
    FlatGeobuf, do not keep it.
    """

    id = "sort"
    title = "Sort"
    phase = Phase.DESCRIBE
    rank = 65
    relation = Relation.ONE_FOR_ONE
    also_known_as = ("order by", "rank", "arrange rows", "ascending", "descending", "largest first", "alphabetical")

    class Settings(OperationSettings):
        by: list[str] = setting(
            "In the order of", kind="patterns", min_length=1, example="district, tonnes down",
            help="Fields, the first counting most; with down after it, the greatest first.",
        )  # fmt: skip

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        by = settings.get("by")
        return f"Sort {bold(entering or '…')} by {in_words(map(str, by), 4) if isinstance(by, list) and by else '…'}"

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = figuring.named(facts, [_field(b, facts.names())[0] for b in settings.by], "by")
        return Forecast((), tuple(found)) if found else Forecast((facts,))

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        order = np.arange(len(layer))
        for text in reversed(settings.by):
            name, down = _field(text, layer.table.column_names)
            if name not in layer.table.column_names:
                raise figuring.missing_field(layer, name)
            column = layer.table.column(name)
            if pa.types.is_nested(column.type) or pa.types.is_boolean(column.type):
                column = pa.chunked_array([pa.array([None if v is None else repr(v) for v in column.to_pylist()])])
            rank = np.asarray(pc.rank(column.combine_chunks(), tiebreaker="dense")).astype(np.int64)
            if down:
                rank = np.where(np.asarray(column.is_null()), len(layer) + 1, -rank)
            order = order[np.argsort(rank[order], kind="stable")]
        out = layer.take(order)
        return Outcome(
            (out,), (InputAccount("from", layer.key, len(layer)),),
            (OutputAccount(layer.key, len(out), totals_of(out, context.totals)),), order,
        )  # fmt: skip


def _field(text: str, names: list[str]) -> tuple[str, bool]:
    """A field and whether its greatest come first; a field that is really called so is taken for itself."""
    text = text.strip()
    if text in names or not text.lower().endswith(_DOWN):
        return text, False
    return text[: -len(_DOWN)].strip(), True
