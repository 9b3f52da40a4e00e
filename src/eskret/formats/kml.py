"""KML (OGC 12-007r2): its folders are layers. Coordinates are WGS 84 by the standard."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import pyarrow as pa

from eskret.core.layer import LayerFacts
from eskret.errors import InputError
from eskret.formats import geojson, markup, vector
from eskret.formats.format import Pairs, Put, Reader, Writing
from eskret.formats.holding import EXACT, Holds
from eskret.formats.markup import TEXTS, Markup
from eskret.formats.reading import AS_DECLARED, Reading, Texts, Watch, no_watch

# what the standard says of drawing, not of the feature: left out where nothing says anything
_DRAWING = {"id", "timestamp", "begin", "end", "altitudeMode", "tessellate", "extrude", "visibility", "drawOrder", "icon"}


def layer_names(path: Path) -> list[str]:
    """Names of the folders that hold placemarks, in order."""
    return list(_parts(path))


def facts(path: Path, name: str, key: str, texts: Texts = AS_DECLARED) -> LayerFacts:
    """Facts of a folder's placemarks; the file is read for them."""
    return read(path, name, key).facts()


def read(path: Path, name: str, key: str, texts: Texts = AS_DECLARED, watch: Watch = no_watch) -> Reading:
    """Read a folder's placemarks."""
    reading = _part(path, name)
    watch(reading.found, reading.found)
    return replace(reading, layer=reading.layer.with_key(key))


def _part(path: Path, name: str) -> Reading:
    parts = _parts(path)
    if name not in parts:
        raise InputError(f"it has no folder '{name}'", place=str(path), way_out=f"It has {', '.join(parts) or 'none'}")
    return parts[name]


def _parts(path: Path) -> dict[str, Reading]:
    vector.check_readable(path)
    state = path.stat()
    return _cached(path, state.st_mtime_ns, state.st_size)


@lru_cache(maxsize=32)
def _cached(path: Path, changed: int, size: int) -> dict[str, Reading]:
    out = {}
    for name in vector.layer_names(path):
        reading = vector.read(path, name, name)
        table = reading.layer.table
        empty = [c for c in table.column_names if c in _DRAWING and _says_nothing(table.column(c))]
        layer = replace(reading.layer, table=table.drop_columns(empty), ids=None)
        out[name] = replace(reading, layer=layer)
    return out


def _says_nothing(column: pa.ChunkedArray) -> bool:
    """Whether every value is empty or the one that stands for nothing said."""
    return set(column.unique().to_pylist()) <= {None, -1, 0, ""}


class Kml(Markup):
    """A folder a layer."""

    title = "KML"
    read_endings = {".kml": "KML"}
    written_endings = (".kml",)
    reads_with = Reader(layer_names, facts, read)
    values = Holds("KML", TEXTS - {"yes/no"}, nan=True, exact=EXACT, digits=9, blanks=False, measures=False, empty_fields=False)

    def write(self, path: Path, pairs: Pairs, how: Writing, watch: Watch = no_watch) -> Put:
        markup.write_kml(path, pairs, how.words, geojson.DECIMALS if how.decimals is None else how.decimals, watch)
        return Put(self.count(path))
