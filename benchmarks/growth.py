"""How the time of a run grows with what there is of it: rows, files, layers of one file, rounds, runs that are kept.

Usage: python benchmarks/growth.py [--most N] [KIND ...]

Whole processes, in a folder of their own with a cache and a data folder of their own; what the smallest one takes to start is taken off.
The slope is that of a line through the logarithms: 1 is in proportion, 2 would be the square.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa
import shapely
from data import make_layers, write

HEAD = 'eskret = 1\ntitle = "Growth"\n'
LOAD = HEAD + '[[steps]]\nid = "in"\nuse = "load"\nfiles = ["{}"]\n'
SAVE = '[[steps]]\nid = "out"\nuse = "save"\nfrom = "{}"\nto = "{}"\nif_exists = "replace"\n'
KEEP = '[[steps]]\nid = "some"\nuse = "keep"\nfrom = "in"\nwhere = "id >= 0"\n'


def points(path: Path, count: int, begin: int = 0) -> None:
    """A layer of points."""
    xy = np.random.default_rng(begin).uniform(0, 90_000, (count, 2))
    write(path, shapely.points(xy), {"id": np.arange(begin, begin + count), "kind": pa.array(["Pile"] * count)})


def rows(home: Path, count: int) -> list[str]:
    points(home / "points.gpkg", count)
    there = '[[steps]]\nid = "there"\nuse = "reproject"\nfrom = "some"\ncrs = "EPSG:4326"\n'
    (home / "w.toml").write_text(LOAD.format("points.gpkg") + KEEP + there + SAVE.format("there", "out/all.gpkg"))
    return []


def files(home: Path, count: int) -> list[str]:
    (home / "in").mkdir()
    for number in range(count):
        points(home / "in" / f"f{number:05d}.geojson", 4, 4 * number)
    (home / "w.toml").write_text(LOAD.format("in/*.geojson") + KEEP + SAVE.format("some", "out/{layer}.gpkg"))
    return []


def layers(home: Path, count: int) -> list[str]:
    make_layers(home / "many.gpkg", count, 4)
    (home / "w.toml").write_text(LOAD.format("many.gpkg") + KEEP + SAVE.format("some", "out/all.gpkg"))
    return []


def rounds(home: Path, count: int) -> list[str]:
    points(home / "points.gpkg", 1000)
    named = '[parameters.least]\ntype = "number"\ndefault = 0\n'
    step = '[[steps]]\nid = "some"\nuse = "keep"\nfrom = "in"\nwhere = "id >= $least"\n'
    (home / "w.toml").write_text(LOAD.format("points.gpkg").replace(HEAD, HEAD + named) + step + SAVE.format("some", "out/{least}.gpkg"))
    (home / "rounds.csv").write_text("least\n" + "\n".join(map(str, range(count))) + "\n")
    return ["--for-each", "rounds.csv"]


def kept(home: Path, count: int) -> list[str]:
    """Runs of before: as many as there are rounds, each with its features."""
    more = rounds(home, count)
    run(home, more)
    # what they saved is another matter: it is looked at whether it is left over
    shutil.rmtree(home / "out")
    (home / "w.outputs.json").unlink()
    return []


KINDS: dict[str, tuple[Callable[[Path, int], list[str]], list[int]]] = {
    "rows": (rows, [1_000, 10_000, 100_000, 1_000_000]),
    "files": (files, [100, 300, 1_000, 3_000]),
    "layers": (layers, [100, 300, 1_000, 3_000]),
    "rounds": (rounds, [10, 30, 100, 300]),
    "kept": (kept, [10, 100, 300]),
}


def run(home: Path, more: list[str]) -> float:
    """Seconds of a run, its process among them."""
    env = {**os.environ, "XDG_CACHE_HOME": str(home / "cache"), "XDG_DATA_HOME": str(home / "data")}
    begun = time.perf_counter()
    command = [sys.executable, "-m", "eskret", "run", str(home / "w.toml"), "--fresh", "--quiet", *more]
    done = subprocess.run(command, env=env, cwd=home, capture_output=True, text=True, check=False)
    if done.returncode:
        sys.exit(done.stderr or done.stdout)
    return time.perf_counter() - begun


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--most", type=int, default=1_000_000, help="the largest that is measured")
    parser.add_argument("kinds", nargs="*", default=list(KINDS))
    options = parser.parse_args()
    print("| of | seconds | slope |\n|---|---|---|")
    for kind in options.kinds:
        make, sizes = KINDS[kind]
        found: dict[int, float] = {}
        for size in [1, *(s for s in sizes if s <= options.most)]:
            with tempfile.TemporaryDirectory() as place:
                home = Path(place)
                found[size] = run(home, make(home, size))
        start = found.pop(1)
        told = ", ".join(f"{size:,}: {seconds:.1f}" for size, seconds in found.items())
        net = [(size, seconds - start) for size, seconds in found.items() if seconds - start > 0.1]
        slope = f"{np.polyfit(*np.log(np.array(net).T), 1)[0]:.2f}" if len(net) > 1 else "none to speak of"
        print(f"| {kind} (one: {start:.1f} s) | {told} | {slope} |", flush=True)


if __name__ == "__main__":
    main()
