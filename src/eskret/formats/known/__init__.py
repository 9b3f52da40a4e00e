"""The formats that there are, one object each. A new one is a class in a module here, and a name in the list below."""

from __future__ import annotations

from pathlib import Path

from eskret.errors import DeliveryError
from eskret.formats.format import Format
from eskret.formats.known.by_library import FlatGeobuf, Gml, Shapefile
from eskret.formats.known.geojson import GeoJson, GeoJsonSequence
from eskret.formats.known.geopackage import GeoPackage
from eskret.formats.known.geoparquet import GeoParquet
from eskret.formats.known.markup import Gpx, Kml
from eskret.formats.known.tables import Csv, Workbook

GEOPACKAGE = GeoPackage()
GEOJSON = GeoJson()
SHAPEFILE = Shapefile()
CSV = Csv()
FORMATS: tuple[Format, ...] = (
    GEOPACKAGE,
    GEOJSON,
    GeoJsonSequence(),
    SHAPEFILE,
    FlatGeobuf(),
    GeoParquet(),
    CSV,
    Workbook(),
    Kml(),
    Gpx(),
    Gml(),
)
"""Those that most is saved in come first."""
WRITTEN = {ending: one for one in FORMATS for ending in one.written_endings}
"""The format of files to be written, by their ending."""
READ = {ending: one for one in FORMATS for ending in one.read_endings}
"""The format of files that are read, by their ending."""


def format_to_write(path: Path) -> Format:
    """The format of a file to be written, by its ending.

    Raises
    ------
    DeliveryError : no such format.
    """
    found = WRITTEN.get(path.suffix.lower())
    if found is None:
        raise DeliveryError(
            f"files ending in '{path.suffix}' cannot be written", place=str(path), way_out=f"The ending can be {', '.join(WRITTEN)}"
        )
    return found
