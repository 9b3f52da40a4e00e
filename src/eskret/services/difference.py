"""What a push would do: the difference between a layer and a published dataset, taken after both are as the service holds them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from typing import Any

import numpy as np
import orjson
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.crs import WGS84
from eskret.core.geometry.local_projection import moved_by
from eskret.core.layer import Layer
from eskret.core.tables.diff import Difference, difference
from eskret.core.tables.from_objects import from_objects
from eskret.core.tables.rows import remaining
from eskret.core.words import pluralise
from eskret.errors import InputError
from eskret.formats import geojson
from eskret.services import likeness
from eskret.services.changing import FeatureChange
from eskret.services.identity import content_texts, counts, key_texts, number_of

APPEND, UPDATE, REPLACE = "append", "update", "replace"
_IDENTITY = "\0identity"


@dataclass(frozen=True)
class Published:
    """A dataset as it is there: its features as they came, and their properties and shapes, which have no bad ones among
    them."""

    features: Sequence[Mapping[str, Any]]
    table: pa.Table
    shapes: np.ndarray = field(repr=False)


@dataclass(frozen=True)
class PublishedDifference:
    """What differs, by positions in the layer (``added``, ``changed``) and in the dataset (``was``, ``removed``).

    ``found`` has it field by field; ``lost`` are rows of the layer without a place in WGS 84, ``unkeyed`` those that cannot be
    told apart, ``there`` those that an append leaves alone since their key is published. ``entries`` are the changes to send,
    with their key, in the order added, changed, removed. ``own`` are the fields that count, None for all; ``foreign`` those
    that only the dataset has.
    """

    found: Difference
    published: Published
    layer: Layer
    entries: Sequence[tuple[str, FeatureChange]]
    lost: np.ndarray
    unkeyed: np.ndarray
    there: np.ndarray
    same: int
    own: frozenset[str] | None = None
    foreign: tuple[str, ...] = ()
    decimals: int = geojson.DECIMALS


def published(features: Sequence[Mapping[str, Any]], place: str = "") -> Published:
    """Features as they came, with their properties as a table and their shapes.

    Raises
    ------
    InputError : a shape cannot be read.
    """
    shapes = shapes_of([f.get("geometry") for f in features])
    bad = [n for n, f in enumerate(features) if f.get("geometry") and shapes[n] is None]
    if bad:
        raise InputError(
            f"the geometry of feature '{features[bad[0]].get('id')}' cannot be read",
            place=place,
            way_out="Mend it in the published dataset first",
        )
    rows = [dict(f.get("properties") or {}) for f in features]
    table = from_objects(rows) if any(rows) else pa.table({"": pa.nulls(len(features), pa.string())}).select([])
    return Published(features, table, shapes)


def shapes_of(geometries: Sequence[Mapping[str, Any] | None]) -> np.ndarray:
    """GeoJSON geometries as shapes, None for none and for what cannot be understood.

    Where all are polygons, or all points, they are made of their coordinates at once, which takes a quarter of the time.
    """
    kinds = {g.get("type") if g else None for g in geometries}
    try:
        if kinds == {"Point"}:
            return np.asarray(shapely.points(np.array([g["coordinates"] for g in geometries if g], float)), object)
        if kinds == {"Polygon"}:
            rings = [ring for g in geometries if g for ring in g["coordinates"]]
            counts = [len(g["coordinates"]) for g in geometries if g]
            xy = np.array([p for ring in rings for p in ring], float)
            if min(counts) > 0 and xy.ndim == 2 and xy.shape[1] == 2:
                ends = np.concatenate([[0], np.cumsum([len(r) for r in rings])])
                offsets = (ends, np.concatenate([[0], np.cumsum(counts)]))
                return np.asarray(shapely.from_ragged_array(shapely.GeometryType.POLYGON, xy, offsets), object)
    except (ValueError, TypeError, KeyError, shapely.errors.ShapelyError):
        pass  # one of them is none: the other way tells which
    texts = np.empty(len(geometries), object)
    for n, one in enumerate(geometries):
        texts[n] = orjson.dumps(one) if one else None
    return np.asarray(shapely.from_geojson(texts, on_invalid="ignore"), object).reshape(-1)


def decimals_held(shapes: np.ndarray, most: int) -> int:
    """How many decimals the coordinates have, ``most`` at most: what a service rounds away is no change."""
    found = shapely.get_coordinates(shapes)
    if not len(found):
        return most
    for decimals in range(min(4, most), most):
        if np.all(np.abs(found - np.round(found, decimals)) < 1e-11):
            return decimals
    return most


def take(
    layer: Layer, there: Published, *, mode: str, key: Sequence[str] = (), remove: bool = True, decimals: int = geojson.DECIMALS
) -> PublishedDifference:
    """The difference between a layer and what is published.

    Parameters
    ----------
    mode : append, update or replace.
    key : fields that tell features apart, needed to update; without one they are told apart by all they hold.
    remove : whether an update removes what the layer does not have.
    decimals : digits after the point of a degree.

    Raises
    ------
    CrsError : the layer's shapes cannot be brought to WGS 84.
    """
    decimals = decimals_held(there.shapes, decimals)
    shapes, lost, _ = geojson.prepare(layer, decimals)
    ours = as_sent(layer.table)
    theirs = _like(there.table, ours.schema)
    own_only = [n for n in ours.column_names if n not in theirs.column_names]
    for name in own_only:
        theirs = theirs.append_column(name, pa.nulls(theirs.num_rows, ours.schema.field(name).type))
    foreign = [n for n in theirs.column_names if n not in ours.column_names]
    compared = ours
    own = None if mode == REPLACE else frozenset(ours.column_names)
    if mode == REPLACE:
        # what the layer does not have is to go
        for name in foreign:
            compared = compared.append_column(name, pa.nulls(ours.num_rows, theirs.schema.field(name).type))
    rounded = geojson.rounded(there.shapes, decimals)
    stays = remaining(len(layer), lost)
    if key:
        mine, other = key_texts(ours, key), key_texts(theirs, key)
    else:
        known = content_texts(there.features, decimals, own)
        every = list(features_of(layer.table, shapes, np.arange(len(layer))))
        # all of an append are added, as the next of their like
        mine = pa.array(content_texts(every, decimals, own, counts(known) if mode == APPEND else None), pa.string())
        other = pa.array(known, pa.string())
    new = compared.append_column(_IDENTITY, mine).take(pa.array(stays))
    fields = [n for n in compared.column_names if n not in key] if key else []
    found = difference(new, shapes[stays], theirs.append_column(_IDENTITY, other), rounded, key=[_IDENTITY], fields=fields)
    found = replace(found, added=stays[found.added], changed=stays[found.changed], unkeyed=stays[found.unkeyed])
    if mode == REPLACE and len(found.unkeyed_before):
        raise InputError(
            f"{pluralise(len(found.unkeyed_before), 'published feature')} cannot be told apart: the key is empty, or several have it",
            way_out="Leave the key empty: then features are told apart by all they hold",
        )
    found = _settled(found, mode, remove)
    moved = _metres(found, shapes, rounded)
    found = replace(found, moved=moved)
    unkeyed = found.unkeyed
    held = remaining(len(layer), np.concatenate([found.added, found.changed, unkeyed, lost]))
    was_there = np.empty(0, np.int64)
    if mode == APPEND and key:
        was_there, held = held, np.empty(0, np.int64)
    entries = _entries(found, layer.table, shapes, there, (mine, other), bool(key))
    return PublishedDifference(found, there, layer, entries, lost, unkeyed, was_there, len(held), own, tuple(foreign), decimals)


def _settled(found: Difference, mode: str, remove: bool) -> Difference:
    """The difference as the mode wants it."""
    none = np.empty(0, np.int64)
    if mode == APPEND:
        return replace(found, removed=none, changed=none, was=none, fields=[], earlier=[], moved=np.empty(0))
    return found if remove or mode == REPLACE else replace(found, removed=none)


def _metres(found: Difference, shapes: np.ndarray, there: np.ndarray) -> np.ndarray:
    """How far each changed shape moved, in metres."""
    out = found.moved.copy()
    at = np.flatnonzero(np.isfinite(out) & (out > 0))
    if not len(at):
        return out
    out[at] = moved_by(shapes[found.changed[at]], there[found.was[at]], WGS84)
    return out


def _entries(
    found: Difference, table: pa.Table, shapes: np.ndarray, there: Published, texts: tuple[pa.Array, pa.Array], keyed: bool
) -> list[tuple[str, FeatureChange]]:
    mine, theirs = (t.to_pylist() for t in texts)

    def twins(text: str) -> int:
        return 0 if keyed else number_of(text) - 1

    out: list[tuple[str, FeatureChange]] = []
    for row, wanted in zip(found.added.tolist(), features_of(table, shapes, found.added), strict=True):
        out.append((mine[row], FeatureChange(None, wanted, twins=twins(mine[row]))))
    for row, was, wanted in zip(found.changed.tolist(), found.was.tolist(), features_of(table, shapes, found.changed), strict=True):
        before = there.features[was]
        out.append((mine[row], FeatureChange(before, wanted, str(before.get("id", "")))))
    for was in found.removed.tolist():
        before = there.features[was]
        out.append((theirs[was], FeatureChange(before, None, str(before.get("id", "")), twins(theirs[was]))))
    return out


def features_of(table: pa.Table, shapes: np.ndarray, rows: np.ndarray) -> Iterable[dict[str, object]]:
    """Some rows as GeoJSON features."""
    chosen = table.take(pa.array(rows, pa.int64()))
    held = chosen.to_pylist() if chosen.num_columns else [{} for _ in rows]
    for properties, shape in zip(held, geojson.texts_of(shapes[rows]), strict=True):
        told = orjson.dumps(properties, default=geojson.plain_value, option=orjson.OPT_UTC_Z)
        yield {"type": "Feature", "geometry": orjson.loads(shape), "properties": orjson.loads(told)}


def as_sent(table: pa.Table) -> pa.Table:
    """The attributes as they stand in JSON: whole numbers, numbers, yes or no, and texts; times stay times to be compared."""
    out = {}
    for name, column in zip(table.column_names, table.columns, strict=True):
        kind = column.type
        if pa.types.is_timestamp(kind):
            column = column.cast(pa.timestamp("us", "UTC"))
        elif pa.types.is_integer(kind):
            column = column.cast(pa.int64())
        elif pa.types.is_floating(kind):
            # what is no number has no place in JSON, and is sent as nothing
            column = pc.if_else(pc.is_finite(column), column, pa.scalar(None, kind)).cast(pa.float64())
        elif not (pa.types.is_string(kind) or pa.types.is_boolean(kind) or pa.types.is_date32(kind)):
            values = [None if v is None else _text(v) for v in column.to_pylist()]
            column = pa.chunked_array([pa.array(values, pa.string())])
        out[name] = column
    return pa.table(out) if out else table


def _text(value: object) -> str:
    if isinstance(value, bytes):
        return value.hex()
    return orjson.dumps(value, default=str).decode() if isinstance(value, list | dict) else str(value)


def _like(table: pa.Table, schema: pa.Schema) -> pa.Table:
    """The dataset's properties in the types of the layer's, where they can be had in them."""
    columns = {}
    for name, column in zip(table.column_names, table.columns, strict=True):
        if pa.types.is_nested(column.type):
            column = pa.chunked_array([pa.array([None if v is None else _text(v) for v in column.to_pylist()], pa.string())])
        if name in schema.names and column.type != schema.field(name).type:
            column = _cast(column, schema.field(name).type)
        columns[name] = column
    return pa.table(columns) if columns else table


def _cast(column: pa.ChunkedArray, kind: pa.DataType) -> pa.ChunkedArray:
    """A column in another type; as it was, to be compared as texts, where that cannot be."""
    try:
        return column.cast(kind)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        if not pa.types.is_string(column.type) or not (pa.types.is_timestamp(kind) or pa.types.is_date32(kind)):
            return column
    moments = [None if v is None else likeness.moment(v) for v in column.to_pylist()]
    fits = datetime if pa.types.is_timestamp(kind) else date
    held = [m if isinstance(m, fits) and type(m) is fits else None for m in moments]
    return pa.chunked_array([pa.array(held, kind)])
