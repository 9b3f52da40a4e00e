"""Make the demo folder: Orrel Sound, a place that is not.

It lies in open ocean (EPSG:32626, around 47 N 26 W). Every name and figure is invented; the same seed gives the same
bytes of data.
"""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import partial
from importlib import resources
from pathlib import Path
from xml.sax.saxutils import escape

import numpy as np
import pyarrow as pa
import pyproj
import shapely
from shapely.geometry.base import BaseGeometry

from eskret.core.layer import Layer
from eskret.core.wordlist import WordEntry
from eskret.formats import geojson, geopackage
from eskret.formats.wordlist_file import write_list
from eskret.user_operations import trust

SEED = 2031
CRS = "EPSG:32626"
WEST, SOUTH = 543_000.0, 5_192_000.0
_DISTRICTS = {
    "North": (14_000, 37_000),
    "East": (36_000, 33_000),
    "Basin": (22_500, 24_000),
    "West": (6_500, 16_000),
    "South": (33_000, 9_000),
}
_ISLANDS = ((9_500, 36_000, 6_200), (28_000, 38_500, 4_600), (21_500, 27_500, 2_300), (36_500, 21_500, 8_200), (14_500, 12_500, 5_600))
_HOLDERS = ("Kelda Row", "Tern Bank", "Holm Sand", "Lowther", "Scaur End", "Whin Ness", "Garrow", "Skerry Pool")
_SPECIES = ("oyster", "mussel", "clam", "scallop")
_BOTTOMS = ("Sand", "sand", "Sandy ", "Mud", "mud/silt", "Gravel", "gravel (coarse)", "Røck")


@dataclass(frozen=True)
class _Sound:
    """What the files are made from."""

    rng: np.random.Generator
    islands: list[shapely.Polygon]
    districts: dict[str, shapely.Polygon]


LESSONS = (
    "piles.toml",
    "gather.toml",
    "harbour.toml",
    "breakwater.toml",
    "tracks.toml",
    "returns.toml",
    "publish.toml",
    "district.toml",
    "districts.toml",
    "closure.toml",
)
"""The demo's workflows in the order in which they teach."""


def lessons(folder: Path) -> list[Path]:
    """The workflows of a demo's folder: the lessons in their order, then what somebody added."""
    there = sorted(folder.glob("*.toml"))
    return sorted(there, key=lambda p: LESSONS.index(p.name) if p.name in LESSONS else len(LESSONS))


def make(folder: Path) -> Path:
    """Make the demo in a folder (which may exist; files of the demo in it are made anew) and return it."""
    folder = folder.resolve()
    for name in ("field", "register", "chart", "text"):
        (folder / name).mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(SEED)
    islands = [_island(rng, *one) for one in _ISLANDS]
    sound = _Sound(rng, islands, _districts())
    beds = _beds(sound)
    register = folder / "register" / "register.gpkg"
    register.unlink(missing_ok=True)
    with geopackage.writing(register) as container:
        container.add(_district_layer(sound), "districts", "Districts of the sound")
        container.add(beds, "lease_beds", "Leased beds, one polygon a lease")
        container.add(_moorings(sound), "moorings", "Licensed moorings")
    _quarters(folder / "register" / "quarters", sound, beds)
    _breakwater(folder / "register" / "breakwater.shp")
    _islands_file(folder / "chart" / "islands.geojson", sound)
    _soundings(folder / "chart" / "soundings.fgb", sound)
    _harbour(folder / "chart" / "harbour.gpkg", sound)
    _shoreline(folder / "text" / "shoreline.txt", sound)
    _stations(folder / "text" / "stations.txt", sound)
    _landings(folder / "register" / "landings_2031.csv", sound, beds)
    _words(folder / "words.csv")
    recordings = folder / "field" / "2031-09"
    recordings.mkdir(exist_ok=True)
    _marks(recordings / "marks.gpx", sound, beds)
    _boat(recordings / "boat-a.gpx", sound, "Merle", (430, 372), datetime(2031, 9, 3, 6, 40, tzinfo=UTC))
    _boat(recordings / "boat-b.gpx", sound, "Sandpiper", (652,), datetime(2031, 9, 4, 7, 5, tzinfo=UTC), route=True)
    _copied("workflows", ".toml", folder)
    _copied("operations", ".py", folder / "operations")
    # it ships with the program: nobody need be asked about it
    if trust.hash_of(folder) == _own_hash():
        trust.trust(folder)
    return folder


def _copied(name: str, ending: str, to: Path) -> None:
    """Copy what ships with the demo; what somebody changed since is theirs."""
    to.mkdir(parents=True, exist_ok=True)
    for one in resources.files("eskret.demo").joinpath(name).iterdir():
        if one.name.endswith(ending) and not (to / one.name).exists():
            with resources.as_file(one) as source:
                shutil.copyfile(source, to / one.name)


def _own_hash() -> str:
    """The hash of the demo's own operations as they ship."""
    with resources.as_file(resources.files("eskret.demo")) as home:
        return trust.hash_of(home)


def _island(rng: np.random.Generator, x: float, y: float, radius: float) -> shapely.Polygon:
    angle = np.linspace(0, 2 * np.pi, 121)[:-1]
    r = np.full(len(angle), float(radius))
    for wave in range(2, 7):
        r += radius * rng.uniform(0.02, 0.28 / wave) * np.sin(wave * angle + rng.uniform(0, 6.28))
    return shapely.Polygon(np.c_[WEST + x + r * np.cos(angle), SOUTH + y + r * np.sin(angle)].round(1))


def _districts() -> dict[str, shapely.Polygon]:
    """The cells of five places within the sound's outline."""
    seats = shapely.points([(WEST + x, SOUTH + y) for x, y in _DISTRICTS.values()])
    angle = np.linspace(0, 2 * np.pi, 25)[:-1]
    outline = shapely.Polygon(np.c_[WEST + 23_500 + 24_500 * np.cos(angle), SOUTH + 25_000 + 23_500 * np.sin(angle)].round())
    cells = shapely.get_parts(shapely.voronoi_polygons(shapely.MultiPoint(list(seats)), extend_to=outline))
    found = {}
    for name, seat in zip(_DISTRICTS, seats, strict=True):
        cell = next(c for c in cells if c.contains(seat))
        found[name] = shapely.set_precision(cell.intersection(outline), 0.01)
    return found


def _district_of(sound: _Sound, point: shapely.Point) -> str | None:
    return next((n for n, area in sound.districts.items() if area.contains(point)), None)


def _beds(sound: _Sound) -> Layer:
    """412 rectangles in the water off the shores, none on another."""
    rng = sound.rng
    placed: list[shapely.Polygon] = []
    rows: list[dict[str, object]] = []
    shores = shapely.union_all([i.buffer(4_400) for i in sound.islands])
    land = shapely.union_all(sound.islands)
    whole = shapely.union_all(list(sound.districts.values()))
    taken: BaseGeometry = shapely.Polygon()
    while len(placed) < 412:
        x, y = WEST + rng.uniform(0, 47_500), SOUTH + rng.uniform(1_000, 49_000)
        width, height, turn = rng.uniform(420, 1150), rng.uniform(320, 800), rng.uniform(0, np.pi)
        box = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1)]) * (width / 2, height / 2)
        spin = np.array([(np.cos(turn), -np.sin(turn)), (np.sin(turn), np.cos(turn))])
        bed = shapely.Polygon((box @ spin.T + (x, y)).round(2))
        if not shores.contains(bed) or land.intersects(bed) or not whole.contains(bed) or taken.intersects(bed):
            continue
        taken = taken.union(bed.buffer(40))
        placed.append(bed)
        number = len(placed)
        rows.append(
            {
                "lease": f"OS-{100 + number:04d}",
                "licence": f"L{int(rng.integers(1, 25)):02d}",
                "holder": str(rng.choice(_HOLDERS)),
                "district": _district_of(sound, bed.centroid),
                "species": str(rng.choice(_SPECIES, p=(0.45, 0.3, 0.15, 0.1))),
                "bottom": str(rng.choice(_BOTTOMS)) if rng.random() > 0.04 else None,
                "tonnes": int(rng.integers(1, 60)) if rng.random() > 0.06 else None,
                "granted": (datetime(2019, 1, 7) + timedelta(days=int(rng.integers(0, 4200)))).date(),
                "worked": bool(rng.random() > 0.2),
            }
        )
    return Layer("lease_beds", pa.Table.from_pylist(rows), np.array(placed, dtype=object), CRS)


def _moved(coordinates: np.ndarray, by: np.ndarray) -> np.ndarray:
    return np.asarray((coordinates + by).round(2))


def _quarters(folder: Path, sound: _Sound, beds: Layer) -> None:
    """The leases at the end of two quarters: in the second some were granted, given up, surveyed anew, handed on."""
    folder.mkdir(exist_ok=True)
    rng = np.random.default_rng(SEED + 4)  # of its own: what the other files are made of stays as it was
    rows = beds.table.select(["lease", "licence", "holder", "district", "species", "tonnes", "granted"]).to_pylist()
    shapes = list(np.asarray(beds.geometry))
    first = Layer("leases", pa.Table.from_pylist(rows), np.array(shapes, dtype=object), CRS)
    chosen = rng.choice(len(rows), 46, replace=False).tolist()
    given_up, surveyed, handed_on, more = chosen[:9], chosen[9:15], chosen[15:29], chosen[29:]
    for n in surveyed:
        by = rng.normal(0, 4.0, 2)
        shapes[n] = shapely.transform(shapes[n], partial(_moved, by=by))
    for n in handed_on:
        rows[n] = {**rows[n], "holder": next(h for h in _HOLDERS if h != rows[n]["holder"])}
    for n in more:
        rows[n] = {**rows[n], "tonnes": (rows[n]["tonnes"] or 0) + int(rng.integers(1, 12))}
    taken: BaseGeometry = shapely.union_all(shapes).buffer(60)
    land = shapely.union_all(sound.islands)
    whole = shapely.union_all(list(sound.districts.values()))
    granted = 0
    while granted < 12:
        x, y = WEST + rng.uniform(0, 47_500), SOUTH + rng.uniform(1_000, 49_000)
        bed = shapely.box(x, y, x + rng.uniform(420, 900), y + rng.uniform(320, 700))
        if not whole.contains(bed) or land.intersects(bed) or taken.intersects(bed) or land.distance(bed) > 4_000:
            continue
        taken = taken.union(bed.buffer(40))
        granted += 1
        shapes.append(shapely.set_precision(bed, 0.01))
        rows.append(
            {
                **rows[granted],
                "lease": f"OS-{1000 + granted:04d}",
                "district": _district_of(sound, bed.centroid),
                "granted": datetime(2031, 10, 1 + granted).date(),
            }
        )
    stays = [n for n in range(len(rows)) if n not in given_up]
    second = Layer("leases", pa.Table.from_pylist([rows[n] for n in stays]), np.array([shapes[n] for n in stays], dtype=object), CRS)
    for name, layer in (("2031-Q3", first), ("2031-Q4", second)):
        path = folder / f"{name}.gpkg"
        path.unlink(missing_ok=True)
        with geopackage.writing(path) as container:
            container.add(layer, "leases", f"Leases at the end of {name}")


def _district_layer(sound: _Sound) -> Layer:
    names = list(sound.districts)
    table = pa.table({"name": names, "warden": ["I. Fenn", "R. Ostrey", "M. Calder", "T. Hale", "E. Brock"]})
    return Layer("districts", table, np.array([sound.districts[n] for n in names], dtype=object), CRS)


def _moorings(sound: _Sound) -> Layer:
    rows, places = [], []
    for number in range(1, 19):
        island = sound.islands[int(sound.rng.integers(0, len(sound.islands)))]
        ring = island.buffer(sound.rng.uniform(300, 900)).exterior
        places.append(ring.interpolate(sound.rng.uniform(0, 1), normalized=True))
        rows.append(
            {
                "mooring": f"M{number:02d}",
                "depth_m": round(float(sound.rng.uniform(2, 14)), 1),
                "licensed_to": str(sound.rng.choice(_HOLDERS)),
            }
        )
    return Layer("moorings", pa.Table.from_pylist(rows), np.array(places, dtype=object), CRS)


def _breakwater(path: Path) -> None:
    """An outline some 44 km across whose ends miss each other by just under half a metre."""
    import pyogrio

    angle = np.linspace(0, 2 * np.pi, 721)[:-1]
    r = 21_400 + 500 * np.sin(5 * angle) + 160 * np.sin(17 * angle)
    ring = np.c_[WEST + 23_500 + r * np.cos(angle), SOUTH + 25_000 + r * np.sin(angle)].round(3)
    line = shapely.LineString([*ring, ring[0] + (0.0, -0.47)])
    pyogrio.raw.write(
        path,
        np.array([shapely.to_wkb(line)], dtype=object),
        [np.array(["outer"], dtype=object)],
        np.array(["part"]),
        geometry_type="LineString",
        crs=CRS,
        driver=None,
    )


def _islands_file(path: Path, sound: _Sound) -> None:
    names = ["Orrel", "Little Orrel", "The Calf", "Sunnay", "Haverholm"]
    layer = Layer("islands", pa.table({"name": names}), np.array(sound.islands, dtype=object), CRS)
    path.unlink(missing_ok=True)
    geojson.write(path, layer)


def _soundings(path: Path, sound: _Sound) -> None:
    import pyogrio

    xy = np.c_[WEST + sound.rng.uniform(2_000, 45_000, 1_600), SOUTH + sound.rng.uniform(4_000, 46_000, 1_600)].round(1)
    points = shapely.points(xy)
    land = shapely.union_all(sound.islands)
    wet = ~shapely.contains(land, points)
    depth = (shapely.distance(points, land) / 180 + sound.rng.normal(3, 0.8, len(points))).clip(0.3).round(1)
    path.unlink(missing_ok=True)
    pyogrio.raw.write(path, shapely.to_wkb(points[wet]), [depth[wet]], np.array(["depth_m"]), geometry_type="Point", crs=CRS, driver=None)


def _harbour(path: Path, sound: _Sound) -> None:
    """Two versions of the harbour limit, alike at a glance; the older one misses the basin on its south side."""
    x, y = _ISLANDS[2][:2]
    middle = shapely.Point(WEST + x, SOUTH + y)
    basin = shapely.box(WEST + x - 900, SOUTH + y - 5_600, WEST + x + 1_700, SOUTH + y - 3_400)
    newer = shapely.union(middle.buffer(4_200, 12), basin)
    path.unlink(missing_ok=True)
    with geopackage.writing(path) as container:
        for year, area in ((2029, shapely.difference(newer, basin)), (2031, newer)):
            table = pa.table({"limit": ["Orrel harbour"], "since": [year]})
            layer = Layer("limit", table, np.array([shapely.set_precision(area, 0.01)], dtype=object), CRS)
            container.add(layer, f"harbour_limit_{year}", f"The harbour limit of {year}")


def _shoreline(path: Path, sound: _Sound) -> None:
    """The islands' shores as text: tab-separated, with a header and decimal commas, one vertex a line."""
    names = ("Orrel", "Little Orrel", "The Calf", "Sunnay", "Haverholm")
    lines = ["island\tno\teasting\tnorthing"]
    for name, island in zip(names, sound.islands, strict=True):
        for number, (x, y) in enumerate(np.asarray(island.exterior.coords)[:-1], 1):
            lines.append(f"{name}\t{number}\t{x:.1f}\t{y:.1f}".replace(".", ","))
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")


def _stations(path: Path, sound: _Sound) -> None:
    """36 sounding stations as text without a header: name, latitude, longitude, depth; two lines are broken."""
    lines = []
    for number in range(1, 37):
        x, y = WEST + sound.rng.uniform(3_000, 44_000), SOUTH + sound.rng.uniform(5_000, 45_000)
        lon, lat = _TO_DEGREES.transform(x, y)
        lines.append(f"ST{number:02d}, {lat:.6f}, {lon:.6f}, {sound.rng.uniform(2, 40):.1f}")
    lines[11] = lines[11].replace(", ", " ", 1)
    lines[29] = "ST30, n/a, n/a, 12.0"
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")


def _landings(path: Path, sound: _Sound, beds: Layer) -> None:
    """236 landings by lease code; 24 of the codes are of no lease, and some are written otherwise."""
    codes = beds.table.column("lease").to_pylist()
    chosen = [str(c) for c in sound.rng.choice(codes, 212, replace=False)]
    chosen[5::40] = [c.lower() for c in chosen[5::40]]
    chosen[9::50] = [f" {c}" for c in chosen[9::50]]
    chosen += [f"OS-{900 + n:04d}" for n in range(24)]
    sound.rng.shuffle(chosen)
    lines = ["lease,tonnes,quarter"]
    lines += [f"{code},{sound.rng.gamma(2.0, 9.0):.1f},2031-Q3" for code in chosen]
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")


def _words(path: Path) -> None:
    """The word list of an earlier quarter: some bottoms are settled, gravel is not, and one is met no more."""
    if path.exists():  # one that somebody settled is theirs
        return
    settled = {"Sand": "sand", "Sandy ": "sand", "sand": "sand", "Mud": "mud", "mud/silt": "mud", "Røck": "rock", "shell": "shell"}
    entries = [WordEntry("bottom", s, 0, s, w) for s, w in settled.items()]
    write_list(path, [*entries, *(WordEntry("species", s, 0, s, s) for s in _SPECIES)])


_TO_DEGREES = pyproj.Transformer.from_crs(CRS, "EPSG:4326", always_xy=True)


def _time(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


def _gpx(body: list[str]) -> str:
    return (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        '<gpx version="1.1" creator="Orrel survey unit" xmlns="http://www.topografix.com/GPX/1/1">\n' + "".join(body) + "</gpx>\n"
    )


def _marks(path: Path, sound: _Sound, beds: Layer) -> None:
    """173 survey marks; 61 of them are piles."""
    rng = sound.rng
    assert beds.geometry is not None
    kinds = ["Pile"] * 61 + ["Buoy"] * 44 + ["Stake"] * 37 + ["Beacon"] * 12 + ["Rock"] * 15 + [""] * 4
    rng.shuffle(kinds)
    woods = ("oak", "larch", "steel", "larch, leaning", 'oak, "new"', "rotten & loose")
    body, moment = [], datetime(2031, 9, 2, 8, 15, tzinfo=UTC)
    for number, kind in enumerate(kinds, 1):
        bed = beds.geometry[int(rng.integers(0, len(beds)))]
        corner = np.asarray(bed.exterior.coords)[int(rng.integers(0, 4))] + rng.normal(0, 6, 2)
        lon, lat = _TO_DEGREES.transform(*corner)
        moment += timedelta(seconds=int(rng.integers(40, 260)))
        desc = f"<desc>{escape(f'{kind} {number}, {rng.choice(woods)}')}</desc>" if kind else ""
        body.append(
            f'  <wpt lat="{lat:.7f}" lon="{lon:.7f}"><ele>{rng.normal(0.8, 0.5):.1f}</ele><time>{_time(moment)}</time>'
            f"<name>S{number:03d}</name>{desc}<sym>{kind.lower() or 'unknown'}</sym></wpt>\n"
        )
    path.write_text(_gpx(body), encoding="utf-8")


def _boat(path: Path, sound: _Sound, boat: str, counts: tuple[int, ...], begins: datetime, route: bool = False) -> None:
    """Tracks that wander from bed to bed, a point every five to nine seconds."""
    rng, body = sound.rng, []
    land = shapely.union_all(sound.islands).buffer(150)
    place, heading = np.array([WEST + 20_000.0, SOUTH + 33_000.0]), rng.uniform(0, 6.28)
    if route:
        stops = [(WEST + x, SOUTH + y) for x, y in ((19_000, 33_500), (24_000, 31_500), (26_500, 26_000))]
        body.append("  <rte><name>To the basin</name>")
        for number, (x, y) in enumerate(stops, 1):
            lon, lat = _TO_DEGREES.transform(x, y)
            body.append(f'<rtept lat="{lat:.7f}" lon="{lon:.7f}"><name>R{number}</name></rtept>')
        body.append("</rte>\n")
    moment = begins
    for track, count in enumerate(counts, 1):
        body.append(f"  <trk><name>{escape(boat)} {track}</name><type>survey</type><trkseg>\n")
        for number in range(count):
            for _ in range(30):
                ahead = place + 28 * np.array([np.cos(heading), np.sin(heading)])
                if not land.contains(shapely.Point(ahead)):
                    break
                heading += rng.uniform(0.3, 0.9)
            place = ahead
            heading += rng.normal(0, 0.12)
            moment += timedelta(seconds=int(rng.integers(5, 10)))
            if number == count // 2:
                body.append("  </trkseg><trkseg>\n")
                moment += timedelta(minutes=int(rng.integers(6, 25)))
            lon, lat = _TO_DEGREES.transform(*place)
            body.append(
                f'    <trkpt lat="{lat:.7f}" lon="{lon:.7f}"><ele>{rng.normal(0.5, 0.2):.1f}</ele><time>{_time(moment)}</time></trkpt>\n'
            )
        body.append("  </trkseg></trk>\n")
        moment += timedelta(hours=1)
    path.write_text(_gpx(body), encoding="utf-8")
