"""Make a layer fit a format: names, texts, times and numbers that it cannot hold, settled as the analyst chose.

The same choices foretell from the fields alone what will become of them. Sources, from memory: the shapefile's technical
description and dBASE tables (names of 10 bytes, texts of 254, no times of day, whole numbers of 18 digits), FlatGeobuf's
schema of columns, GPX 1.1 and KML 2.2 schemas, the limits of workbooks.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from eskret.core.accounts.account import Remark
from eskret.core.layer import Field, Layer
from eskret.core.naming import number_collisions, without_accents
from eskret.core.words import pluralise
from eskret.errors import DeliveryError

TEXT, SPLIT = "text", "split"
"""What becomes of times of day where there are none: a text, or a date and a text of the hour."""
CUT, STOP = "cut", "stop"
"""What becomes of texts that are too long."""


@dataclass(frozen=True)
class Bounds:
    """What a format can hold. 0 stands for no bound; ``nulls`` says whether an empty text differs from none."""

    title: str
    name_bytes: int = 0
    text_bytes: int = 0
    text_signs: int = 0
    most_fields: int = 0
    most_rows: int = 0
    whole_digits: int = 0
    times: bool = True
    zones: bool = True
    dates: bool = True
    flags: bool = True
    empty_texts: bool = True


@dataclass(frozen=True)
class Choices:
    """What the analyst chose for what does not fit."""

    times: str = TEXT
    long_texts: str = CUT


@dataclass(frozen=True)
class Fitted:
    """A layer that fits. ``names`` are those of its fields in the file, with the one they had; only those that differ count
    where somebody asks what was shortened."""

    layer: Layer
    names: tuple[tuple[str, str], ...] = ()
    remarks: tuple[Remark, ...] = field(default_factory=tuple)

    @property
    def renamed(self) -> bool:
        return any(new != old for new, old in self.names)


def short_names(names: Sequence[str], limit: int) -> list[str]:
    """Names of at most so many bytes, told apart by a number where they would be alike; case does not count.

    >>> short_names(["bottom_type", "bottom_tidy", "Tiefe über Grund"], 10)
    ['bottom_typ', 'bottom_tid', 'Tiefe uber']
    """
    bare = [without_accents(n) if len(n.encode()) > limit else n for n in names]
    cut = [n.encode()[:limit].decode(errors="ignore").rstrip() or "field"[:limit] for n in bare]
    if all(len(n.encode()) <= limit and n.isascii() for n in cut):
        return number_collisions(cut, limit=limit)
    out: list[str] = []
    for name in cut:
        candidate, number = name, 1
        while candidate.casefold() in {o.casefold() for o in out}:
            number += 1
            tail = f"_{number}"
            candidate = name.encode()[: limit - len(tail)].decode(errors="ignore") + tail
        out.append(candidate)
    return out


def forecast_fit(fields: Sequence[Field], bounds: Bounds, choices: Choices) -> list[str]:
    """What becomes of fields that do not fit, in sentences."""
    out = []
    columns = _columns(fields, bounds, choices)
    for one in fields:
        for says in _says(one, bounds, choices):
            out.append(f"'{one.name}' {says}")
    if bounds.name_bytes:
        short = short_names([c.name for c in columns], bounds.name_bytes)
        changed = [f"'{c.name}' to '{s}'" for c, s in zip(columns, short, strict=True) if c.name != s]
        if changed:
            more = f" and {len(changed) - 4} more" if len(changed) > 4 else ""
            out.append(f"names are shortened: {', '.join(changed[:4])}{more}; a list beside the file says which is which")
    if bounds.most_fields and len(columns) > bounds.most_fields:
        out.append(f"it has {len(columns):,} fields, and {bounds.title} holds {bounds.most_fields:,}")
    return out


def _says(one: Field, bounds: Bounds, choices: Choices) -> list[str]:
    kind = one.type
    if pa.types.is_nested(kind):
        return ["is a list and becomes text"]
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind):
        return ["holds bytes and becomes hexadecimal text"]
    if pa.types.is_time(kind):
        return ["is a time of day and becomes text"]
    if pa.types.is_timestamp(kind) and not bounds.times:
        return ["becomes a date and a text of the hour in UTC" if choices.times == SPLIT else "becomes text, in UTC"]
    if pa.types.is_timestamp(kind) and not bounds.zones and kind.tz:
        return ["is written in UTC, without saying so"]
    if pa.types.is_date(kind) and not bounds.dates:
        return ["is a date and becomes a date with a time"]
    if pa.types.is_boolean(kind) and not bounds.flags:
        return ["is yes or no and becomes 1 or 0"]
    return []


@dataclass(frozen=True)
class _Column:
    name: str
    make: Callable[[pa.ChunkedArray], pa.ChunkedArray]
    of: str


def _columns(fields: Sequence[Field], bounds: Bounds, choices: Choices) -> list[_Column]:
    """The columns as they are written: names as they would be at full length, and how each is made."""
    out: list[_Column] = []
    taken = [f.name for f in fields]
    for one in fields:
        kind = one.type
        if pa.types.is_timestamp(kind) and not bounds.times and choices.times == SPLIT:
            day, hour = number_collisions([f"{one.name[:8]}_d", f"{one.name[:8]}_t"], taken=taken)
            taken += [day, hour]
            out += [_Column(day, _day, one.name), _Column(hour, _hour, one.name)]
        else:
            out.append(_Column(one.name, _maker(kind, bounds), one.name))
    return out


def _maker(kind: pa.DataType, bounds: Bounds) -> Callable[[pa.ChunkedArray], pa.ChunkedArray]:
    if pa.types.is_nested(kind) or pa.types.is_binary(kind) or pa.types.is_large_binary(kind):
        return written_form
    if pa.types.is_time(kind):
        return lambda c: _texts(c, lambda v: v.isoformat())
    if pa.types.is_decimal(kind):
        return lambda c: c.cast(pa.float64())
    if pa.types.is_timestamp(kind):
        return _moment_texts if not bounds.times else lambda c: c.cast(pa.timestamp("ms", kind.tz), safe=False)
    if pa.types.is_date(kind):
        return lambda c: c.cast(pa.timestamp("ms")) if not bounds.dates else c.cast(pa.date32())
    if pa.types.is_boolean(kind) and not bounds.flags:
        return lambda c: c.cast(pa.int64())
    if pa.types.is_integer(kind):
        return lambda c: c.cast(pa.int64())
    return lambda c: c


def written_form(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Lists and bytes as texts, in the one form that all formats have here: JSON, and hexadecimal."""
    if pa.types.is_nested(column.type):
        return _texts(column, lambda v: json.dumps(v, ensure_ascii=False, default=str))
    return _texts(column, lambda v: v.hex())


def shortest_time(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Times in the coarsest unit that holds all of them, so that no needless fraction is written."""
    for unit in ("s", "ms", "us"):
        try:
            return column.cast(pa.timestamp(unit, column.type.tz))
        except pa.ArrowInvalid:
            continue
    return column


def _texts(column: pa.ChunkedArray, say: Callable[[Any], str]) -> pa.ChunkedArray:
    return pa.chunked_array([pa.array([None if v is None else say(v) for v in column.to_pylist()], pa.string())])


def _utc(column: pa.ChunkedArray) -> pa.ChunkedArray:
    return column.cast(pa.timestamp("ms", column.type.tz), safe=False).cast(pa.timestamp("ms", "UTC"))


def _moment_texts(column: pa.ChunkedArray) -> pa.ChunkedArray:
    return pc.strftime(_whole_seconds(_utc(column)), "%Y-%m-%dT%H:%M:%SZ" if column.type.tz else "%Y-%m-%dT%H:%M:%S")


def _whole_seconds(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Times to the second where none has a fraction, so that none is written."""
    try:
        return column.cast(pa.timestamp("s", column.type.tz))
    except pa.ArrowInvalid:
        return column


def _day(column: pa.ChunkedArray) -> pa.ChunkedArray:
    return _utc(column).cast(pa.timestamp("ms")).cast(pa.date32(), safe=False)


def _hour(column: pa.ChunkedArray) -> pa.ChunkedArray:
    return pc.strftime(_whole_seconds(_utc(column)), "%H:%M:%S")


def fit(layer: Layer, bounds: Bounds, choices: Choices) -> Fitted:
    """The layer as the format can hold it.

    Raises
    ------
    DeliveryError : it has too many fields or rows, or a text that is too long where that must stop the run.
    """
    columns = _columns(layer.fields, bounds, choices)
    if bounds.most_fields and len(columns) > bounds.most_fields:
        raise DeliveryError(
            f"it has {len(columns):,} fields, and {bounds.title} holds {bounds.most_fields:,}",
            place=layer.key,
            way_out="Choose the fields to save, or save to a GeoPackage",
        )
    if bounds.most_rows and len(layer) > bounds.most_rows:
        raise DeliveryError(
            f"it has {len(layer):,} rows, and {bounds.title} holds {bounds.most_rows:,}", place=layer.key, way_out="Save to another format"
        )
    remarks = [Remark(text, layer.key) for text in forecast_fit(layer.fields, bounds, choices)]
    made: list[pa.ChunkedArray] = []
    for column in columns:
        values = column.make(layer.table.column(column.of))
        made.append(_within(values, column.of, bounds, choices, layer.key, remarks))
    full = [c.name for c in columns]
    names = short_names(full, bounds.name_bytes) if bounds.name_bytes else full
    table = pa.table(made, names=names) if made else layer.table
    pairs = tuple((new, c.of) for new, c in zip(names, columns, strict=True))
    titles = {new: layer.titles[old] for new, old in pairs if old in layer.titles}
    return Fitted(replace(layer.with_table(table), titles=titles) if made else layer, pairs, tuple(remarks))


def _within(column: pa.ChunkedArray, name: str, bounds: Bounds, choices: Choices, key: str, remarks: list[Remark]) -> pa.ChunkedArray:
    """Values within the format's bounds; what had to give way is told."""
    if pa.types.is_integer(column.type) and bounds.whole_digits:
        ends = pc.min_max(column).as_py()
        if max(abs(ends["min"] or 0), abs(ends["max"] or 0)) >= 10**bounds.whole_digits:
            text = f"'{name}' has numbers of more than {bounds.whole_digits} digits and becomes text"
            remarks.append(Remark(text, key, look=True))
            column = column.cast(pa.string())
    if not (pa.types.is_string(column.type) or pa.types.is_large_string(column.type)):
        return column
    if not bounds.empty_texts:
        empty = int(pc.sum(pc.fill_null(pc.equal(column, ""), False)).as_py() or 0)
        if empty:
            become = pluralise(empty, "empty text becomes", "empty texts become")
            remarks.append(Remark(f"'{name}': {become} no value", key))
    limit, length = (bounds.text_bytes, pc.binary_length) if bounds.text_bytes else (bounds.text_signs, pc.utf8_length)
    if not limit:
        return column
    long = pc.fill_null(pc.greater(length(column), limit), False)
    many = int(pc.sum(long).as_py() or 0)
    if not many:
        return column
    measure = f"{limit:,} {'bytes' if bounds.text_bytes else 'characters'}"
    if choices.long_texts == STOP:
        raise DeliveryError(
            f"'{name}' has {pluralise(many, 'text')} of more than {measure}",
            place=key,
            way_out=f"Have them cut, or save to a format without this bound; {bounds.title} has it",
        )
    remarks.append(Remark(f"'{name}': {pluralise(many, 'text was', 'texts were')} cut at {measure}", key, look=True))
    cut = [v if v is None else _cut(v, limit, bool(bounds.text_bytes)) for v in column.to_pylist()]
    return pa.chunked_array([pa.array(cut, pa.string())])


def _cut(text: str, limit: int, in_bytes: bool) -> str:
    return text.encode()[:limit].decode(errors="ignore") if in_bytes else text[:limit]
