"""Put layers together into one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Literal

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import ControlTotal, InputAccount, OutputAccount, Relation, Remark
from eskret.core.crs import crs_facts, same_crs, transformation
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts, type_word
from eskret.core.measure.totals import totals_of
from eskret.core.naming import number_collisions
from eskret.errors import CrsError, InputError
from eskret.operations.base import Context, Finding, Forecast, Gathering, Level, Outcome, Phase, has_errors
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting
from eskret.operations.support.other_layer import to_crs_of


class Merge(Gathering):
    """Put the features of several layers into one layer.

    A field says which layer each came from. Take all fields, empty where a layer lacks one, or only those that all
    have. Where layers disagree on the type of a field, numbers become decimal and anything else text. Layers in other
    coordinate systems are brought to that of the first.
    """

    id = "merge"
    title = "Merge"
    phase = Phase.SHAPE
    menu_order = 30
    relation = Relation.KEPT
    says = "Merge {entering} into one layer"
    also_known_as = (
        "append",
        "combine layers",
        "combine files",
        "union all",
        "stack layers",
        "concatenate",
        "put together",
        "one layer",
        "several files into one",
        "join map sheets",
        "merge shapefiles",
    )

    class Settings(OperationSettings):
        fields: Literal["all", "common"] = setting(
            "Fields",
            kind="choice",
            default="all",
            help="Which fields the merged layer has.",
            choices={"all": "all that any layer has", "common": "those that all layers have"},
        )
        source: str = setting(
            "Field for the layer",
            rare=True,
            default="layer",
            example="source",
            help="A new field that says which layer a feature came from. Left empty, there is none.",
        )

    def forecast(self, facts: Sequence[LayerFacts], settings: Settings, context: Context) -> Forecast:
        found: list[Finding] = []
        drawn = [f for f in facts if f.kind != "table"]
        if drawn and len(drawn) != len(facts):
            table = next(f for f in facts if f.kind == "table")
            text = f"'{table.key}' is a table and cannot be merged with layers that have shapes."
            found.append(Finding.error(text, "from"))
        first = drawn[0].crs if drawn else None
        for one in drawn:
            if (one.crs is None) != (first is None):
                unknown = one.key if one.crs is None else drawn[0].key
                text = f"'{unknown}' has no coordinate system and the others have. Say it where it is loaded."
                found.append(Finding.error(text, "from", layer=one.key))
            elif one.crs and first and not same_crs(one.crs, first):
                way = transformation(one.crs, first, one.extent)
                text = f"{one.key}: brought to {crs_facts(first).name}: {way.sentence()}."
                found.append(Finding(Level.LOOK if way.coarse else Level.NOTE, text, layer=one.key))
        if has_errors(found):
            return Forecast((), tuple(found))
        fields, said = _fields([[(f.name, f.type) for f in one.fields] for one in facts], settings.fields)
        found += [Finding.look(text + ".", "fields") for text in said]
        named = [Field(n, t) for n, t in _with_source(fields, settings.source)]
        kinds = {f.kind for f in facts}
        counts = [f.count for f in facts]
        key = context.step or "merge"
        certainty = Certainty.KNOWN if all(f.certainty == Certainty.KNOWN for f in facts) else Certainty.AT_MOST
        out = LayerFacts(
            key,
            key,
            kinds.pop() if len(kinds) == 1 else GeometryKind.MIXED,
            first,
            tuple(named),
            None if None in counts else sum(c or 0 for c in counts),
            certainty,
        )
        return Forecast((out,), tuple(found))

    def work(self, layers: Sequence[Layer], settings: Settings, context: Context) -> Outcome:
        drawn = [layer for layer in layers if layer.has_geometry]
        if drawn and len(drawn) != len(layers):
            raise InputError(
                "a table cannot be merged with layers that have shapes", place=next(x.key for x in layers if not x.has_geometry)
            )
        remarks: list[Remark] = []
        shapes: list[np.ndarray] = []
        for layer in drawn:
            if (layer.crs is None) != (drawn[0].crs is None):
                raise CrsError("it has no coordinate system and the others have", place=layer.key)
            brought, said = to_crs_of(layer, drawn[0])
            shapes.append(brought)
            remarks += [replace(r, text=r.text.replace(" to compare", "")) for r in said]
        fields, said_of_types = _fields([[(f.name, f.type) for f in x.table.schema] for x in layers], settings.fields)
        remarks += [Remark(text, look=True) for text in said_of_types]
        tables = []
        for layer in layers:
            columns = [
                _as(layer.table.column(n), t) if n in layer.table.column_names else pa.chunked_array([pa.nulls(len(layer), t)])
                for n, t in fields
            ]
            table = pa.table(columns, names=[n for n, _ in fields]) if fields else pa.table({"": pa.nulls(len(layer))})
            if settings.source:
                name = _with_source(fields, settings.source)[0][0]
                table = table.add_column(0, name, pa.array([layer.key] * len(layer), pa.string()))
            tables.append(table if fields else table.drop_columns([""]))
        whole = pa.concat_tables(tables)
        key = context.step or "merge"
        geometry = np.concatenate(shapes) if shapes else None
        kinds = {layer.kind for layer in layers}
        titles = {n: t for layer in reversed(layers) for n, t in layer.titles.items() if n in whole.column_names}
        out = Layer(
            key,
            whole,
            geometry,
            drawn[0].crs if drawn else None,
            key,
            join_words([x.key for x in layers], 4),
            titles,
            kinds.pop() if len(kinds) == 1 else GeometryKind.MIXED,
        )
        inputs = tuple(InputAccount.of(layer) for layer in layers)
        told = OutputAccount(key, len(out), totals_of(out, context.totals), _controls(layers, out, context))
        return Outcome((out,), inputs, (told,), None, tuple(remarks))


def _controls(layers: Sequence[Layer], out: Layer, context: Context) -> tuple[ControlTotal, ...]:
    """Totals of the layers together are those of the one; where none was moved to another CRS."""
    if any(layer.has_geometry and not same_crs(layer.crs, out.crs) for layer in layers):
        return ()
    sums: dict[str, float] = {}
    for layer in layers:
        for name, value, _ in totals_of(layer, context.totals):
            sums[name] = sums.get(name, 0.0) + value
    return tuple(ControlTotal(n, u, sums[n], v) for n, v, u in totals_of(out, context.totals) if n in sums)


def _fields(schemas: Sequence[Sequence[tuple[str, pa.DataType]]], which: str) -> tuple[list[tuple[str, pa.DataType]], list[str]]:
    """The fields of the merged layer, and what to say where types disagree."""
    types: dict[str, list[pa.DataType]] = {}
    for schema in schemas:
        for name, kind in schema:
            types.setdefault(name, []).append(kind)
    names = [n for n, found in types.items() if which == "all" or len(found) == len(schemas)]
    out, said = [], []
    for name in names:
        kinds = list(dict.fromkeys(types[name]))
        settled = kinds[0] if len(kinds) == 1 else _settled(kinds)
        if len({type_word(k) for k in kinds}) > 1:
            text = f"'{name}' is {join_words(dict.fromkeys(map(type_word, kinds)), 4)}, and becomes {type_word(settled)}"
            said.append(text)
        out.append((name, settled))
    return out, said


def _settled(kinds: Sequence[pa.DataType]) -> pa.DataType:
    if all(pa.types.is_integer(k) for k in kinds):
        return pa.int64()
    if all(pa.types.is_integer(k) or pa.types.is_floating(k) or pa.types.is_decimal(k) for k in kinds):
        return pa.float64()
    if all(pa.types.is_timestamp(k) or pa.types.is_date(k) for k in kinds):
        zones = {k.tz for k in kinds if pa.types.is_timestamp(k)}
        return pa.timestamp("us", "UTC" if zones != {None} else None)
    return pa.string()


def _with_source(fields: Sequence[tuple[str, pa.DataType]], source: str) -> list[tuple[str, pa.DataType]]:
    if not source:
        return list(fields)
    name = number_collisions([source], taken=[n for n, _ in fields])[0]
    return [(name, pa.string()), *fields]


def _as(column: pa.ChunkedArray, kind: pa.DataType) -> pa.ChunkedArray:
    if column.type == kind:
        return column
    try:
        return column.cast(kind)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return pa.chunked_array([pa.array([None if v is None else str(v) for v in column.to_pylist()], pa.string())])
