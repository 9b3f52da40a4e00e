"""A layer: a table of attributes with, mostly, one geometry a row. Immutable."""

from __future__ import annotations

import re
from collections.abc import Generator, Iterable, Mapping
from dataclasses import dataclass, field, replace
from enum import Enum
from fnmatch import fnmatchcase
from itertools import pairwise
from typing import Any

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.layer.column import GeometryColumn, GeometryKind
from eskret.core.layer.schema import Certainty, Field, HasProvenance, LayerFacts, own_name
from eskret.core.layer.wkb import WkbArray
from eskret.core.texts import is_text, is_unicode
from eskret.errors import Code, InputError


class _Unchanged(Enum):
    """Stands for geometry that is not given, where None means a plain table."""

    UNCHANGED = 0


_UNCHANGED = _Unchanged.UNCHANGED


@dataclass(frozen=True, init=False, eq=False, repr=False)
class Layer:
    """One layer in memory.

    Parameters
    ----------
    key : what references call it; fixed where it comes in.
    table : attributes, one row a feature.
    geometry : shapely geometry or binary of it (``WkbArray``), as long as the table; None for a plain table.
    crs : an authority code such as ``EPSG:32626``, or WKT; None where unknown or for a table.
    name : what it was called where it came from.
    origin : the file (and layer) it was read from.
    column : the geometry as a column that another layer has already; instead of ``geometry``.
    ids : the numbers that the source gives its features (int64), where it gives any; they follow the rows.
    """

    key: str
    table: pa.Table
    column: GeometryColumn | None
    """The geometry as a column, whose shapes are made when they are first asked for; None for a plain table."""
    crs: str | None
    name: str
    origin: str
    titles: Mapping[str, str]
    kind: GeometryKind
    ids: np.ndarray | None = field(repr=False)
    unnumbered: str = field(repr=False)
    """Its key before it was told apart from others that enter the same step."""
    provenance: tuple[tuple[str, str], ...] = field(repr=False)
    """In a run: the steps it came through, the last one first, with its key at each. Of several layers that became one, the
    first counts."""

    def __init__(
        self,
        key: str,
        table: pa.Table,
        geometry: np.ndarray | WkbArray | _Unchanged | None = _UNCHANGED,
        crs: str | None = None,
        name: str = "",
        origin: str = "",
        titles: Mapping[str, str] | None = None,
        kind: GeometryKind = GeometryKind.TABLE,
        ids: np.ndarray | None = None,
        column: GeometryColumn | None = None,
        unnumbered: str = "",
        provenance: tuple[tuple[str, str], ...] = (),
    ) -> None:
        if not isinstance(geometry, _Unchanged):
            column = None if geometry is None else GeometryColumn(geometry)
        if column is not None and len(column) != table.num_rows:
            raise ValueError(f"{len(column)} geometries for {table.num_rows} rows in layer {key!r}")
        if ids is not None and len(ids) != table.num_rows:
            raise ValueError(f"{len(ids)} ids for {table.num_rows} rows in layer {key!r}")
        if column is None or kind is GeometryKind.TABLE:
            kind = GeometryKind.TABLE if column is None else column.kind()
        _check_texts(key, table, origin)
        settled = {
            "key": key,
            "table": table,
            "column": column,
            "crs": crs,
            "name": name or key,
            "origin": origin,
            "titles": titles or {},
            "kind": kind,
            "ids": ids,
            "unnumbered": unnumbered,
            "provenance": provenance,
        }
        for attribute, value in settled.items():
            object.__setattr__(self, attribute, value)

    @property
    def geometry(self) -> np.ndarray | None:
        """Shapely geometry of each feature (n, read-only); None for a plain table.

        Raises
        ------
        InputError : a shape is damaged.
        """
        if self.column is None:
            return None
        try:
            return self.column.array
        except shapely.errors.ShapelyError as error:
            raise InputError(
                f"a geometry of '{self.key}' is damaged and cannot be read",
                place=self.origin,
                way_out="Open it where it was made and save it again",
            ) from error

    @property
    def wkb(self) -> WkbArray | None:
        """The geometry as binary, where it came as that."""
        return None if self.column is None else self.column.wkb

    @property
    def undecoded(self) -> WkbArray | None:
        """The geometry as binary, as long as nobody asked for its shapes."""
        return None if self.column is None else self.column.undecoded

    @property
    def own_name(self) -> str:
        """What it is called where it came from, as long as its key says so; else its key."""
        return own_name(self)

    @property
    def has_geometry(self) -> bool:
        """Whether it has geometry."""
        return self.column is not None

    def __len__(self) -> int:
        return int(self.table.num_rows)

    @property
    def fields(self) -> tuple[Field, ...]:
        return tuple(Field(f.name, f.type, self.titles.get(f.name, "")) for f in self.table.schema)

    @property
    def field_names(self) -> list[str]:
        return list(self.table.column_names)

    def to_geopandas(self) -> Any:
        """A copy as a GeoDataFrame (a DataFrame for a plain table), Arrow types kept."""
        from eskret.core.layer.frames import to_frame

        return to_frame(self)

    def __repr__(self) -> str:
        from eskret.core.layer.shown import headline

        return f"<Layer {headline(self)}; {len(self.fields)} fields>"

    def _repr_html_(self) -> str:
        from eskret.core.layer.shown import layer_html

        return layer_html(self)

    def facts(self) -> LayerFacts:
        """The layer's facts, counts and extent known."""
        return LayerFacts(self.key, self.name, self.kind, self.crs, self.fields, len(self), Certainty.KNOWN, self.extent(), self.origin)

    def extent(self) -> tuple[float, float, float, float] | None:
        """xmin, ymin, xmax, ymax in the layer's CRS; None where nothing is drawn."""
        if self.column is None or not len(self):
            return None
        box = self.column.total_bounds()
        return None if np.isnan(box).any() else (float(box[0]), float(box[1]), float(box[2]), float(box[3]))

    def take(self, rows: np.ndarray) -> Layer:
        """The rows at these positions (int64), in this order. The kind of the layer is kept."""
        return replace(
            self,
            table=self.table.take(pa.array(rows, pa.int64())),
            column=None if self.column is None else self.column.take(rows),
            ids=None if self.ids is None else self.ids[rows],
        )

    def slices(self, order: np.ndarray, starts: np.ndarray) -> list[Layer]:
        """The layer cut into several: the rows at ``order``, from each of ``starts`` to the next."""
        whole = self.take(order)
        return [whole.slice(a, b) for a, b in pairwise(starts.tolist())]

    def slice(self, start: int, stop: int) -> Layer:
        """The rows from one position to another."""
        return replace(
            self,
            table=self.table.slice(start, stop - start),
            column=None if self.column is None else self.column.slice(start, stop),
            ids=None if self.ids is None else self.ids[start:stop],
        )

    def shapes(self, rows: np.ndarray) -> np.ndarray:
        """The geometry at these positions, without making that of the others."""
        assert self.column is not None
        return self.column.at(rows)

    def bounds(self) -> np.ndarray:
        """xmin, ymin, xmax, ymax of each feature (n, 4); NaN for none."""
        assert self.column is not None
        return self.column.bounds()

    def with_shapes(self, rows: np.ndarray, shapes: np.ndarray) -> Layer:
        """The layer with other shapes for the features at these positions."""
        assert self.column is not None
        return replace(self, column=self.column.with_shapes(rows, shapes)) if len(rows) else self

    def with_geometry(self, geometry: np.ndarray | None, kind: GeometryKind = GeometryKind.TABLE, **changes: Any) -> Layer:
        """The layer with other geometry for all features; its kind is found anew where none is given."""
        column = None if geometry is None else GeometryColumn(geometry)
        if self.undecoded is None and self.column is not None and geometry is self.column.array:
            column = self.column
        return replace(self, column=column, kind=kind, **changes)

    def with_key(self, key: str) -> Layer:
        return replace(self, key=key)

    @property
    def step(self) -> str:
        """The step that made it, in a run."""
        return self.provenance[0][0] if self.provenance else ""

    def with_provenance(self, step: str, of: HasProvenance | None = None) -> Layer:
        """The layer as one that this step made, of another one."""
        return replace(self, provenance=((step, self.key), *(of.provenance if of is not None else ())))

    def renamed(self, key: str, name: str) -> Layer:
        """The layer under another key and name."""
        return replace(self, key=key, name=name or key)

    def titled(self, titles: Mapping[str, str]) -> Layer:
        """The layer with these titles of fields."""
        return replace(self, titles=dict(titles))

    def with_table(self, table: pa.Table) -> Layer:
        """The layer with other attributes for the same features."""
        return replace(self, table=table)


def _check_texts(key: str, table: pa.Table, origin: str) -> None:
    for number, column in enumerate(table.schema):
        if is_text(column.type) and not is_unicode(table.column(number)):
            raise InputError(
                f"the field '{column.name}' of '{key}' holds bytes that are no UTF-8",
                place=origin,
                way_out="Decode them first, as with bytes.decode('cp1252')",
                code=Code.UNDECODABLE,
            )


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
