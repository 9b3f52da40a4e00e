"""Draft a word list."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.wordlist import MOST, WordEntry, as_table, draft
from eskret.core.words import pluralise
from eskret.formats.wordlist_file import read_list
from eskret.operations.base import Context, Finding, Forecast, Gathering, Outcome, Phase
from eskret.operations.settings import OperationSettings, setting

_SCHEMA = {"field": pa.string(), "spelling": pa.string(), "count": pa.int64(), "suggestion": pa.string(), "word": pa.string()}


class DraftWords(Gathering):
    """List the spellings found in fields, how often each occurs, and suggest a word to use.

    Spellings that differ in case, accents, blanks, or a letter or two are grouped, and the most frequent of a group is
    suggested for all, and for what is short for it, as Rd for Road; numbers in them must be the same. Save the table as
    CSV, settle the words in the Word list view or in a spreadsheet, and let Apply words use it. Words settled in an
    earlier list are kept and used for what is like them. The spelling (no value) stands for features without one, and the
    word (empty) for leaving it so.
    """

    id = "draft_words"
    title = "Draft words"
    phase = Phase.DESCRIBE
    menu_order = 80
    relation = Relation.REPORT
    says = "Draft words of {fields} in {entering}"
    also_known_as = (
        "spelling",
        "list spellings",
        "inconsistent names",
        "vocabulary",
        "tidy values",
        "clean text",
        "synonyms",
        "typos",
        "misspelt names",
        "thesaurus",
        "fuzzy",
        "variants",
    )

    class Settings(OperationSettings):
        fields: list[str] = setting(
            "Fields", kind="fields", min_length=1, example="bottom, species", help="Fields of text whose spellings are listed."
        )
        earlier: str = setting(
            "Earlier list",
            rare=True,
            kind="wordlist",
            default="",
            example="words.csv",
            help="A word list whose decisions are kept. One that is not there yet is no mistake.",
        )

    def forecast(self, facts: Sequence[LayerFacts], settings: Settings, context: Context) -> Forecast:
        found = [
            Finding.error(f"No layer has a field '{name}'.", "fields")
            for name in settings.fields
            if all(name not in f.names() for f in facts)
        ]
        if found:
            return Forecast((), tuple(found))
        _earlier(settings, context)
        key = context.step or "words"
        fields = tuple(Field(n, t) for n, t in _SCHEMA.items())
        return Forecast((LayerFacts(key, key, GeometryKind.TABLE, None, fields, None, Certainty.UNKNOWN),))

    def work(self, layers: Sequence[Layer], settings: Settings, context: Context) -> Outcome:
        columns: dict[str, pa.ChunkedArray] = {}
        for name in settings.fields:
            chunks = [
                chunk.cast(pa.string()) for layer in layers if name in layer.table.column_names for chunk in layer.table.column(name).chunks
            ]
            columns[name] = pa.chunked_array(chunks, pa.string())
        earlier = _earlier(settings, context)
        entries = draft(columns, earlier)
        key = context.step or "words"
        out = Layer(key, as_table(entries))
        unsettled = sum(not e.word for e in entries)
        groups = len({(e.field, e.use) for e in entries})
        remarks = [
            Remark(f"'{name}' has {n:,} spellings; only the {MOST:,} met most often are listed", look=True)
            for name, column in columns.items()
            if (n := len(pc.unique(column.drop_null()))) > MOST
        ]
        remarks += [
            Remark(f"{pluralise(len(entries), 'spelling')} of {pluralise(groups, 'word')}"),
            Remark(f"{pluralise(unsettled, 'spelling')} not settled yet"),
        ]
        inputs = tuple(InputAccount.of(layer) for layer in layers)
        return Outcome((out,), inputs, (OutputAccount(key, len(out)),), None, tuple(remarks))


def _earlier(settings: Any, context: Context) -> list[WordEntry]:
    if not settings.earlier:
        return []
    path = context.path(context.fill(settings.earlier))
    return read_list(path) if path.exists() else []
