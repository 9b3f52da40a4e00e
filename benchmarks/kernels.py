"""The kernels alone beside the plain library call, and how their cost grows with the number of polygons.

Usage: python benchmarks/kernels.py [--data FOLDER] [--growth-only] [--sizes 50000 200000 800000]

The data is made as for the other benchmarks; for the growth it is made here, with cells of one size. Files are read first
and not timed; the least of three times counts. For the plain calls, which take minutes, once is enough.
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
from eskret.core.geometry.cut import cut, outline
from eskret.core.geometry.dissolve import dissolve
from eskret.core.geometry.line_gaps import ends_of, gaps
from eskret.core.geometry.overlay import common
from eskret.core.tables.groupby import group_codes, group_rows

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
        ("dissolve", lambda: frame[["licence", "geometry"]].dissolve("licence"), lambda: dissolve(shapes, groups.rows, groups.count)),
    ):
        before, now = least(plain, 1), least(ours)
        print(f"| {name}, {len(beds):,} polygons | {before:.1f} s | {now:.2f} s | {before / now:.0f}x |", flush=True)


def coverage(count: int) -> tuple[np.ndarray, np.ndarray, shapely.Geometry]:
    """Polygons of 17 corners that share their edges exactly, cells of 200 m; a group for each; an area over a third of them."""
    rng = np.random.default_rng(1)
    n = round(count**0.5)
    side = 200.0 * n
    line = np.linspace(0, side, n + 1)
    corners = np.stack(np.meshgrid(line, line, indexing="ij"), -1)
    corners += rng.uniform(-60, 60, corners.shape)
    a, b = corners[:-1, :-1].reshape(-1, 2), corners[1:, :-1].reshape(-1, 2)
    c, d = corners[1:, 1:].reshape(-1, 2), corners[:-1, 1:].reshape(-1, 2)
    t = np.linspace(0, 1, 5)[None, :-1, None]
    ends = ((a, b), (b, c), (c, d), (d, a))
    # an edge is the same numbers whichever way it is walked: from its lower corner up
    ring = []
    for p, q in ends:
        turned = (p[:, :1] > q[:, :1]) | ((p[:, :1] == q[:, :1]) & (p[:, 1:] > q[:, 1:]))
        low, high = np.where(turned, q, p), np.where(turned, p, q)
        steps = np.where(turned[:, None], 1 - t, t)
        ring.append(low[:, None] * (1 - steps) + high[:, None] * steps)
    row, col = np.divmod(np.arange(n * n), n)
    block = max(1, n // 18)
    angle = np.linspace(0, 2 * np.pi, 4001)[:-1]
    r = side / 3 + side / 15 * np.sin(9 * angle) + side / 60 * np.sin(61 * angle)
    area = shapely.Polygon(np.c_[side / 2 + r * np.cos(angle), side / 2 + r * np.sin(angle)])
    return shapely.polygons(np.concatenate(ring, 1)), (row // block) * 19 + col // block, area


def growth(sizes: list[int]) -> None:
    """Cost of some kernels for more and more polygons."""
    print("\n| polygons | clip | dissolve | overlay with 400 squares | gaps of their outlines |\n|---|---|---|---|---|")
    for size in sizes:
        shapes, group, edge = coverage(size)
        bounds = shapely.bounds(shapes)
        groups = group_codes([group], len(shapes))
        side = float(bounds[:, 2].max()) / 20
        col, row = (a.ravel() for a in np.mgrid[0:20, 0:20])
        squares = shapely.box(col * side, row * side, (col + 1) * side, (row + 1) * side)
        lines = shapely.boundary(shapes)
        figures = [
            least(lambda: cut(bounds, lambda r: shapes[r], edge)),  # noqa: B023
            least(lambda: dissolve(shapes, groups.rows, groups.count)),  # noqa: B023
            least(lambda: common(shapes, squares), 1),  # noqa: B023
            least(lambda: gaps(ends_of(lines)), 1),  # noqa: B023
        ]
        print(f"| {len(shapes):,} | " + " | ".join(f"{f:.2f} s" for f in figures) + " |", flush=True)


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--data", type=Path, default=Path(tempfile.gettempdir()) / "eskret-bench")
    parser.add_argument("--make", type=Path, default=SHARED / "make_data.py")
    parser.add_argument("--growth-only", action="store_true")
    parser.add_argument("--sizes", type=int, nargs="*", default=[50_000, 200_000, 800_000])
    options = parser.parse_args()
    if not options.growth_only and not (options.data / "data" / "area.gpkg").exists():
        subprocess.run([sys.executable, str(options.make), str(options.data / "data")], check=True)
    if not options.growth_only:
        beside(options.data / "data")
    growth(options.sizes)


if __name__ == "__main__":
    main()
