"""The usual loop: every layer of a file read and appended to another, one call a layer.

Usage: python append_loop.py SOURCE TARGET, or python append_loop.py --make SOURCE to make 300 layers of 400 polygons.
"""

from __future__ import annotations

import sys
from pathlib import Path

import geopandas as gpd
import numpy as np
import pyogrio
import shapely

LAYERS, ROWS = 300, 400


def make(path: Path) -> None:
    """A GeoPackage of many layers, written in one transaction so that it is there soon."""
    import pyarrow as pa

    from eskret.core.layer import Layer
    from eskret.formats import geopackage

    rng = np.random.default_rng(1)
    with geopackage.writing(path) as container:
        for n in range(LAYERS):
            at = rng.uniform(0, 90_000, (ROWS, 2))
            boxes = shapely.box(at[:, 0], at[:, 1], at[:, 0] + 100, at[:, 1] + 80)
            table = pa.table({"id": np.arange(ROWS), "label": [f"Bed {k}" for k in range(ROWS)]})
            container.add(Layer(f"layer_{n:03d}", table, boxes, "EPSG:32626"), f"layer_{n:03d}")


if __name__ == "__main__":
    if sys.argv[1] == "--make":
        make(Path(sys.argv[2]))
    else:
        source, target = Path(sys.argv[1]), Path(sys.argv[2])
        for name, _ in pyogrio.list_layers(source):
            gpd.read_file(source, layer=name).to_file(target, layer=name, mode="a" if target.exists() else "w")
