"""Bring spellings to the words of a list."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.account import Altered, InputAccount, OutputAccount, Relation, Remark
from eskret.core.layer import Field, Layer, LayerFacts
from eskret.core.totals import totals_of
from eskret.core.wordlist import ANY, brought, words_for
from eskret.core.words import bold, counted
from eskret.errors import EskretError
from eskret.formats.wordlist_file import read_list
from eskret.operations import figuring
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Level, Outcome, Phase, in_words
from eskret.operations.settings import OperationSettings, setting

NOT_LISTED = "'{}' holds a spelling that is not in the list"


class ApplyWords(EachLayer):
    """Bring the spellings in some fields to the words of a list, several fields in one go.

    The tidied words stand in new fields beside the originals, called after them with an ending; with an empty ending the
    fields themselves are tidied. A spelling that is not in the list stays as it is, and is counted and listed, so that
    you can draft the list anew. The word (empty) leaves a value empty, and the spelling (no value) stands for features
    without one. A list of two columns, spelling and word, is taken as it is, for every field.
    """

    id = "apply_words"
    title = "Apply words"
    phase = Phase.DESCRIBE
    rank = 82
    relation = Relation.ONE_FOR_ONE
    also_known_as = ("recode", "reclassify text", "replace values", "lookup words", "standardise", "harmonise", "tidy spelling")

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
            default="_tidy",
            example="_tidy",
            help="New fields are called after the old with this. Left empty, the fields are written over.",
        )

    def sentence(self, settings: Mapping[str, Any], entering: str) -> str:
        given = settings.get("fields")
        fields = in_words(map(str, given), 4) if isinstance(given, list) and given else "…"
        return f"Apply words of {settings.get('words') or '…'} to {fields} of {bold(entering or '…')}"

    def foretell(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = figuring.named(facts, settings.fields, "fields")
        if found:
            return Forecast((), tuple(found))
        try:
            entries = read_list(context.path(context.fill(settings.words)))
        except EskretError as error:
            return Forecast((), (Finding(Level.ERROR, error.sentence(), setting="words"),))
        if entries and all(e.field == ANY for e in entries):
            text = f"{settings.words} is a list of two columns: {counted(len(entries), 'spelling')} with their words, the first line too."
            found.append(Finding(Level.NOTE, text, setting="words"))
        for field in settings.fields:
            words = words_for(entries, field)
            if not words:
                text = f"{facts.key}: the list has no spelling of '{field}'."
                found.append(Finding(Level.LOOK, text, setting="fields", layer=facts.key))
            values = facts.values([field])
            if words and values is not None:
                met = pc.unique(values.column(0).cast(pa.string())).to_pylist()
                missing = sorted({v for v in met if v is not None and v.strip()} - set(words))
                if missing:
                    many = counted(len(missing), f"spelling of '{field}' is", f"spellings of '{field}' are")
                    text = f"{facts.key}: {many} not in the list: {in_words(missing, 4)}."
                    found.append(Finding(Level.LOOK, text, setting="words", layer=facts.key))
        new = [f"{f}{settings.ending}" for f in settings.fields]
        fields = [
            *(f for f in facts.fields if f.name not in new or not settings.ending),
            *((Field(n, pa.string()) for n in new) if settings.ending else ()),
        ]
        return Forecast((facts.with_fields(fields, new),), tuple(found))

    def run(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        entries = read_list(context.path(context.fill(settings.words)))
        table = layer.table
        remarks: list[Remark] = []
        altered: list[Altered] = []
        for field in settings.fields:
            if field not in layer.table.column_names:
                raise figuring.missing_field(layer, field)
            words = words_for(entries, field)
            values = layer.table.column(field).cast(pa.string()).to_pylist()
            tidy = [brought(v, words) for v in values]
            strange = np.array([n for n, v in enumerate(values) if v is not None and v.strip() and v not in words], np.int64)
            emptied = sum(b is None and a is not None for a, b in zip(values, tidy, strict=True))
            changed = sum(a != b for a, b in zip(values, tidy, strict=True))
            name = f"{field}{settings.ending}"
            at = table.schema.get_field_index(name)
            column = pa.array(tidy, pa.string())
            table = table.append_column(name, column) if at < 0 else table.set_column(at, name, column)
            said = f"'{field}': {counted(changed, 'value')} brought to another word"
            remarks.append(Remark(said + (f", {emptied:,} of them emptied" if emptied else ""), layer.key))
            if len(strange):
                often = Counter(values[n] for n in strange.tolist()).most_common(4)
                shown = ", ".join(f"{v} ({n})" for v, n in often)
                text = f"'{field}': {counted(len(strange), 'value')} not in the list, such as {shown}"
                remarks.append(Remark(text, layer.key, look=True))
                altered.append(Altered(NOT_LISTED.format(field), strange))
        out = layer.with_table(table)
        return Outcome(
            (out,),
            (InputAccount("from", layer.key, len(layer), altered=tuple(altered)),),
            (OutputAccount(layer.key, len(out), totals_of(out, context.totals)),),
            np.arange(len(layer)),
            tuple(remarks),
        )
