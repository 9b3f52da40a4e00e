"""Formats that the library of formats writes: shapefile and FlatGeobuf; and GML, which is only read."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import shapely

from eskret.core.layer import Field, GeometryKind, Layer
from eskret.errors import DeliveryError
from eskret.formats import library_write
from eskret.formats.fitting import Bounds, Choices
from eskret.formats.format import Format, Pairs, Put, Writing
from eskret.formats.holding import Holds
from eskret.formats.reading import Watch, no_watch

_LARGEST = 1 << 31
"""Bytes that a part of a shapefile holds."""


class ByLibrary(Format):
    """Written by the library, with options."""

    tables = False

    def options(self, layer: Layer) -> Mapping[str, str]:
        """What the library is told."""
        return {}

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        layer, name = pairs[0]
        library_write.write(path, layer, name, options=self.options(layer), watch=watch)
        return Put(self.count(path))

    def count(self, path: Path) -> int:
        return library_write.count(path)


class Shapefile(ByLibrary):
    """Points, lines or areas, with short names, short texts and neither times nor flags."""

    title = "a shapefile"
    read_endings = {".shp": "shapefile"}
    written_endings = (".shp",)
    changes = True
    kinds = frozenset({GeometryKind.POINT, GeometryKind.LINE, GeometryKind.POLYGON})
    companions = (".shx", ".dbf", ".prj", ".cpg")
    left_over = (".qix", ".sbn", ".sbx", ".fix", ".cst")
    bounds = Bounds(
        "a shapefile", name_bytes=10, text_bytes=254, most_fields=255, whole_digits=18, times=False, flags=False, empty_texts=False
    )
    values = Holds("a shapefile", nan=True, infinity=False, blanks=False, largest=1e23, decimal_places=15)

    def options(self, layer: Layer) -> Mapping[str, str]:
        return {"ENCODING": "UTF-8"}

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        put = super().write(path, pairs, how, watch)
        for part in (path, path.with_suffix(".dbf")):
            if part.stat().st_size >= _LARGEST:
                raise DeliveryError(
                    f"its {part.suffix[1:]} part is larger than the 2 GB that a shapefile holds",
                    place=str(path.name),
                    way_out="Save to a GeoPackage, or split the layer",
                )
        return put


class FlatGeobuf(ByLibrary):
    """One layer with an index, which puts its features in another order."""

    title = "FlatGeobuf"
    read_endings = {".fgb": "FlatGeobuf"}
    written_endings = (".fgb",)
    changes = True
    bounds = Bounds("FlatGeobuf", dates=False, zones=False)
    values = Holds("FlatGeobuf", nan=True, measures=False)

    def options(self, layer: Layer) -> Mapping[str, str]:
        # the index has no place for features without a shape
        nowhere = layer.wkb is None and layer.geometry is not None and bool(shapely.is_missing(layer.geometry).any())
        return {"SPATIAL_INDEX": "NO" if nowhere else "YES"}

    def field_losses(self, fields: Sequence[Field], choices: Choices, kind: GeometryKind) -> list[str]:
        told = "features are put in another order, for the index that the format has"
        return [*super().field_losses(fields, choices, kind), told]


class Gml(Format):
    """Read only."""

    title = "GML"
    read_endings = {".gml": "GML"}
