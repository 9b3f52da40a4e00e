"""A step done once a layer, once a value or once a row: what its rounds are, from facts or from layers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import pyarrow as pa

from eskret.core.layer import LayerFacts, matches
from eskret.core.naming import clean_name, number_collisions
from eskret.errors import DocumentError
from eskret.workflow.cache.cached_layer import LayerHandle, materialise

KINDS = ("layers", "values", "rows")
_KNOWN = {"layers": ("layers", "as", "go_on"), "values": ("values", "field", "as", "go_on"), "rows": ("rows", "go_on")}


@dataclass(frozen=True)
class ForEach:
    """What a step is done once for.

    ``layers``: once a layer of ``of``, and ``$as`` is a reference to it. ``values``: once a value of ``field`` in the layers
    of ``of``, and ``$as`` is the value. ``rows``: once a row of a table, and every field is a ``$name``. With ``go_on`` a round
    that fails is told and the others go on.
    """

    kind: str
    of: str
    field: str = ""
    name: str = ""
    go_on: bool = False

    def to_table(self) -> dict[str, object]:
        out: dict[str, Any] = {self.kind: self.of}
        if self.field:
            out["field"] = self.field
        if self.name and self.name != self.field:
            out["as"] = self.name
        if self.go_on:
            out["go_on"] = True
        return out

    def words(self) -> str:
        """As the sentence of a step ends: ``for each name of districts``."""
        layer = self.of.partition(":")[2] or self.of
        if self.kind == "values":
            return f"for each {self.field} of {layer}"
        return f"for each row of {layer}" if self.kind == "rows" else f"for each layer of {layer}"


@dataclass(frozen=True)
class Iteration:
    """One of a step's rounds: what tells it from the others, and the values it adds to those of the parameters."""

    label: str
    values: Mapping[str, Any]

    def key(self, key: str) -> str:
        """The key of a layer in this round."""
        return f"{key}_{self.label}"


def each_of(table: Any, place: str) -> ForEach:
    """What the file says under ``each``.

    Raises
    ------
    DocumentError : naming what is wrong with it.
    """
    shape = 'Write each = { values = "step:layer", field = "name" }, { rows = "step:table" } or { layers = "step:*", as = "beds" }'
    kinds = [k for k in KINDS if isinstance(table, dict) and k in table]
    if len(kinds) != 1:
        raise DocumentError("'each' must say layers, values or rows", place=place, way_out=shape)
    kind = kinds[0]
    texts = {k: table.get(k, "") for k in (kind, "field", "as")}
    if not all(isinstance(v, str) for v in texts.values()) or not isinstance(table.get("go_on", False), bool):
        raise DocumentError("'each' is told by texts, and 'go_on' by true or false", place=place, way_out=shape)
    for key in table:
        if key not in _KNOWN[kind]:
            raise DocumentError(f"'each' with '{kind}' knows no '{key}'", place=place, way_out=f"Known: {', '.join(_KNOWN[kind])}")
    if kind == "values" and not texts["field"]:
        raise DocumentError("'each' with 'values' must name a field", place=place, way_out=shape)
    name = texts["as"] or texts["field"]
    if kind == "layers" and not name:
        raise DocumentError("'each' with 'layers' must say what a layer is called, with 'as'", place=place, way_out=shape)
    if name and clean_name(name, keep_case=True) != name:
        raise DocumentError(
            f"'{name}' cannot be called in a setting",
            place=place,
            way_out="Give it a name of letters, digits and single underscores with 'as'",
        )
    return ForEach(kind, texts[kind], texts["field"], name, table.get("go_on", False))


def rounds_of(each: ForEach, made: Mapping[str, Sequence[LayerHandle]]) -> list[Iteration]:
    """The rounds, from the layers as they are.

    Raises
    ------
    DocumentError : the layer or the field is not there.
    """
    step, _, pattern = each.of.partition(":")
    layers = [x for x in made.get(step, ()) if matches(pattern or "*", x.key)]
    if each.kind == "layers":
        return _by_layers(each, step, [x.key for x in layers])
    return _by_tables(each, [(x.key, materialise(x).table) for x in layers])


def foretold_rounds(each: ForEach, made: Mapping[str, Sequence[LayerFacts]]) -> list[Iteration] | None:
    """The rounds, from what a rehearsal knows; None where only a run would tell.

    Raises
    ------
    DocumentError : the layer or the field is not there.
    """
    step, _, pattern = each.of.partition(":")
    layers = [x for x in made.get(step, ()) if matches(pattern or "*", x.key)]
    if any(x.open_key for x in made.get(step, ())):
        return None
    if each.kind == "layers":
        return _by_layers(each, step, [x.key for x in layers])
    tables = []
    for facts in layers:
        names = [each.field] if each.kind == "values" else facts.names()
        missing = [n for n in names if n not in facts.names()]
        table = None if missing else facts.values(names)
        if missing:
            raise _no_field(each, facts.key, facts.names())
        if table is None or (each.kind == "rows" and facts.count != table.num_rows):
            return None
        tables.append((facts.key, table))
    return _by_tables(each, tables)


def _by_layers(each: ForEach, step: str, keys: Sequence[str]) -> list[Iteration]:
    if not keys:
        raise _nothing(each)
    return [Iteration(key, {each.name: f"{step}:{key}"}) for key in keys]


def _by_tables(each: ForEach, tables: Sequence[tuple[str, pa.Table]]) -> list[Iteration]:
    rows: list[dict[str, Any]] = []
    for key, table in tables:
        if each.kind == "rows":
            rows += [{clean_name(n, keep_case=True): v for n, v in row.items()} for row in table.to_pylist()]
        elif each.field not in table.column_names:
            raise _no_field(each, key, table.column_names)
        else:
            rows += [{each.name: v} for v in table.column(each.field).to_pylist()]
    if each.kind == "values":
        once = dict.fromkeys(r[each.name] for r in rows if r[each.name] is not None and r[each.name] != "")
        rows = [{each.name: v} for v in sorted(once, key=lambda v: (isinstance(v, str), v))]
    if not rows:
        raise _nothing(each)
    return labelled(rows)


def labelled(rows: Sequence[Mapping[str, object]]) -> list[Iteration]:
    """Rounds of rows of values, each called after its first value, by the naming rule."""
    names = [clean_name(str(next(iter(r.values()), ""))) or f"round_{n}" for n, r in enumerate(rows, 1)]
    return [Iteration(n, r) for n, r in zip(number_collisions(names), rows, strict=True)]


def _no_field(each: ForEach, key: str, names: Sequence[str]) -> DocumentError:
    return DocumentError(f"{key} has no field '{each.field}' to be done once for", way_out=f"It has {', '.join(names)}")


def _nothing(each: ForEach) -> DocumentError:
    return DocumentError(f"'{each.of}' names nothing to be done once for", way_out="Name a layer that is there")


def renamed(facts: Sequence[LayerFacts], one: Iteration) -> list[LayerFacts]:
    """Layers under the keys they have in a round."""
    return [replace(f, key=one.key(f.key)) for f in facts]
