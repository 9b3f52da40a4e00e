"""Write GPX 1.1 and KML 2.2: recordings for GPS units, and places for globes. Both are in WGS 84 by their standards.

Sources, from memory: the GPX 1.1 schema (order of elements in a waypoint and a track) and OGC 12-007r2 (KML 2.3).
"""

from __future__ import annotations

import json
import re
from collections.abc import Generator, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape, quoteattr

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.layer import GeometryKind, Layer
from eskret.core.naming import clean_name
from eskret.formats.format import CRS84, Capacity, Format
from eskret.formats.reading import Watch, no_watch

GPX_POINT = (
    "ele",
    "time",
    "magvar",
    "geoidheight",
    "name",
    "cmt",
    "desc",
    "src",
    "sym",
    "type",
    "fix",
    "sat",
    "hdop",
    "vdop",
    "pdop",
    "ageofdgpsdata",
    "dgpsid",
)
GPX_TRACK = ("name", "cmt", "desc", "src", "number", "type")
FIELDS = "urn:eskret:fields"
"""The namespace of fields that GPX has no element for."""
_STEP = 5_000
_FORBIDDEN = re.compile("[\ud800-\udfff\ufffe\uffff]")


def gpx_losses(names: Sequence[str], kind: GeometryKind) -> list[str]:
    """What becomes of a layer's fields in GPX, in sentences."""
    known = GPX_POINT if kind is GeometryKind.POINT else GPX_TRACK
    own = [n for n in names if n not in known]
    if not own:
        return []
    return [f"GPX has no place of its own for {', '.join(own[:6])}{' and more' if len(own) > 6 else ''}; they go into extensions"]


def write_gpx(path: Path, layers: Sequence[tuple[Layer, str]], words: Mapping[str, str], decimals: int, watch: Watch = no_watch) -> None:
    """Write points as waypoints and lines as tracks, all waypoints first, as the schema wants it."""
    with path.open("w", encoding="utf-8", newline="\n") as out:
        out.write('<?xml version="1.0" encoding="UTF-8"?>\n<gpx version="1.1" creator="Eskret" ')
        out.write(f'xmlns="http://www.topografix.com/GPX/1/1" xmlns:f="{FIELDS}">\n')
        said = [(words.get("title"), "name"), (words.get("description"), "desc")]
        told = "".join(f"<{tag}>{_clean(text)}</{tag}>" for text, tag in said if text)
        if told:
            out.write(f"  <metadata>{told}</metadata>\n")
        for kind in (GeometryKind.POINT, GeometryKind.LINE):
            for layer, _ in layers:
                if layer.kind is kind:
                    for done, text in _gpx_rows(layer, kind, decimals):
                        out.write(text)
                        watch(done, len(layer))
        out.write("</gpx>\n")


def _gpx_rows(layer: Layer, kind: GeometryKind, decimals: int) -> Generator[tuple[int, str], None, None]:
    assert layer.geometry is not None
    known = GPX_POINT if kind is GeometryKind.POINT else GPX_TRACK
    names = layer.table.column_names
    order = [n for n in known if n in names]
    own = [(n, clean_name(n, keep_case=True) or "field") for n in names if n not in known]
    for start in range(0, len(layer), _STEP):
        rows = layer.table.slice(start, _STEP).to_pylist() or [{}] * min(_STEP, len(layer) - start)
        lines = []
        for row, shape in zip(rows, layer.geometry[start : start + _STEP], strict=True):
            if shape is None or shape.is_empty:
                continue
            inner = {n: f"<{n}>{_clean(_said(row[n]))}</{n}>" for n in order if row.get(n) is not None}
            more = "".join(f"<f:{tag}>{_clean(_said(row[n]))}</f:{tag}>" for n, tag in own if row.get(n) is not None)
            extension = f"<extensions>{more}</extensions>" if more else ""
            if kind is GeometryKind.POINT:
                for part in shapely.get_parts(shape):
                    if part.has_z and "ele" not in inner:
                        inner = {"ele": f"<ele>{shapely.get_z(part):g}</ele>", **inner}
                    place = f'lat="{part.y:.{decimals}f}" lon="{part.x:.{decimals}f}"'
                    lines.append(f"  <wpt {place}>{''.join(inner.values())}{extension}</wpt>\n")
            else:
                segments = "".join(f"<trkseg>{_track(p, decimals)}</trkseg>" for p in shapely.get_parts(shape))
                lines.append(f"  <trk>{''.join(inner.values())}{extension}{segments}</trk>\n")
        yield min(start + _STEP, len(layer)), "".join(lines)


def _track(part: Any, decimals: int) -> str:
    xyz = shapely.get_coordinates(part, include_z=bool(part.has_z))
    out = []
    for point in xyz.tolist():
        ele = f"<ele>{point[2]:g}</ele>" if len(point) > 2 and not np.isnan(point[2]) else ""
        out.append(f'<trkpt lat="{point[1]:.{decimals}f}" lon="{point[0]:.{decimals}f}">{ele}</trkpt>')
    return "".join(out)


def write_kml(path: Path, layers: Sequence[tuple[Layer, str]], words: Mapping[str, str], decimals: int, watch: Watch = no_watch) -> None:
    """Write a folder for each layer, its fields with their types in a schema."""
    with path.open("w", encoding="utf-8", newline="\n") as out:
        out.write('<?xml version="1.0" encoding="UTF-8"?>\n<kml xmlns="http://www.opengis.net/kml/2.2">\n<Document>\n')
        for text, tag in ((words.get("title"), "name"), (words.get("description"), "description")):
            if text:
                out.write(f"<{tag}>{_clean(text)}</{tag}>\n")
        for number, (layer, name) in enumerate(layers):
            fields = [f for f in layer.table.schema if f.name.lower() not in ("name", "description")]
            out.write(f'<Schema name={_attribute(name)} id="fields_{number}">\n')
            for field in fields:
                out.write(f'<SimpleField name={_attribute(field.name)} type="{_kml_type(layer.table.column(field.name))}"/>\n')
            out.write("</Schema>\n")
        for number, (layer, name) in enumerate(layers):
            out.write(f"<Folder><name>{_clean(name)}</name>\n")
            for done, text in _kml_rows(layer, number, decimals):
                out.write(text)
                watch(done, len(layer))
            out.write("</Folder>\n")
        out.write("</Document>\n</kml>\n")


def _kml_type(column: pa.ChunkedArray) -> str:
    kind = column.type
    if pa.types.is_boolean(kind):
        return "bool"
    if pa.types.is_integer(kind):
        # the standard's whole numbers have 32 bits
        ends = pc.min_max(column).as_py()
        most = max(abs(ends["min"] or 0), abs(ends["max"] or 0))
        return "int" if most < 2**31 else "double" if most <= 2**53 else "string"
    return "double" if pa.types.is_floating(kind) else "string"


def _kml_rows(layer: Layer, number: int, decimals: int) -> Generator[tuple[int, str], None, None]:
    special = {n.lower(): n for n in layer.table.column_names if n.lower() in ("name", "description")}
    fields = [n for n in layer.table.column_names if n not in special.values()]
    for start in range(0, len(layer), _STEP):
        rows = layer.table.slice(start, _STEP).to_pylist() or [{}] * min(_STEP, len(layer) - start)
        shapes = layer.geometry[start : start + _STEP] if layer.geometry is not None else [None] * len(rows)
        lines = []
        for row, shape in zip(rows, shapes, strict=True):
            inner = "".join(f"<{t}>{_clean(_said(row[n]))}</{t}>" for t, n in sorted(special.items(), reverse=True) if row[n] is not None)
            data = "".join(f"<SimpleData name={_attribute(n)}>{_clean(_said(row[n]))}</SimpleData>" for n in fields if row[n] is not None)
            extended = f'<ExtendedData><SchemaData schemaUrl="#fields_{number}">{data}</SchemaData></ExtendedData>' if data else ""
            drawn = _kml_shape(shape, decimals) if shape is not None and not shape.is_empty else ""
            lines.append(f"<Placemark>{inner}{extended}{drawn}</Placemark>\n")
        yield min(start + _STEP, len(layer)), "".join(lines)


def _kml_shape(shape: Any, decimals: int) -> str:
    kind = shape.geom_type
    if kind.startswith("Multi") or kind == "GeometryCollection":
        return f"<MultiGeometry>{''.join(_kml_shape(p, decimals) for p in shapely.get_parts(shape))}</MultiGeometry>"
    # by the standard heights count only where that is said
    mode = "<altitudeMode>absolute</altitudeMode>" if shape.has_z else ""
    if kind == "Polygon":
        rings = [("outerBoundaryIs", shape.exterior), *(("innerBoundaryIs", r) for r in shape.interiors)]
        inner = "".join(f"<{tag}><LinearRing>{_places(r, decimals)}</LinearRing></{tag}>" for tag, r in rings)
        return f"<Polygon>{mode}{inner}</Polygon>"
    return f"<{kind}>{mode}{_places(shape, decimals)}</{kind}>"


def _places(shape: Any, decimals: int) -> str:
    xyz = shapely.get_coordinates(shape, include_z=bool(shape.has_z)).tolist()
    return f"<coordinates>{' '.join(','.join(_number(v, decimals) for v in p) for p in xyz)}</coordinates>"


def _number(value: float, decimals: int) -> str:
    return f"{value:.{decimals}f}".rstrip("0").rstrip(".") if decimals else f"{value:.0f}"


def _said(value: object) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, list | dict):
        return json.dumps(value, ensure_ascii=False, default=str)
    if isinstance(value, datetime) and value.tzinfo is not None:
        value = value.astimezone(UTC)
    if hasattr(value, "isoformat"):
        text = str(value.isoformat())
        return text.replace("+00:00", "Z")
    return repr(value) if isinstance(value, float) else str(value)


def _clean(text: str) -> str:
    """Text for XML; signs that XML 1.0 cannot hold are left out."""
    return escape("".join(c for c in text if c in "\t\n\r" or (ord(c) >= 32 and not _FORBIDDEN.match(c))))


def _attribute(text: str) -> str:
    return quoteattr(_clean_plain(text))


def _clean_plain(text: str) -> str:
    return "".join(c for c in text if ord(c) >= 32)


def count(path: Path) -> int:
    """Waypoints and tracks, or placemarks, in a file that this module wrote, counted in the file itself."""
    found, tail = 0, b""
    with path.open("rb") as stream:
        while piece := stream.read(1 << 22):
            text = tail + piece
            for mark in (b"<wpt ", b"<trk>", b"<Placemark>"):
                found += text.count(mark) - tail.count(mark)
            tail = text[-10:]
    return found


TEXTS = frozenset({"yes/no", "decimal", "date and time", "date", "time", "bytes", "list"})


class Markup(Format):
    """What KML and GPX share."""

    capacity = Capacity.SET
    crs = CRS84
    rounds = True
    words = frozenset({"title", "description"})

    def count(self, path: Path) -> int:
        return count(path)
