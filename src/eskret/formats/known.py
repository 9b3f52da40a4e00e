"""The formats that there are, one object each. A new one is a class in its module, and a name in the list below."""

from __future__ import annotations

from pathlib import Path

from eskret.errors import DeliveryError
from eskret.formats.delimited import Csv
from eskret.formats.format import Format
from eskret.formats.geojson import GeoJson, GeoJsonSequence
from eskret.formats.geopackage.format import GeoPackage
from eskret.formats.gpx import Gpx
from eskret.formats.kml import Kml
from eskret.formats.library_write import FlatGeobuf, Gml, Shapefile
from eskret.formats.parquet import GeoParquet
from eskret.formats.workbook import Workbook

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
