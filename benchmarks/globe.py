"""Twenty thousand features all over the globe, in degrees: how long what measures along the ellipsoid takes.

Usage: python benchmarks/globe.py [--count 20000]

Layers are made here and stand in memory; the least of three times counts.
"""

from __future__ import annotations

import argparse
import time

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.layer import Layer
from eskret.operations import operation_by_id
from eskret.operations.base import Context
from eskret.operations.settings import validate

WANTED = 3.0
"""Seconds that each may take."""


def layer(shapes: np.ndarray, key: str) -> Layer:
    return Layer(key, pa.table({"n": np.arange(len(shapes))}), np.asarray(shapes, object), "EPSG:4326")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=20_000)
    count = parser.parse_args().count
    rng = np.random.default_rng(3)

    def places() -> np.ndarray:
        return np.column_stack([rng.uniform(-180, 180, count), np.degrees(np.arcsin(rng.uniform(-1, 1, count)))])

    points, others = layer(shapely.points(places()), "points"), layer(shapely.points(places()), "others")
    begin = np.column_stack([rng.uniform(-170, 170, count), rng.uniform(-80, 80, count)])
    lines = layer(shapely.linestrings(begin[:, None, :] + np.cumsum(rng.uniform(0, 0.01, (count, 10, 2)), axis=1)), "lines")
    tasks = (
        ("buffer", points, {"distance": "5 km"}),
        ("nearest", points, {"other": others}),
        ("keep_by_place", points, {"to": others, "relation": "near", "distance": "20 km"}),
        ("simplify", lines, {"tolerance": "100 m"}),
    )
    for use, of, given in tasks:
        operation = operation_by_id(use)
        named = {k: [v] for k, v in given.items() if isinstance(v, Layer)}
        model = validate(operation.Settings, {**given, **dict.fromkeys(named, "x")})
        found = []
        for _ in range(3):
            begun = time.perf_counter()
            operation.run(of, model, Context(step="s", others=named))  # type: ignore[attr-defined]
            found.append(time.perf_counter() - begun)
        print(f"{use:14} {count:,} {of.key}: {min(found):.2f} s (wanted: under {WANTED:g} s)")


if __name__ == "__main__":
    main()
