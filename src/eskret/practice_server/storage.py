"""Where the practice server keeps its datasets: one SQLite file."""

from __future__ import annotations

import sqlite3
from collections.abc import Generator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import orjson
import shapely
from shapely.geometry.base import BaseGeometry

_TABLES = """
CREATE TABLE IF NOT EXISTS dataset (
  name TEXT PRIMARY KEY, title TEXT NOT NULL, description TEXT NOT NULL, properties TEXT NOT NULL, updated TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS feature (
  id INTEGER PRIMARY KEY AUTOINCREMENT, dataset TEXT NOT NULL REFERENCES dataset (name) ON DELETE CASCADE,
  body BLOB NOT NULL, version INTEGER NOT NULL, west REAL, south REAL, east REAL, north REAL, low REAL, high REAL,
  begins TEXT, ends TEXT);
CREATE INDEX IF NOT EXISTS feature_of ON feature (dataset, id);
"""


@dataclass(frozen=True)
class StoredDataset:
    """A dataset's own words. ``properties`` are JSON schemas of its features' properties, by name."""

    name: str
    title: str
    description: str = ""
    properties: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    updated: str = ""

    def times(self) -> list[str]:
        """The properties that hold a date or a date with a time."""
        return [n for n, s in self.properties.items() if s.get("format") in ("date", "date-time")]


@dataclass(frozen=True)
class StoredItem:
    """A feature as it is kept: the JSON of its geometry and properties, its number and version."""

    id: int
    version: int
    body: bytes

    @property
    def etag(self) -> str:
        return f'"{self.id}-{self.version}"'

    def text(self, links: bytes = b"") -> bytes:
        """The feature as GeoJSON; ``links`` are put in as a member where they are given."""
        more = b',"links":' + links if links else b""
        return b'{"type":"Feature","id":"%d",%s%s}' % (self.id, self.body, more)


@dataclass(frozen=True)
class ItemQuery:
    """Which features are asked for. ``boxes`` are west, south, east, north and, where given, bottom and top; any counts."""

    boxes: Sequence[Sequence[float]] = ()
    begins: str = ""
    ends: str = ""
    values: Sequence[tuple[str, str]] = ()

    @property
    def everything(self) -> bool:
        return not (self.boxes or self.begins or self.ends or self.values)


class Storage:
    """The datasets. Used by one thread at a time."""

    def __init__(self, file: Path) -> None:
        file.parent.mkdir(parents=True, exist_ok=True)
        self._db = sqlite3.connect(file, isolation_level=None, check_same_thread=False)
        self._db.execute("PRAGMA journal_mode = WAL")
        self._db.execute("PRAGMA synchronous = NORMAL")
        self._db.execute("PRAGMA foreign_keys = ON")
        self._db.executescript(_TABLES)
        self._db.create_function("meets", 2, self._meets, deterministic=True)
        self._asked: list[BaseGeometry] = []
        self._version = int(self._db.execute("SELECT coalesce(max(version), 0) FROM feature").fetchone()[0])

    def close(self) -> None:
        self._db.close()

    @contextmanager
    def _whole(self) -> Generator[None, None, None]:
        self._db.execute("BEGIN IMMEDIATE")
        try:
            yield
        except BaseException:
            self._db.execute("ROLLBACK")
            raise
        self._db.execute("COMMIT")

    # -- datasets

    def datasets(self) -> list[StoredDataset]:
        return [_dataset(row) for row in self._db.execute("SELECT * FROM dataset ORDER BY name")]

    def dataset(self, name: str) -> StoredDataset | None:
        row = self._db.execute("SELECT * FROM dataset WHERE name = ?", (name,)).fetchone()
        return None if row is None else _dataset(row)

    def make(self, dataset: StoredDataset) -> None:
        with self._whole():
            self._db.execute(
                "INSERT INTO dataset VALUES (?, ?, ?, ?, ?)",
                (dataset.name, dataset.title, dataset.description, orjson.dumps(dataset.properties).decode(), _now()),
            )

    def drop(self, name: str) -> None:
        with self._whole():
            self._db.execute("DELETE FROM dataset WHERE name = ?", (name,))

    def extent(self, name: str) -> tuple[list[float] | None, list[str | None]]:
        """West, south, east, north of all features, and the first and last time."""
        row = self._db.execute(
            "SELECT min(west), min(south), max(east), max(north), min(begins), max(ends) FROM feature WHERE dataset = ?", (name,)
        ).fetchone()
        return (None if row[0] is None else list(row[:4])), [row[4], row[5]]

    # -- features

    def count(self, name: str, wanted: ItemQuery) -> int:
        where, values = self._where(name, wanted)
        return int(self._db.execute(f"SELECT count(*) FROM feature WHERE {where}", values).fetchone()[0])

    def page(self, name: str, wanted: ItemQuery, after: int, limit: int) -> list[StoredItem]:
        """At most so many features in the order of their numbers, from behind one on."""
        where, values = self._where(name, wanted)
        found = self._db.execute(
            f"SELECT id, version, body FROM feature WHERE {where} AND id > ? ORDER BY id LIMIT ?", (*values, after, limit)
        )
        return [StoredItem(*row) for row in found]

    def item(self, name: str, id: int) -> StoredItem | None:
        found = self._db.execute("SELECT id, version, body FROM feature WHERE dataset = ? AND id = ?", (name, id)).fetchone()
        return None if found is None else StoredItem(*found)

    def create(self, dataset: StoredDataset, feature: Mapping[str, Any]) -> StoredItem:
        with self._whole():
            version = self._next(dataset, feature)
            body = _body(feature)
            made = self._db.execute(
                "INSERT INTO feature (dataset, body, version, west, south, east, north, low, high, begins, ends) "
                "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                (dataset.name, body, version, *_box(feature), *_span(feature, dataset.times())),
            ).lastrowid
        assert made is not None
        return StoredItem(made, version, body)

    def replace(self, dataset: StoredDataset, id: int, feature: Mapping[str, Any]) -> StoredItem:
        with self._whole():
            version = self._next(dataset, feature)
            body = _body(feature)
            self._db.execute(
                "UPDATE feature SET body = ?, version = ?, west = ?, south = ?, east = ?, north = ?, low = ?, high = ?, "
                "begins = ?, ends = ? WHERE dataset = ? AND id = ?",
                (body, version, *_box(feature), *_span(feature, dataset.times()), dataset.name, id),
            )
        return StoredItem(id, version, body)

    def remove(self, dataset: StoredDataset, id: int) -> None:
        with self._whole():
            self._next(dataset, {})
            self._db.execute("DELETE FROM feature WHERE dataset = ? AND id = ?", (dataset.name, id))

    def _next(self, dataset: StoredDataset, feature: Mapping[str, Any]) -> int:
        """A version that none had before; the dataset is marked as changed, with properties it did not know."""
        self._version += 1
        known = dict(dataset.properties)
        for name, value in (feature.get("properties") or {}).items():
            if value is not None and name not in known:
                known[name] = schema_of(value)
        self._db.execute(
            "UPDATE dataset SET updated = ?, properties = ? WHERE name = ?", (_now(), orjson.dumps(known).decode(), dataset.name)
        )
        return self._version

    # -- choosing

    def _where(self, name: str, wanted: ItemQuery) -> tuple[str, list[object]]:
        terms: list[str] = ["dataset = ?"]
        values: list[Any] = [name]
        if wanted.boxes:
            # what has no place is in every box (17-069r4, 7.15.3, from memory)
            places = []
            for number, box in enumerate(wanted.boxes):
                west, south, east, north = box[:4]
                inside = "(west >= ? AND east <= ? AND south >= ? AND north <= ?)"
                near = "(west <= ? AND east >= ? AND south <= ? AND north >= ?)"
                place = f"({near} AND ({inside} OR meets(body, {number})))"
                values += [east, west, north, south, west, east, south, north]
                if len(box) == 6:
                    place = f"({place} AND (low IS NULL OR (low <= ? AND high >= ?)))"
                    values += [box[5], box[4]]
                places.append(place)
            terms.append(f"(west IS NULL OR {' OR '.join(places)})")
            self._asked = [shapely.box(b[0], b[1], b[2], b[3]) for b in wanted.boxes]
        if wanted.begins:
            terms.append("(ends IS NULL OR ends >= ?)")
            values.append(wanted.begins)
        if wanted.ends:
            terms.append("(begins IS NULL OR begins <= ?)")
            values.append(wanted.ends)
        for name_, value in wanted.values:
            path = '$.properties."' + name_.replace('"', '\\"') + '"'
            terms.append("CAST(json_extract('{' || CAST(body AS TEXT) || '}', ?) AS TEXT) = ?")
            values += [path, {"true": "1", "false": "0"}.get(value, value)]
        return " AND ".join(terms), values

    def _meets(self, body: bytes, number: int) -> bool:
        """Whether a feature that crosses the edge of a box lies in it in part."""
        shape = shapely.from_geojson(orjson.dumps(orjson.loads(b"{%s}" % body)["geometry"]), on_invalid="ignore")
        return shape is None or bool(shapely.intersects(shape, self._asked[number]))


def schema_of(value: Any) -> dict[str, Any]:
    """The JSON schema of a property that has this value."""
    if isinstance(value, bool):
        return {"type": "boolean"}
    if isinstance(value, int):
        return {"type": "integer"}
    if isinstance(value, float):
        return {"type": "number"}
    if isinstance(value, list):
        return {"type": "array"}
    if isinstance(value, dict):
        return {"type": "object"}
    return {"type": "string"}


def _dataset(row: Sequence[str]) -> StoredDataset:
    return StoredDataset(row[0], row[1], row[2], orjson.loads(row[3]), row[4])


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _body(feature: Mapping[str, object]) -> bytes:
    """Geometry and properties as the inner text of an object; other members are not kept."""
    kept = {"geometry": feature.get("geometry"), "properties": feature.get("properties") or {}}
    return orjson.dumps(kept)[1:-1]


def _box(feature: Mapping[str, Any]) -> list[float | None]:
    """West, south, east, north, lowest and highest of a geometry; none where there is none."""
    shape = feature.get("geometry")
    points = list(_positions(shape)) if shape else []
    if not points:
        return [None] * 6
    x, y = [p[0] for p in points], [p[1] for p in points]
    z = [p[2] for p in points if len(p) > 2]
    return [min(x), min(y), max(x), max(y), min(z) if z else None, max(z) if z else None]


def _positions(shape: Mapping[str, Any]) -> Generator[Sequence[float], None, None]:
    waiting: list[Any] = [shape]
    while waiting:
        one = waiting.pop()
        if isinstance(one, Mapping):
            waiting += one["geometries"] if one["type"] == "GeometryCollection" else [one["coordinates"]]
        elif one and isinstance(one[0], int | float):
            yield one
        else:
            waiting += one


def _span(feature: Mapping[str, Any], times: Sequence[str]) -> tuple[str | None, str | None]:
    """First and last time of a feature, by the properties that hold times, as texts that sort."""
    held = feature.get("properties") or {}
    found = [t for n in times if isinstance(held.get(n), str) and (t := sortable(held[n]))]
    if not found:
        return None, None
    return min(t[0] for t in found), max(t[1] for t in found)


def sortable(text: str) -> tuple[str, str] | None:
    """A date or a date and time (RFC 3339) as the first and last moment it means, in UTC; None where it is neither."""
    try:
        if len(text) == 10:
            day = datetime.fromisoformat(text).date().isoformat()
            return f"{day}T00:00:00.000000", f"{day}T23:59:59.999999"
        moment = datetime.fromisoformat(text)
        moment = moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)
    except (ValueError, OverflowError):  # the zone can lead out of the years that there are
        return None
    told = moment.replace(tzinfo=None).isoformat(timespec="microseconds")
    return told, told
