"""GPX 1.0 and 1.1: waypoints, routes, route points, tracks and track points of one recording.

Source: the GPX 1.1 schema. By that standard, coordinates are WGS 84 and times are UTC unless they say otherwise.
A document type declaration is refused: a recording needs none, and it is the door for entity bombs and for reading
other files.
"""

from __future__ import annotations

import io
import math
import re
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path
from typing import Any
from xml.parsers import expat

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.accounts.account import Remark
from eskret.core.crs import WGS84
from eskret.core.layer import Field, GeometryKind, Layer, LayerFacts
from eskret.core.words import pluralise
from eskret.errors import InputError
from eskret.formats import geojson, markup
from eskret.formats.fitting import Choices
from eskret.formats.format import Pairs, Put, Reader, Writing
from eskret.formats.holding import Holds
from eskret.formats.markup import TEXTS, Markup
from eskret.formats.reading import AS_DECLARED, Reading, Texts, Watch, no_watch
from eskret.formats.vector import check_readable
from eskret.formats.xml_text import source_of, unknown_encoding

PARTS = ("waypoints", "routes", "route_points", "tracks", "track_points")
_TIME = pa.timestamp("ms", "UTC")
# Fields that a layer always has, so that a workflow does not break when a recording leaves one out.
_POINT_FIELDS = ("name", "desc", "cmt", "sym", "type", "ele", "time")
_NUMBERS = {"ele", "magvar", "geoidheight", "hdop", "vdop", "pdop", "ageofdgpsdata"}
_WHOLE_TEXT = re.compile(r"\s*[+-]?\d+\s*")
_WORDS = {"name", "cmt", "desc", "src"}
"""What somebody wrote, blanks and all."""
_WHOLE = {"sat", "dgpsid", "number"}
_POINT_CHILDREN = {*_POINT_FIELDS, *_NUMBERS, *_WHOLE, "src", "fix", "url", "urlname", "speed", "course"} - {"number"}
_PATH_FIELDS = ("name", "desc", "cmt", "type", "number")
_PATH_CHILDREN = {*_PATH_FIELDS, "src", "url", "urlname"}
_BAD_PLACE = "has no valid latitude and longitude"


@dataclass
class _Rows:
    """Rows of one part as they are met: values, and the coordinates or the points of each."""

    values: list[dict[str, Any]] = field(default_factory=list)
    lon: list[float] = field(default_factory=list)
    lat: list[float] = field(default_factory=list)
    lines: list[int] = field(default_factory=list)


class _Reader:
    """Takes expat's events and keeps rows. ``_path`` holds the local names of the open elements."""

    def __init__(self, file: str, watch: Watch) -> None:
        self.file = file
        self.watch = watch
        self.parts = {part: _Rows() for part in PARTS}
        self.empty_segments = 0
        self.bad_values: list[str] = []
        self._path: list[str] = []
        self._text: list[str] = []
        self._point: dict[str, Any] | None = None
        self._line: dict[str, Any] | None = None
        self._segments: list[list[tuple[float, float]]] = []
        self._times: list[datetime] = []
        self._place = (math.nan, math.nan)
        self._started = 0
        self.parser = expat.ParserCreate(namespace_separator=" ")
        self.parser.buffer_text = True
        self.parser.StartElementHandler = self._open
        self.parser.EndElementHandler = self._close
        self.parser.CharacterDataHandler = self._text.append
        self.parser.StartDoctypeDeclHandler = self._refuse

    def _refuse(self, *_: Any) -> None:
        raise InputError(
            "it declares a document type, which a GPX recording must not",
            place=f"{self.file}, line {self.parser.CurrentLineNumber}",
            way_out="Take the <!DOCTYPE ...> out, or ask where the file comes from",
        )

    def _open(self, tag: str, attributes: dict[str, str]) -> None:
        name = tag.rpartition(" ")[2]
        depth = len(self._path)
        if depth == 0 and name != "gpx":
            raise InputError(f"it is XML but no GPX recording: it begins with <{name}>", place=self.file)
        self._path.append(name)
        self._text.clear()
        parent = self._path[depth - 1] if depth else ""
        if (name == "wpt" and parent == "gpx") or (name == "rtept" and parent == "rte") or (name == "trkpt" and parent == "trkseg"):
            self._point = {}
            self._started = self.parser.CurrentLineNumber
            self._place = (_degrees(attributes.get("lon"), 180.0), _degrees(attributes.get("lat"), 90.0))
        elif name in ("rte", "trk") and parent == "gpx":
            self._line = {}
            self._segments = [[]] if name == "rte" else []
            self._times = []
        elif name == "trkseg" and parent == "trk":
            self._segments.append([])
        elif name == "link" and self._path[-2] in ("wpt", "rtept", "trkpt", "rte", "trk"):
            target = self._point if self._point is not None else self._line
            if target is not None and attributes.get("href"):
                target.setdefault("link", attributes["href"])

    def _close(self, tag: str) -> None:
        name = self._path.pop()
        text = "".join(self._text)
        self._text.clear()
        parent = self._path[-1] if self._path else ""
        if name in ("wpt", "rtept", "trkpt") and self._point is not None and parent in ("gpx", "rte", "trkseg"):
            self._end_point(name)
        elif name == "trkseg" and self._segments and not self._segments[-1]:
            self.empty_segments += 1
        elif name in ("rte", "trk") and parent == "gpx" and self._line is not None:
            self._end_line(name)
        elif self._point is not None:
            self._value(self._point, name, text, _POINT_CHILDREN, ("wpt", "rtept", "trkpt"))
        elif self._line is not None:
            self._value(self._line, name, text, _PATH_CHILDREN, ("rte", "trk"))

    def _value(self, target: dict[str, Any], name: str, text: str, known: set[str], owners: tuple[str, ...]) -> None:
        if not text.strip():
            return
        if name not in _WORDS and self._path[-1] in owners:
            text = text.strip()
        if self._path[-1] in owners and name in known:
            target[name] = self._typed(name, text)
        elif "extensions" in self._path[2:]:
            # extensions are kept under their local name; one that hides a field of the standard is marked
            target.setdefault(f"ext_{name}" if name in known else name, text)

    def _typed(self, name: str, text: str) -> Any:
        try:
            if name in _NUMBERS or name in ("speed", "course"):
                value = float(text)
                return value if math.isfinite(value) else None
            if name in _WHOLE:
                return int(text)
            if name == "time":
                return parse_time(text)
        except (ValueError, OverflowError):
            self.bad_values.append(f"{name} '{text[:30]}' in line {self.parser.CurrentLineNumber}")
            return None
        return text

    def _end_point(self, name: str) -> None:
        point = self._point or {}
        self._point = None
        rows = self.parts[{"wpt": "waypoints", "rtept": "route_points", "trkpt": "track_points"}[name]]
        if self._line is not None:
            noun = "route" if name == "rtept" else "track"
            line_rows = self.parts[noun + "s"]
            point[noun] = len(line_rows.values) + 1
            point[f"{noun}_name"] = self._line.get("name")
            if noun == "track":
                point["segment"] = len(self._segments)
            segment = self._segments[-1] if self._segments else []
            point["point"] = len(segment) + 1
            segment.append(self._place)
            if point.get("time"):
                self._times.append(point["time"])
        rows.values.append(point)
        rows.lon.append(self._place[0])
        rows.lat.append(self._place[1])
        rows.lines.append(self._started)
        if len(rows.values) % 20_000 == 0:
            self.watch(len(rows.values), 0)

    def _end_line(self, name: str) -> None:
        line = self._line or {}
        self._line = None
        line["points"] = sum(len(s) for s in self._segments)
        if name == "trk":
            line["segments"] = len(self._segments)
            line["started"] = min(self._times, default=None)
            line["ended"] = max(self._times, default=None)
        rows = self.parts["routes" if name == "rte" else "tracks"]
        line["_segments"] = self._segments
        rows.values.append(line)
        self._segments = []


def _degrees(text: str | None, limit: float) -> float:
    try:
        value = float(text) if text is not None else math.nan
    except ValueError:
        return math.nan
    return value if abs(value) <= limit else math.nan


def parse_time(text: str) -> datetime:
    """An XML Schema dateTime in UTC; one without a zone is UTC, as GPX says.

    Raises
    ------
    ValueError : no such time.
    """
    found = datetime.fromisoformat(text)
    return found.replace(tzinfo=UTC) if found.tzinfo is None else found.astimezone(UTC)


def read_parts(path: Path, watch: Watch = no_watch) -> dict[str, Reading]:
    """All parts of a recording that hold something; the key of each is ``{file}_{part}``.

    Raises
    ------
    InputError : not well-formed, no GPX, or with a document type; says the line.
    """
    check_readable(path)
    reader = _Reader(str(path), watch)
    try:
        source = source_of(path)
        with io.BytesIO(source.file) if isinstance(source.file, bytes) else source.file.open("rb") as stream:
            while chunk := stream.read(1 << 20):
                reader.parser.Parse(chunk, False)
            reader.parser.Parse(b"", True)
    except expat.ExpatError as error:
        raise InputError(
            f"it is not well-formed in line {error.lineno}: {expat.ErrorString(error.code)}",
            place=str(path),
            way_out="The recording was probably cut short; copy it from the unit again",
        ) from error
    except LookupError as error:
        raise unknown_encoding(path) from error
    shared: list[Remark] = list(source.remarks)
    if reader.empty_segments:
        shared.append(Remark(f"{pluralise(reader.empty_segments, 'empty track segment')} left out"))
    if reader.bad_values:
        shown = "; ".join(reader.bad_values[:3])
        shared.append(Remark(f"{pluralise(len(reader.bad_values), 'value')} could not be read and left empty: {shown}", look=True))
    out: dict[str, Reading] = {}
    for part, rows in reader.parts.items():
        if rows.values:
            build = _lines if part in ("routes", "tracks") else _points
            out[part] = build(path, part, rows, tuple(shared))
            shared = []
    return out


def _points(path: Path, part: str, rows: _Rows, remarks: tuple[Remark, ...]) -> Reading:
    lon, lat = np.array(rows.lon), np.array(rows.lat)
    bad = np.flatnonzero(np.isnan(lon) | np.isnan(lat))
    good = np.flatnonzero(~(np.isnan(lon) | np.isnan(lat)))
    values = [rows.values[i] for i in good]
    leading = {"route_points": ("route", "route_name", "point"), "track_points": ("track", "track_name", "segment", "point")}.get(part, ())
    table = _table(values, (*leading, *_POINT_FIELDS))
    if len(bad):
        where = ", ".join(str(rows.lines[i]) for i in bad[:5]) + (" ..." if len(bad) > 5 else "")
        remarks = (*remarks, Remark(f"{pluralise(len(bad), 'point')} without a valid place, in line {where}", look=True))
    places = np.asarray(shapely.points(lon[good], lat[good]))
    layer = Layer(f"{path.stem}_{part}", table, places, WGS84, part, str(path), kind=GeometryKind.POINT)
    return Reading(layer, len(lon), ((_BAD_PLACE, bad),) if len(bad) else (), remarks)


def _lines(path: Path, part: str, rows: _Rows, remarks: tuple[Remark, ...]) -> Reading:
    geometry = np.empty(len(rows.values), dtype=object)
    lone = undrawn = 0
    for i, row in enumerate(rows.values):
        pieces = []
        for segment in row.pop("_segments"):
            places = [p for p in segment if not (math.isnan(p[0]) or math.isnan(p[1]))]
            lone += len(places) == 1
            if len(places) > 1:
                pieces.append(places)
        if part == "routes":
            geometry[i] = shapely.LineString(pieces[0]) if pieces else None
        else:
            geometry[i] = shapely.MultiLineString(pieces) if pieces else None
        undrawn += geometry[i] is None
    if lone:
        remarks = (*remarks, Remark(f"{pluralise(lone, 'segment')} of a single point draw no line"))
    if undrawn:
        remarks = (*remarks, Remark(f"{pluralise(undrawn, part[:-1])} without a line to draw", look=True))
    extra = ("points",) if part == "routes" else ("segments", "points", "started", "ended")
    table = _table(rows.values, (*_PATH_FIELDS, *extra))
    layer = Layer(f"{path.stem}_{part}", table, geometry, WGS84, part, str(path), kind=GeometryKind.LINE)
    return Reading(layer, len(rows.values), (), remarks)


def _table(rows: list[dict[str, Any]], always: tuple[str, ...]) -> pa.Table:
    """Columns in a fixed order, then what else was met, in the order it was met."""
    names = list(always)
    met: defaultdict[str, None] = defaultdict()
    for row in rows:
        for name in row:
            met[name] = None
    names += [n for n in met if n not in always]
    return pa.table({name: _column(name, [row.get(name) for row in rows]) for name in names})


def _column(name: str, values: list[Any]) -> pa.Array:
    if name in ("time", "started", "ended"):
        return pa.array(values, _TIME)
    if name in _NUMBERS or name in ("speed", "course"):
        return pa.array([_as_float(v) for v in values], pa.float64())
    if name in _WHOLE or name in ("route", "track", "segment", "segments", "point", "points"):
        return pa.array([v if isinstance(v, int) else None for v in values], pa.int64())
    if name in _POINT_CHILDREN or name in _PATH_CHILDREN or name in ("link", "route_name", "track_name"):
        return pa.array(values, pa.string())
    if any(v is not None and len(str(v)) > 15 for v in values) and all(v is None or _WHOLE_TEXT.fullmatch(str(v)) for v in values):
        # of so many digits a number would not keep all
        whole = [None if v is None else int(v) for v in values]
        if all(v is None or -(2**63) <= v < 2**63 for v in whole):
            return pa.array(whole, pa.int64())
        return pa.array([None if v is None else str(v) for v in values], pa.string())
    numbers = [_as_float(v) for v in values]
    if all(n is not None for n, v in zip(numbers, values, strict=True) if v is not None):
        return pa.array(numbers, pa.float64())
    return pa.array([None if v is None else str(v) for v in values], pa.string())


def _as_float(value: Any) -> float | None:
    try:
        return None if value is None else float(value)
    except ValueError:
        return None


@lru_cache(maxsize=16)
def _cached(path: Path, changed: int, size: int) -> dict[str, Reading]:
    return read_parts(path)


def parts_of(path: Path) -> dict[str, Reading]:
    """As ``read_parts``, remembered while the file does not change: rehearsal and the window ask often."""
    check_readable(path)
    stat = path.stat()
    return _cached(path, stat.st_mtime_ns, stat.st_size)


def layer_names(path: Path) -> list[str]:
    """The parts of a recording that hold something."""
    return list(parts_of(path))


def facts(path: Path, name: str, key: str, texts: Texts = AS_DECLARED) -> LayerFacts:
    """Facts of one part; the file is read for them."""
    return read(path, name, key).facts()


def read(path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch) -> Reading:
    """Read one part."""
    reading = _part(path, name)
    return replace(reading, layer=reading.layer.with_key(key))


def _part(path: Path, name: str) -> Reading:
    parts = parts_of(path)
    if name not in parts:
        raise InputError(f"it has no {name.replace('_', ' ')}", place=str(path))
    return parts[name]


class Gpx(Markup):
    """Waypoints and tracks."""

    title = "GPX"
    read_endings = {".gpx": "GPX"}
    written_endings = (".gpx",)
    reads_with = Reader(layer_names, facts, read)
    tables = False
    kinds = frozenset({GeometryKind.POINT, GeometryKind.LINE})
    values = Holds(
        "GPX",
        TEXTS,
        nan=True,
        digits=9,
        measures=False,
        nulls=False,
        empty_fields=False,
        empty_columns=False,
        empty_texts=False,
        heights_as="ele",
    )

    def field_losses(self, fields: Sequence[Field], choices: Choices, kind: GeometryKind) -> list[str]:
        return markup.gpx_losses([f.name for f in fields], kind)

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        markup.write_gpx(path, pairs, how.words, geojson.DECIMALS if how.decimals is None else how.decimals, watch)
        return Put(self.count(path))
