"""Layers that lie on disk: written as Arrow, mapped into memory when somebody asks for their rows."""

from __future__ import annotations

import os
import shutil
import threading
import weakref
from collections.abc import Generator, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.files.arrays import read_arrays, write_arrays
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts, own_name
from eskret.core.layer.chunks import together
from eskret.core.layer.wkb import WkbArray

TABLE, SHAPES, TYPES, IDS = "table.arrow", "shapes.arrow", "types.arrays", "ids.arrays"
NUMBERS = "numbers.arrow"
"""What ``IDS`` is for a layer that was written in chunks."""


@dataclass(frozen=True)
class CachedLayer:
    """A layer of which only the facts are in memory. ``mark`` says which content it is: equal marks, equal content."""

    key: str
    rows: int
    home: Path
    mark: str
    crs: str | None = None
    name: str = ""
    origin: str = ""
    titles: Mapping[str, str] = field(default_factory=dict)
    kind: GeometryKind = GeometryKind.TABLE
    has_geometry: bool = False
    numbered: bool = False
    provenance: tuple[tuple[str, str], ...] = ()
    unnumbered: str = ""
    chunked: bool = False
    """Whether it lies there in chunks, to be read so: it may be too large to be held whole. What stands below is told of it then."""
    extent: tuple[float, float, float, float] | None = None
    types: frozenset[int] = frozenset()
    has_z: bool = False
    spilled: bool = False
    """Whether it was put there for want of memory: it is in memory only for as long as somebody uses it, as one in chunks is."""
    _loaded: list[Layer] = field(default_factory=list, init=False, repr=False, compare=False)
    _in_use: list[weakref.ref[Layer]] = field(default_factory=list, init=False, repr=False, compare=False)
    _lock: threading.Lock = field(default_factory=threading.Lock, init=False, repr=False, compare=False)

    @classmethod
    def from_facts(cls, facts: Mapping[str, Any], home: Path, mark: str = "") -> CachedLayer:
        """The layer of which ``facts_of`` gave the facts, also as a file kept them."""
        told = {**facts, "kind": GeometryKind(facts["kind"]), "has_geometry": facts["drawn"], "home": home}
        del told["drawn"]
        if told.get("chunked"):
            told |= {"types": frozenset(told["types"]), "extent": tuple(told["extent"]) if told["extent"] else None}
        return cls(**({**told, "mark": mark} if mark else told))

    def __len__(self) -> int:
        return self.rows

    @property
    def own_name(self) -> str:
        """As a layer has it."""
        return own_name(self)

    @property
    def step(self) -> str:
        """The step that made it, in a run."""
        return self.provenance[0][0] if self.provenance else ""

    def with_key(self, key: str) -> CachedLayer:
        return replace(self, key=key)

    def with_provenance(self, step: str, of: Layer | CachedLayer | None = None) -> CachedLayer:
        """The layer as one that this step made, of another one."""
        return replace(self, provenance=((step, self.key), *(of.provenance if of is not None else ())))

    def facts(self) -> LayerFacts:
        """The layer's facts, counts and extent known."""
        if not self.chunked:
            return self.load().facts()
        fields = tuple(Field(f.name, f.type, self.titles.get(f.name, "")) for f in self._schema())
        return LayerFacts(self.key, self.name, self.kind, self.crs, fields, self.rows, Certainty.KNOWN, self.extent, self.origin)

    @property
    def field_names(self) -> list[str]:
        return list(self._schema().names)

    def _schema(self) -> pa.Schema:
        with pa.OSFile(str(self.home / TABLE)) as source:
            return pa.ipc.open_file(source).schema

    def chunks(self) -> Generator[Layer, None, None]:
        """Its rows, so many at a time, at least one chunk; read, and not mapped: what was looked at stays nowhere."""
        if not self.rows or not self.chunked:
            yield self.load()
            return
        files = [TABLE, *([SHAPES] if self.has_geometry else []), *([NUMBERS] if self.numbered else [])]
        for table, *others in together(*(_batches(self.home / name) for name in files)):
            shapes = pa.chunked_array([others.pop(0).column(0)]) if self.has_geometry else None
            ids = others.pop(0).column(0).to_numpy() if self.numbered else None
            yield self._layer(pa.Table.from_batches([table]), shapes, ids)

    def columns(self, names: Sequence[str]) -> pa.Table:
        """Some of its fields, of all rows: mapped, and so read only where somebody looks."""
        return _read(self.home / TABLE).select(list(names))

    def of_fields(self, names: Sequence[str]) -> Layer:
        """Its rows with some of its fields, and without their shapes, mapped as ``columns`` are."""
        table = self.columns(names)
        titles = {n: t for n, t in self.titles.items() if n in names}
        return replace(self, titles=titles, kind=GeometryKind.TABLE)._layer(table, None, None)

    def load(self) -> Layer:
        """The layer with its rows: always the same one, for as long as this is there. Kernels know by that what they have
        prepared already. A large one is there only for as long as somebody uses it."""
        with self._lock:
            if self._loaded:
                return self._loaded[0]
            layer = self._in_use[0]() if self._in_use else None
            if layer is None:
                layer = self._load()
                if self.chunked or self.spilled:
                    self._in_use[:] = [weakref.ref(layer)]
                else:
                    self._loaded.append(layer)
            return layer

    def moved(self, home: Path, mark: str) -> CachedLayer:
        """The same as it lies elsewhere; what lay where it was written first is taken away, where that is another place."""
        if home != self.home:
            shutil.rmtree(self.home, ignore_errors=True)
        return replace(self, home=home, mark=mark)

    @property
    def bytes(self) -> int:
        """What it takes on disk."""
        return sum(p.stat().st_size for p in self.home.iterdir())

    def release(self) -> CachedLayer:
        """The same without its rows, for whoever needs only the facts from here on."""
        return replace(self)

    def _load(self) -> Layer:
        column = _read(self.home / SHAPES).column("shape") if self.has_geometry else None
        types = read_arrays(self.home / TYPES)[0] if (self.home / TYPES).exists() else None
        ids = None
        if self.numbered and self.chunked:
            ids = _read(self.home / NUMBERS).column(0).to_numpy()
        elif self.numbered:
            ids = read_arrays(self.home / IDS)[0]
        layer = self._layer(_read(self.home / TABLE), column, ids, types)
        if self.mark:
            note(layer, self.mark, self.home)
        return layer

    def _layer(self, table: pa.Table, shapes: pa.ChunkedArray | None, ids: np.ndarray | None, types: np.ndarray | None = None) -> Layer:
        shape: dict[str, Any] = {}
        if shapes is not None:
            binary = WkbArray.from_arrow(shapes) if types is None else WkbArray(shapes, types)
            shape["geometry"] = binary if binary is not None else shapely.from_wkb(np.asarray(shapes.to_pylist(), object))
        return Layer(
            self.key,
            table,
            crs=self.crs,
            name=self.name,
            origin=self.origin,
            titles=dict(self.titles),
            kind=self.kind,
            ids=ids,
            provenance=self.provenance,
            unnumbered=self.unnumbered,
            **shape,
        )


LayerHandle = Layer | CachedLayer
"""What passes from step to step: a layer in memory, or one that was kept and is read when it is needed."""


def materialise(layer: LayerHandle) -> Layer:
    """The layer with its rows."""
    return layer.load() if isinstance(layer, CachedLayer) else layer


def on_disk(layer: LayerHandle) -> CachedLayer | None:
    """The layer as one of which only the facts are in memory; None where its rows do not lie on disk."""
    if isinstance(layer, CachedLayer):
        return layer.release()
    home, mark = home_of(layer), mark_of(layer)
    if home is None or mark is None:
        return None
    return CachedLayer(
        layer.key,
        len(layer),
        home,
        mark,
        layer.crs,
        layer.name,
        layer.origin,
        dict(layer.titles),
        layer.kind,
        layer.has_geometry,
        layer.ids is not None,
        layer.provenance,
        layer.unnumbered,
    )


_ONCE_MADE = 4


def weight_of(layer: LayerHandle) -> int:
    """About how many bytes a layer takes with its shapes made, which take several times what their binary does."""
    if isinstance(layer, CachedLayer):
        return _ONCE_MADE * layer.bytes
    if layer.column is None:
        return int(layer.table.nbytes)
    binary = layer.undecoded
    # of what had to be made already, about what its corners take
    shapes = binary.column.nbytes if binary is not None else 16 * int(shapely.get_num_coordinates(layer.column.array).sum())
    return int(layer.table.nbytes + _ONCE_MADE * shapes)


def spill(layer: Layer, place: Path | None) -> LayerHandle:
    """A layer in memory as one on disk, to be let go of: where it lies already, or in a new folder; as it is where there is none."""
    kept = on_disk(layer)
    if kept is None and place is not None:
        try:
            kept = CachedLayer.from_facts({**write(layer, place, []), "mark": mark_of(layer) or ""}, place)
        except OSError:
            return layer
        kept = replace(kept, provenance=layer.provenance, unnumbered=layer.unnumbered)
    return layer if kept is None else replace(kept, spilled=True)


# -- which content a layer in memory is

_guard = threading.RLock()
_noted: dict[tuple[int, int, int], tuple[tuple[weakref.ref[Any], ...], str, Path | None]] = {}


def _place(layer: Layer) -> tuple[int, int, int]:
    shapes = layer.column
    return id(layer.table), 0 if shapes is None else id(shapes), 0 if layer.ids is None else id(layer.ids)


def note(layer: Layer, mark: str, home: Path | None = None) -> None:
    """Remember which content the rows of this layer are, as long as they are in memory."""
    place = _place(layer)
    with _guard:
        table = weakref.ref(layer.table, lambda _: _noted.pop(place, None))
        others = (weakref.ref(x) for x in (layer.column, layer.ids) if x is not None)
        _noted[place] = ((table, *others), mark, home)


def mark_of(layer: LayerHandle) -> str | None:
    """Which content a layer is; None where nobody knows, as of one that was made by hand."""
    if isinstance(layer, CachedLayer):
        return layer.mark or None
    found = _found(layer)
    return None if found is None else found[0]


def home_of(layer: LayerHandle) -> Path | None:
    """Where the rows of a layer lie on disk, where they do."""
    if isinstance(layer, CachedLayer):
        return layer.home
    found = _found(layer)
    return None if found is None else found[1]


def _found(layer: Layer) -> tuple[str, Path | None] | None:
    with _guard:
        found = _noted.get(_place(layer))
    if found is None:
        return None
    # another thing may have come to the place of one that is gone
    mine = [x for x in (layer.table, layer.column, layer.ids) if x is not None]
    same = len(mine) == len(found[0]) and all(ref() is x for ref, x in zip(found[0], mine, strict=True))
    return found[1:] if same else None


# -- rows on disk


def _read(path: Path) -> pa.Table:
    with pa.memory_map(str(path)) as source:
        return pa.ipc.open_file(source).read_all()


def _batches(path: Path) -> Generator[pa.RecordBatch, None, None]:
    with pa.OSFile(str(path)) as source, pa.ipc.open_file(source) as reader:
        for number in range(reader.num_record_batches):
            yield reader.get_batch(number)


def _write_table(table: pa.Table, path: Path) -> None:
    with pa.OSFile(str(path), "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
        writer.write_table(table)


def write(given: LayerHandle, home: Path, others: Iterable[LayerHandle]) -> dict[str, object]:
    """Write a layer's rows into a new folder; what it shares with one of the others is not written again.

    Returns
    -------
    dict : see ``facts_of``.
    """
    if isinstance(given, CachedLayer) and link_rows(given.home, home):
        return facts_of(given)
    layer = materialise(given)
    home.mkdir(parents=True, exist_ok=True)
    shapes = layer.column
    like = [(o, h) for o in others if isinstance(o, Layer) and (h := home_of(o)) is not None]
    same = next((h for o, h in like if o.table is layer.table), None)
    if same is None or not link(same / TABLE, home / TABLE):
        _write_table(layer.table, home / TABLE)
    if shapes is not None:
        same = next((h for o, h in like if o.column is shapes), None)
        if same is None or not link(same / SHAPES, home / SHAPES):
            _write_table(pa.table({"shape": shapes.binary()}), home / SHAPES)
        if layer.wkb is not None:
            write_arrays(home / TYPES, [layer.wkb.types])
    if layer.ids is not None:
        write_arrays(home / IDS, [layer.ids])
    return facts_of(layer)


def facts_of(layer: LayerHandle) -> dict[str, object]:
    """The facts to make a ``CachedLayer`` of, but its home and mark, under the names that files of earlier have them."""
    numbered = layer.numbered if isinstance(layer, CachedLayer) else layer.ids is not None
    return {
        "key": layer.key,
        "rows": len(layer),
        "crs": layer.crs,
        "name": layer.name,
        "origin": layer.origin,
        "titles": dict(layer.titles),
        "kind": layer.kind,
        "drawn": layer.has_geometry,
        "numbered": numbered,
        **(_facts_of_chunks(layer) if isinstance(layer, CachedLayer) and layer.chunked else {}),
    }


def _facts_of_chunks(layer: CachedLayer) -> dict[str, object]:
    return {"chunked": True, "extent": layer.extent, "types": sorted(layer.types), "has_z": layer.has_z}


def link_rows(kept: Path, home: Path) -> bool:
    """Give the rows that lie in one folder a second name in another; False where that cannot be."""
    home.mkdir(parents=True, exist_ok=True)
    return all(link(kept / n, home / n) for n in (TABLE, SHAPES, TYPES, IDS, NUMBERS) if (kept / n).exists())


def link(source: Path, target: Path) -> bool:
    """Give a file a second name; False where that cannot be."""
    try:
        os.link(source, target)
    except OSError:
        return False
    return True
