"""Keep the features that were chosen by hand."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Literal

import numpy as np

from eskret.core.accounts.account import Remark
from eskret.core.layer import Layer, LayerFacts
from eskret.core.tables.keys import rows_of
from eskret.core.words import bold, pluralise
from eskret.errors import InputError
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.row_wise import Chosen, RowFilter

NOT_PICKED = "was not picked"
LEFT_OUT = "was picked to be left out"
SOURCE_NUMBER = "the source's own number"


class Pick(RowFilter):
    """Keep the features picked by hand on the map or in the table, or all but those.

    They are remembered by the values of a key field, so that the same features are found again when the data changes.
    Without a key field the numbers that the source itself gives its features are used; those can shift when the file
    is written anew, so the step then asks for a look. Features that are no longer found are told.
    """

    id = "pick"
    title = "Pick"
    phase = Phase.CHOOSE
    menu_order = 30
    nothing = "none of those picked is here"
    also_known_as = (
        "select by hand",
        "choose by hand",
        "isolate",
        "click",
        "single feature",
        "manual",
        "these",
        "lasso",
        "pick on the map",
        "leave out features",
        "exclude some features",
        "hand picked",
    )

    class Settings(OperationSettings):
        features: list[Any] = setting(
            "Features",
            kind="features",
            min_length=1,
            example='["B-017", "B-018"]',
            help="Values of the key field (or the source's numbers) of the features picked.",
        )
        key: str = setting(
            "Key field",
            kind="field",
            default="",
            example="bed",
            help="A field that has another value in every feature. Left empty, the source's own numbers are used.",
        )
        take: Literal["these", "all but these"] = setting(
            "Keep",
            kind="choice",
            default="these",
            choices={"these": "these features", "all but these": "all but these"},
            help="Whether the features picked stay or go.",
        )

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        given = settings.get("features")
        values = [str(v) for v in given] if isinstance(given, list) else []
        but = "all but " if settings.get("take") == "all but these" else ""
        if values and len(values) <= 3 and settings.get("key"):
            return f"Pick {but}{settings['key']} {join_words(values, 3)} of {bold(entering or '…')}"
        return f"Pick {but}{pluralise(len(values), 'feature')} of {bold(entering or '…')}"

    def check(self, facts: LayerFacts, settings: Settings, context: Context) -> list[Finding]:
        if settings.key:
            return named_fields.named(facts, [settings.key], "key")
        text = f"picked by {SOURCE_NUMBER}, which can shift when the file is written anew. A key is safer."
        return [Finding.look(text, "key", facts)]

    def at_most(self, facts: LayerFacts, settings: Settings) -> LayerFacts:
        count = facts.count
        if settings.take == "these":
            count = len(settings.features) if count is None else min(count, len(settings.features))
        return replace(super().at_most(facts, settings), count=count)

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS if settings.key else Takes.WHOLE

    def choose(self, layer: Layer, settings: Settings, context: Context) -> Chosen:
        whole, remarks = context.once("picked", lambda: _picked(layer, settings, context))
        picked = whole[context.rows_of(layer)]
        keeps, reason = (picked, NOT_PICKED) if settings.take == "these" else (~picked, LEFT_OUT)
        return Chosen(np.flatnonzero(keeps), [(reason, np.flatnonzero(~keeps))], remarks)


def _picked(layer: Layer, settings: Any, context: Context) -> tuple[np.ndarray, Sequence[Remark]]:
    """Whether each row, of all that there are, is one of those picked."""
    values = settings.features
    if settings.key:
        at, counts = rows_of(context.columns_of(layer, [settings.key]).column(0), values)
    else:
        if layer.ids is None:
            raise InputError(
                "its features have no numbers of their own to be picked by",
                place=layer.key,
                way_out="Name a key field, or pick from the layer as it was loaded",
            )
        places = {v: n for n, v in enumerate(values)}
        at = np.fromiter((places.get(i, -1) for i in layer.ids.tolist()), np.int64, len(layer))
        counts = np.bincount(at[at >= 0], minlength=len(values))
    remarks: list[Remark] = []
    if not settings.key:
        remarks.append(Remark(f"picked by {SOURCE_NUMBER}, which can shift; a key field is safer", layer.key, look=True))
    gone = [str(v) for v, n in zip(values, counts.tolist(), strict=True) if n == 0]
    if gone:
        remarks.append(
            Remark(
                f"{pluralise(len(gone), 'feature')} picked is no longer found: {join_words(gone, 6)}"
                if len(gone) == 1
                else f"{pluralise(len(gone), 'feature picked is', 'features picked are')} no longer found: {join_words(gone, 6)}",
                layer.key,
                look=True,
            )
        )
    several = [str(v) for v, n in zip(values, counts.tolist(), strict=True) if n > 1]
    if several:
        text = f"'{settings.key}' is no key: {join_words(several, 4)} stands in more than one feature, and all were picked"
        remarks.append(Remark(text, layer.key, look=True))
    return at >= 0, remarks
