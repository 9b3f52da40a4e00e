"""GeoJSON (RFC 7946) and its text sequence (RFC 8142)."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import ClassVar

import pyarrow as pa

from eskret.core.layer import Field, GeometryKind
from eskret.formats import geojson
from eskret.formats.fitting import Choices
from eskret.formats.format import CRS84, Format, Pairs, Put, Writing
from eskret.formats.holding import EXACT, Holds
from eskret.formats.reading import Watch, no_watch


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
        return geojson.losses(pa.schema([pa.field(f.name, f.type) for f in fields]))

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        done = geojson.write(
            path,
            pairs[0][0],
            decimals=how.decimals,
            indent=how.indent and not self.sequence,
            crs=how.crs,
            sequence=self.sequence,
            members={{"licence": "license"}.get(n, n): t for n, t in how.words.items() if t},
            watch=watch,
        )
        return Put(self.count(path), done.lost, done.cut, done.sha256)  # type: ignore[arg-type]

    def count(self, path: Path) -> int:
        return geojson.count(path)


class GeoJsonSequence(GeoJson):
    """A feature a line."""

    title = "GeoJSON text sequence"
    read_endings = {".geojsonl": "GeoJSON text sequence", ".geojsons": "GeoJSON text sequence"}
    written_endings = (".geojsons",)
    words = frozenset()
    sequence = True
