"""Figures of groups of rows: ``sum tonnes``, ``mean depth_m``, ``count``.

Empty values count as nothing, and so does what is no number (``core.tables.values``): a sum or a mean is of those that are there, and
is empty where none is. The standard
deviation is that of a sample (n - 1), empty for a single value. ``count`` alone counts rows; with a field it counts the
values that are there.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.expression import unknown_field
from eskret.core.layer import Field
from eskret.core.tables.groupby import Groups
from eskret.core.tables.values import settled
from eskret.errors import ExpressionError, SettingError

STATISTICS = {
    "sum": "sum",
    "mean": "mean",
    "min": "least",
    "max": "greatest",
    "count": "number of values",
    "first": "first value",
    "last": "last value",
    "list": "all different values",
    "sd": "standard deviation",
    "median": "median",
    "distinct": "number of different values",
}
_FIGURES = ("sum", "mean", "sd", "median")
BETWEEN = ", "
"""What stands between the values of a ``list``."""


@dataclass(frozen=True, slots=True)
class Statistic:
    """A figure wanted: ``name`` of the new field, ``what`` of ``field`` (empty where rows are counted)."""

    name: str
    what: str
    field: str = ""


def parse_statistics(wanted: Mapping[str, str], names: Sequence[str] | None = None) -> list[Statistic]:
    """Figures as a workflow file has them: new field = ``sum tonnes``.

    Parameters
    ----------
    names : the fields there are; None leaves that unchecked.

    Raises
    ------
    SettingError : no such figure, or no such field.
    """
    out = []
    for name, text in wanted.items():
        what, _, field = str(text).strip().partition(" ")
        what, field = what.lower(), field.strip()
        if what not in STATISTICS or (not field and what != "count"):
            known = ", ".join(STATISTICS)
            raise SettingError(f"'{text}' is no figure", way_out=f"Write one of {known}, then a field, such as sum tonnes")
        if field and names is not None:
            same = [n for n in names if n.casefold() == field.casefold()]
            if not same:
                problem: ExpressionError = unknown_field(field, names)
                raise SettingError(problem.problem, way_out=problem.way_out)
            field = field if field in names else same[0]
        out.append(Statistic(name, what, field))
    return out


def fields_of(statistics: Sequence[Statistic], fields: Sequence[Field]) -> list[Field]:
    """The new fields that these figures make.

    Raises
    ------
    SettingError : a figure that the field's values do not have.
    """
    types = {f.name: f.type for f in fields}
    return [Field(s.name, _type(s, types.get(s.field))) for s in statistics]


def _type(one: Statistic, of: pa.DataType | None) -> pa.DataType:
    if one.what in ("count", "distinct"):
        return pa.int64()
    if one.what == "list":
        return pa.string()
    assert of is not None
    if one.what in _FIGURES:
        if not (pa.types.is_integer(of) or pa.types.is_floating(of) or pa.types.is_decimal(of) or pa.types.is_boolean(of)):
            raise SettingError(
                f"'{one.field}' holds no numbers, so it has no {STATISTICS[one.what]}",
                way_out="Choose first, last, min, max, count, distinct or list",
            )
        if one.what == "sum" and pa.types.is_decimal(of):
            return pa.decimal128(38, of.scale) if of.bit_width <= 128 else of
        whole = one.what == "sum" and (pa.types.is_integer(of) or pa.types.is_boolean(of))
        return pa.int64() if whole else pa.float64()
    return of


def statistics_of(table: pa.Table, groups: Groups, wanted: Sequence[Statistic]) -> list[pa.Array]:
    """The figures, one array a figure, one value a group.

    Raises
    ------
    SettingError : a sum that is larger than a whole number can be.
    """
    types = fields_of(wanted, [Field(f.name, f.type) for f in table.schema])
    return [_figure(table, groups, one, made.type) for one, made in zip(wanted, types, strict=True)]


def _figure(table: pa.Table, groups: Groups, one: Statistic, kind: pa.DataType) -> pa.Array:
    if not one.field:
        return pa.array(groups.sizes, kind)
    column = settled(table.column(one.field)).take(pa.array(groups.order)).combine_chunks()
    if isinstance(column, pa.ChunkedArray):
        column = column.chunk(0) if column.num_chunks else pa.array([], column.type)
    if one.what in ("first", "last", "list", "median", "distinct"):
        return _of_values(column, groups, one.what, kind)
    if pa.types.is_boolean(column.type) and one.what != "count":
        column = column.cast(pa.int64())
    elif pa.types.is_decimal(column.type) and one.what in _FIGURES and one.what != "sum":
        column = column.cast(pa.float64())
    if one.what == "sum" and pa.types.is_integer(kind):
        _check_size(column, one)
        column = column.cast(pa.int64())
    code = pa.array(np.repeat(np.arange(groups.count), groups.sizes))
    call = {"sd": "stddev"}.get(one.what, one.what)
    options = pc.VarianceOptions(ddof=1) if call == "stddev" else None
    if one.what == "sum" and pa.types.is_decimal(kind):
        column = column.cast(kind)
    try:
        found = pa.table({"g": code, "v": column}).group_by("g", use_threads=False).aggregate([("v", call, options)])
    except pa.ArrowInvalid as error:
        raise SettingError(
            f"the {STATISTICS[one.what]} of '{one.field}' is larger than a decimal can be", way_out="Retype the field first"
        ) from error
    order = pc.sort_indices(found.column("g"))
    out = found.column(f"v_{call}").take(order).combine_chunks()
    if one.what == "sd" or (one.what in _FIGURES and pa.types.is_floating(out.type)):
        out = pc.if_else(pc.is_nan(out), None, out)
    return out.cast(kind)


def _check_size(column: pa.Array, one: Statistic) -> None:
    size = pc.sum(pc.abs(column.cast(pa.float64(), safe=False))).as_py() or 0.0
    if size > 9.2e18:
        raise SettingError(f"the sum of '{one.field}' is larger than a whole number can be", way_out="Retype the field first")


def _of_values(column: pa.Array, groups: Groups, what: str, kind: pa.DataType) -> pa.Array:
    valid = np.asarray(column.is_valid())
    owner = np.repeat(np.arange(groups.count), groups.sizes)[valid]
    some = column.filter(pa.array(valid))
    starts = np.searchsorted(owner, np.arange(groups.count + 1))
    full = np.diff(starts) > 0
    if what in ("first", "last"):
        at = starts[:-1] if what == "first" else starts[1:] - 1
        return some.take(pa.array(np.where(full, at, 0), mask=~full)) if len(some) else pa.nulls(groups.count, kind)
    values = some.to_pylist()
    out: list[object] = []
    for a, b in zip(starts[:-1].tolist(), starts[1:].tolist(), strict=True):
        part = values[a:b]
        if what == "list":
            out.append(BETWEEN.join(dict.fromkeys(map(str, part))) if part else None)
        elif what == "distinct":
            out.append(len(set(map(repr, part))))
        else:
            out.append(float(np.median([float(v) for v in part])) if part else None)
    return pa.array(out, kind)
