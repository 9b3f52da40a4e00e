"""Make the data of the benchmarks: areas that share their edges, points, an area over a third of them, a table (seeded, EPSG:32626).

Usage: python benchmarks/data.py [FOLDER] [--areas 202500] [--points 1000000]

Without a folder it lies in a folder of the user's own, from which the benchmarks read it.
"""

from __future__ import annotations

import argparse
import os
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyogrio
import shapely
from pyarrow import csv

CRS = "EPSG:32626"
SIDE = 90_000.0
KINDS = np.array(["Pile", "Buoy", "Mark", "Other"])


def home() -> Path:
    """Where the benchmarks have their data: a folder of the user's own."""
    return Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "eskret-benchmarks"


def coverage(count: int, side: float) -> tuple[np.ndarray, np.ndarray, shapely.Geometry]:
    """Polygons of 17 corners that share their edges exactly; a group for each, 324 or so in all; an area over a third of them."""
    rng = np.random.default_rng(1)
    n = round(count**0.5)
    line = np.linspace(0, side, n + 1)
    corners = np.stack(np.meshgrid(line, line, indexing="ij"), -1)
    corners += rng.uniform(-0.3, 0.3, corners.shape) * side / n
    a, b = corners[:-1, :-1].reshape(-1, 2), corners[1:, :-1].reshape(-1, 2)
    c, d = corners[1:, 1:].reshape(-1, 2), corners[:-1, 1:].reshape(-1, 2)
    t = np.linspace(0, 1, 5)[None, :-1, None]
    ring = []
    for p, q in ((a, b), (b, c), (c, d), (d, a)):
        # an edge is the same numbers whichever way it is walked: from its lower corner up
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


def write(path: Path, shapes: np.ndarray, columns: dict[str, object], layer: str | None = None) -> None:
    """Write a layer by the library alone."""
    binary = pa.array(shapely.to_wkb(shapes).tolist(), pa.binary())
    kind = shapes[0].geom_type
    table = pa.table({**columns, "geometry": binary})
    more = {"layer": layer} if layer else {}
    pyogrio.write_arrow(table, path, geometry_name="geometry", geometry_type=kind, crs=CRS, **more)


def make(folder: Path, areas: int = 202_500, points: int = 1_000_000, circles: int = 4_000) -> None:
    """Make all of it."""
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(1)
    shapes, group, area = coverage(areas, SIDE)
    each = np.arange(len(shapes))
    beds = {
        "id": each,
        "licence": [f"L{g:03d}" for g in group],
        "tonnes": rng.integers(1, 1000, len(each)),
        "label": [f"Bed {k % 5000} ({'AB'[k % 2]})" for k in each.tolist()],
    }
    write(folder / "beds.gpkg", shapes, beds, "beds")
    write(folder / "beds.shp", shapes, beds)
    marks = shapely.points(rng.uniform(0, SIDE, (points, 2)))
    write(folder / "marks.gpkg", marks, {"id": np.arange(points), "kind": KINDS[rng.integers(0, 4, points)]}, "marks")
    write(folder / "area.gpkg", np.array([area], object), {"name": ["North"]}, "area")
    around = shapely.buffer(shapely.points(rng.uniform(0, SIDE / 5, (circles, 2))), 200)
    write(folder / "reaches.gpkg", around, {"id": np.arange(circles), "licence": [f"L{k % 4}" for k in range(circles)]}, "reaches")
    make_layers(folder / "layers.gpkg")
    csv.write_csv(pa.table({"bed": each, "landed": rng.integers(1, 99, len(each))}), folder / "landings.csv")


def make_layers(path: Path, layers: int = 300, rows: int = 400) -> None:
    """A GeoPackage of many layers, written in one transaction so that it is there soon."""
    from eskret.core.layer import Layer
    from eskret.formats import geopackage

    rng = np.random.default_rng(1)
    with geopackage.writing(path) as container:
        for n in range(layers):
            at = rng.uniform(0, SIDE, (rows, 2))
            boxes = shapely.box(at[:, 0], at[:, 1], at[:, 0] + 100, at[:, 1] + 80)
            table = pa.table({"id": np.arange(rows), "label": [f"Bed {k}" for k in range(rows)]})
            container.add(Layer(f"layer_{n:03d}", table, boxes, CRS), f"layer_{n:03d}")


def data_in(folder: Path) -> Path:
    """The folder, its data made where it is not there yet."""
    if not (folder / "landings.csv").exists():
        make(folder)
    return folder


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", type=Path, nargs="?", default=home() / "data")
    parser.add_argument("--areas", type=int, default=202_500)
    parser.add_argument("--points", type=int, default=1_000_000)
    options = parser.parse_args()
    make(options.folder, options.areas, options.points)
