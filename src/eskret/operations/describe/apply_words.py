"""Bring spellings to the words of a list."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from functools import partial
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.accounts.account import Altered, Frequencies, Remark
from eskret.core.layer import Field, Layer, LayerFacts
from eskret.core.wordlist import ANY, brought, words_for
from eskret.core.words import pluralise
from eskret.errors import EskretError
from eskret.formats.wordlist_file import read_list
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields
from eskret.operations.support.row_wise import Columns, FieldsPerRow, MadeFields

NOT_LISTED = "'{}' holds a spelling that is not in the list"


class ApplyWords(FieldsPerRow):
    """Replace the spellings in fields by the words of a list, several fields at once.

    The tidied words stand in new fields beside the originals, called after them with an ending; with an empty ending the
    fields themselves are tidied. A spelling that is not in the list stays as it is, and is counted and listed, so that
    you can draft the list anew. The word (empty) leaves a value empty, and the spelling (no value) stands for features
    without one. A list of two columns, spelling and word, is taken as it is, for every field.
    """

    id = "apply_words"
    title = "Apply words"
    phase = Phase.DESCRIBE
    menu_order = 82
    says = "Apply words of {words} to {fields} of {entering}"
    also_known_as = (
        "recode",
        "reclassify text",
        "replace values",
        "find and replace",
        "codes to names",
        "translate codes",
        "lookup words",
        "standardise spelling",
        "harmonise",
        "tidy spelling",
    )

    class Settings(OperationSettings):
        words: str = setting(
            "Word list",
            kind="wordlist",
            min_length=1,
            example="words.csv",
            help="A CSV made by Draft words and settled by you, or anybody's list of two columns.",
        )
        fields: list[str] = setting(
            "Fields", kind="fields", min_length=1, example="bottom, species", help="Fields whose spellings are brought to the list's words."
        )
        ending: str = setting(
            "Ending of new fields",
            rare=True,
            default="_tidy",
            example="_tidy",
            help="New fields are called after the old with this. Left empty, the fields themselves are overwritten.",
        )

    def fields(self, facts: LayerFacts, settings: Settings, context: Context) -> MadeFields:
        found = named_fields.named(facts, settings.fields, "fields")
        if found:
            return [], found
        try:
            entries = read_list(context.path(context.fill(settings.words)))
        except EskretError as error:
            return [], [Finding.error(error.sentence(), "words")]
        if entries and all(e.field == ANY for e in entries):
            text = f"{settings.words} is a list of two columns: {pluralise(len(entries), 'spelling')} with their words, the first line too."
            found.append(Finding.note(text, "words"))
        for field in settings.fields:
            words = words_for(entries, field)
            if not words:
                found.append(Finding.look(f"the list has no spelling of '{field}'.", "fields", facts))
            values = facts.values([field])
            if words and values is not None:
                met = pc.unique(values.column(0).cast(pa.string())).to_pylist()
                missing = sorted({v for v in met if v is not None and v.strip()} - set(words))
                if missing:
                    many = pluralise(len(missing), f"spelling of '{field}' is", f"spellings of '{field}' are")
                    found.append(Finding.look(f"{many} not in the list: {join_words(missing, 4)}.", "words", facts))
        return [Field(f"{f}{settings.ending}", pa.string()) for f in settings.fields], found

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def columns(self, layer: Layer, settings: Settings, context: Context) -> Columns:
        entries = context.once("words", lambda: read_list(context.path(context.fill(settings.words))))
        made = {}
        remarks: list[Remark] = []
        altered: list[Altered] = []
        for field in settings.fields:
            if field not in layer.table.column_names:
                raise named_fields.missing_field(layer, field)
            words = words_for(entries, field)
            values = layer.table.column(field).cast(pa.string()).to_pylist()
            tidy = [brought(v, words) for v in values]
            strange = np.array([n for n, v in enumerate(values) if v is not None and v.strip() and v not in words], np.int64)
            emptied = sum(b is None and a is not None for a, b in zip(values, tidy, strict=True))
            changed = sum(a != b for a, b in zip(values, tidy, strict=True))
            made[f"{field}{settings.ending}"] = pa.array(tidy, pa.string())
            remarks.append(Remark.figured(field, partial(_brought, field), layer.key, changed=changed, emptied=emptied))
            often = Frequencies({v: (n, "") for v, n in Counter(values[n] for n in strange.tolist()).items()})
            remarks.append(Remark.figured(f"{field} strange", partial(_strange, field), layer.key, look=True, n=len(strange), often=often))
            altered.append(Altered(NOT_LISTED.format(field), strange))
        return Columns(made, remarks, altered)


def _brought(field: str, figures: Mapping[str, int]) -> str:
    emptied = f", {figures['emptied']:,} of them emptied" if figures["emptied"] else ""
    return f"'{field}': {pluralise(figures['changed'], 'value')} brought to another word{emptied}"


def _strange(field: str, figures: Mapping[str, Any]) -> str:
    if not figures["n"]:
        return ""
    often = sorted(figures["often"].items(), key=lambda one: -one[1][0])[:4]
    return f"'{field}': {pluralise(figures['n'], 'value')} not in the list, such as {', '.join(f'{v} ({n})' for v, (n, _) in often)}"
