"""A layer: a table of attributes with, mostly, one geometry a row. Immutable."""

from __future__ import annotations

import re
from collections.abc import Callable, Generator, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from enum import StrEnum
from fnmatch import fnmatchcase
from pathlib import PurePath
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.account import Remark
from eskret.core.encoded import Encoded
from eskret.core.naming import clean_name
from eskret.core.texts import is_text, is_unicode
from eskret.errors import Code, InputError


class Kind(StrEnum):
    """What a layer draws: points, lines, areas, several of these, or nothing."""

    POINT = "point"
    LINE = "line"
    AREA = "area"
    MIXED = "mixed"
    TABLE = "table"


# shapely's type numbers: 0 point, 1 line, 2 ring, 3 polygon, 4-6 their multiples, 7 collection, -1 none
_KIND_OF_TYPE = {0: Kind.POINT, 4: Kind.POINT, 1: Kind.LINE, 2: Kind.LINE, 5: Kind.LINE, 3: Kind.AREA, 6: Kind.AREA}


def kind_of(geometry: np.ndarray | None) -> Kind:
    """The kind of an array of geometry; nulls do not count, an array of nulls only is MIXED."""
    if geometry is None:
        return Kind.TABLE
    types = np.unique(shapely.get_type_id(geometry))
    kinds = {_KIND_OF_TYPE.get(int(t), Kind.MIXED) for t in types if t >= 0}
    return kinds.pop() if len(kinds) == 1 else Kind.MIXED


def kind_of_types(types: np.ndarray) -> Kind:
    """The kind of shapely's type numbers; of none, MIXED."""
    kinds = {_KIND_OF_TYPE.get(int(t), Kind.MIXED) for t in types}
    return kinds.pop() if len(kinds) == 1 else Kind.MIXED


def type_word(kind: pa.DataType) -> str:
    """The word a person reads for an Arrow type."""
    if pa.types.is_boolean(kind):
        return "yes/no"
    if pa.types.is_integer(kind):
        return "whole number"
    if pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return "number"
    if pa.types.is_timestamp(kind):
        return "date and time"
    if pa.types.is_date(kind):
        return "date"
    if pa.types.is_time(kind):
        return "time"
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind):
        return "bytes"
    if pa.types.is_list(kind) or pa.types.is_large_list(kind):
        return "list"
    return "text"


@dataclass(frozen=True, slots=True)
class Field:
    """A column: its name, Arrow type, and, where known, a title for people and a unit."""

    name: str
    type: pa.DataType
    title: str = ""
    unit: str = ""

    @property
    def word(self) -> str:
        return type_word(self.type)


@dataclass(frozen=True, slots=True)
class LayerFacts:
    """What is known of a layer without reading its rows.

    ``count`` is None where only reading would tell; ``certainty`` says whether the count is
    ``known``, ``at most`` or ``unknown``. ``step`` is the one that made it. ``open_key`` stands for layers whose keys only
    the run will tell. ``peek`` reads some fields of the source the layer comes from; ``stale`` are fields that no longer
    hold what the source has. ``told`` is what there is to say of how the source is read.
    ``unnumbered`` is its key before it was told apart from others that enter the same step.
    """

    key: str
    name: str
    kind: Kind
    crs: str | None
    fields: tuple[Field, ...]
    count: int | None = None
    certainty: str = "known"
    extent: tuple[float, float, float, float] | None = None
    origin: str = ""
    step: str = ""
    open_key: bool = False
    peek: Callable[[Sequence[str]], pa.Table | None] | None = field(default=None, repr=False, compare=False)
    stale: frozenset[str] = frozenset()
    told: tuple[Remark, ...] = field(default=(), compare=False)
    unnumbered: str = ""

    @property
    def own_name(self) -> str:
        """What it is called where it came from, as long as its key says so; else its key."""
        return own_name(self)

    def names(self) -> list[str]:
        return [f.name for f in self.fields]

    def values(self, names: Sequence[str]) -> pa.Table | None:
        """Values of some fields as the source has them now: all that there can be, maybe more; None where only a run
        would tell."""
        if self.peek is None or self.stale & set(names) or any(n not in self.names() for n in names):
            return None
        return self.peek(names)

    def with_fields(self, fields: Iterable[Field], changed: Iterable[str] = ()) -> LayerFacts:
        """The facts with other fields, those ``changed`` with other values than the source has."""
        settled = tuple(fields)
        known = {f.name for f in self.fields}
        new = {f.name for f in settled if f.name not in known}
        return replace(self, fields=settled, stale=self.stale | frozenset(changed) | new)

    def schema(self) -> pa.Schema:
        return pa.schema([pa.field(f.name, f.type) for f in self.fields])


class Called(Protocol):
    """What has a key and a name that it came with."""

    @property
    def key(self) -> str: ...
    @property
    def name(self) -> str: ...
    @property
    def origin(self) -> str: ...


def own_name(layer: Called, key: str = "") -> str:
    """What a layer is called where it came from, as long as its key (or this one) says so; else the key."""
    key = key or layer.key
    for name in (layer.name, PurePath(layer.origin).stem):
        if name and (name == key or clean_name(name) == key):
            return name
    return key


class Lined(Protocol):
    """What has a line of steps that it came through."""

    @property
    def line(self) -> tuple[tuple[str, str], ...]: ...


@dataclass(frozen=True)
class Layer:
    """One layer in memory.

    Parameters
    ----------
    key : what references call it; fixed where it comes in.
    table : attributes, one row a feature.
    geometry : read-only object array of shapely geometry, as long as the table; None for a plain table. Where the layer
        came as ``encoded`` binary, the shapes are made when they are first asked for; ``drawn`` says without asking
        whether there are any.
    crs : an authority code such as ``EPSG:32626``, or WKT; None where unknown or for a table.
    name : what it was called where it came from.
    origin : the file (and layer) it was read from.
    ids : the numbers that the source gives its features (int64), where it gives any; they follow the rows.
    """

    key: str
    table: pa.Table
    # no default on the class: of a layer that came encoded it is missing until ``__getattr__`` makes it
    geometry: np.ndarray | None = field(default_factory=lambda: None)
    crs: str | None = None
    name: str = ""
    origin: str = ""
    titles: Mapping[str, str] = field(default_factory=dict)
    kind: Kind = field(default=Kind.TABLE)
    ids: np.ndarray | None = field(default=None, repr=False)
    encoded: Encoded | None = field(default=None, repr=False)
    unnumbered: str = field(default="", repr=False)
    """Its key before it was told apart from others that enter the same step."""
    line: tuple[tuple[str, str], ...] = field(default=(), repr=False)
    """In a run: the steps it came through, the last one first, with its key at each. Of several layers that became one, the
    first counts."""

    def __post_init__(self) -> None:
        if self.encoded is not None and (self.geometry is None or self.geometry is self.encoded.array):
            if len(self.encoded) != self.table.num_rows:
                raise ValueError(f"{len(self.encoded)} geometries for {self.table.num_rows} rows in layer {self.key!r}")
            object.__delattr__(self, "geometry")
            if self.kind is Kind.TABLE:
                object.__setattr__(self, "kind", kind_of_types(self.encoded.library_types()))
            self._settle()
            return
        object.__setattr__(self, "encoded", None)  # the shapes given are others
        if self.geometry is not None:
            array = np.asarray(self.geometry, dtype=object)
            if len(array) != self.table.num_rows:
                raise ValueError(f"{len(array)} geometries for {self.table.num_rows} rows in layer {self.key!r}")
            if array.flags.writeable:
                array = array.view()
                array.flags.writeable = False
            object.__setattr__(self, "geometry", array)
        if self.geometry is None or self.kind is Kind.TABLE:
            object.__setattr__(self, "kind", kind_of(self.geometry))
        self._settle()

    def __getattr__(self, name: str) -> Any:
        encoded = self.__dict__.get("encoded")
        if name != "geometry" or encoded is None:
            raise AttributeError(name)
        try:
            array = encoded.decode()
        except shapely.errors.ShapelyError as error:
            raise InputError(
                f"a geometry of '{self.key}' is damaged and cannot be read",
                place=self.origin,
                way_out="Open it where it was made and save it again",
            ) from error
        object.__setattr__(self, "geometry", array)
        return array

    @property
    def own_name(self) -> str:
        """What it is called where it came from, as long as its key says so; else its key."""
        return own_name(self)

    @property
    def drawn(self) -> bool:
        """Whether it has geometry."""
        return self.encoded is not None or self.geometry is not None

    def _settle(self) -> None:
        for number, column in enumerate(self.table.schema):
            if is_text(column.type) and not is_unicode(self.table.column(number)):
                raise InputError(
                    f"the field '{column.name}' of '{self.key}' holds bytes that are no UTF-8",
                    place=self.origin,
                    way_out="Decode them first, as with bytes.decode('cp1252')",
                    code=Code.UNDECODABLE,
                )
        if self.ids is not None and len(self.ids) != self.table.num_rows:
            raise ValueError(f"{len(self.ids)} ids for {self.table.num_rows} rows in layer {self.key!r}")
        if not self.name:
            object.__setattr__(self, "name", self.key)

    def __len__(self) -> int:
        return int(self.table.num_rows)

    @property
    def fields(self) -> tuple[Field, ...]:
        return tuple(Field(f.name, f.type, self.titles.get(f.name, "")) for f in self.table.schema)

    def facts(self) -> LayerFacts:
        """The layer's facts, counts and extent known."""
        return LayerFacts(self.key, self.name, self.kind, self.crs, self.fields, len(self), "known", self.extent(), self.origin)

    def extent(self) -> tuple[float, float, float, float] | None:
        """xmin, ymin, xmax, ymax in the layer's CRS; None where nothing is drawn."""
        if not self.drawn or not len(self):
            return None
        bounds = self.encoded.bounds() if self.encoded is not None else None
        if bounds is not None:
            low, high = np.fmin.reduce(bounds[:, :2], axis=0), np.fmax.reduce(bounds[:, 2:], axis=0)
            box = np.concatenate([low, high])
        else:
            box = shapely.total_bounds(self.geometry)
        return None if np.isnan(box).any() else (float(box[0]), float(box[1]), float(box[2]), float(box[3]))

    def take(self, rows: np.ndarray) -> Layer:
        """The rows at these positions (int64), in this order. The kind of the layer is kept."""
        ids = None if self.ids is None else self.ids[rows]
        table = self.table.take(pa.array(rows, pa.int64()))
        if self.encoded is not None and self.encoded.array is None:
            return self._with(table=table, encoded=self.encoded.take(rows), ids=ids)
        geometry = None if self.geometry is None else self.geometry[rows]
        return replace(self, table=table, geometry=geometry, ids=ids)

    def slices(self, order: np.ndarray, starts: np.ndarray) -> list[Layer]:
        """The layer cut into several: the rows at ``order``, from each of ``starts`` to the next."""
        whole = self.take(order)
        out = []
        for a, b in zip(starts[:-1].tolist(), starts[1:].tolist(), strict=True):
            table = whole.table.slice(a, b - a)
            ids = None if whole.ids is None else whole.ids[a:b]
            if whole.encoded is not None and whole.encoded.array is None:
                out.append(whole._with(table=table, encoded=whole.encoded.slice(a, b), ids=ids))
            else:
                geometry = None if whole.geometry is None else whole.geometry[a:b]
                out.append(replace(whole, table=table, geometry=geometry, encoded=None, ids=ids))
        return out

    def shapes(self, rows: np.ndarray) -> np.ndarray:
        """The geometry at these positions, without making that of the others."""
        if self.encoded is not None and self.encoded.array is None:
            return self.encoded.shapes(rows)
        assert self.geometry is not None
        return np.asarray(self.geometry[rows])

    def bounds(self) -> np.ndarray:
        """xmin, ymin, xmax, ymax of each feature (n, 4); NaN for none."""
        found = self.encoded.bounds() if self.encoded is not None and self.encoded.array is None else None
        return found if found is not None else np.asarray(shapely.bounds(self.geometry)).reshape(-1, 4)

    def with_shapes(self, rows: np.ndarray, shapes: np.ndarray) -> Layer:
        """The layer with other shapes for the features at these positions."""
        if not len(rows):
            return self
        if self.encoded is not None and self.encoded.array is None:
            encoded = self.encoded.with_shapes(rows, shapes)
            if encoded is not None:
                return self._with(encoded=encoded)
        assert self.geometry is not None
        geometry = self.geometry.copy()
        geometry[rows] = shapes
        return replace(self, geometry=geometry, encoded=None)

    def with_geometry(self, geometry: np.ndarray | None, kind: Kind = Kind.TABLE, **changes: Any) -> Layer:
        """The layer with other geometry for all features; its kind is found anew where none is given."""
        return replace(self, geometry=geometry, encoded=None, kind=kind, **changes)

    def with_key(self, key: str) -> Layer:
        return self._with(key=key)

    @property
    def step(self) -> str:
        """The step that made it, in a run."""
        return self.line[0][0] if self.line else ""

    def made_by(self, step: str, of: Lined | None = None) -> Layer:
        """The layer as one that this step made, of another one."""
        return self._with(line=((step, self.key), *(of.line if of is not None else ())))

    def renamed(self, key: str, name: str) -> Layer:
        """The layer under another key and name."""
        return self._with(key=key, name=name or key)

    def titled(self, titles: Mapping[str, str]) -> Layer:
        """The layer with these titles of fields."""
        return self._with(titles=dict(titles))

    def with_table(self, table: pa.Table) -> Layer:
        """The layer with other attributes for the same features."""
        return self._with(table=table)

    def _with(self, **changes: Any) -> Layer:
        """As ``replace``, without making shapes that nobody asked for yet. It does not matter whether another thread has made them
        meanwhile: they stand with what is encoded."""
        if changes.get("encoded", self.encoded) is None:
            return replace(self, **changes)
        names = [f.name for f in fields(self) if f.name != "geometry"]
        return Layer(**{n: changes.get(n, getattr(self, n)) for n in names})


class LayerSet(Mapping[str, Layer]):
    """Keyed layers in order; the thing that flows between steps. Immutable."""

    def __init__(self, layers: Iterable[Layer] = ()) -> None:
        self._layers: dict[str, Layer] = {}
        for layer in layers:
            if layer.key in self._layers:
                raise ValueError(f"two layers with the key {layer.key!r}")
            self._layers[layer.key] = layer

    def __getitem__(self, key: str) -> Layer:
        return self._layers[key]

    def __iter__(self) -> Generator[str, None, None]:
        yield from self._layers

    def __len__(self) -> int:
        return len(self._layers)

    def matching(self, pattern: str) -> LayerSet:
        """The layers whose key matches a pattern of ``*`` and ``?``."""
        return LayerSet(layer for key, layer in self._layers.items() if matches(pattern, key))


def matches(pattern: str, key: str) -> bool:
    """Whether a key (case counts) matches a pattern in which only ``*`` and ``?`` are special."""
    return fnmatchcase(key, re.sub(r"\[", "[[]", pattern))
