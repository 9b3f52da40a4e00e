"""Write a layer as CSV (RFC 4180): points with x and y, other shapes as well-known text, text in UTF-8."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv
import shapely

from eskret.core.layer import Kind, Layer
from eskret.core.naming import number_collisions
from eskret.formats.reading import Watch, no_watch

_CHUNK = 50_000


def losses(schema: pa.Schema) -> list[str]:
    """What CSV cannot hold of these fields, in sentences."""
    return [f"'{f.name}' is a list and becomes text" for f in schema if pa.types.is_nested(f.type)]


def write(path: Path, layer: Layer, watch: Watch = no_watch) -> None:
    """Write a file; empty cells stand for nothing, an empty text is written in quotes."""
    table = with_geometry(layer)
    columns = [_written(c) for c in table.columns]
    table = pa.table(columns, names=table.column_names)
    options = pyarrow.csv.WriteOptions(quoting_style="needed")
    with pa.OSFile(str(path), "wb") as sink, pyarrow.csv.CSVWriter(sink, table.schema, write_options=options) as writer:
        for start in range(0, max(1, len(table)), _CHUNK):
            writer.write_table(table.slice(start, _CHUNK))
            watch(min(start + _CHUNK, len(table)), len(table))


def _written(column: pa.ChunkedArray) -> pa.ChunkedArray:
    kind = column.type
    if pa.types.is_nested(kind) or pa.types.is_binary(kind):
        return pa.chunked_array([pa.array([None if v is None else str(v) for v in column.to_pylist()], pa.string())])
    if pa.types.is_timestamp(kind):
        mark = "Z" if kind.tz else ""
        utc = column.cast(pa.timestamp("ms", kind.tz), safe=False)
        # without a zone database at hand the hour is written as it is held: in UTC
        return pc.strftime(
            utc.cast(pa.timestamp("s", "UTC" if kind.tz else None), safe=False), f"%Y-%m-%dT%H:%M:%S{mark}"
        )
    return column


def with_geometry(layer: Layer) -> pa.Table:
    """The attributes with the geometry in columns: x and y of points, well-known text of other shapes."""
    if layer.geometry is None:
        return layer.table
    taken = layer.table.column_names
    if layer.kind is Kind.POINT and not (shapely.get_type_id(layer.geometry) == 4).any():
        x, y = number_collisions(["x", "y"], taken=taken)
        xs, ys = shapely.get_x(layer.geometry), shapely.get_y(layer.geometry)
        return layer.table.append_column(x, pa.array(xs, mask=np.isnan(xs))).append_column(
            y, pa.array(ys, mask=np.isnan(ys))
        )
    name = number_collisions(["geometry"], taken=taken)[0]
    texts = shapely.to_wkt(layer.geometry, rounding_precision=-1)
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
