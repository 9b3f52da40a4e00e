"""How large a layer may be: runs over millions of features, with the memory they take as they go on.

Usage: python benchmarks/scale.py [--points MILLIONS] [--areas MILLIONS] [--folder FOLDER] [--plot FILE.svg]

Points and areas are made once into the folder. Each run is a process of its own, whose resident memory is looked at ten times a
second; nothing is taken up from earlier runs.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Generator
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyogrio
import shapely

AT_ONCE = 100_000
WEST, SOUTH, STEP = 500_000.0, 5_150_000.0, 100.0
KINDS = np.array(["mussel", "oyster", "kelp", "whelk", "clam"])
LOAD = '[[steps]]\nid = "{0}"\nuse = "load"\nfiles = ["{0}.gpkg"]\n'
POINTS = LOAD.format("points") + (
    '[[steps]]\nid = "some"\nuse = "keep"\nfrom = "points"\nwhere = "{where}"\n'
    '[[steps]]\nid = "degrees"\nuse = "reproject"\nfrom = "some"\ncrs = "EPSG:4326"\n'
    '[[steps]]\nid = "out"\nuse = "save"\nfrom = "degrees"\nto = "out/points.gpkg"\nif_exists = "replace"\n'
)
AREAS = (
    LOAD.format("areas")
    + LOAD.format("points")
    + LOAD.format("squares")
    + LOAD.format("circle")
    + (
        '[[steps]]\nid = "some"\nuse = "keep"\nfrom = "areas"\nwhere = "tonnes > 5"\n'
        '[[steps]]\nid = "inside"\nuse = "clip"\nfrom = "some"\nto = "circle"\n'
        '[[steps]]\nid = "zones"\nuse = "dissolve"\nfrom = "inside"\nby = ["zone"]\nfigures = {{ all = "sum tonnes" }}\n'
        '[[steps]]\nid = "counted"\nuse = "count_in_areas"\nfrom = "squares"\nother = "points"\n'
        '[[steps]]\nid = "out"\nuse = "save"\nfrom = ["inside", "zones", "counted"]\nto = "out/areas.gpkg"\nname = "{step}"\n'
        'if_exists = "replace"\n'
    )
)


def _points(count: int) -> Generator[pa.RecordBatch, None, None]:
    chance = np.random.default_rng(7)
    for start in range(0, count, AT_ONCE):
        many = min(AT_ONCE, count - start)
        number = np.arange(start, start + many)
        xy = chance.uniform((WEST, SOUTH), (WEST + 120_000, SOUTH + 110_000), (many, 2))
        yield pa.record_batch(
            {
                "n": number,
                "species": KINDS[chance.integers(0, 5, many)],
                "depth": np.round(chance.uniform(0, 50, many), 2),
                "label": [f"obs-{n:08d}" for n in number.tolist()],
                "geom": pa.array(shapely.to_wkb(shapely.points(xy)).tolist(), pa.binary()),
            }
        )


def _areas(count: int) -> Generator[pa.RecordBatch, None, None]:
    chance = np.random.default_rng(3)
    side = int(np.ceil(np.sqrt(count)))
    turn = np.linspace(0, 2 * np.pi, 17)
    for start in range(0, count, AT_ONCE):
        number = np.arange(start, min(count, start + AT_ONCE))
        column, row = number % side, number // side
        reach = 45 * (1 + 0.1 * chance.uniform(-1, 1, (len(number), 17)))
        reach[:, -1] = reach[:, 0]
        x, y = (c[:, None] * STEP + reach * way for c, way in ((column, np.cos(turn)), (row, np.sin(turn))))
        yield pa.record_batch(
            {
                "n": number,
                "zone": [f"z{4 * a // side}{4 * b // side}" for a, b in zip(column.tolist(), row.tolist(), strict=True)],
                "tonnes": np.round(chance.uniform(0, 50, len(number)), 2),
                "geom": pa.array(shapely.to_wkb(shapely.polygons(np.stack([WEST + x, SOUTH + y], -1))).tolist(), pa.binary()),
            }
        )


def make(path: Path, batches: Generator[pa.RecordBatch, None, None], kind: str) -> None:
    """Write a file, where it is not there."""
    if path.exists():
        return
    first = next(batches)

    def all_of_them() -> Generator[pa.RecordBatch, None, None]:
        yield first
        yield from batches

    new = path.with_suffix(".new.gpkg")
    new.unlink(missing_ok=True)
    pyogrio.raw.write_arrow(
        pa.RecordBatchReader.from_batches(first.schema, all_of_them()),
        new,
        layer=path.stem,
        driver="GPKG",
        geometry_name="geom",
        geometry_type=kind,
        crs="EPSG:32626",
        layer_options={"SPATIAL_INDEX": "NO"},
    )
    new.rename(path)


def run(workflow: Path) -> tuple[float, list[tuple[float, float]]]:
    """Seconds, and resident memory in MB over them."""
    cache = workflow.parent / "cache"
    begun, seen = time.perf_counter(), []
    command = [sys.executable, "-m", "eskret", "run", str(workflow), "--fresh", "--quiet"]
    process = subprocess.Popen(command, env={**os.environ, "XDG_CACHE_HOME": str(cache)}, stdout=subprocess.DEVNULL)
    while process.poll() is None:
        try:
            told = Path(f"/proc/{process.pid}/status").read_text()
            resident = next(int(line.split()[1]) for line in told.splitlines() if line.startswith("VmRSS"))
            seen.append((time.perf_counter() - begun, resident / 1024))
        except (OSError, StopIteration):
            pass
        time.sleep(0.1)
    if process.returncode:
        sys.exit(f"{workflow.name} ended with {process.returncode}")
    return time.perf_counter() - begun, seen


def plot(seen: list[tuple[float, float]], path: Path, title: str) -> None:
    """Memory over time as a picture."""
    wide, high, left, below = 720, 260, 60, 40
    last, most = seen[-1][0], 1_200.0
    places = [(left + (wide - left - 10) * t / last, high - below - (high - below - 30) * min(m, most) / most) for t, m in seen]
    line = " ".join(f"{x:.1f},{y:.1f}" for x, y in places)
    marks = []
    for mb in (0, 256, 512, 1_024):
        y = high - below - (high - below - 30) * mb / most
        marks.append(
            f'<path d="M{left} {y:.1f}H{wide - 10}" stroke="#C9D3CC"/><text x="{left - 8}" y="{y + 4:.1f}" text-anchor="end">{mb}</text>'
        )
    marks.append(f'<text x="{wide - 10}" y="{high - 14}" text-anchor="end">{last:.0f} s</text><text x="{left}" y="{high - 14}">0</text>')
    path.write_text(
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {wide} {high}" font-family="sans-serif" font-size="12" fill="#1D2B2A">'
        f'<rect width="{wide}" height="{high}" fill="#FFFDF7"/><text x="{left}" y="18" font-weight="600">{title}</text>{"".join(marks)}'
        f'<polyline points="{line}" fill="none" stroke="#22695A" stroke-width="1.8"/></svg>\n'
    )


def main() -> None:
    """Make, run and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--points", type=float, default=20.0)
    parser.add_argument("--areas", type=float, default=1.0)
    parser.add_argument("--folder", type=Path, default=Path(tempfile.gettempdir()) / "eskret-scale")
    parser.add_argument("--plot", type=Path)
    options = parser.parse_args()
    print("| run | seconds | peak memory |")
    print("|---|---|---|")

    def measured(name: str, text: str, points: float, areas: float = 0.0) -> list[tuple[float, float]]:
        folder = options.folder / f"{points:g}"
        folder.mkdir(parents=True, exist_ok=True)
        make(folder / "points.gpkg", _points(int(points * 1e6)), "Point")
        if areas:
            make(folder / "areas.gpkg", _areas(int(areas * 1e6)), "Polygon")
            side = np.sqrt(areas * 1e6) * STEP
            circle = shapely.Point(WEST + side / 2, SOUTH + side / 2).buffer(0.4 * side, quad_segs=1_000)
            begin = np.stack(np.meshgrid(np.arange(20), np.arange(20)), -1).reshape(-1, 2) * 5_000 + (WEST, SOUTH)
            for layer, shapes in (("circle", [circle]), ("squares", [shapely.box(x, y, x + 5_000, y + 5_000) for x, y in begin.tolist()])):
                table = pa.table({"n": range(len(shapes)), "geom": pa.array([shapely.to_wkb(s) for s in shapes], pa.binary())})
                make(folder / f"{layer}.gpkg", iter(table.to_batches()), "Polygon")  # type: ignore[arg-type]
        path = folder / "run.toml"
        path.write_text(f'eskret = 1\ntitle = "Scale"\n{text}')
        seconds, seen = run(path)
        print(f"| {name} | {seconds:.0f} s | {max(m for _, m in seen):,.0f} MB |", flush=True)
        return seen

    most = options.points
    for count in (most / 20, most / 4, most):
        seen = measured(f"{count:g} million points: load, keep all, reproject, save", POINTS.format(where="depth >= 0"), count)
    if options.plot:
        plot(seen, options.plot, f"{most:g} million points through load, keep, reproject and save: resident memory in MB")
    where = "species = 'oyster' and depth > 10"
    measured(f"{most:g} million points: load, keep a sixth, reproject, save", POINTS.format(where=where), most)
    text = AREAS.replace("{{", "{").replace("}}", "}")
    name = f"{options.areas:g} million areas and {most / 4:g} million points: load, keep, clip, dissolve, count, save"
    measured(name, text, most / 4, options.areas)


if __name__ == "__main__":
    main()
