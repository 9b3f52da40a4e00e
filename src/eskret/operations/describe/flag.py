"""Mark the features that meet a condition."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pydantic import model_validator

from eskret.core.accounts.account import InputAccount, Remark
from eskret.core.expression import parse_condition, truth
from eskret.core.layer import Field, Layer, LayerFacts
from eskret.core.tables.keys import as_values
from eskret.core.words import PER_CENT, bold
from eskret.errors import SettingError
from eskret.operations.base import Context, Finding, Phase, Takes
from eskret.operations.sentences import share
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support import by_place, ground, named_fields
from eskret.operations.support.naming_fields import field_called, told_of_field
from eskret.operations.support.row_wise import Columns, FieldsPerRow, MadeFields
from eskret.operations.support.setting_types import Length


class Flag(FieldsPerRow):
    """Mark the features that meet a condition and report their percentage.

    The condition is one on the fields, on the place, or both. Without a value, a yes/no field says of every feature
    whether it holds. With a value, the features for which it holds get that value in the field; the others keep what
    stood there, get another value, or are emptied, as you choose. Features of which it cannot be told, because a field
    asked for is empty, are left as they are. The share is of all features, counted, whatever is chosen elsewhere; it
    stands in the step's totals, so that reports and two runs side by side tell it, and 'check' can hold it to limits.
    """

    id = "flag"
    title = "Flag"
    phase = Phase.DESCRIBE
    menu_order = 20
    also_known_as = (
        "mark rows",
        "tag",
        "percentage",
        "percentage that meet",
        "per cent",
        "share that fails",
        "status",
        "yes no field",
        "label those",
        "proportion",
        "what share meets",
    )

    class Settings(OperationSettings):
        field: str = setting("Field", default="flag", min_length=1, help="The field that gets the mark. A new name makes a new field.")
        where: str = setting(
            "Condition",
            kind="condition",
            default="",
            example="depth_m > 20",
            help="An SQL condition on the fields. With a place named too, both must hold.",
        )
        to: str = by_place.other_setting(default="")
        relation: by_place.RelationName = by_place.relation_setting()
        distance: Length = by_place.distance_setting()
        along: ground.Along = by_place.along_setting()
        against: Literal["each", "whole"] = by_place.against_setting()
        edge: bool = by_place.edge_setting()
        value: str = setting(
            "Value",
            default="",
            example="inside",
            help="What to write where it holds. Left empty, the field says yes or no of every feature.",
        )

        others: Literal["leave", "other value", "empty"] = setting(
            "Where it does not hold",
            kind="choice",
            default="leave",
            choices={"leave": "leave what stands there", "other value": "write another value", "empty": "empty the field"},
            help="What becomes of the other features, where a value is given for those for which it holds.",
        )
        other_value: str = setting(
            "Other value",
            default="",
            example="outside",
            shown_when=("others", ("other value",)),
            help="What to write where it does not hold.",
        )

        @model_validator(mode="after")
        def _something(self) -> Flag.Settings:
            if not self.where.strip() and not self.to:
                raise ValueError("write a condition, or name a layer to compare with")
            if self.others != "leave" and not self.value:
                raise ValueError("say what to write where it holds; without a value the field says yes or no of every feature")
            if self.others == "other value" and not self.other_value:
                raise ValueError("say which other value to write where it does not hold")
            return self

    def sentence(self, settings: Mapping[str, object], entering: str) -> str:
        where = " ".join(str(settings.get("where") or "").split())
        place = by_place.place_words(settings) if settings.get("to") else ""
        held = " and ".join(filter(None, (f"where {where}" if where else "", place))) or "where …"
        value = f"{settings['field']} = {settings['value']}" if settings.get("value") and settings.get("field") else ""
        other = {"other value": f", else {settings.get('other_value') or '…'}", "empty": ", else empty"}
        rest = other.get(str(settings.get("others")), "")
        return f"Flag {bold(entering or '…')} {held}" + (f" with {value}{rest}" if value else "")

    def fields(self, facts: LayerFacts, settings: Settings, context: Context) -> MadeFields:
        findings = named_fields.wrong_condition(facts, settings.where, context) if settings.where.strip() else []
        if settings.to:
            findings += by_place.findings(facts, settings, context)
        name = field_called(facts.names(), settings.field, context)
        there = next((f for f in facts.fields if f.name == name), None)
        kind = _kind(there.type if there else None, settings.value)
        if there is None:
            findings += told_of_field(facts, settings.field, name)
        if there is not None:
            for text, said in ((settings.value, "value"), *_other(settings)):
                try:
                    _written(text, there.type, name)
                except SettingError as error:
                    findings.append(Finding.error(error.sentence(), said, facts))
        if there is not None and not findings:
            where = "" if settings.others != "leave" or not settings.value else " where the condition holds"
            findings.append(Finding.look(f"the field '{name}' is there already and is written over{where}.", "field", facts))
        return [there or Field(name, kind)], findings

    def takes(self, facts: LayerFacts, settings: Settings) -> Takes:
        return Takes.ROWS

    def columns(self, layer: Layer, settings: Settings, context: Context) -> Columns:
        held = np.ones(len(layer), bool)
        untold = np.zeros(len(layer), bool)
        remarks: list[Remark] = []
        accounts: tuple[InputAccount, ...] = ()
        if settings.where.strip():
            condition = parse_condition(settings.where, layer.table.schema, context.values, context.field_values)
            held, unknown = truth(condition, layer.table, context.values)
            untold = unknown & ~held
            remarks += named_fields.no_numbers(layer, condition.fields)
            text = "{n} could not be told, because a field asked for is empty; they are not marked"
            remarks.append(Remark.of_some(text, layer.key, look=True, n=int(untold.sum())))
        if settings.to:
            found = by_place.placed(layer, settings, context)
            held = held & found.holds
            remarks += found.remarks
            accounts = found.accounts
        remarks.insert(0, Remark.figured("share", _holds, layer.key, held=int(held.sum()), of=len(layer)))
        name = field_called(layer.table.column_names, settings.field, context)
        column = _marked(layer.table, name, held, ~held & ~untold, settings)
        share_held = [(name, 100.0 * float(held.sum()) / len(layer), PER_CENT)] if len(layer) else []
        return Columns({name: column}, remarks, others=accounts, totals=share_held)


def _holds(figures: Mapping[str, int]) -> str:
    return f"it holds for {share(figures['held'], figures['of'])}"


def _kind(there: pa.DataType | None, value: str) -> pa.DataType:
    return there if there is not None else pa.string() if value else pa.bool_()


def _written(value: str, kind: pa.DataType, name: str) -> pa.Scalar:
    """What is written where the condition holds, in the field's type.

    Raises
    ------
    SettingError : the field cannot hold it.
    """
    if not value and not pa.types.is_boolean(kind):
        raise SettingError(f"the field '{name}' is there already and says no yes or no", way_out="Choose another field")
    written = pa.scalar(as_values([value if value else True], kind)[0].as_py(), kind)
    if not written.is_valid:
        raise SettingError(f"the field '{name}' cannot hold '{value}'", way_out="Choose another field or value")
    return written


def _other(settings: Any) -> tuple[tuple[str, str], ...]:
    """The value for the other features, with its setting, where there is one."""
    return ((settings.other_value, "other_value"),) if settings.others == "other value" else ()


def _marked(table: pa.Table, name: str, held: np.ndarray, not_held: np.ndarray, settings: Any) -> pa.Array | pa.ChunkedArray:
    """The field as it is where the condition holds and where it does not."""
    if not settings.value:
        return pa.array(held)
    there = name in table.column_names
    kind = _kind(table.schema.field(name).type if there else None, settings.value)
    old = table.column(name) if there else pa.chunked_array([pa.nulls(len(held), kind)])
    marked = pc.if_else(pa.array(held), _written(settings.value, kind, name), old)
    if settings.others == "leave":
        return marked
    other = _written(settings.other_value, kind, name) if settings.others == "other value" else pa.scalar(None, kind)
    return pc.if_else(pa.array(not_held), other, marked)
