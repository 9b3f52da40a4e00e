"""What a format of files is: how layers come out of it and go into it, what it can hold, and what of a layer it cannot."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import ClassVar, NamedTuple

import numpy as np
import pyarrow as pa

from eskret.core.accounts.account import Remark
from eskret.core.crs import Extent
from eskret.core.layer import ChunkedLayer, Field, GeometryKind, Layer, LayerFacts
from eskret.core.naming import LIMIT
from eskret.errors import DeliveryError
from eskret.formats import fitting, holding, vector
from eskret.formats.fitting import Bounds, Choices
from eskret.formats.holding import Holds
from eskret.formats.reading import AS_DECLARED, Reading, Texts, Watch, no_watch

CRS84 = "OGC:CRS84"


class Capacity(StrEnum):
    """How many layers a file holds: one alone, all of a step at once, or more at any time, by name."""

    ONE = "one"
    SET = "set"
    ANY = "any"


@dataclass(frozen=True)
class Writing:
    """How a file is to be written. ``words`` are title, description and licence."""

    decimals: int | None = None
    indent: bool = False
    crs: str = CRS84
    words: Mapping[str, str] = field(default_factory=dict)
    name: str = ""
    """How the layer is called in the file."""


@dataclass(frozen=True)
class Coming:
    """A layer that is written as it comes: its chunks, what is known of all of them, and what ``Format.looks_first`` found."""

    chunks: Generator[Layer, None, None]
    like: ChunkedLayer
    looked: np.ndarray


@dataclass(frozen=True)
class Put:
    """What came of writing: features found in the file, rows of the layers that have no place there, how many were cut."""

    found: int
    lost: Sequence[object] = ()
    cut: int = 0
    sha256: str = ""


Pairs = Sequence[tuple[Layer, str]]
"""Layers with the names that they get in a file."""


class Reader(NamedTuple):
    """What reads files of a format: names of layers, facts of one, and one whole."""

    layer_names: Callable[[Path], Sequence[str]]
    facts: Callable[[Path, str, str, Texts], LayerFacts]
    read: Callable[[Path, str, str, Texts, Watch], Reading]


BY_LIBRARY = Reader(vector.layer_names, vector.facts, vector.read)


class Format:
    """A format of files. One object a format; a subclass says what is special about it."""

    title: ClassVar[str]
    read_endings: ClassVar[Mapping[str, str]] = {}
    """Endings of files that are read, with what such a file is called."""
    written_endings: ClassVar[tuple[str, ...]] = ()
    reads_with: ClassVar[Reader] = BY_LIBRARY

    capacity: ClassVar[Capacity] = Capacity.ONE
    sections: ClassVar[bool] = False
    """Whether layers can be kept in sections, and fields have titles beside their names."""
    changes: ClassVar[bool] = False
    """Whether what is saved can be appended to and brought up to date."""
    crs: ClassVar[str] = ""
    """The one that it is always in."""
    native: ClassVar[bool] = False
    """Whether it can be in another than that all the same; its writer brings shapes there itself."""
    tables: ClassVar[bool] = True
    kinds: ClassVar[frozenset[GeometryKind]] = frozenset(GeometryKind)
    """What may be drawn in it; all of them where shapes are columns."""
    says_extent: ClassVar[bool] = False
    """Whether a file says at its end where all of it lies, which of chunks that are brought elsewhere is not known."""
    rounds: ClassVar[bool] = False
    """Whether coordinates are rounded to decimals."""
    words: ClassVar[frozenset[str]] = frozenset()
    """What it can say of a dataset: title, description, licence."""
    companions: ClassVar[tuple[str, ...]] = ()
    """Endings of files that belong to the one named."""
    left_over: ClassVar[tuple[str, ...]] = ()
    """Endings of files that would lie about a new one: indexes of what was there before."""
    name_limit: ClassVar[int] = LIMIT
    typed_limit: ClassVar[int] = 250
    """How long a name of a layer may be that is not tidied."""
    barred: ClassVar[str] = ""
    """Signs that no name of a layer may hold."""
    bounds: ClassVar[Bounds | None] = None
    values: ClassVar[Holds] = Holds("")

    @property
    def ending(self) -> str:
        """The ending that its files usually have."""
        return self.written_endings[0]

    @property
    def many(self) -> bool:
        """Whether layers are known by name in the file from run to run."""
        return self.capacity is Capacity.ANY

    # -- out of files

    def layer_names(self, path: Path) -> list[str]:
        """Names of the layers in a file."""
        return list(self.reads_with.layer_names(path))

    def facts(self, path: Path, name: str, key: str, texts: Texts = AS_DECLARED) -> LayerFacts:
        """Facts of one layer, under a key."""
        return self.reads_with.facts(path, name, key, texts)

    def read(self, path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch) -> Reading:
        """Read one layer under a key."""
        return self.reads_with.read(path, name, key, texts, watch)

    def read_in(self, box: Extent, path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch) -> Reading:
        """Read one layer under a key; what cannot meet a box may be left out, where the file's own index tells that."""
        if self.reads_with is BY_LIBRARY:
            return vector.read(path, name, key, texts, watch, box)
        return self.read(path, name, key, texts, watch)

    def chunks(
        self,
        path: Path,
        name: str,
        key: str,
        texts: Texts = AS_DECLARED,
        watch: Watch = no_watch,
        least: int = 0,
        box: Extent | None = None,
    ) -> Generator[Reading, None, None] | None:
        """Read one layer under a key, so many records at a time; None where it has no more than ``least``, or is read whole alone.
        ``box`` as ``read_in`` has it."""
        return vector.chunks(path, name, key, texts, watch, least, box) if self.reads_with is BY_LIBRARY else None

    def reads_chunks(self, path: Path) -> bool:
        """Whether a large layer of it can be read so."""
        return self.reads_with is BY_LIBRARY and path.suffix.lower() in vector.IN_CHUNKS

    def weight(self, path: Path, name: str, count: int) -> float:
        """About how many bytes each of so many features takes in the file; 0 where that cannot be told."""
        if self.many:
            return 0.0
        return sum(p.stat().st_size for p in {path, *(path.with_suffix(e) for e in self.companions)} if p.is_file()) / count

    def columns(self, path: Path, name: str, fields: Sequence[str], texts: Texts = AS_DECLARED) -> pa.Table | None:
        """Some fields of a layer, all rows, without its geometry; None where it has no such field."""
        if self.reads_with is BY_LIBRARY:
            return vector.columns(path, name, fields, texts)
        table = self.read(path, name, name, texts).layer.table
        return table.select(list(fields)) if all(f in table.column_names for f in fields) else None

    # -- into files

    def losses(self, fields: Sequence[Field], choices: Choices | None = None, kind: GeometryKind = GeometryKind.TABLE) -> list[str]:
        """What it cannot hold of these fields, in sentences; empty where nothing is lost."""
        return [
            *self.field_losses(fields, choices or Choices(), kind),
            *holding.forecast_values(fields, kind is not GeometryKind.TABLE, self.values),
        ]

    def field_losses(self, fields: Sequence[Field], choices: Choices, kind: GeometryKind) -> list[str]:
        """What becomes of fields because of their names, types and number."""
        return fitting.forecast_fit(fields, self.bounds, choices) if self.bounds is not None else []

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        """Write layers to a new file.

        Raises
        ------
        DeliveryError : it cannot hold them.
        """
        raise NotImplementedError

    def takes_chunks(self, layer: ChunkedLayer) -> bool:
        """Whether a layer that lies on disk in chunks can be written as it comes."""
        return False

    def looks_first(self, chunks: Iterable[Layer], like: ChunkedLayer, how: Writing, watch: Watch = no_watch) -> np.ndarray | None:
        """What must be known of all rows before the first of them is written; None where that is to be done whole after all."""
        return np.empty(0)

    def write_chunks(self, path: Path, coming: Coming, how: Writing, watch: Watch = no_watch) -> Put:
        """Write one layer to a new file, some rows at a time."""
        raise NotImplementedError

    def count(self, path: Path) -> int:
        """Features in a file, as another reader than its writer finds them."""
        raise NotImplementedError

    def as_stored(self, layer: Layer) -> Layer:
        """The layer as reading it again gives it, where shapes become something else."""
        return layer

    def write_one(self, path: Path, layer: Layer, name: str, watch: Watch = no_watch) -> tuple[Remark, ...]:
        """Write a layer to a file of its own, or as a new layer of one that holds many, as usual for the format; gives what had to
        give way.

        Raises
        ------
        DeliveryError : the format cannot hold it, or not all of its rows; nothing is written.
        """
        settled = holding.settle(layer, self.values)
        if settled.aside:
            reason, rows = settled.aside[0]
            raise DeliveryError(
                f"{len(rows):,} of {len(layer):,} rows cannot be written: {reason}", place=str(path), way_out="Take them out first"
            )
        fitted = fitting.Fitted(settled.layer)
        if self.bounds is not None:
            fitted = fitting.fit(settled.layer, self.bounds, Choices())
        self.write(path, [(fitted.layer, name)], Writing(), watch)
        return (*settled.remarks, *fitted.remarks)
