"""What a format keeps of values and shapes, looked at before anything is written: whatever it cannot hold is told, or refused.

``forecast_values`` goes by the fields alone; ``settle`` by the values, and hands on a layer that the format's writer can take. Sources,
from memory: RFC 7946 and RFC 8259 (no NaN, whole numbers beyond 2^53 not interoperable, no measures), the shapefile's and dBASE's
descriptions, GPX 1.1 and KML 2.2 schemas, OGC 12-128 (times to the millisecond).
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.accounts.account import Remark, verbatim
from eskret.core.layer import Field, Layer, type_word
from eskret.errors import Code, DeliveryError

MOST = 2**63 - 1
EXACT = 2**53
"""Up to here every reader of JSON has whole numbers exactly."""


@dataclass(frozen=True)
class Holds:
    """What values and shapes a format keeps as they are.

    ``texts`` are kinds of values that become text there; ``exact`` a whole number beyond which many readers round; ``digits``
    those of a second; ``places`` whether shapes are shapes, and not columns; ``nulls`` whether a row can be without one;
    ``empty_fields`` whether a layer without rows keeps its fields, ``empty_columns`` whether a field without values is kept;
    ``heights_as`` what heights are called there, where they are no part of the shape; ``untyped`` whether all is text, of
    which readers have to find out what it is; ``whole_digits`` those of a whole number that is one there, ``first_day`` the day
    where its calendar begins.
    """

    title: str
    texts: frozenset[str] = frozenset()
    nan: bool = False
    infinity: bool = True
    most: int = MOST
    exact: int = 0
    digits: int = 3
    decimals: bool = False
    blanks: bool = True
    places: bool = True
    heights: bool = True
    measures: bool = True
    heights_as: str = ""
    empties: bool = False
    nulls: bool = True
    empty_fields: bool = True
    empty_columns: bool = True
    empty_texts: bool = True
    untyped: bool = False
    whole_digits: int = 0
    first_day: dt.date | None = None
    largest: float = 0.0
    decimal_places: int = 0


@dataclass(frozen=True)
class Storable:
    """A layer that the format can hold, what had to give way, and rows that have no place there, with the reason."""

    layer: Layer
    remarks: tuple[Remark, ...] = ()
    aside: tuple[tuple[str, np.ndarray], ...] = ()


def kind_word(kind: pa.DataType) -> str:
    """The kind of a field, as ``Holds.texts`` names it: the word that people read, but for exact decimals."""
    return "decimal" if pa.types.is_decimal(kind) else type_word(kind)


_SAYS = {
    "yes/no": "is yes or no and becomes the text true or false",
    "decimal": "has exact decimals and becomes text",
    "date and time": "is a time and becomes text, in UTC where it has a zone",
    "date": "is a date and becomes text",
    "time": "is a time of day and becomes text",
    "bytes": "holds bytes and becomes hexadecimal text",
    "list": "is a list and becomes text, as JSON",
}


def forecast_values(fields: Sequence[Field], drawn: bool, holds: Holds) -> list[str]:
    """What becomes of fields and shapes, in sentences, as far as their kinds tell."""
    out = []
    for one in fields:
        word = kind_word(one.type)
        if word in holds.texts:
            out.append(f"'{one.name}' {_SAYS[word]}")
        elif word == "decimal" and not holds.decimals:
            out.append(f"'{one.name}' has exact decimals and becomes a number, of about 15 digits")
    if drawn and not holds.places:
        out.append(f"{holds.title} has no shapes: points become x and y, and others well-known text")
    return out


def too_large(column: pa.ChunkedArray | pa.Array, holds: Holds) -> bool:
    """Whether a column has whole numbers that the format cannot hold."""
    if not pa.types.is_uint64(column.type) or not holds.most:
        return False
    most = pc.max(column).as_py()
    return most is not None and most > holds.most


def settle(layer: Layer, holds: Holds) -> Storable:
    """The layer as the format can hold it.

    Raises
    ------
    DeliveryError : it has whole numbers that are too large.
    """
    remarks = [Remark(text, layer.key) for text in forecast_values(layer.fields, False, holds)]

    def tell(template: str, look: bool = True, **counts: int) -> None:
        remarks.append(Remark.counted(template, layer.key, look, Code.GENERAL, **counts))

    table = layer.table
    for number, field in enumerate(table.schema):
        column = table.column(number)
        if too_large(column, holds):
            raise DeliveryError(
                f"'{field.name}' has whole numbers beyond {holds.most:,}, and {holds.title} holds none",
                place=layer.key,
                way_out="Make it a text or a number with Arrange fields, or save to GeoParquet",
            )
        table = _settled_column(table, number, holds, tell)
    out = layer if table is layer.table else layer.with_table(table)
    if not len(layer) and not holds.empty_fields and table.num_columns:
        tell(f"it has no rows, and {holds.title} keeps no fields without any")
    if not layer.has_geometry:
        return Storable(out, tuple(remarks))
    out, aside = _settled_shapes(out, holds, tell)
    return Storable(out, tuple(remarks), aside)


def _settled_column(table: pa.Table, number: int, holds: Holds, tell: Callable[..., None]) -> pa.Table:
    field, column = table.schema.field(number), table.column(number)
    kind, name = field.type, verbatim(field.name)
    if holds.untyped:
        _tell_untyped(name, column, tell)
    if holds.whole_digits and pa.types.is_integer(kind):
        long = sum(v is not None and abs(v) >= 10**holds.whole_digits for v in column.to_pylist()) if _is_long(column, holds) else 0
        if long:
            more = f"of more than {holds.whole_digits} digits"
            tell(f"'{name}': {{n|whole number {more} becomes|whole numbers {more} become}} text", n=long)
    if holds.first_day is not None and (pa.types.is_date(kind) or pa.types.is_timestamp(kind)):
        early = int(pc.sum(pc.less(column.cast(pa.date32(), safe=False), pa.scalar(holds.first_day))).as_py() or 0)
        if early:
            before = f"before {holds.first_day.year}"
            tell(f"'{name}': {{n|date {before} becomes|dates {before} become}} text", n=early)
    if pa.types.is_integer(kind) and holds.exact and len(column):
        ends = pc.min_max(column).as_py()
        if max(abs(ends["min"] or 0), abs(ends["max"] or 0)) > holds.exact:
            tell(f"'{name}' has whole numbers beyond 2^53, which many readers of {holds.title} round")
    elif pa.types.is_floating(kind):
        nans = int(pc.sum(pc.is_nan(column)).as_py() or 0)
        if nans and not holds.nan:
            tell(f"'{name}': {{n|value that is|values that are}} no number (NaN) {{n:is|are}} left empty", n=nans)
        infinite = int(pc.sum(pc.is_inf(column)).as_py() or 0)
        if infinite and not holds.infinity:
            tell(f"'{name}': {{n|endless value}} left empty", n=infinite)
            column = pc.if_else(pc.is_inf(column), None, column)
            table = table.set_column(number, field.name, column)
        if holds.largest:
            values = np.asarray(pc.fill_null(column, 0.0), float)
            there = np.isfinite(values)
            if (np.abs(values[there]) >= holds.largest).any():
                tell(f"'{name}' has numbers that are too large for {holds.title} and becomes text")
                texts = [None if v is None else repr(v) for v in column.to_pylist()]
                return table.set_column(number, field.name, pa.chunked_array([pa.array(texts, pa.string())]))
            rounded = np.round(values[there], holds.decimal_places)
            off = int((np.abs(rounded - values[there]) > 1e-12 * np.abs(values[there])).sum())
            if off:
                tell(f"'{name}': {{n|value}} rounded to {holds.decimal_places} places, as {holds.title} holds them", n=off)
    elif pa.types.is_timestamp(kind):
        unit = {"s": 0, "ms": 3, "us": 6, "ns": 9}[kind.unit]
        if unit > holds.digits:
            step = 10 ** (unit - holds.digits)
            whole = column.cast(pa.int64())
            cut = int((np.asarray(pc.fill_null(whole, 0)) % step != 0).sum())
            if cut:
                what = {0: "second", 3: "millisecond", 6: "microsecond"}[holds.digits]
                tell(f"'{name}': {{n|time}} cut to the {what}", n=cut)
    if len(column) and column.null_count == len(column) and not holds.empty_columns:
        tell(f"'{name}' has no values, and {holds.title} keeps no such field")
    if pa.types.is_string(kind) and not holds.empty_texts:
        empty = int(pc.sum(pc.fill_null(pc.equal(column, ""), False)).as_py() or 0)
        if empty:
            tell(f"'{name}': {{n|empty text becomes|empty texts become}} no value", n=empty)
    if pa.types.is_string(kind) and not holds.blanks:
        blanks = int(pc.sum(pc.fill_null(pc.not_equal(pc.utf8_trim_whitespace(column), column), False)).as_py() or 0)
        if blanks:
            begin = "{n|text begins or ends|texts begin or end}"
            tell(f"'{name}': {begin} with blanks, which readers of {holds.title} leave out", n=blanks)
    return table


def _is_long(column: pa.ChunkedArray, holds: Holds) -> bool:
    ends = pc.min_max(column).as_py()
    return max(abs(ends["min"] or 0), abs(ends["max"] or 0)) >= 10**holds.whole_digits


def _tell_untyped(name: str, column: pa.ChunkedArray, tell: Callable[..., None]) -> None:
    """What is written whole and exactly, and readers of texts alone do not take for what it is."""
    if pa.types.is_decimal(column.type):
        tell(f"'{name}' is written exactly; many readers take it for numbers of about 15 digits", False)
    elif pa.types.is_time(column.type):
        tell(f"'{name}' is a time of day, which is read again as text", False)
    elif pa.types.is_uint64(column.type) and (pc.max(column).as_py() or 0) > MOST:
        tell(f"'{name}' has whole numbers beyond {MOST:,}, which are read again as text", False)


def _settled_shapes(layer: Layer, holds: Holds, tell: Callable[..., None]) -> tuple[Layer, tuple[tuple[str, np.ndarray], ...]]:
    if layer.undecoded is not None:
        return layer, ()  # what is still encoded is flat, and has no nulls and no empty shapes
    geometry = layer.geometry
    assert geometry is not None
    none = shapely.is_missing(geometry)
    empty = shapely.is_empty(geometry) & ~none
    measured = shapely.has_m(geometry)
    high = shapely.has_z(geometry)
    out = geometry
    if measured.any() and not holds.measures:
        tell(f"measures (M) of {{n|shape}} are left out: {holds.title} holds none", n=int(measured.sum()))
        out = out.copy()
        out[measured] = without_measures(out[measured])
    if high.any() and holds.heights_as:
        tell(f"heights are written as {holds.heights_as}, and are read again as a field of points alone", False)
    if high.any() and not holds.heights:
        tell(f"heights of {{n|shape}} are left out: {holds.title} holds none", n=int(high.sum()))
        out = shapely.force_2d(out)
    if empty.any() and not holds.empties:
        tell(f"{{n|empty shape is|empty shapes are}} written as no shape, since {holds.title} holds none", n=int(empty.sum()))
        out = out.copy()
        out[empty] = None
        none = none | empty
    if out is not geometry:
        layer = layer.with_geometry(out, layer.kind)
    if none.any() and not holds.nulls:
        lost = np.flatnonzero(none)
        tell(f"{{n|row has|rows have}} no shape, and {holds.title} holds no feature without", n=len(lost))
        stays = np.flatnonzero(~none)
        return layer.take(stays), ((f"has no shape, and {holds.title} holds none without", lost),)
    return layer, ()


def without_measures(shapes: np.ndarray) -> np.ndarray:
    """Shapes without their measures, heights kept."""
    out = shapely.force_2d(shapes)
    high = shapely.has_z(shapes)
    if high.any():
        places = shapely.get_coordinates(shapes[high], include_z=True)
        out[high] = shapely.set_coordinates(shapely.force_3d(out[high]), places)
    return np.asarray(out, object)
