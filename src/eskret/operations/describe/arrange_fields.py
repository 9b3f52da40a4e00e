"""Keep, drop, rename, retype and order fields."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
from pydantic import field_validator

from eskret.core.accounts.account import Altered, InputAccount, Relation, Remark, verbatim
from eskret.core.layer import Field, Layer, LayerFacts, type_word
from eskret.core.tables.cast import TYPES, retyped, type_called
from eskret.core.words import bold
from eskret.operations.base import Context, EachLayer, Finding, Forecast, Outcome, Phase, Takes, has_errors
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import named_fields


class ArrangeFields(EachLayer):
    """Keep, drop, rename, retype, order and title the fields of layers.

    Keep names the fields that stay, in their order; left empty, all stay. Everything else uses the names as they come in:
    rename old = new, type depth = number, title depth = Depth in metres. A value that the new type cannot hold becomes
    empty and is told with an example.
    """

    id = "arrange_fields"
    title = "Arrange fields"
    phase = Phase.DESCRIBE
    menu_order = 70
    relation = Relation.ONE_FOR_ONE
    also_known_as = (
        "rename field",
        "rename column",
        "drop column",
        "delete field",
        "remove columns",
        "reorder fields",
        "change type",
        "text to number",
        "title fields",
        "select columns",
        "field order",
        "schema",
    )

    class Settings(OperationSettings):
        keep: list[str] = setting(
            "Keep",
            kind="fields",
            default=[],
            example="bed, licence, tonnes",
            help="The fields that stay, in this order. Left empty, all stay.",
        )
        drop: list[str] = setting("Drop", kind="fields", default=[], example="remark", help="Fields that go.")
        rename: dict[str, str] = setting("Rename", kind="pairs", default={}, example="bed_no = bed", help="Written as old = new.")
        types: dict[str, str] = setting(
            "Types",
            kind="pairs",
            default={},
            example="depth = number",
            help="Written as field = type: whole, number, text, yes/no, date or time.",
        )
        titles: dict[str, str] = setting(
            "Titles",
            kind="pairs",
            default={},
            example="depth_m = Depth in metres",
            help="What a field is called for people, written as field = title.",
        )

        @field_validator("types")
        @classmethod
        def _known(cls, value: dict[str, str]) -> dict[str, str]:
            for word in value.values():
                if word not in TYPES or word == "as it comes":
                    raise ValueError(f"there is no type '{word}'; it can be {', '.join(t for t in TYPES if t != 'as it comes')}")
            return value

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        parts = []
        for name, verb in (("keep", "keep"), ("drop", "drop"), ("rename", "rename"), ("types", "retype")):
            given = settings.get(name)
            if isinstance(given, list | Mapping) and given:
                parts.append(f"{verb} {join_words(map(str, given), 3)}")
        return f"Arrange fields of {bold(entering or '…')}" + (f": {', '.join(parts)}" if parts else "")

    def forecast(self, facts: LayerFacts, settings: Settings, context: Context) -> Forecast:
        found = [
            f
            for n, names in (
                ("keep", settings.keep),
                ("drop", settings.drop),
                ("rename", list(settings.rename)),
                ("types", list(settings.types)),
                ("titles", list(settings.titles)),
            )
            for f in named_fields.named(facts, names, n)
        ]
        new = _new_names(facts.names(), settings)
        twice = [n for n in new.values() if list(new.values()).count(n) > 1]
        if twice:
            found.append(Finding.error(f"there would be two fields '{twice[0]}'.", "rename", facts))
        if not new:
            found.append(Finding.look("no field is left.", "drop", facts))
        if has_errors(found):
            return Forecast((), tuple(found))
        kinds = {f.name: f for f in facts.fields}
        fields = [
            Field(
                name,
                type_called(settings.types[old]) if old in settings.types else kinds[old].type,
                settings.titles.get(old, kinds[old].title),
                kinds[old].unit,
            )
            for old, name in new.items()
        ]
        changed = [name for old, name in new.items() if old != name or old in settings.types]
        return Forecast((facts.with_fields(fields, changed),), tuple(found))

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def work(self, layer: Layer, settings: Settings, context: Context) -> Outcome:
        remarks: list[Remark] = []
        altered: list[Altered] = []
        new = _new_names(layer.table.column_names, settings)
        columns: list[pa.ChunkedArray] = []
        for old in new:
            if old not in layer.table.column_names:
                raise named_fields.missing_field(layer, old)
            column = layer.table.column(old)
            if old in settings.types:
                made = retyped(column, type_called(settings.types[old]))
                column = made.column
                field = verbatim(f"'{old}'")
                remarks.append(named_fields.lost_values(f"{field}: {{n|value}} cannot be {type_word(column.type)}", made, layer.key))
                if len(made.lost):
                    altered.append(Altered(f"'{old}' lost its value", made.lost))
                remarks.append(Remark.of_some(f"{field}: {{n|value}} were rounded", layer.key, look=True, n=made.rounded))
            columns.append(column)
        table = pa.table(columns, names=list(new.values())) if new else layer.table.select([])
        titles = {new[old]: t for old, t in {**layer.titles, **settings.titles}.items() if old in new}
        out = layer.with_table(table).titled(titles) if new else layer.with_table(layer.table.select([]))
        gone = [n for n in layer.table.column_names if n not in new]
        if gone:
            remarks.append(Remark(f"dropped {join_words(gone, 6)}", layer.key))
        return Outcome(
            (out,), inputs=(InputAccount.of(layer, altered=tuple(altered)),), lineage=np.arange(len(layer)), remarks=tuple(remarks)
        )


def _new_names(names: list[str], settings: Any) -> dict[str, str]:
    """The fields that stay, in their order, and what they are called then."""
    kept = [n for n in (settings.keep or names) if n not in settings.drop]
    return {n: settings.rename.get(n, n) for n in kept}
