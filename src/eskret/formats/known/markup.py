"""KML (OGC 12-007r2) and GPX 1.1: texts of marks and recordings, in WGS 84."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, ClassVar

from eskret.core.layer import Field, GeometryKind
from eskret.formats import geojson, gpx, kml, markup
from eskret.formats.fitting import Choices
from eskret.formats.format import CRS84, Capacity, Format, Pairs, Put, Writing
from eskret.formats.holding import EXACT, Holds
from eskret.formats.reading import Watch, no_watch

_TEXTS = frozenset({"yes/no", "decimal", "date and time", "date", "time", "bytes", "list"})


class _Markup(Format):
    capacity = Capacity.SET
    crs = CRS84
    rounds = True
    words = frozenset({"title", "description"})

    def count(self, path: Path) -> int:
        return markup.count(path)


class Kml(_Markup):
    """A folder a layer."""

    title = "KML"
    read_endings = {".kml": "KML"}
    written_endings = (".kml",)
    reads_with: ClassVar[Any] = kml
    values = Holds("KML", _TEXTS - {"yes/no"}, nan=True, exact=EXACT, digits=9, blanks=False, measures=False, empty_fields=False)

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        markup.write_kml(path, pairs, how.words, geojson.DECIMALS if how.decimals is None else how.decimals, watch)
        return Put(self.count(path))


class Gpx(_Markup):
    """Waypoints and tracks."""

    title = "GPX"
    read_endings = {".gpx": "GPX"}
    written_endings = (".gpx",)
    reads_with: ClassVar[Any] = gpx
    tables = False
    kinds = frozenset({GeometryKind.POINT, GeometryKind.LINE})
    values = Holds(
        "GPX",
        _TEXTS,
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
