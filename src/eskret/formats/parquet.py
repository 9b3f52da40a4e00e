"""GeoParquet 1.0 and 1.1: a Parquet file whose metadata says which column holds geometry as WKB, and in which CRS."""

from __future__ import annotations

import json
import re
from collections.abc import Generator, Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.core.accounts.account import Remark
from eskret.core.crs import Extent, crs_code, parse_crs, same_crs
from eskret.core.files.datasets import files_of, values_of
from eskret.core.layer import Certainty, ChunkedLayer, Field, GeometryKind, Layer, LayerFacts, WkbArray, kind_of, kind_of_types
from eskret.core.layer import chunks as chunking
from eskret.core.layer.chunks import rebatched
from eskret.core.layer.wkb import decode
from eskret.core.naming import number_collisions
from eskret.core.texts import codec_of, settled
from eskret.errors import Code, CrsError, InputError
from eskret.formats.format import CRS84, Coming, Format, Pairs, Put, Reader, Writing
from eskret.formats.holding import Holds
from eskret.formats.reading import AS_DECLARED, NUMBERED, Reading, Texts, Watch, no_watch, numbered, numbers
from eskret.formats.vector import check_readable, plain_type


def layer_names(path: Path) -> list[str]:
    """A file or folder holds one layer, named as it is."""
    _Rows(path)
    return [path.stem]


def facts(path: Path, name: str, key: str, texts: Texts = AS_DECLARED) -> LayerFacts:
    """Facts of the layer, from the files' own metadata."""
    one = _Rows(path)
    names = number_collisions([f.name for f in one.columns], limit=10_000)
    told = _renamed([f.name for f in one.columns], names)
    fields = tuple(Field(n, plain_type(f.type)) for n, f in zip(names, one.columns, strict=True))
    known = one.known
    boxes = [box for part in one.parts if (box := _box(part.geo)) is not None]
    extent = None
    if boxes and len(boxes) == len(one.parts):
        west, south, east, north = zip(*boxes, strict=True)
        extent = (min(west), min(south), max(east), max(north))
    kind, crs = (_kind([p.known for p in one.parts]), _crs(known)) if one.geometry else (GeometryKind.TABLE, None)
    return numbered(LayerFacts(key, path.stem, kind, crs, fields, one.rows, Certainty.KNOWN, extent, str(path), told=tuple(told)))


def _box(geo: dict[str, Any]) -> Extent | None:
    box: list[Any] = list(geo["columns"][geo["primary_column"]].get("bbox") or ()) if geo else []
    half = len(box) // 2
    return (float(box[0]), float(box[1]), float(box[half]), float(box[half + 1])) if half in (2, 3) else None


def read(path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch, box: Extent | None = None) -> Reading:
    """Read the layer; groups of rows of which the file says that they do not meet a ``box`` are left out.

    Raises
    ------
    InputError : it is damaged, or its geometry is in a form that is not known here.
    """
    one = _Stream(path, key, texts, watch, box)
    return one.reading(list(one.batches(50_000)))


def chunks(
    path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch, least: int = 0, box: Extent | None = None
) -> Generator[Reading, None, None] | None:
    """Read the layer so many rows at a time; None where it has no more than ``least``. ``box`` as ``read`` has it.

    Raises
    ------
    InputError : as ``read``; it may be found out on the way.
    """
    one = _Stream(path, key, texts, watch, box)
    if one.rows <= least or not one.columns:
        return None
    return one.chunks()


@dataclass(frozen=True)
class _Part:
    """A file of rows: with what its folders say of all of them."""

    path: Path
    file: pq.ParquetFile
    geo: dict[str, Any]
    values: Mapping[str, str | None]

    @property
    def known(self) -> dict[str, Any]:
        """What is said of its shapes."""
        return self.geo["columns"][self.geo["primary_column"]] if self.geo else {}

    def groups(self, box: Extent | None) -> list[int]:
        """The groups of rows that may meet a box: those of which the file does not say otherwise."""
        told = self.file.metadata
        sides = {side: ".".join(path) for side, path in self.known.get("covering", {}).get("bbox", {}).items()}
        every = list(range(told.num_row_groups))
        if box is None or not {"xmin", "ymin", "xmax", "ymax"} <= set(sides):
            return every
        place = {told.schema.column(n).path: n for n in range(told.num_columns)}
        if not set(sides.values()) <= set(place):
            return every
        west, south, east, north = box

        def may_meet(group: int) -> bool:
            stats = {side: told.row_group(group).column(place[path]).statistics for side, path in sides.items()}
            if any(s is None or not s.has_min_max for s in stats.values()):
                return True
            across = stats["xmin"].min <= east and stats["xmax"].max >= west
            return bool(across and stats["ymin"].min <= north and stats["ymax"].max >= south)

        return [group for group in every if may_meet(group)]


class _Rows:
    """The rows of a file, or of all files of a folder that is one layer.

    Raises
    ------
    InputError : one of them is damaged, or not like the others.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.parts = [_Part(file, *_open(file), values_of(path, file)) for file in files_of(path)]
        if not self.parts:
            raise InputError("there is no file of rows in this folder", place=str(path), way_out="Choose another")
        first = self.parts[0]
        self.known = first.known
        self.columns, self.geometry, self.left_out = _columns(first.file.schema_arrow, first.geo)
        for part in self.parts[1:]:
            columns, geometry, _ = _columns(part.file.schema_arrow, part.geo)
            alike = _told(columns) == _told(self.columns) and geometry == self.geometry
            if not alike or part.values.keys() != first.values.keys() or part.known.get("crs") != self.known.get("crs"):
                raise InputError(
                    f"its fields, its folders or its coordinate system are not those of {first.path.relative_to(path)}",
                    place=str(part.path),
                    way_out="The files of a folder that is one layer must be alike; load them as single files",
                )
        there = {f.name for f in self.columns}
        said = {name: [p.values[name] for p in self.parts] for name in first.values if name not in there}
        self.folders = [pa.field(name, _kind_of_values(values)) for name, values in said.items()]
        self.columns = [*self.columns, *self.folders]

    @property
    def rows(self) -> int:
        return sum(p.file.metadata.num_rows for p in self.parts)


def _told(columns: Sequence[pa.Field]) -> list[tuple[str, pa.DataType]]:
    return [(f.name, plain_type(f.type)) for f in columns]


_WHOLE = re.compile(r"0|-?[1-9][0-9]{0,17}")


def _kind_of_values(values: Sequence[str | None]) -> pa.DataType:
    """Whole numbers where all are such; what begins with a zero is a code."""
    plain = all(v is None or _WHOLE.fullmatch(v) for v in values)
    return pa.int64() if plain and any(v is not None for v in values) else pa.string()


class _Stream(_Rows):
    """The layer as it is read: batches, and what is made of them."""

    def __init__(self, path: Path, key: str, texts: Texts, watch: Watch, box: Extent | None) -> None:
        super().__init__(path)
        self.key, self.texts, self.watch, self._box = key, texts, watch, box

    def batches(self, rows: int) -> Generator[pa.RecordBatch, None, None]:
        """Batches as they stand in the files, of at most so many rows."""
        in_files = [f.name for f in self.columns if f not in self.folders] + ([self.geometry] if self.geometry else [])
        schema = pa.schema([self.parts[0].file.schema_arrow.field(n) for n in in_files]).remove_metadata()
        done = 0
        for part in self.parts:
            try:
                for batch in part.file.iter_batches(rows, row_groups=part.groups(self._box), columns=in_files):
                    done += batch.num_rows
                    self.watch(done, self.rows)
                    yield self._with_folders(batch.select(in_files).cast(schema), part)
            except (pa.ArrowException, OSError) as error:
                raise _damaged(part.path, error) from error

    def _with_folders(self, batch: pa.RecordBatch, part: _Part) -> pa.RecordBatch:
        """With the values that stand in the names of folders."""
        for field in self.folders:
            value = part.values[field.name]
            typed = None if value is None else int(value) if field.type == pa.int64() else value
            batch = batch.append_column(field, pa.array([typed] * batch.num_rows, field.type))
        return batch

    def chunks(self) -> Generator[Reading, None, None]:
        """What is made of so many rows at a time, of none at least once."""
        some = False
        for batch in rebatched(self.batches(chunking.CHUNK), chunking.CHUNK):
            some = True
            yield self.reading([batch])
        if not some:
            yield self.reading([])

    def reading(self, batches: Sequence[pa.RecordBatch]) -> Reading:
        """What is made of rows."""
        known = self.known
        shapes = _shapes(self.path, [b.column(b.schema.get_field_index(self.geometry)) for b in batches]) if self.geometry else None
        schema = pa.schema([pa.field(f.name, f.type) for f in self.columns])
        rows = sum(b.num_rows for b in batches)
        names_there = [f.name for f in self.columns]
        table = pa.Table.from_batches([b.select(names_there).cast(schema) for b in batches], schema) if self.columns else numbers(rows)
        names = number_collisions(table.column_names, limit=10_000)
        remarks = [*self.left_out, *_renamed(table.column_names, names), *([] if self.columns else [NUMBERED])]
        plain = pa.schema([pa.field(n, plain_type(f.type)) for n, f in zip(names, table.schema, strict=True)])
        table, said = settled(table.rename_columns(names).cast(plain), codec_of(self.texts.codec))
        remarks += [Remark(s, look=True, code=Code.UNDECODABLE) for s in said]
        kind = GeometryKind.TABLE
        if isinstance(shapes, WkbArray):
            kind = kind_of_types(shapes.library_types()) if len(shapes) else _kind([known])
        elif shapes is not None:
            kind = kind_of(shapes) if shapely.is_geometry(shapes).any() else _kind([known])
        crs = _crs(known) if self.geometry else None
        return Reading(Layer(self.key, table, shapes, crs, self.path.stem, str(self.path), kind=kind), rows, (), tuple(remarks))


def _shapes(path: Path, parts: Sequence[pa.Array]) -> np.ndarray | WkbArray:
    """The shapes; as binary where that can be told to be whole without making them."""
    binary = WkbArray.from_arrow(pa.chunked_array(parts)) if parts else None
    if binary is not None and len(binary) and (binary.xy is not None or binary.measured is not None):
        return binary
    try:
        made = [decode(part) for part in parts]
    except shapely.errors.ShapelyError as error:
        raise _damaged(path, error) from error
    return np.concatenate(made) if made else np.empty(0, object)


def _renamed(given: Sequence[str], names: Sequence[str]) -> list[Remark]:
    """What there is to say of fields that are called otherwise than in the file."""
    return [
        Remark(f"field '{old}' differs from another only in case and is called '{new}'")
        for old, new in zip(given, names, strict=True)
        if old != new
    ]


def write(path: Path, layer: Layer, words: Mapping[str, str], watch: Watch = no_watch) -> None:
    """Write a layer to a file of version 1.1."""
    types: set[str] = set()
    if layer.wkb is not None:
        types = {_WORDS[int(t)] for t in layer.wkb.library_types()}
    elif layer.geometry is not None:
        types = {_type_word(s) for s in layer.geometry if s is not None}
    write_rows(path, _slices(layer), types, layer.extent(), len(layer), words, watch)


def write_rows(
    path: Path,
    chunks: Iterable[Layer],
    types: Iterable[str],
    extent: Extent | None,
    rows: int,
    words: Mapping[str, str],
    watch: Watch = no_watch,
) -> None:
    """Write a file of version 1.1: geometry as WKB, its CRS as PROJJSON, boxes of the features in a column of their own.

    Parameters
    ----------
    chunks : the layer, some rows at a time, at least once; each is a group of rows.
    types, extent : of all its shapes, as the format calls them.
    """
    writer, done = None, 0
    try:
        for chunk in chunks:
            table = _table(chunk)
            if writer is None:
                told = {f"{n}".encode(): t.encode() for n, t in words.items() if t}
                if chunk.has_geometry:
                    told[b"geo"] = json.dumps(_geo(chunk, table, sorted(types), extent)).encode()
                schema = table.schema.with_metadata(told)
                writer = pq.ParquetWriter(path, schema, compression="zstd")
            writer.write_table(table.cast(schema), row_group_size=max(1, table.num_rows))
            done += len(chunk)
            watch(done, rows)
    finally:
        if writer is not None:
            writer.close()


def _table(layer: Layer) -> pa.Table:
    """The attributes with the geometry as binary, and its boxes, as the last two columns."""
    if layer.column is None:
        return layer.table
    name, box_name = number_collisions(["geometry", "bbox"], taken=layer.table.column_names)
    bounds = layer.bounds()
    none = np.isnan(bounds[:, 0])
    sides = [pa.array(bounds[:, n], pa.float64(), mask=none) for n in range(4)]
    box = pa.StructArray.from_arrays(sides, names=["xmin", "ymin", "xmax", "ymax"], mask=pa.array(none))
    return layer.table.append_column(name, layer.column.binary().cast(pa.binary())).append_column(box_name, box)


def _geo(layer: Layer, table: pa.Table, types: Sequence[str], extent: Extent | None) -> dict[str, object]:
    name, box_name = table.column_names[-2:]
    column: dict[str, Any] = {"encoding": "WKB", "geometry_types": types}
    if layer.crs is None:
        column["crs"] = None
    elif not same_crs(layer.crs, CRS84):
        column["crs"] = json.loads(parse_crs(layer.crs).to_json())
    if extent is not None:
        column["bbox"] = list(extent)
    column["covering"] = {"bbox": {s: [box_name, s] for s in ("xmin", "ymin", "xmax", "ymax")}}
    return {"version": "1.1.0", "primary_column": name, "columns": {name: column}}


def _slices(layer: Layer) -> Generator[Layer, None, None]:
    for start in range(0, max(1, len(layer)), chunking.CHUNK):
        yield layer.slice(start, min(start + chunking.CHUNK, len(layer)))


_WORDS = {0: "Point", 1: "LineString", 3: "Polygon", 4: "MultiPoint", 5: "MultiLineString", 6: "MultiPolygon", 7: "GeometryCollection"}


def _type_word(shape: BaseGeometry) -> str:
    return f"{shape.geom_type} Z" if shape.has_z else str(shape.geom_type)


def count(path: Path) -> int:
    """Rows of a file, by its own metadata."""
    return int(pq.ParquetFile(path).metadata.num_rows)


def _open(path: Path) -> tuple[pq.ParquetFile, dict[str, Any]]:
    check_readable(path)
    try:
        file = pq.ParquetFile(path, memory_map=True)
        said = (file.schema_arrow.metadata or {}).get(b"geo")
        geo = json.loads(said) if said else {}
    except (pa.ArrowException, OSError, ValueError) as error:
        raise _damaged(path, error) from error
    primary = geo.get("primary_column")
    if geo and (primary not in geo.get("columns", {}) or primary not in file.schema_arrow.names):
        raise InputError(
            "its metadata names a geometry column that is not there", place=str(path), way_out="Open it where it was made and save it again"
        )
    if geo and geo["columns"][primary].get("encoding") != "WKB":
        raise InputError(
            f"its geometry is in the form '{geo['columns'][primary].get('encoding')}', and WKB is what is read here",
            place=str(path),
            way_out="Save it with geometry as WKB",
        )
    return file, geo


def _columns(schema: pa.Schema, geo: dict[str, Any]) -> tuple[list[pa.Field], str, list[Remark]]:
    """Attribute columns, the geometry column, and what is left out."""
    primary = str(geo.get("primary_column") or "")
    boxes = {c.get("covering", {}).get("bbox", {}).get("xmin", [""])[0] for c in geo.get("columns", {}).values()}
    further = [n for n in geo.get("columns", {}) if n != primary]
    fields = [f for f in schema if f.name != primary and f.name not in further and f.name not in boxes]
    return fields, primary, [Remark(f"the further geometry column '{n}' was left out", look=True) for n in further]


def _crs(known: dict[str, Any]) -> str | None:
    if "crs" not in known:
        return CRS84
    if known["crs"] is None:
        return None
    try:
        return crs_code(parse_crs(json.dumps(known["crs"])))
    except CrsError:
        return None


def _kind(told: Sequence[dict[str, Any]]) -> GeometryKind:
    words = {str(t).replace("Multi", "").split(" ")[0] for known in told for t in known.get("geometry_types", [])}
    kinds = {"Point": GeometryKind.POINT, "LineString": GeometryKind.LINE, "Polygon": GeometryKind.POLYGON}
    return kinds.get(words.pop(), GeometryKind.MIXED) if len(words) == 1 else GeometryKind.MIXED


def _damaged(path: Path, error: Exception) -> InputError:
    return InputError(
        "it cannot be read; it is damaged, cut short, or not what its ending says",
        place=str(path),
        way_out="Open it where it was made and save it again",
    )


class GeoParquet(Format):
    """One layer in columns, with every type."""

    title = "GeoParquet"
    read_endings = {".parquet": "GeoParquet"}
    written_endings = (".parquet",)
    reads_with = Reader(layer_names, facts, read)
    changes = True
    words = frozenset({"title", "description", "licence"})
    says_extent = True
    values = Holds("GeoParquet", nan=True, most=0, digits=9, decimals=True, empties=True)

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
        return chunks(path, name, key, texts, watch, least, box)

    def read_in(self, box: Extent, path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch) -> Reading:
        return read(path, name, key, texts, watch, box)

    def reads_chunks(self, path: Path) -> bool:
        return True

    def weight(self, path: Path, name: str, count: int) -> float:
        told = [p.file.metadata for p in _Rows(path).parts]
        return sum(t.row_group(n).total_byte_size for t in told for n in range(t.num_row_groups)) / count  # out of its compression

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        write(path, pairs[0][0], how.words, watch)
        return Put(self.count(path))

    def takes_chunks(self, layer: ChunkedLayer) -> bool:
        return not layer.has_z and layer.types <= set(_WORDS)

    def write_chunks(self, path: Path, coming: Coming, how: Writing, watch: Watch = no_watch) -> Put:
        like = coming.like
        write_rows(path, coming.chunks, {_WORDS[t] for t in like.types}, like.facts().extent, len(like), how.words, watch)
        return Put(self.count(path))

    def count(self, path: Path) -> int:
        return count(path)
