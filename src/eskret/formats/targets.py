"""Formats that results can be saved in: what each can hold, and how layers get into it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import shapely

from eskret.core.account import Remark
from eskret.core.layer import Field, Kind, Layer
from eskret.core.naming import LIMIT
from eskret.errors import DeliveryError
from eskret.formats import delimited, fitting, geojson, geopackage, holding, library_write, markup, parquet, workbook
from eskret.formats.fitting import Bounds, Choices
from eskret.formats.holding import EXACT, Holds
from eskret.formats.reading import Watch, no_watch

ANY, ONE = "any", "one"
"""How many layers a file holds: a GeoPackage takes more at any time; other files all of a step at once, or one alone."""
SET = "set"


@dataclass(frozen=True)
class Writing:
    """How a file is to be written. ``words`` are title, description and licence."""

    decimals: int | None = None
    indent: bool = False
    crs: str = geojson.CRS84
    words: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Put:
    """What came of writing: features found in the file, rows of the layers that have no place there, how many were cut."""

    found: int
    lost: Sequence[object] = ()
    cut: int = 0
    sha256: str = ""


Pairs = Sequence[tuple[Layer, str]]


@dataclass(frozen=True)
class Target:
    """A format to save in.

    ``holds`` says how many layers a file takes; ``crs`` the one it is always in; ``kinds`` what may be drawn in it, none for
    tables only with their shapes in columns; ``companions`` files that belong to the one named; ``words`` what it can say of
    a dataset.
    """

    title: str
    ending: str
    holds: str
    write: Callable[[Path, Pairs, Writing, Watch], Put] | None = None
    bounds: Bounds | None = None
    name_limit: int = LIMIT
    typed_limit: int = 250
    """How long a name may be that is not tidied."""
    barred: str = ""
    """Signs that no name of a layer may hold."""
    crs: str = ""
    tables: bool = True
    kinds: frozenset[Kind] = frozenset(Kind)
    companions: tuple[str, ...] = ()
    words: frozenset[str] = frozenset()
    rounds: bool = False
    holds_values: Holds = field(default_factory=lambda: Holds(""))

    @property
    def many(self) -> bool:
        """Whether layers are known by name in the file from run to run."""
        return self.holds == ANY

    def fits(self, fields: Sequence[Field], choices: Choices) -> list[str]:
        """What becomes of these fields, in sentences."""
        return fitting.foretell(fields, self.bounds, choices) if self.bounds is not None else []


def _as_geojson(sequence: bool) -> Callable[[Path, Pairs, Writing, Watch], Put]:
    def write(path: Path, pairs: Pairs, how: Writing, watch: Watch) -> Put:
        done = geojson.write(
            path,
            pairs[0][0],
            decimals=how.decimals,
            indent=how.indent and not sequence,
            crs=how.crs,
            sequence=sequence,
            members={{"licence": "license"}.get(n, n): t for n, t in how.words.items() if t},
            watch=watch,
        )
        return Put(geojson.count(path), done.lost, done.cut, done.sha256)  # type: ignore[arg-type]

    return write


def _as_csv(path: Path, pairs: Pairs, how: Writing, watch: Watch) -> Put:
    delimited.write(path, pairs[0][0], watch)
    return Put(delimited.count(path))


def _as_parquet(path: Path, pairs: Pairs, how: Writing, watch: Watch) -> Put:
    parquet.write(path, pairs[0][0], how.words, watch)
    return Put(parquet.count(path))


def _by_library(options: Mapping[str, str]) -> Callable[[Path, Pairs, Writing, Watch], Put]:
    def write(path: Path, pairs: Pairs, how: Writing, watch: Watch) -> Put:
        layer = pairs[0][0]
        # the format's index has no place for features without a shape
        nowhere = layer.wkb is None and layer.geometry is not None and bool(shapely.is_missing(layer.geometry).any())
        more = {"SPATIAL_INDEX": "NO"} if nowhere and "SPATIAL_INDEX" in options else {}
        library_write.write(path, layer, pairs[0][1], options={**options, **more}, watch=watch)
        return Put(library_write.count(path))

    return write


def _as_shapefile(path: Path, pairs: Pairs, how: Writing, watch: Watch) -> Put:
    library_write.write(path, pairs[0][0], pairs[0][1], options={"ENCODING": "UTF-8"}, watch=watch)
    for part in (path, path.with_suffix(".dbf")):
        if part.stat().st_size >= 1 << 31:
            raise DeliveryError(
                f"its {part.suffix[1:]} part is larger than the 2 GB that a shapefile holds",
                place=str(path.name),
                way_out="Save to a GeoPackage, or split the layer",
            )
    return Put(library_write.count(path))


def _as_gpx(path: Path, pairs: Pairs, how: Writing, watch: Watch) -> Put:
    markup.write_gpx(path, pairs, how.words, geojson.DECIMALS if how.decimals is None else how.decimals, watch)
    return Put(markup.count(path))


def _as_kml(path: Path, pairs: Pairs, how: Writing, watch: Watch) -> Put:
    markup.write_kml(path, pairs, how.words, geojson.DECIMALS if how.decimals is None else how.decimals, watch)
    return Put(markup.count(path))


def _as_workbook(path: Path, pairs: Pairs, how: Writing, watch: Watch) -> Put:
    workbook.write(path, pairs, how.words, watch)
    return Put(sum(workbook.count(path)))


_TEXTS = frozenset({"yes/no", "decimal", "date and time", "date", "time", "bytes", "list"})
_DRAWN = frozenset({Kind.POINT, Kind.LINE, Kind.AREA})
_WORDS = frozenset({"title", "description", "licence"})
_JSON = Holds("GeoJSON", frozenset({"decimal"}), infinity=False, exact=EXACT, digits=6, measures=False, empty_fields=False)
GEOPACKAGE = Target("GeoPackage", ".gpkg", ANY, words=_WORDS, holds_values=Holds("a GeoPackage", empties=True))
GEOJSON = Target("GeoJSON", ".geojson", ONE, _as_geojson(False), crs=geojson.CRS84, words=_WORDS, rounds=True, holds_values=_JSON)
SEQUENCE = Target("GeoJSON text sequence", ".geojsons", ONE, _as_geojson(True), crs=geojson.CRS84, rounds=True, holds_values=_JSON)
SHAPEFILE = Target(
    "a shapefile",
    ".shp",
    ONE,
    _as_shapefile,
    tables=False,
    kinds=_DRAWN,
    companions=(".shx", ".dbf", ".prj", ".cpg"),
    bounds=Bounds(
        "a shapefile", name_bytes=10, text_bytes=254, most_fields=255, whole_digits=18, times=False, flags=False, empty_texts=False
    ),
    holds_values=Holds("a shapefile", nan=True, infinity=False, blanks=False, largest=1e23, decimal_places=15),
)
FLATGEOBUF = Target(
    "FlatGeobuf",
    ".fgb",
    ONE,
    _by_library({"SPATIAL_INDEX": "YES"}),
    tables=False,
    bounds=Bounds("FlatGeobuf", dates=False, zones=False),
    holds_values=Holds("FlatGeobuf", nan=True, measures=False),
)
PARQUET = Target(
    "GeoParquet",
    ".parquet",
    ONE,
    _as_parquet,
    words=_WORDS,
    holds_values=Holds("GeoParquet", nan=True, most=0, digits=9, decimals=True, empties=True),
)
CSV = Target(
    "CSV",
    ".csv",
    ONE,
    _as_csv,
    holds_values=Holds(
        "CSV", frozenset({"bytes", "list"}), nan=True, most=0, digits=9, decimals=True, places=False, empties=True, untyped=True
    ),
)
KML = Target(
    "KML",
    ".kml",
    SET,
    _as_kml,
    crs=geojson.CRS84,
    words=frozenset({"title", "description"}),
    rounds=True,
    holds_values=Holds("KML", _TEXTS - {"yes/no"}, nan=True, exact=EXACT, digits=9, blanks=False, measures=False, empty_fields=False),
)
GPX = Target(
    "GPX",
    ".gpx",
    SET,
    _as_gpx,
    crs=geojson.CRS84,
    tables=False,
    kinds=frozenset({Kind.POINT, Kind.LINE}),
    words=frozenset({"title", "description"}),
    rounds=True,
    holds_values=Holds(
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
    ),
)
WORKBOOK = Target(
    "a workbook",
    ".xlsx",
    SET,
    _as_workbook,
    name_limit=workbook.SHEET_NAME,
    typed_limit=workbook.SHEET_NAME,
    barred="[]:*?/\\",
    words=frozenset({"title", "description"}),
    bounds=Bounds(
        "a workbook",
        text_signs=workbook.MOST_SIGNS,
        most_fields=workbook.MOST_FIELDS - 2,
        most_rows=workbook.MOST_ROWS,
        zones=False,
        empty_texts=False,
    ),
    holds_values=Holds("a workbook", places=False, empties=True, whole_digits=15, first_day=dt.date(1900, 1, 1)),
)
TARGETS = {
    ".gpkg": GEOPACKAGE,
    ".geojson": GEOJSON,
    ".json": GEOJSON,
    ".geojsons": SEQUENCE,
    ".shp": SHAPEFILE,
    ".fgb": FLATGEOBUF,
    ".parquet": PARQUET,
    ".csv": CSV,
    ".xlsx": WORKBOOK,
    ".kml": KML,
    ".gpx": GPX,
}


def target_for(path: Path) -> Target:
    """The format of a file to be written, by its ending.

    Raises
    ------
    DeliveryError : no such format.
    """
    found = TARGETS.get(path.suffix.lower())
    if found is None:
        raise DeliveryError(
            f"files ending in '{path.suffix}' cannot be written", place=str(path), way_out=f"The ending can be {', '.join(TARGETS)}"
        )
    return found


def losses(target: Target, fields: Sequence[Field], choices: Choices | None = None, kind: Kind = Kind.TABLE) -> list[str]:
    """What the format cannot hold of these fields, in sentences; empty where nothing is lost."""
    return [*_losses(target, fields, choices, kind), *holding.foretell(fields, kind is not Kind.TABLE, target.holds_values)]


def _losses(target: Target, fields: Sequence[Field], choices: Choices | None, kind: Kind) -> list[str]:
    import pyarrow as pa

    schema = pa.schema([pa.field(f.name, f.type) for f in fields])
    if target in (GEOJSON, SEQUENCE):
        return geojson.losses(schema)
    if target is CSV:
        return []
    if target is GPX:
        return markup.gpx_losses([f.name for f in fields], kind)
    if target is FLATGEOBUF:
        return [*target.fits(fields, choices or Choices()), "features are put in another order, for the index that the format has"]
    if target is not GEOPACKAGE:
        return target.fits(fields, choices or Choices())
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


def write_one(path: Path, layer: Layer, name: str, watch: Watch = no_watch) -> tuple[Remark, ...]:
    """Write a layer to a file of its own, or as a new layer of a GeoPackage, as usual for its format; gives what had to give way.

    Raises
    ------
    DeliveryError : the format cannot hold it, or not all of its rows; nothing is written.
    """
    target = target_for(path)
    settled = holding.settle(layer, target.holds_values)
    if settled.aside:
        reason, rows = settled.aside[0]
        raise DeliveryError(
            f"{len(rows):,} of {len(layer):,} rows cannot be written: {reason}", place=str(path), way_out="Take them out first"
        )
    if target.write is None:
        with geopackage.writing(path) as container:
            container.add(settled.layer, name, watch=watch)
        return settled.remarks
    fitted = fitting.Fitted(settled.layer)
    if target.bounds is not None:
        fitted = fitting.fit(settled.layer, target.bounds, Choices())
    target.write(path, [(fitted.layer, name)], Writing(), watch)
    return (*settled.remarks, *fitted.remarks)
