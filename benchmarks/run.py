"""Run Eskret beside plain code, task for task, in the same run, and print the table.

Usage: python benchmarks/run.py [--data FOLDER] [--plain SCRIPT] [--times N] [--usual TIMES] [TASK ...]

Beside it stand the usual script and the best that the same libraries can do without Eskret (``plain.py``); another script is called
as ``SCRIPT TASK DATA OUT`` in place of the usual one. Whole processes are timed, reading and writing files included; the least of N
times counts, since these machines are noisy. The data is made where it is not there yet, in a folder of the user's own.
"""

from __future__ import annotations

import argparse
import shutil
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path

from data import data_in, home

PLAIN = Path(__file__).resolve().parent / "plain.py"
WORKFLOWS = {
    "convert": (["beds.shp"], "converted.gpkg", ""),
    "geojson": (["beds.gpkg"], "beds.geojson", ""),
    "keep": (["marks.gpkg"], "kept.gpkg", 'use = "keep"\nfrom = "in"\nwhere = "kind LIKE \'Pile%\'"'),
    "place": (
        ["marks.gpkg", "area.gpkg"],
        "inside.gpkg",
        'use = "keep_by_place"\nfrom = "in:marks"\nto = "in:area"\nrelation = "within"\nedge = false',
    ),
    "layers": (["layers.gpkg"], "layers.gpkg", ""),
    "reaches": (["reaches.gpkg"], "reaches.gpkg", 'use = "dissolve"\nfrom = "in"\nby = ["licence"]\nfigures = { n = "count" }'),
    "clip": (["beds.gpkg", "area.gpkg"], "clipped.gpkg", 'use = "clip"\nfrom = "in:beds"\nto = "in:area"'),
    "dissolve": (["beds.gpkg"], "dissolved.gpkg", 'use = "dissolve"\nfrom = "in"\nby = ["licence"]\nfigures = { tonnes = "sum tonnes" }'),
    "split": (["beds.gpkg"], "split.gpkg", 'use = "split"\nfrom = "in"\nby = ["licence"]'),
    "join": (
        ["beds.gpkg", "landings.csv"],
        "joined.gpkg",
        'use = "join_table"\nfrom = "in:beds"\ntable = "in:landings"\nkey = "id"\ntable_key = "bed"',
    ),
    "chain": (
        ["beds.gpkg", "area.gpkg", "landings.csv"],
        "chain.gpkg",
        'use = "clip"\nfrom = "in:beds"\nto = "in:area"\n\n[[steps]]\nid = "joined"\nuse = "join_table"\n'
        'from = "some"\ntable = "in:landings"\nkey = "id"\ntable_key = "bed"\n\n[[steps]]\nid = "last"\n'
        'use = "dissolve"\nfrom = "joined"\nby = ["licence"]\nfigures = { landed = "sum landed" }',
    ),
}


def workflow(task: str, data: Path, out: Path) -> str:
    """The workflow file of a task."""
    sources, target, work = WORKFLOWS[task]
    files = ", ".join(f'"{data / s}"' for s in sources)
    steps = f'eskret = 1\n\n[[steps]]\nid = "in"\nuse = "load"\nfiles = [{files}]\n'
    if work:
        steps += f'\n[[steps]]\nid = "some"\n{work}\n'
    before = "last" if 'id = "last"' in work else "some" if work else "in"
    return steps + f'\n[[steps]]\nid = "out"\nuse = "save"\nfrom = "{before}"\nto = "{out / target}"\nif_exists = "replace"\n'


def timed(command: list[str]) -> tuple[float, float]:
    """Seconds and peak memory in MB of a command."""
    begun = time.perf_counter()
    code = (
        "import resource, subprocess, sys; c = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL).returncode; "
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024); sys.exit(c)"
    )
    done = subprocess.run([sys.executable, "-c", code, *command], check=True, capture_output=True, text=True)
    return time.perf_counter() - begun, float(done.stdout)


def in_turn(commands: Sequence[tuple[list[str], int]], out: Path) -> list[tuple[float, float] | None]:
    """The least of some times of each command, so many times each, one after the other in turn, since the machine's speed drifts; the
    folder of results empty before each. None for one that is not run."""
    found: list[list[tuple[float, float]]] = [[] for _ in commands]
    for turn in range(max(times for _, times in commands)):
        for mine, (command, times) in zip(found, commands, strict=True):
            if turn < times:
                shutil.rmtree(out, ignore_errors=True)
                out.mkdir(parents=True)
                mine.append(timed(command))
    return [min(mine) if mine else None for mine in found]


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--data", type=Path, default=home() / "data")
    parser.add_argument("--plain", type=Path, help="another script in place of the usual one")
    parser.add_argument("--times", type=int, default=3)
    parser.add_argument("--usual", type=int, default=1, help="how often the usual script is run, which takes minutes; 0 for not")
    parser.add_argument("tasks", nargs="*", default=list(WORKFLOWS))
    options = parser.parse_args()
    data = data_in(options.data)
    out = data.parent / "out"
    print("| task | usual script | best plain code | Eskret | beside the usual | beside the best | peak memory: usual, best, Eskret |")
    print("|---|---|---|---|---|---|---|")
    for task in options.tasks:
        file = data.parent / f"{task}.toml"
        file.write_text(workflow(task, data, out))
        python = sys.executable
        usual = [python, str(options.plain), task] if options.plain else [python, str(PLAIN), "usual", task]
        slow = task in ("layers", "split")
        commands = [
            ([python, "-m", "eskret", "run", str(file), "--quiet", "--fresh"], options.times),
            ([python, str(PLAIN), "best", task, str(data), str(out)], 1 if slow else options.times),
            ([*usual, str(data), str(out)], min(options.usual, 1) if slow else options.usual),
        ]
        ours, best, before = in_turn(commands, out)
        assert ours is not None and best is not None
        cells, peaks = ["", f"{best[0]:.1f} s", f"{ours[0]:.1f} s", "", f"{best[0] / ours[0]:.2f}x"], [best[1], ours[1]]
        if before is not None:
            cells[0], cells[3] = f"{before[0]:.1f} s", f"{before[0] / ours[0]:.1f}x"
            peaks.insert(0, before[1])
        print(f"| {task} | {' | '.join(cells)} | {', '.join(f'{p:.0f}' for p in peaks)} MB |", flush=True)


if __name__ == "__main__":
    main()
