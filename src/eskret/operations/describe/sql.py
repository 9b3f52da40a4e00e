"""A question in SQL to all layers that enter."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.accounts.account import InputAccount, OutputAccount, Relation, Remark
from eskret.core.crs import same_crs
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts
from eskret.core.measure.totals import totals_of
from eskret.core.naming import clean_name, number_collisions
from eskret.core.query import Query, answer, parse_query
from eskret.core.tables.values import settled
from eskret.core.words import pluralise
from eskret.errors import Code, CrsError, EskretError, ExpressionError, SettingError
from eskret.operations.base import Context, Finding, Forecast, Gathering, Outcome, Phase, has_errors
from eskret.operations.sentences import join_words
from eskret.operations.settings import OperationSettings, setting

SHAPE = "geometry"
_MARK = b"\x00shape of row "
"""What a shape is to the database: these bytes and the number of a row, of all layers one after the other. It can be carried along and
counted, and nothing else."""


class Sql(Gathering):
    """Ask all layers that enter in SQL, and make a layer or a table of the answer.

    For joins, windows and sums that no other operation says as briefly. Each layer is a table of its own name. The column geometry
    stands for the shape of a row: an answer that carries it along is a layer, one without it a table. It only reads: no files, no
    other tables, nothing of the clock or of chance. The ledger says what was read and how many rows came; which row became which
    nobody can say, so features cannot be followed through this step, and no totals are proved.
    """

    id = "sql"
    title = "SQL"
    phase = Phase.DESCRIBE
    menu_order = 95
    relation = Relation.REPORT
    says = "SQL over {entering}"
    limits = "One thread and 4 GB of memory; ten minutes at most. Shapes are carried along and not looked into."
    also_known_as = (
        "select statement",
        "sql",
        "ask several layers",
        "join with sql",
        "window function",
        "group by having",
        "common table expression",
        "union all in sql",
        "select join group by",
    )

    class Settings(OperationSettings):
        query: str = setting(
            "Query",
            kind="query",
            min_length=1,
            example="SELECT bed, sum(tonnes) AS tonnes FROM landings GROUP BY bed ORDER BY bed",
            help="One SELECT. Parameters are written as $name.",
        )

    def forecast(self, facts: Sequence[LayerFacts], settings: Settings, context: Context) -> Forecast:
        key = context.step or self.id
        named = _called(facts)
        try:
            query = parse_query(settings.query, list(named), SHAPE)
            _told_apart([f.key for f in facts])
            tables = {n: _empty(named[n].schema(), named[n].kind != "table") for n in query.tables}
            made = answer(query, tables, context.values, 10.0, only_fields=True)
            fields, shape, _ = _columns(made)
        except EskretError as error:
            place = {n: getattr(error, n) for n in ("start", "length") if hasattr(error, n)}
            return Forecast((), (Finding.of(error, setting=error.setting or "query", **place),))
        asked = _keys(named, query)
        found = [Finding.note("the query does not ask for it.", "from", f) for f in facts if f.key not in asked]
        if not query.ordered:
            found.append(Finding.note("rows come in no order that is said; ORDER BY says one.", "query"))
        drawn = [f for f in facts if f.key in asked and f.kind != "table"]
        crs, kinds = (drawn[0].crs if drawn else None), {f.kind for f in drawn}
        if shape and any(not _same(f.crs, crs) for f in drawn):
            found.append(Finding.look(f"{_apart([f.key for f in drawn])}; the answer must carry shapes of one of them.", "query"))
        if has_errors(found):
            return Forecast((), tuple(found))
        kind = (kinds.pop() if len(kinds) == 1 else GeometryKind.MIXED) if shape else GeometryKind.TABLE
        told = tuple(Field(n, t) for n, t in fields)
        out = LayerFacts(key, key, kind, crs if shape else None, told, None, Certainty.UNKNOWN)
        return Forecast((out,), tuple(found))

    def work(self, layers: Sequence[Layer], settings: Settings, context: Context) -> Outcome:
        named = _called(layers)
        query = parse_query(settings.query, list(named), SHAPE)
        _told_apart([x.key for x in layers])
        begins = dict(zip([x.key for x in layers], np.cumsum([0, *(len(x) for x in layers)]).tolist(), strict=False))
        tables = {n: _with_shapes(named[n], begins[named[n].key], query) for n in query.tables}
        made = answer(query, tables, context.values)
        fields, shape, said = _columns(made)
        columns = [_as_kept(made.column(at), kind, name) for at, (name, kind) in zip(_kept(made), fields, strict=True)]
        asked = [x for x in layers if x.key in _keys(named, query)]
        marks = made.column(made.column_names.index(SHAPE)) if shape else None
        key = context.step or self.id
        names = [n for n, _ in fields]
        table = pa.table(columns, names) if columns else pa.table({"": pa.nulls(len(made))}).drop_columns([""])
        out = _layer(key, table, marks, asked, begins)
        read = join_words([f"{len(x):,} of {x.key}" for x in asked], 8) or "no layer"
        remarks = [Remark(f"read {read}; {pluralise(len(out), 'row')} came", key)]
        remarks += [Remark(text, key, look=True) for text in said]
        if not len(out):
            remarks.append(Remark("nothing came of it", key, look=True, code=Code.NOTHING_LEFT))
        inputs = tuple(InputAccount.of(x) for x in layers)
        return Outcome((out,), inputs, (OutputAccount(key, len(out), totals_of(out, context.totals)),), None, tuple(remarks))


_One = TypeVar("_One", Layer, LayerFacts)


def _called(layers: Sequence[_One]) -> dict[str, _One]:
    """Layers by what a query may call them: their names here and, where nothing else is called so, those that they came with."""
    out = {x.key: x for x in layers}
    taken = {name.lower() for name in out}
    own = [x.name.lower() for x in layers]
    out.update({x.own_name: x for x in layers if x.own_name.lower() not in taken and own.count(x.name.lower()) == 1})
    return out


def _keys(named: Mapping[str, Layer] | Mapping[str, LayerFacts], query: Query) -> set[str]:
    """The names here of the layers that a query reads."""
    return {named[n].key for n in query.tables}


def _same(a: str | None, b: str | None) -> bool:
    return a == b or bool(a and b and same_crs(a, b))


def _apart(keys: Sequence[str]) -> str:
    return f"{join_words(keys, 6)} have different coordinate systems"


def _told_apart(names: Sequence[str]) -> None:
    """Refuses layers whose names SQL cannot tell apart.

    Raises
    ------
    SettingError : two names differ in their case alone.
    """
    seen: dict[str, str] = {}
    for name in names:
        other = seen.setdefault(name.lower(), name)
        if other != name:
            raise SettingError(
                f"'{other}' and '{name}' are one name to SQL", setting="from", way_out="Give one layer another name before this step"
            )


def _fields_asked(schema: pa.Schema, name: str) -> None:
    if SHAPE in [n.lower() for n in schema.names]:
        said = f"'{name}' has a field '{SHAPE}', which stands for its shape here"
        raise SettingError(said, setting="query", way_out="Arrange fields gives it another name")


def _empty(schema: pa.Schema, drawn: bool) -> pa.Table:
    """A table without rows, to find out what a query makes of it."""
    if drawn:
        _fields_asked(schema, "a layer")
        schema = schema.append(pa.field(SHAPE, pa.binary()))
    return schema.with_metadata(None).empty_table()


def _with_shapes(layer: Layer, begins: int, query: Query) -> pa.Table:
    """The fields of a layer and, where it is asked for, what stands for the shape of each row; null for none."""
    if not layer.has_geometry:
        return layer.table
    _fields_asked(layer.table.schema, layer.key)
    if not query.column:
        return layer.table
    assert layer.geometry is not None
    there = [g is not None for g in layer.geometry]
    marks = [_MARK + str(begins + n).encode() if t else None for n, t in enumerate(there)]
    return layer.table.append_column(SHAPE, pa.array(marks, pa.binary()))


def _kept(made: pa.Table) -> list[int]:
    """The positions of the columns that become fields: all but shapes."""
    return [n for n, f in enumerate(made.schema) if not pa.types.is_binary(f.type) and not pa.types.is_large_binary(f.type)]


def _columns(made: pa.Table) -> tuple[list[tuple[str, pa.DataType]], bool, list[str]]:
    """The fields of an answer with their types, whether it carries shapes, and what is to be told of it.

    Raises
    ------
    ExpressionError : a type that no field can be of.
    """
    said = []
    wanted = [(made.schema.field(n).name, made.schema.field(n).type) for n in _kept(made)]
    typed = [(clean_name(name, keep_case=True) or "field", _type(kind, name)) for name, kind in wanted]
    names = number_collisions([n for n, _ in typed])
    for (name, _), new in zip(wanted, names, strict=True):
        if new != name:
            said.append(f"the column '{name}' is called '{new}'")
    shapes = [f.name for f in made.schema if pa.types.is_binary(f.type) or pa.types.is_large_binary(f.type)]
    others = [n for n in shapes if n != SHAPE] + [SHAPE] * (shapes.count(SHAPE) - 1)
    if others:
        many = pluralise(len(others), "further column of shapes or bytes was", "further columns of shapes or bytes were")
        said.append(f"{many} left out: {join_words(others, 4)}")
    return [(n, t) for n, (_, t) in zip(names, typed, strict=True)], SHAPE in shapes, said


def _type(kind: pa.DataType, name: str) -> pa.DataType:
    """The type that a field has for a type of the database."""
    if pa.types.is_decimal(kind) and kind.scale == 0:
        return pa.int64()
    if pa.types.is_integer(kind):
        return pa.int64()
    if pa.types.is_floating(kind):
        return pa.float64()
    if pa.types.is_dictionary(kind) or pa.types.is_string(kind) or pa.types.is_large_string(kind) or str(kind) == "string_view":
        return pa.string()
    if pa.types.is_timestamp(kind):
        return pa.timestamp("us", kind.tz)
    if pa.types.is_boolean(kind) or pa.types.is_date(kind) or pa.types.is_decimal(kind) or pa.types.is_time(kind):
        return kind
    if pa.types.is_null(kind):
        return pa.string()
    raise ExpressionError(
        f"'{name}' holds what no field can: lists, spans of time or several values", way_out="Make a text or a number of it"
    )


def _as_kept(column: pa.ChunkedArray, kind: pa.DataType, name: str) -> pa.ChunkedArray:
    """A column of an answer in the type of its field."""
    if pa.types.is_integer(kind) and pa.types.is_decimal(column.type):
        most = pc.max(pc.abs(column)).as_py()
        if most is not None and most > Decimal(2**63 - 1):
            raise ExpressionError(f"a number in '{name}' comes out too large", way_out="CAST(… AS DOUBLE) holds larger ones")
    try:
        return settled(column.cast(kind))
    except pa.ArrowInvalid as error:
        raise ExpressionError(f"a value in '{name}' comes out too large", way_out="CAST(… AS DOUBLE) holds larger ones") from error


def _layer(key: str, table: pa.Table, marks: pa.ChunkedArray | None, asked: Sequence[Layer], begins: dict[str, int]) -> Layer:
    """The answer as a layer, with the shapes that it carried along.

    Raises
    ------
    CrsError : they are of layers in different coordinate systems.
    """
    if marks is None:
        return Layer(key, table)
    found = marks.to_pylist()
    rows = np.array([-1 if m is None else _row(m) for m in found], np.int64)
    shapes = np.full(len(rows), None, object)
    used = []
    for layer in asked:
        start = begins[layer.key]
        mine = np.flatnonzero((rows >= start) & (rows < start + len(layer)))
        if len(mine) and layer.geometry is not None:
            shapes[mine] = layer.geometry[rows[mine] - start]
            used.append(layer)
    drawn = used or [x for x in asked if x.has_geometry]
    if any(not _same(x.crs, drawn[0].crs) for x in drawn):
        raise CrsError(_apart([x.key for x in drawn]), place=key, way_out="Reproject them to one before this step")
    kinds = {x.kind for x in drawn}
    return Layer(key, table, shapes, drawn[0].crs, kind=kinds.pop() if len(kinds) == 1 else GeometryKind.MIXED)


def _row(mark: bytes) -> int:
    """The row that bytes stand for.

    Raises
    ------
    ExpressionError : they are none of ours.
    """
    number = mark.removeprefix(_MARK)
    if not mark.startswith(_MARK) or not number.isdigit():
        raise ExpressionError(f"'{SHAPE}' of the answer is no shape of a layer", way_out="Carry the column along as it is")
    return int(number)
