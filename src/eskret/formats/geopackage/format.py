"""GeoPackage: many layers with types, sections, titles and styles."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa

from eskret.core.layer import Field, GeometryKind
from eskret.formats import geopackage
from eskret.formats.fitting import Choices
from eskret.formats.format import Capacity, Format, Pairs, Put, Writing
from eskret.formats.geopackage import reader
from eskret.formats.holding import Holds
from eskret.formats.reading import Watch, no_watch


class GeoPackage(Format):
    """Takes more layers at any time; rows of others' files are changed in place."""

    title = "GeoPackage"
    read_endings = {".gpkg": "GeoPackage"}
    written_endings = (".gpkg",)
    capacity = Capacity.ANY
    sections = True
    changes = True
    words = frozenset({"title", "description", "licence"})
    values = Holds("a GeoPackage", empties=True)

    def field_losses(self, fields: Sequence[Field], choices: Choices, kind: GeometryKind) -> list[str]:
        out = []
        for one in fields:
            if pa.types.is_nested(one.type):
                out.append(f"'{one.name}' is a list and becomes text")
            elif pa.types.is_timestamp(one.type) and one.type.tz is None:
                out.append(f"'{one.name}' has times without a zone; they are written as UTC")
            elif pa.types.is_time(one.type):
                out.append(f"'{one.name}' is a time of day and becomes text")
        if len(fields) > geopackage.MAX_FIELDS:
            out.append(f"it has {len(fields)} fields, and a GeoPackage layer holds {geopackage.MAX_FIELDS}")
        return out

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        with geopackage.writing(path) as container:
            for layer, name in pairs:
                container.add(layer, name, how.words.get("description", ""), watch)
        return Put(self.count(path))

    def weight(self, path: Path, name: str, count: int) -> float:
        return reader.weight(path, name)

    def count(self, path: Path) -> int:
        return sum(e.rows for e in geopackage.entries(path))
