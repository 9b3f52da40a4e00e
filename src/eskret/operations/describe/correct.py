"""Change single cells, as somebody did by hand."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
from pydantic import BaseModel, ConfigDict

from eskret.core.accounts.account import Altered, Remark
from eskret.core.layer import Layer, LayerFacts, type_word
from eskret.core.tables.keys import as_values, is_unique, rows_of
from eskret.core.words import bold, pluralise
from eskret.errors import InputError
from eskret.operations.base import Context, Finding, Phase
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support.row_wise import Columns, FieldsPerRow, MadeFields


class Cell(BaseModel):
    """One cell changed: in the feature with this key, the field, what stood there and what stands there now.

    A value that is left out is an empty cell.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")
    key: Any
    field: str
    old: Any = None
    new: Any = None


class Correct(FieldsPerRow):
    """Change single cells of the table: a misspelt name, a wrong number.

    Each change is remembered by the key of its feature, with the old value beside the new one. A cell that no longer
    holds the old value is left as it is and told, so a correction never overwrites what somebody else has mended.
    Features that are no longer found are told too.
    """

    id = "correct"
    title = "Correct"
    phase = Phase.DESCRIBE
    menu_order = 60
    also_known_as = (
        "edit cell",
        "change one cell",
        "edit value",
        "change single value",
        "fix a value",
        "mend value",
        "update attribute",
        "typo",
        "overwrite",
        "wrong number",
    )

    class Settings(OperationSettings):
        key: str = setting(
            "Key field",
            kind="field",
            min_length=1,
            example="bed",
            help="A field that has another value in every feature; the changes are remembered by it.",
        )
        changes: list[Cell] = setting(
            "Cells changed",
            kind="cells",
            min_length=1,
            example='{ key = "B-017", field = "bottom", old = "sannd", new = "sand" }',
            help="Key, field, old and new value of each cell; cells changed in the table are written down here.",
        )

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        given = settings.get("changes")
        cells = [c for c in given if isinstance(c, Mapping)] if isinstance(given, list) else []
        fields = list(dict.fromkeys(str(c.get("field")) for c in cells))
        what = f"{pluralise(len(cells), 'cell')} of {join_words(fields, 3)} in" if fields else "cells of"
        return f"Correct {what} {bold(entering or '…')}"

    def fields(self, facts: LayerFacts, settings: Settings, context: Context) -> MadeFields:
        kinds = {f.name: f.type for f in facts.fields}
        findings: list[Finding] = []
        for name in (settings.key, *dict.fromkeys(c.field for c in settings.changes)):
            if name not in kinds:
                text = f"{facts.key}: there is no field '{name}'. It has {join_words(kinds, 12)}."
                where = "key" if name == settings.key else "changes"
                findings.append(Finding.error(text, where, layer=facts.key))
        for cell in settings.changes:
            if cell.field in kinds and cell.new is not None and not as_values([cell.new], kinds[cell.field])[0].is_valid:
                findings.append(
                    Finding.error(f"'{cell.field}' is a {type_word(kinds[cell.field])} and cannot hold '{cell.new}'.", "changes", facts)
                )
        return [f for f in facts.fields if any(f.name == c.field for c in settings.changes)], findings

    def columns(self, layer: Layer, settings: Settings, context: Context) -> Columns:
        keys = layer.table.column(settings.key)
        if not is_unique(keys):
            raise InputError(
                f"'{settings.key}' has empty or repeated values, so it is no key",
                place=layer.key,
                way_out="Choose a field with another value in every feature",
            )
        made: dict[str, pa.Array | pa.ChunkedArray] = {}
        remarks: list[Remark] = []
        altered: list[Altered] = []
        for name in dict.fromkeys(c.field for c in settings.changes):
            cells = [c for c in settings.changes if c.field == name]
            made[name], rows, said = _corrected(layer.table.column(name), name, cells, keys)
            remarks += [Remark(text, layer.key, look=True) for text in said]
            if len(rows):
                altered.append(Altered(f"{name} corrected", rows))
        return Columns(made, remarks, altered)


def _corrected(
    column: pa.ChunkedArray, name: str, cells: Sequence[Cell], keys: pa.ChunkedArray
) -> tuple[pa.Array | pa.ChunkedArray, np.ndarray, list[str]]:
    """The column with some cells changed, the rows changed, and what could not be done."""
    at, counts = rows_of(keys, [c.key for c in cells])
    row_of = {int(value): row for row, value in enumerate(at.tolist()) if value >= 0}
    values = column.to_pylist()
    old = as_values([c.old for c in cells], column.type).to_pylist()
    new = as_values([c.new for c in cells], column.type).to_pylist()
    changed: list[int] = []
    said: list[str] = []
    for number, cell in enumerate(cells):
        if not counts[number]:
            said.append(f"{cell.key} is no longer found; its {name} was not corrected")
            continue
        row = row_of[number]
        if values[row] == new[number]:
            continue
        if values[row] != old[number]:
            said.append(f"{name} of {cell.key} is {_shown(values[row])}, no longer {_shown(cell.old)}; it was left as it is")
            continue
        values[row] = new[number]
        changed.append(row)
    return pa.array(values, column.type) if changed else column, np.array(sorted(changed), np.int64), said


def _shown(value: object) -> str:
    return "empty" if value is None else f"'{value}'"
