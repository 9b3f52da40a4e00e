"""The kernels alone beside the plain library call, and how their cost grows with the number of polygons.

Usage: python benchmarks/kernels.py [--data FOLDER] [--sizes 50000 200000 800000]

The data is made as for the other benchmarks. Files are read first and not timed; the least of three times counts. For the
plain calls, which take minutes, once is enough.
"""

from __future__ import annotations

import argparse
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import shapely

from eskret import read, to_geopandas
from eskret.core.groups import group_rows
from eskret.core.kernels.cut import cut, outline
from eskret.core.kernels.dissolve import dissolve
from eskret.core.kernels.gaps import ends_of, gaps
from eskret.core.kernels.overlay import common

SHARED = Path(__file__).resolve().parents[2] / "shared" / "bench"


def least(work: Callable[[], object], times: int = 3) -> float:
    """The least of some times."""
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        found.append(time.perf_counter() - begun)
    return min(found)


def beside(folder: Path) -> None:
    """Clip and dissolve beside the plain calls."""
    import geopandas

    beds, area = read(folder / "beds.gpkg"), read(folder / "area.gpkg")
    shapes, edge = beds.geometry, outline(area.geometry)
    groups = group_rows(beds.table, ["licence"])
    frame, mask = to_geopandas(beds), to_geopandas(area)
    print("| kernel | plain call | Eskret | ratio |\n|---|---|---|---|")
    for name, plain, ours in (
        ("clip", lambda: geopandas.clip(frame, mask), lambda: cut(shapely.bounds(shapes), lambda r: shapes[r], edge)),
        ("dissolve", lambda: frame[["licence", "geometry"]].dissolve("licence"),
         lambda: dissolve(shapes, groups.rows, groups.count)),
    ):  # fmt: skip
        before, now = least(plain, 1), least(ours)
        print(f"| {name}, {len(beds):,} polygons | {before:.1f} s | {now:.2f} s | {before / now:.0f}x |", flush=True)


def growth(folder: Path, sizes: list[int], make: Path) -> None:
    """Cost of some kernels for more and more polygons."""
    print("\n| polygons | clip | dissolve | overlay with 400 squares | gaps of their outlines |\n|---|---|---|---|---|")
    side = 90_000 / 20
    squares = np.array([shapely.box(x * side, y * side, (x + 1) * side, (y + 1) * side) for x in range(20) for y in range(20)])
    for size in sizes:
        data = folder / str(size)
        if not (data / "area.gpkg").exists():
            subprocess.run([sys.executable, str(make), str(data), "--polygons", str(size), "--points", "10"], check=True)
        beds, area = read(data / "beds.gpkg"), read(data / "area.gpkg")
        shapes, edge, bounds = beds.geometry, outline(area.geometry), shapely.bounds(beds.geometry)
        groups = group_rows(beds.table, ["licence"])
        lines = shapely.boundary(shapes)
        figures = [
            least(lambda: cut(bounds, lambda r: shapes[r], edge)),  # noqa: B023
            least(lambda: dissolve(shapes, groups.rows, groups.count)),  # noqa: B023
            least(lambda: common(shapes, squares), 1),  # noqa: B023
            least(lambda: gaps(ends_of(lines)), 1),  # noqa: B023
        ]
        print(f"| {len(beds):,} | " + " | ".join(f"{f:.2f} s" for f in figures) + " |", flush=True)


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--data", type=Path, default=Path(tempfile.gettempdir()) / "eskret-bench")
    parser.add_argument("--make", type=Path, default=SHARED / "make_data.py")
    parser.add_argument("--sizes", type=int, nargs="*", default=[50_000, 200_000, 800_000])
    options = parser.parse_args()
    if not (options.data / "data" / "area.gpkg").exists():
        subprocess.run([sys.executable, str(options.make), str(options.data / "data")], check=True)
    beside(options.data / "data")
    growth(options.data / "growth", options.sizes, options.make)


if __name__ == "__main__":
    main()
