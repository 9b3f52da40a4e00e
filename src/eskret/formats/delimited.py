"""Write a layer as CSV (RFC 4180): points with x and y, other shapes as well-known text, text in UTF-8."""

from __future__ import annotations

from collections.abc import Generator, Iterable
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv
import shapely

from eskret.core.crs import Extent
from eskret.core.layer import ChunkedLayer, GeometryKind, Layer
from eskret.core.naming import number_collisions
from eskret.formats import tables
from eskret.formats.fitting import shortest_time, written_form
from eskret.formats.format import Coming, Format, Pairs, Put, Reader, Writing
from eskret.formats.holding import Holds
from eskret.formats.reading import AS_DECLARED, Reading, Texts, Watch, no_watch

_CHUNK = 50_000


def write(path: Path, layer: Layer, watch: Watch = no_watch) -> None:
    """Write a file; empty cells stand for nothing, an empty text is written in quotes."""
    write_rows(path, (layer,), len(layer), watch)


def write_rows(path: Path, chunks: Iterable[Layer], rows: int, watch: Watch = no_watch) -> None:
    """As ``write``, of a layer that comes some rows at a time, at least once, every time with the same columns."""
    options = pyarrow.csv.WriteOptions(quoting_style="needed")
    writer, done = None, 0
    with pa.OSFile(str(path), "wb") as sink:
        for chunk in chunks:
            whole = with_geometry(chunk)
            table = pa.table([_written(c) for c in whole.columns], names=whole.column_names)
            if writer is None:
                writer = pyarrow.csv.CSVWriter(sink, table.schema, write_options=options)
            for start in range(0, max(1, len(table)), _CHUNK):
                writer.write_table(table.slice(start, _CHUNK))
                watch(done + min(start + _CHUNK, len(table)), rows)
            done += len(table)
        if writer is not None:
            writer.close()


def _written(column: pa.ChunkedArray) -> pa.ChunkedArray:
    kind = column.type
    if pa.types.is_nested(kind) or pa.types.is_binary(kind) or pa.types.is_large_binary(kind):
        return written_form(column)
    if pa.types.is_timestamp(kind):
        # without a zone database at hand the hour is written as it is held: in UTC
        utc = column.cast(pa.timestamp(kind.unit, "UTC")) if kind.tz else column
        return pc.strftime(shortest_time(utc), "%Y-%m-%dT%H:%M:%SZ" if kind.tz else "%Y-%m-%dT%H:%M:%S")
    return column


def with_geometry(layer: Layer) -> pa.Table:
    """The attributes with the geometry in columns: x and y of points, well-known text of other shapes."""
    if layer.geometry is None:
        return layer.table
    taken = layer.table.column_names
    measured = bool(shapely.has_m(layer.geometry).any())
    if layer.kind is GeometryKind.POINT and not (shapely.get_type_id(layer.geometry) == 4).any() and not measured:
        there = layer.geometry.copy()
        there[shapely.is_empty(there)] = None
        out = layer.table
        axes = [("x", shapely.get_x), ("y", shapely.get_y)]
        axes += [("z", shapely.get_z)] if shapely.has_z(there).any() else []
        for (_, value), name in zip(axes, number_collisions([n for n, _ in axes], taken=taken), strict=True):
            values = value(there)
            out = out.append_column(name, pa.array(values, mask=np.isnan(values)))
        return out
    name = number_collisions(["geometry"], taken=taken)[0]
    texts = shapely.to_wkt(layer.geometry, rounding_precision=-1, output_dimension=4)
    return layer.table.append_column(name, pa.array(texts.tolist(), pa.string()))


def count(path: Path) -> int:
    """Records in a file that this module wrote, counted in the file itself: its lines outside quotes, less the header."""
    lines, inside = 0, False
    with path.open("rb") as stream:
        while piece := stream.read(1 << 22):
            marks = np.frombuffer(piece, np.uint8)
            quotes = np.cumsum(marks == 34) + inside
            lines += int(((marks == 10) & (quotes % 2 == 0)).sum())
            inside = bool(quotes[-1] % 2)
    return lines - 1


class Csv(Format):
    """One table as text (RFC 4180)."""

    title = "CSV"
    read_endings = {".csv": "CSV", ".tsv": "TSV"}
    written_endings = (".csv",)
    reads_with = Reader(tables.layer_names, tables.facts, tables.read)
    changes = True
    values = Holds("CSV", frozenset({"bytes", "list"}), nan=True, most=0, digits=9, decimals=True, places=False, empties=True, untyped=True)

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
        return tables.chunks(path, key, texts, watch, least)

    def reads_chunks(self, path: Path) -> bool:
        return True

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        write(path, pairs[0][0], watch)
        return Put(self.count(path))

    def takes_chunks(self, layer: ChunkedLayer) -> bool:
        # to what unit times are written hangs on all of them; and points with several in one are written as text, all of them
        timed = any(pa.types.is_timestamp(f.type) for f in layer.facts().fields)
        return not timed and not layer.has_z and not (layer.kind is GeometryKind.POINT and 4 in layer.types)

    def write_chunks(self, path: Path, coming: Coming, how: Writing, watch: Watch = no_watch) -> Put:
        write_rows(path, coming.chunks, len(coming.like), watch)
        return Put(self.count(path))

    def count(self, path: Path) -> int:
        return count(path)

    def as_stored(self, layer: Layer) -> Layer:
        return Layer(layer.key, with_geometry(layer)) if layer.has_geometry else layer
