"""GeoParquet 1.0 and 1.1: a Parquet file whose metadata says which column holds geometry as WKB, and in which CRS."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.core.accounts.account import Remark
from eskret.core.crs import crs_code, parse_crs, same_crs
from eskret.core.layer import Certainty, Field, GeometryKind, Layer, LayerFacts, kind_of
from eskret.core.layer.wkb import decode, encoded
from eskret.core.naming import number_collisions
from eskret.core.texts import codec_of, settled
from eskret.errors import Code, CrsError, InputError
from eskret.formats.format import CRS84, Format, Pairs, Put, Reader, Writing
from eskret.formats.holding import Holds
from eskret.formats.reading import AS_DECLARED, Reading, Texts, Watch, no_watch
from eskret.formats.vector import check_readable, plain_type


def layer_names(path: Path) -> list[str]:
    """A file holds one layer, named as the file is."""
    _open(path)
    return [path.stem]


def facts(path: Path, name: str, key: str, texts: Texts = AS_DECLARED) -> LayerFacts:
    """Facts of the layer, from the file's own metadata."""
    file, geo = _open(path)
    columns, geometry, _ = _columns(file.schema_arrow, geo)
    names = number_collisions([f.name for f in columns], limit=10_000)
    told = _renamed([f.name for f in columns], names)
    fields = tuple(Field(n, plain_type(f.type)) for n, f in zip(names, columns, strict=True))
    known = geo["columns"][geometry] if geometry else {}
    box: list[Any] = list(known.get("bbox") or ())
    half = len(box) // 2
    extent = (float(box[0]), float(box[1]), float(box[half]), float(box[half + 1])) if half in (2, 3) else None
    kind, crs = (_kind(known), _crs(known)) if geometry else (GeometryKind.TABLE, None)
    return LayerFacts(key, path.stem, kind, crs, fields, file.metadata.num_rows, Certainty.KNOWN, extent, str(path), told=tuple(told))


def read(path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch) -> Reading:
    """Read the layer.

    Raises
    ------
    InputError : it is damaged, or its geometry is in a form that is not known here.
    """
    file, geo = _open(path)
    columns, geometry, remarks = _columns(file.schema_arrow, geo)
    batches, shapes, done = [], [], 0
    wanted = [f.name for f in columns] + ([geometry] if geometry else [])
    try:
        for batch in file.iter_batches(50_000, columns=wanted):
            if geometry:
                shapes.append(decode(batch.column(batch.schema.get_field_index(geometry))))
            batches.append(batch.select([f.name for f in columns]))
            done += batch.num_rows
            watch(done, file.metadata.num_rows)
    except (pa.ArrowException, OSError, shapely.errors.ShapelyError) as error:
        raise _damaged(path, error) from error
    schema = pa.schema([pa.field(f.name, f.type) for f in columns])
    table = pa.Table.from_batches([b.cast(schema) for b in batches], schema) if columns else _bare(done)
    names = number_collisions(table.column_names, limit=10_000)
    remarks += _renamed(table.column_names, names)
    plain = pa.schema([pa.field(n, plain_type(f.type)) for n, f in zip(names, table.schema, strict=True)])
    table, said = settled(table.rename_columns(names).cast(plain), codec_of(texts.codec))
    remarks += [Remark(s, look=True, code=Code.UNDECODABLE) for s in said]
    array = None
    if geometry:
        array = np.concatenate(shapes) if shapes else np.empty(0, object)
    known = geo["columns"][geometry] if geometry else {}
    kind = GeometryKind.TABLE if array is None else kind_of(array) if shapely.is_geometry(array).any() else _kind(known)
    layer = Layer(key, table, array, _crs(known) if geometry else None, path.stem, str(path), kind=kind)
    return Reading(layer, done, (), tuple(remarks))


def _renamed(given: Sequence[str], names: Sequence[str]) -> list[Remark]:
    """What there is to say of fields that are called otherwise than in the file."""
    return [
        Remark(f"field '{old}' differs from another only in case and is called '{new}'")
        for old, new in zip(given, names, strict=True)
        if old != new
    ]


def write(path: Path, layer: Layer, words: Mapping[str, str], watch: Watch = no_watch) -> None:
    """Write a file of version 1.1: geometry as WKB, its CRS as PROJJSON, boxes of the features in a column of their own."""
    table = layer.table
    told: dict[bytes, bytes] = {f"{n}".encode(): t.encode() for n, t in words.items() if t}
    if layer.geometry is not None:
        name, box_name = number_collisions(["geometry", "bbox"], taken=table.column_names)
        bounds = np.asarray(shapely.bounds(layer.geometry)).reshape(-1, 4)
        none = np.isnan(bounds[:, 0])
        sides = [pa.array(bounds[:, n], pa.float64(), mask=none) for n in range(4)]
        box = pa.StructArray.from_arrays(sides, names=["xmin", "ymin", "xmax", "ymax"], mask=pa.array(none))
        table = table.append_column(name, encoded(layer.geometry)).append_column(box_name, box)
        types = sorted({_type_word(s) for s in layer.geometry if s is not None})
        column: dict[str, Any] = {"encoding": "WKB", "geometry_types": types}
        if layer.crs is None:
            column["crs"] = None
        elif not same_crs(layer.crs, CRS84):
            column["crs"] = json.loads(parse_crs(layer.crs).to_json())
        if not none.all():
            low, high = np.nanmin(bounds[:, :2], axis=0), np.nanmax(bounds[:, 2:], axis=0)
            column["bbox"] = [float(v) for v in (*low, *high)]
        column["covering"] = {"bbox": {s: [box_name, s] for s in ("xmin", "ymin", "xmax", "ymax")}}
        geo = {"version": "1.1.0", "primary_column": name, "columns": {name: column}}
        told[b"geo"] = json.dumps(geo).encode()
    table = table.replace_schema_metadata(told)
    with pq.ParquetWriter(path, table.schema, compression="zstd") as writer:
        for start in range(0, max(1, table.num_rows), 50_000):
            writer.write_table(table.slice(start, 50_000))
            watch(min(start + 50_000, table.num_rows), table.num_rows)


def _type_word(shape: BaseGeometry) -> str:
    return f"{shape.geom_type} Z" if shape.has_z else str(shape.geom_type)


def count(path: Path) -> int:
    """Rows of a file, by its own metadata."""
    return int(pq.ParquetFile(path).metadata.num_rows)


def _bare(rows: int) -> pa.Table:
    return pa.table({"number": pa.array(range(1, rows + 1), pa.int64())})


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


def _kind(known: dict[str, Any]) -> GeometryKind:
    words = {str(t).replace("Multi", "").split(" ")[0] for t in known.get("geometry_types", [])}
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
    values = Holds("GeoParquet", nan=True, most=0, digits=9, decimals=True, empties=True)

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        write(path, pairs[0][0], how.words, watch)
        return Put(self.count(path))

    def count(self, path: Path) -> int:
        return count(path)
