"""What is known of a layer without its rows: its fields, and facts of it as a whole."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from pathlib import PurePath
from typing import Protocol

import pyarrow as pa

from eskret.core.accounts.account import Remark
from eskret.core.layer.column import GeometryKind
from eskret.core.naming import clean_name


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


class Certainty(StrEnum):
    """How much is known of a count before a run."""

    KNOWN = "known"
    AT_MOST = "at most"
    UNKNOWN = "unknown"


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
    kind: GeometryKind
    crs: str | None
    fields: tuple[Field, ...]
    count: int | None = None
    certainty: Certainty = Certainty.KNOWN
    extent: tuple[float, float, float, float] | None = None
    origin: str = ""
    step: str = ""
    open_key: bool = False
    peek: Callable[[Sequence[str]], pa.Table | None] | None = field(default=None, repr=False, compare=False)
    stale: frozenset[str] = frozenset()
    told: tuple[Remark, ...] = field(default=(), compare=False)
    unnumbered: str = ""
    weight: float = field(default=0.0, compare=False)
    """About how many bytes a feature takes in a file; 0 where nobody has looked."""
    in_chunks: bool = field(default=False, compare=False)
    """Whether a large layer of this kind comes in chunks to whoever can take it so."""

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

    def with_made(self, fields: Sequence[Field], at_end: bool = False) -> LayerFacts:
        """The facts with fields that are made, each in the place of the one of its name, else, or all of them, ``at_end``."""
        made = {f.name: f for f in fields}
        there = [made.get(f.name, f) for f in self.fields if not at_end or f.name not in made]
        known = {f.name for f in there}
        new = [f for f in made.values() if f.name not in known]
        return self.with_fields([*there, *new], made)

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


class HasProvenance(Protocol):
    """What has a line of steps that it came through."""

    @property
    def provenance(self) -> tuple[tuple[str, str], ...]: ...
