"""The kernels alone beside the plain library call, and how their cost grows with the number of polygons.

Usage: python benchmarks/kernels.py [--data FOLDER] [--growth-only] [--sizes 50000 200000 800000]

The data is made as for the other benchmarks; for the growth it is made here, with cells of one size. Files are read first
and not timed; the least of three times counts. For the plain calls, which take minutes, once is enough.
"""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import shapely
from data import coverage, data_in, home
from plain import clipped

from eskret import read, to_geopandas
from eskret.core.geometry.cut import cut, outline
from eskret.core.geometry.dissolve import dissolve
from eskret.core.geometry.line_gaps import ends_of, gaps
from eskret.core.geometry.overlay import common
from eskret.core.tables.groupby import group_codes, group_rows


def least(work: Callable[[], object], times: int = 3) -> float:
    """The least of some times."""
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        found.append(time.perf_counter() - begun)
    return min(found)


def beside(folder: Path) -> None:
    """Clip and dissolve beside the plain calls, and beside the best that the libraries have."""
    import geopandas

    beds, area, reaches = read(folder / "beds.gpkg"), read(folder / "area.gpkg"), read(folder / "reaches.gpkg")
    shapes, edge = beds.geometry, outline(area.geometry)
    groups, few = group_rows(beds.table, ["licence"]), group_rows(reaches.table, ["licence"])
    frame, mask, around = to_geopandas(beds), to_geopandas(area), to_geopandas(reaches)
    frame, around = frame[["licence", "geometry"]], around[["licence", "geometry"]]
    print("| kernel | plain call | best plain code | Eskret | beside the plain call | beside the best |\n|---|---|---|---|---|---|")
    for name, plain, best, ours in (
        (
            "clip",
            lambda: geopandas.clip(frame, mask),
            lambda: clipped(shapes, area.geometry[0]),
            lambda: cut(shapely.bounds(shapes), lambda r: shapes[r], edge),
        ),
        (
            "dissolve",
            lambda: frame.dissolve("licence"),
            lambda: frame.dissolve("licence", method="coverage"),
            lambda: dissolve(shapes, groups.rows, groups.count),
        ),
        (
            "dissolve of what overlaps",
            lambda: around.dissolve("licence"),
            lambda: around.dissolve("licence", method="disjoint_subset"),
            lambda: dissolve(reaches.geometry, few.rows, few.count),
        ),
    ):
        before, good, now = least(plain, 1), least(best), least(ours)
        figures = f"{before:.2f} s | {good:.2f} s | {now:.2f} s | {before / now:.1f}x | {good / now:.1f}x"
        print(f"| {name} | {figures} |", flush=True)


def growth(sizes: list[int]) -> None:
    """Cost of some kernels for more and more polygons."""
    print("\n| polygons | clip | dissolve | overlay with 400 squares | gaps of their outlines |\n|---|---|---|---|---|")
    for size in sizes:
        shapes, group, edge = coverage(size, 200.0 * round(size**0.5))
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
    parser.add_argument("--data", type=Path, default=home() / "data")
    parser.add_argument("--growth-only", action="store_true")
    parser.add_argument("--sizes", type=int, nargs="*", default=[50_000, 200_000, 800_000])
    options = parser.parse_args()
    if not options.growth_only:
        beside(data_in(options.data))
    growth(options.sizes)


if __name__ == "__main__":
    main()
