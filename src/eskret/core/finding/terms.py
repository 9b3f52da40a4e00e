"""The words of what somebody typed, and what they mean: stems, words that mean the same, and the way from one thing to another.

Stems are those of the Snowball stemmer for English (M. F. Porter, "Snowball: a language for stemming algorithms", 2001).
"""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass
from functools import cache, lru_cache
from typing import Any


def _listed(text: str) -> list[str]:
    return text.split()


_STOP = frozenset(
    _listed("""
a an the and or of in on at by for with my our your me i we is are was be been it its this that these those there here how what
whatever do does did can could want wants need needs would like should please so such into to from as all any some same thing
things them they their his her you have has had get make made let using via not now just also very data m mm cm km ft ha m2 sqm
metre metres meter meters
""")
)
"""Words that tell nothing of what is wanted."""

_TOGETHER = {
    "coordinate system": "crs",
    "coordinate systems": "crs",
    "coordinate reference system": "crs",
    "reference system": "crs",
    "spatial reference": "crs",
    "how many": "count",
    "number of": "count",
    "how far": "distance",
    "how long": "length",
    "how fast": "speed",
    "get rid of": "remove",
    "throw away": "remove",
    "throw out": "remove",
    "leave out": "remove",
    "put together": "merge",
    "join together": "merge",
    "lat lon": "coordinates",
    "lat long": "coordinates",
    "latitude longitude": "coordinates",
    "easting northing": "coordinates",
    "x y": "coordinates",
    "x and y": "coordinates",
    "upper case": "uppercase",
    "lower case": "lowercase",
    "by hand": "manually",
    "year on year": "changes",
    "square metres": "area",
    "square meters": "area",
    "square kilometres": "area",
}
"""What several words say together, as one."""

_SAME = """
area: polygon multipolygon region district county ward municipality parcel zone tract block province plot stand territory
line: polyline linestring multilinestring linework road street river stream pipe track route path cable outline
point: multipoint position fix waypoint dot station location marker
vertex: vertices node corner
field: column attribute heading property
row: record feature entry object
remove: delete drop discard eliminate exclude omit strip
merge: combine unite union amalgamate append concatenate stack fuse unify
split: break divide separate explode partition
cut: clip crop trim chop
save: export write output store
load: import open read bring
crs: srs projection epsg srid prj datum reproject
online: web service server internet api wfs url portal published
nearest: closest near neighbour neighbor proximity
count: tally many
total: sum
repair: fix mend heal broken correct
table: spreadsheet sheet excel csv worksheet
compute: calculate calculated calculator formula expression
statistic: average mean minimum maximum min max median
change: changed changes difference modified version
duplicate: duplicates twice repeat repeated identical deduplicate dedupe unique distinct
condition: where filter query select criteria than larger greater bigger smaller less above below equal active
inside: within contain contained intersect intersects touch touches overlap overlaps outside
number: sequence consecutive serial running enumerate
sort: order ordered rank
draw: digitise digitize sketch trace
typo: misspelt misspelled spelling spellings misspelling
replace: recode substitute swap
check: validate verify test assert ensure sure control
grid: cell cells fishnet hexagon hexagons square squares tessellation
buffer: margin setback surround
simplify: generalise generalize smooth thin
percent: percentage share proportion
file: folder directory archive
convert: transform change turn
gap: dangle dangling undershoot loose unconnected
speed: velocity fast pace
hole: doughnut ring
mark: flag tag label
"""

_FORMATS = _listed("""
shapefile shp geopackage gpkg geojson json kml kmz gpx gml flatgeobuf fgb parquet geoparquet csv tsv xlsx excel dbf spreadsheet
geojsonseq ndjson workbook
""")
SHAPES = ("point", "line", "area", "vertex")
FORMAT = "file format"
_WAY = re.compile(r"(?:\b(?:to|into|as|becomes?)\b|->|→|⟶)")
_BACK = re.compile(r"\b(?:from|out of)\b")


@cache
def _stemmer() -> Any:
    # not before it is needed: all its languages are imported with it
    import snowballstemmer

    return snowballstemmer.stemmer("english")


@lru_cache(maxsize=20_000)
def stem(word: str) -> str:
    """What is the same in all forms of a word."""
    return str(_stemmer().stemWord(word))


@lru_cache(maxsize=1)
def _meanings() -> dict[str, str]:
    out = {stem(w): FORMAT for w in _FORMATS}
    for line in _SAME.strip().splitlines():
        head, words = line.split(": ")
        for word in (head, *words.split()):
            out.setdefault(stem(word), f"={head}")
    return out


def meaning(stemmed: str) -> str:
    """What a word and others mean alike; empty for one that stands for itself."""
    return _meanings().get(stemmed, "")


def words_of(text: str) -> list[str]:
    """The words of a text, in small letters without accents."""
    plain = unicodedata.normalize("NFKD", text.lower())
    return re.findall(r"\w+", "".join(c for c in plain if not unicodedata.combining(c)))


@dataclass(frozen=True)
class Phrase:
    """What a text says: its telling words, and from what to what it goes."""

    words: tuple[str, ...]
    pairs: frozenset[tuple[str, str]]

    @property
    def stems(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(map(stem, self.words)))


@lru_cache(maxsize=20_000)
def said(text: str) -> Phrase:
    """What a text says."""
    plain = f" {' '.join(words_of(_WAY.sub(' to ', text.lower())))} "
    for several, one in _TOGETHER.items():
        plain = plain.replace(f" {several} ", f" {one} ")
    telling = tuple(w for w in plain.split() if w not in _STOP and not w[:1].isdigit())
    return Phrase(telling, frozenset(_pairs(plain.split())))


def _pairs(words: list[str]) -> list[tuple[str, str]]:
    """What a text says goes to what: the telling words beside *to*, or, the other way round, beside *from*."""
    out = []
    for n, word in enumerate(words):
        if word in ("to", "into", "from"):
            before = next((w for w in reversed(words[:n]) if w not in _STOP), "")
            after = [w for w in words[n + 1 :] if w not in _STOP][:2]
            for one in after:
                pair = (_thing(before), _thing(one))
                out.append(pair if word != "from" else pair[::-1])
    return [p for p in out if (p[0] and p[1] and p[0] != p[1]) or p == (FORMAT, FORMAT)]


def _thing(word: str) -> str:
    stemmed = stem(word)
    return (meaning(stemmed) or stemmed) if word else ""
