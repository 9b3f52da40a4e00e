"""Measure publishing: features sent from nothing, and the difference of many against many with one in a hundred changed.

Usage: python benchmarks/publish.py [--sent N] [--compared N]

The practice server runs in a process of its own on this machine, so both share its cores. Growth is shown by a quarter and a
half of each number beside it. What is sent is read back and proved each time.
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.layer import Layer
from eskret.formats import gdal
from eskret.services import difference, features, journal, practice, push
from eskret.services.connection import Connection


def layer(count: int, changed: int = 0) -> Layer:
    """Beds of 17 corners, ``changed`` of them with another figure or moved by two metres."""
    rng = np.random.default_rng(11)
    angle = np.linspace(0, 2 * np.pi, 17)[:-1]
    middle = np.c_[np.arange(count) % 450 * 60.0 + 543_000, np.arange(count) // 450 * 60.0 + 5_190_000]
    rings = middle[:, None, :] + 24 * np.c_[np.cos(angle), np.sin(angle)][None] + rng.uniform(-2, 2, (count, 16, 2))
    tonnes = rng.integers(1, 60, count)
    rows = np.random.default_rng(12).choice(count, changed, replace=False)  # of its own: all else stays as it was
    tonnes[rows[::2]] += 100
    rings[rows[1::2]] += 2.0
    table = pa.table(
        {
            "bed": [f"OS-{n:06d}" for n in range(count)],
            "licence": [f"L{n % 324:03d}" for n in range(count)],
            "tonnes": tonnes,
            "ha": rng.uniform(0.1, 0.3, count).round(4),
            "worked": rng.random(count) > 0.2,
        }
    )
    return Layer("beds", table, shapely.polygons(rings), "EPSG:32626")


def as_push(made: Layer, d: difference.PublishedDifference, address: str, dataset: str, before: int) -> journal.Push:
    """A push of a difference."""
    found = d.found
    return journal.Push(
        journal.new_id(dataset),
        address,
        dataset,
        "update",
        ("bed",),
        d.decimals,
        tuple(d.own or ()),
        journal.PREPARED,
        added=len(found.added),
        changed=len(found.changed),
        removed=len(found.removed),
        unchanged=d.same,
        count_before=before,
        make={"title": dataset, "description": "", "fields": {}},
    )


def sent(address: str, token: str, count: int) -> tuple[float, float]:
    """Seconds to take the difference against nothing, and to send it."""
    made = layer(count)
    begun = time.perf_counter()
    d = difference.take(made, difference.published([]), mode="update", key=["bed"])
    written = journal.PushJournal.create(as_push(made, d, address, f"sent{count}", 0), d.entries)
    taken = time.perf_counter() - begun
    begun = time.perf_counter()
    state = push.send(written, token).state
    assert state == "pushed", state
    return taken, time.perf_counter() - begun


def compared(address: str, count: int) -> tuple[float, float]:
    """Seconds to fetch a dataset and to take the difference of a layer against it."""
    begun = time.perf_counter()
    with Connection(address) as there:
        found = features.read_items(there, f"held{count}").features
    fetched = time.perf_counter() - begun
    new = layer(count, count // 100)
    begun = time.perf_counter()
    d = difference.take(new, difference.published(found), mode="update", key=["bed"])
    seconds = time.perf_counter() - begun
    assert (len(d.found.added), len(d.found.changed), len(d.found.removed)) == (0, count // 100, 0)
    return fetched, seconds


def fill(data: Path, count: int) -> None:
    """Put a dataset into the server's storage straight away: sending it would take minutes."""
    from eskret.practice_server.storage import Storage, StoredDataset

    made = layer(count)
    storage = Storage(data / "published.sqlite")
    dataset = StoredDataset(f"held{count}", f"held{count}")
    storage.make(dataset)
    d = difference.take(made, difference.published([]), mode="update", key=["bed"])
    for _, change in d.entries:
        assert change.wanted is not None
        storage.create(dataset, change.wanted)
    storage.close()


def main() -> None:
    """Measure and print."""
    gdal.be_lean()
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sent", type=int, default=20_000)
    parser.add_argument("--compared", type=int, default=200_000)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as home:
        os.environ["XDG_DATA_HOME"] = home
        data = Path(home) / "data"
        sizes = [options.compared // 4, options.compared // 2, options.compared]
        for size in sizes:
            fill(data, size)
        command = [sys.executable, "-m", "eskret", "practice-server", "--data", str(data), "--port", "0"]
        server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        try:
            assert server.stdout is not None
            server.stdout.readline()
            one = practice.running()[0]
            print("| published from nothing | difference | sent and proved | a second |\n|---|---|---|---|")
            for count in (options.sent // 4, options.sent // 2, options.sent):
                taken, seconds = sent(one.address, one.token, count)
                print(f"| {count:,} | {taken:.2f} s | {seconds:.1f} s | {count / seconds:,.0f} |", flush=True)
            print("\n| features on either side, 1 % changed | fetched | difference |\n|---|---|---|")
            for count in sizes:
                fetched, seconds = compared(one.address, count)
                print(f"| {count:,} | {fetched:.1f} s | {seconds:.1f} s |", flush=True)
        finally:
            server.terminate()
            server.wait()


if __name__ == "__main__":
    main()
