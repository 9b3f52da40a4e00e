"""Run a task twice, and once more after a change at its end: what the second run still does.

Usage: python benchmarks/again.py [--data FOLDER] [TASK ...]

Whole processes are timed as well as what the run itself says. The cache is one of its own and empty at first; a row without
it says what keeping the results costs the first run.
"""

from __future__ import annotations

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from data import data_in, home
from run import workflow


def run(path: Path, cache: Path, limit: str = "") -> tuple[float, float, int]:
    """Seconds of the process, seconds of the run, steps reused."""
    env = {**os.environ, "XDG_CACHE_HOME": str(cache), "XDG_DATA_HOME": str(cache / "data")}
    command = [sys.executable, "-m", "eskret"]
    if limit:
        subprocess.run([*command, "cache", "--limit", limit], env=env, check=True, capture_output=True)
    begun = time.perf_counter()
    report = path.with_suffix(".json")
    subprocess.run([*command, "run", str(path), "--quiet", "--allow-outside", "--report", str(report)], env=env, check=True)
    whole = time.perf_counter() - begun
    told = json.loads(report.read_text())
    told = told.get("run", told)
    return whole, told["seconds"], sum(s["reused"] == s["tasks"] for s in told["steps"])


def main() -> None:
    """Measure and print a table."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--data", type=Path, default=home() / "data")
    parser.add_argument("tasks", nargs="*", default=["clip", "dissolve", "chain", "layers"])
    asked = parser.parse_args()
    print("| task | run | process | the run itself | steps reused | times faster |")
    print("|---|---|---|---|---|---|")
    for task in asked.tasks:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            path = folder / "w.toml"
            path.write_text(workflow(task, data_in(asked.data), folder))
            first = 0.0
            for label, limit in (("nothing kept", "0"), ("first", "8GB"), ("second", ""), ("another output", "")):
                if label == "another output":
                    path.write_text(path.read_text().replace('to = "', 'to = "').replace('.gpkg"\nif', '_2.gpkg"\nif'))
                whole, own, reused = run(path, folder / "cache", limit)
                first = own if label == "first" else first
                times = f"{first / own:.0f}x" if label not in ("nothing kept", "first") else ""
                print(f"| {task} | {label} | {whole:.2f} s | {own:.2f} s | {reused} | {times} |", flush=True)


if __name__ == "__main__":
    main()
