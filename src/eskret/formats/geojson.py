"""Write GeoJSON as RFC 7946 wants it: WGS 84, outer rings anticlockwise, cut at the antimeridian, bounded precision, a bounding
box; and as a text sequence (RFC 8142), or in another CRS where somebody asks for that.

Coordinates are written from plain arrays: making a text of each shape by itself takes four times as long.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import ClassVar

import numpy as np
import orjson
import pyarrow as pa
import pyarrow.compute as pc
import shapely

from eskret.core.crs import Extent, crs_facts, move, parse_crs, same_crs
from eskret.core.geometry import antimeridian
from eskret.core.geometry.globe.moving import reproject_whole
from eskret.core.layer import ChunkedLayer, Field, GeometryKind, Layer
from eskret.core.layer.wkb import LINE
from eskret.core.tables.rows import remaining
from eskret.core.words import pluralise
from eskret.errors import DeliveryError
from eskret.formats.fitting import Choices
from eskret.formats.format import CRS84, Coming, Format, Pairs, Put, Writing
from eskret.formats.geopackage.digesting import DigestingFile
from eskret.formats.holding import EXACT, Holds
from eskret.formats.reading import Watch, no_watch

DECIMALS = 7
"""About a centimetre of degrees; section 11.2 of the RFC advises against more than is meant."""
METRIC_DECIMALS = 3
STEP = 20_000
_MANY = 500_000
_OPTIONS = orjson.OPT_UTC_Z | orjson.OPT_SERIALIZE_NUMPY


@dataclass(frozen=True)
class Written:
    """What came of writing: positions (int64) of rows without a place in the CRS, left out; how many were cut; the file's digest."""

    lost: np.ndarray
    cut: int = 0
    sha256: str = ""


@dataclass(frozen=True)
class _Pieces:
    """Shapes of one single kind as arrays: vertices (n, 2), where each piece begins in them (p + 1), the feature of each."""

    kind: str
    xy: np.ndarray
    starts: np.ndarray
    owner: np.ndarray
    rows: int

    def objects(self, start: int, stop: int) -> list[object]:
        """The geometry of some features, to be written as JSON."""
        if self.kind == "Point":
            return [{"type": "Point", "coordinates": c} for c in self.xy[start:stop]]
        first, last = np.searchsorted(self.owner, [start, stop])
        bounds = self.starts[first : last + 1].tolist()
        cut = [self.xy[a:b] for a, b in pairwise(bounds)]
        if self.kind == "LineString":
            return [{"type": "LineString", "coordinates": c} for c in cut]
        begins = np.searchsorted(self.owner[first:last], np.arange(start, stop + 1)).tolist()
        return [{"type": "Polygon", "coordinates": cut[a:b]} for a, b in pairwise(begins)]

    def box(self) -> np.ndarray:
        if not len(self.xy):
            return np.full(4, np.nan)
        return np.concatenate([self.xy.min(axis=0), self.xy.max(axis=0)])


def decimals_for(crs: str | None) -> int:
    """Digits after the point that fit the unit of a CRS."""
    return DECIMALS if crs is None or crs_facts(crs).geographic else METRIC_DECIMALS


def prepare(layer: Layer, decimals: int, crs: str = CRS84, extent: Extent | None = None) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Geometry in longitude and latitude (or another CRS), rounded, rings wound by the right-hand rule; ``extent`` is that of all
    shapes, where these are some of them.

    Returns
    -------
    The geometry (same length as the layer), and the positions (int64) of rows that could not be brought there, and of those that
    were cut at the antimeridian or closed over a pole on the way.
    """
    geometry = layer.geometry if layer.geometry is not None else np.full(len(layer), None, dtype=object)
    lost = cut = np.empty(0, np.int64)
    if layer.crs is not None:
        found = reproject_whole(geometry, layer.crs, crs, extent=extent)
        geometry, lost, cut = found.geometry, found.lost, found.cut
    return shapely.orient_polygons(rounded(geometry, decimals)), lost, cut


def rounded(geometry: np.ndarray, decimals: int) -> np.ndarray:
    """Geometry whose coordinates have so many digits after the point."""
    has_z = shapely.has_z(geometry)
    out = np.asarray(shapely.transform(geometry, lambda c: np.round(c, decimals) + 0.0), object)
    if has_z.any():  # what is flat must stay so; heights are in metres, whatever the unit of the rest
        digits = np.array([decimals, decimals, METRIC_DECIMALS])

        def round_all(c: np.ndarray) -> np.ndarray:
            return np.column_stack([np.round(c[:, n], int(d)) + 0.0 for n, d in enumerate(digits[: c.shape[1]])])

        out[has_z] = shapely.transform(geometry[has_z], round_all, include_z=True)
    return out


def texts_of(geometry: np.ndarray) -> list[bytes]:
    """GeoJSON of each geometry; ``null`` for none. Empty ones keep their type with no coordinates."""
    texts = shapely.to_geojson(geometry)
    # the library writes 17 digits of a number (47.004970899999996): read again and written shortly it is as it was rounded
    return [b"null" if t is None else orjson.dumps(orjson.loads(t)) for t in texts]


def plain_value(value: object) -> object:
    """What stands in JSON for a value that has no form of its own there."""
    return value.hex() if isinstance(value, bytes) else str(value)


def _pieces(layer: Layer, decimals: int, crs: str, extent: Extent | None) -> _Pieces | None:
    """The layer's shapes as arrays in a CRS, where they are all points, lines or areas of single parts, all have a place there
    and none goes over the antimeridian; None where they must be looked at one by one."""
    encoded = layer.undecoded
    if encoded is None or not len(encoded):
        return None
    if encoded.xy is not None:
        kind, xy, starts, owner = "Point", encoded.xy, np.arange(len(encoded) + 1), np.arange(len(encoded))
    elif encoded.pieces is not None:
        kind = "LineString" if encoded.types[0] == LINE else "Polygon"
        xy, starts, owner = encoded.pieces
    else:
        return None
    if layer.crs is not None:
        xy = _moved(xy, layer.crs, crs, extent)
    if not np.isfinite(xy).all():
        return None
    beyond = (np.abs(xy[:, 1]) > 90).any()
    if same_crs(crs, CRS84) and (beyond or antimeridian.crossing(xy[:, 0], starts).any()):
        return None
    xy = np.round(xy, decimals) + 0.0
    if kind == "Polygon":
        xy = _wound(xy, starts, owner)
    return _Pieces(kind, np.ascontiguousarray(xy), starts, owner, len(encoded))


def _moved(xy: np.ndarray, source: str, target: str, extent: Extent | None) -> np.ndarray:
    """Coordinates in another CRS; many of them on two cores."""
    if len(xy) < _MANY or same_crs(source, target):
        return move(xy, source, target, extent)
    area = extent or (float(xy[:, 0].min()), float(xy[:, 1].min()), float(xy[:, 0].max()), float(xy[:, 1].max()))
    with ThreadPoolExecutor(2) as pool:
        return np.concatenate([*pool.map(lambda part: move(part, source, target, area), np.array_split(xy, 2))])


def _wound(xy: np.ndarray, starts: np.ndarray, owner: np.ndarray) -> np.ndarray:
    """Rings wound by the right-hand rule: shells anticlockwise, holes clockwise."""
    base = np.repeat(xy[starts[:-1]], np.diff(starts), axis=0)
    x, y = (xy - base).T
    cross = np.append(x[:-1] * y[1:] - x[1:] * y[:-1], 0.0)
    cross[starts[1:] - 1] = 0.0
    ccw = np.add.reduceat(cross, starts[:-1]) > 0
    shell = np.r_[True, owner[1:] != owner[:-1]]
    turn = ccw != shell
    if not turn.any():
        return xy
    place = np.arange(len(xy))
    length = np.diff(starts)
    inside = place - np.repeat(starts[:-1], length)
    back = np.repeat(starts[:-1] + length - 1, length) - inside
    return np.asarray(xy[np.where(np.repeat(turn, length), back, place)])


def features(layer: Layer, geometry: np.ndarray | _Pieces, watch: Watch = no_watch, indent: bool = False) -> Generator[bytes, None, None]:
    """The text of each feature, without what stands between them."""
    option = _OPTIONS | (orjson.OPT_INDENT_2 if indent else 0)
    total = len(layer)
    names = layer.table.column_names
    for start in range(0, total, STEP):
        stop = min(start + STEP, total)
        columns = [_values(c) for c in layer.table.slice(start, STEP).columns]
        rows = zip(*columns, strict=True) if columns else [()] * (stop - start)
        if isinstance(geometry, _Pieces):
            shapes = geometry.objects(start, stop)
        else:
            shapes = [orjson.Fragment(t) for t in texts_of(geometry[start:stop])]
        for row, shape in zip(rows, shapes, strict=True):
            record = {"type": "Feature", "properties": dict(zip(names, row, strict=True)), "geometry": shape}
            yield orjson.dumps(record, default=plain_value, option=option)
        watch(stop, total)


def _values(column: pa.ChunkedArray) -> list[object]:
    """A column as Python values; numbers by way of arrays, which is faster."""
    if pa.types.is_floating(column.type):
        values = np.asarray(pc.fill_null(column, float("nan")))
        return list(values.tolist())  # what is no number is written as null, as JSON wants it
    if pa.types.is_timestamp(column.type) and column.type.tz:
        column = column.cast(pa.timestamp(column.type.unit, "UTC"))
    if pa.types.is_timestamp(column.type) and column.type.unit == "ns":
        column = column.cast(pa.timestamp("us", column.type.tz), safe=False)
    return list(column.to_pylist())


def write(
    path: Path,
    layer: Layer,
    *,
    decimals: int | None = None,
    bounding_box: bool = True,
    indent: bool = False,
    crs: str = CRS84,
    sequence: bool = False,
    members: Mapping[str, str] | None = None,
    watch: Watch = no_watch,
) -> Written:
    """Write one layer as a feature collection, or as a sequence of features.

    Parameters
    ----------
    path : a file that does not exist yet.
    decimals : digits after the point; None for as many as fit the unit.
    indent : spread over lines for people; else one feature a line.
    crs : another than WGS 84 is named in the file, as parties have agreed to read it (RFC 7946, section 4).
    sequence : a text sequence: each feature begins with a record separator and ends with a line feed.
    members : more members of the collection, such as a title.
    """
    digits = decimals_for(crs) if decimals is None else decimals
    layer, geometry, lost, cut = _brought(layer, digits, crs)
    with DigestingFile(path) as out:
        if not sequence:
            out.write(_head(members or {}, crs, _box(geometry, len(cut) > 0) if bounding_box else None))
        _put(out, layer, geometry, watch, indent, sequence)
        out.write(b"" if sequence else b"\n]}\n")
    return Written(lost, len(cut), out.sha256)


def whole_box(chunks: Iterable[Layer], decimals: int, crs: str, extent: Extent | None, watch: Watch = no_watch) -> np.ndarray | None:
    """The bounding box of the chunks of a layer once they are written; None where one of their shapes is cut on the way or finds no
    place, so that the layer must be looked at whole.

    Parameters
    ----------
    extent : of all of them, as they are.
    """
    boxes = [np.full(6, np.nan)]
    done = 0
    for chunk in chunks:
        _, geometry, lost, cut = _brought(chunk, decimals, crs, extent)
        if len(lost) or len(cut):
            return None
        box = _box(geometry, False)
        boxes.append(box if len(box) == 6 else np.array([box[0], box[1], np.nan, box[2], box[3], np.nan]))
        done += len(chunk)
        watch(done, done)
    found = np.concatenate([np.fmin.reduce(boxes)[:3], np.fmax.reduce(boxes)[3:]])
    return found if not np.isnan(found[2]) else found[[0, 1, 3, 4]]


def write_rows(
    path: Path,
    chunks: Iterable[Layer],
    box: np.ndarray,
    rows: int,
    *,
    decimals: int,
    crs: str = CRS84,
    extent: Extent | None = None,
    sequence: bool = False,
    members: Mapping[str, str] | None = None,
    watch: Watch = no_watch,
) -> str:
    """Write a layer that comes in chunks as ``write`` does one that is there whole; gives the file's digest.

    Parameters
    ----------
    box, extent : of all of them, as ``whole_box`` gives and takes them.
    rows : how many there will be.
    """
    done = 0
    with DigestingFile(path) as out:
        if not sequence:
            out.write(_head(members or {}, crs, box))
        for chunk in chunks:
            layer, geometry, _, _ = _brought(chunk, decimals, crs, extent)
            _put(out, layer, geometry, partial(_further, watch, done, rows), False, sequence, done > 0)
            done += len(layer)
        out.write(b"" if sequence else b"\n]}\n")
    return out.sha256


def _further(watch: Watch, before: int, of: int, done: int, _: int) -> None:
    watch(before + done, of)


def _brought(
    layer: Layer, digits: int, crs: str, extent: Extent | None = None
) -> tuple[Layer, np.ndarray | _Pieces, np.ndarray, np.ndarray]:
    """The rows that have a place in the CRS and their shapes there, rounded, wound and cut; the positions (int64) of those that have
    none, and of those that were cut or closed."""
    pieces = _pieces(layer, digits, crs, extent)
    nothing = np.empty(0, np.int64)
    if pieces is not None:
        return layer, pieces, nothing, nothing
    shapes, lost, closed = prepare(layer, digits, crs, extent)
    if len(lost):
        stays = remaining(len(layer), lost)
        layer, shapes = layer.take(stays), shapes[stays]
        closed = np.searchsorted(stays, closed)
    if not same_crs(crs, CRS84):
        return layer, shapes, lost, nothing
    _check_degrees(shapes, layer)
    shapes, cut = antimeridian.cut(shapes)
    shapes[cut] = shapely.orient_polygons(rounded(shapes[cut], digits))
    return layer, shapes, lost, np.union1d(cut, closed)


def _check_degrees(shapes: np.ndarray, layer: Layer) -> None:
    off = antimeridian.no_degrees(shapes)
    if len(off):
        most = float(np.abs(shapely.bounds(shapes[off])).max())
        raise DeliveryError(
            f"{pluralise(len(off), 'feature has', 'features have')} coordinates of up to {most:,.0f}, which are no degrees",
            place=layer.key,
            way_out="Say which coordinate system it is in where it is loaded",
        )


def _head(members: Mapping[str, str], crs: str, box: np.ndarray | None) -> bytes:
    """What stands before the features of a collection."""
    out = [b'{"type":"FeatureCollection",']
    out += [orjson.dumps(name) + b":" + orjson.dumps(said) + b"," for name, said in members.items()]
    if not same_crs(crs, CRS84):
        out.append(b'"crs":' + orjson.dumps(_named(crs)) + b",")
    if box is not None and not np.isnan(box).any():
        out.append(b'"bbox":' + orjson.dumps([float(v) for v in box]) + b",")
    return b"".join(out) + b'"features":[\n'


def _put(
    out: DigestingFile, layer: Layer, geometry: np.ndarray | _Pieces, watch: Watch, indent: bool, sequence: bool, behind: bool = False
) -> None:
    """The features, each on a line; ``behind`` others where there are some already."""
    before, after = (b"\x1e", b"\n") if sequence else (b",\n" if behind else b"", b"")
    for text in features(layer, geometry, watch, indent):
        out.write(before + text + after)
        before = before if sequence else b",\n"


def _named(crs: str) -> dict[str, object]:
    """A CRS as the member that GeoJSON had before the RFC, which readers still know."""
    authority, _, code = (crs_facts(crs).code or "").partition(":")
    name = f"urn:ogc:def:crs:{authority}::{code}" if code else parse_crs(crs).to_wkt()
    return {"type": "name", "properties": {"name": name}}


def _box(geometry: np.ndarray | _Pieces, over: bool) -> np.ndarray:
    """West, south, east, north, with the lowest and highest where there are heights; west is greater than east for what goes
    over the antimeridian (section 5.2)."""
    if isinstance(geometry, _Pieces):
        return geometry.box()
    if not len(geometry):
        return np.full(4, np.nan)
    box = np.asarray(shapely.total_bounds(geometry), float)
    if over:
        box[0], box[2] = antimeridian.around(shapely.bounds(shapely.get_parts(geometry)))
    if shapely.has_z(geometry).any() and not np.isnan(box).any():
        heights = shapely.get_coordinates(geometry, include_z=True)[:, 2]
        heights = heights[~np.isnan(heights)]
        if len(heights):
            box = np.array([box[0], box[1], heights.min(), box[2], box[3], heights.max()])
    return box


def count(path: Path) -> int:
    """Features in a file that this module wrote, counted in the file itself."""
    found, tail = 0, b""
    with path.open("rb") as stream:
        mark = b'"type": "Feature"' if b'\n  "type"' in stream.read(4096) else b'"type":"Feature"'
        stream.seek(0)
        while chunk := stream.read(1 << 22):
            piece = tail + chunk
            found += piece.count(mark + b",")
            tail = piece[-len(mark) :]
    return found


def losses(schema: pa.Schema) -> list[str]:
    """What GeoJSON cannot hold of these fields, in sentences."""
    out = []
    for field in schema:
        if pa.types.is_timestamp(field.type) or pa.types.is_date(field.type) or pa.types.is_time(field.type):
            zoned = pa.types.is_timestamp(field.type) and field.type.tz
            out.append(f"'{field.name}' becomes text{', in UTC' if zoned else ''}")
        elif pa.types.is_binary(field.type):
            out.append(f"'{field.name}' becomes hexadecimal text")
    return out


class GeoJson(Format):
    """One layer, in WGS 84."""

    title = "GeoJSON"
    read_endings = {".geojson": "GeoJSON", ".json": "GeoJSON"}
    written_endings: ClassVar[tuple[str, ...]] = (".geojson", ".json")
    changes = True
    crs = CRS84
    native = True
    rounds = True
    words = frozenset({"title", "description", "licence"})
    values = Holds("GeoJSON", frozenset({"decimal"}), infinity=False, exact=EXACT, digits=6, measures=False, empty_fields=False)
    sequence: ClassVar[bool] = False

    def field_losses(self, fields: Sequence[Field], choices: Choices, kind: GeometryKind) -> list[str]:
        return losses(pa.schema([pa.field(f.name, f.type) for f in fields]))

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        done = write(
            path,
            pairs[0][0],
            decimals=how.decimals,
            indent=how.indent and not self.sequence,
            crs=how.crs,
            sequence=self.sequence,
            members=self._members(how),
            watch=watch,
        )
        return Put(self.count(path), done.lost, done.cut, done.sha256)  # type: ignore[arg-type]

    def looks_first(self, chunks: Iterable[Layer], like: ChunkedLayer, how: Writing, watch: Watch = no_watch) -> np.ndarray | None:
        if how.indent and not self.sequence:
            return None  # which is for people, and so no large file; shapes are spread over lines or not as all of them are
        return whole_box(chunks, self._digits(how), how.crs, like.facts().extent, watch)

    def takes_chunks(self, layer: ChunkedLayer) -> bool:
        return True

    def write_chunks(self, path: Path, coming: Coming, how: Writing, watch: Watch = no_watch) -> Put:
        told = write_rows(
            path,
            coming.chunks,
            coming.looked,
            len(coming.like),
            decimals=self._digits(how),
            crs=how.crs,
            extent=coming.like.facts().extent,
            sequence=self.sequence,
            members=self._members(how),
            watch=watch,
        )
        return Put(self.count(path), sha256=told)

    @staticmethod
    def _digits(how: Writing) -> int:
        return decimals_for(how.crs) if how.decimals is None else how.decimals

    @staticmethod
    def _members(how: Writing) -> dict[str, str]:
        return {{"licence": "license"}.get(n, n): t for n, t in how.words.items() if t}

    def count(self, path: Path) -> int:
        return count(path)


class GeoJsonSequence(GeoJson):
    """A feature a line."""

    title = "GeoJSON text sequence"
    read_endings = {".geojsonl": "GeoJSON text sequence", ".geojsons": "GeoJSON text sequence"}
    written_endings = (".geojsons",)
    words = frozenset()
    sequence = True
