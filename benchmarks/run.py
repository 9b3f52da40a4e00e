"""Run Eskret beside a plain script, task for task, in the same run, and print the table.

Usage: python benchmarks/run.py [--data FOLDER] [--plain SCRIPT] [--times N]

The plain script is called as ``SCRIPT TASK DATA OUT``; without one, only Eskret is measured. Whole processes are timed,
reading and writing files included; the least of N times counts, since these machines are noisy.
"""

from __future__ import annotations

import argparse
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

SHARED = Path(__file__).resolve().parents[2] / "shared" / "bench"

APPEND = Path(__file__).resolve().parent / "append_loop.py"
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


def plain_command(task: str, plain: Path | None, data: Path, out: Path) -> list[str]:
    """What does the same without Eskret; empty where nothing does."""
    if task == "layers":
        return [sys.executable, str(APPEND), str(data / "layers.gpkg"), str(out / "layers.gpkg")]
    return [sys.executable, str(plain), task, str(data), str(out)] if plain and task != "keep" else []


def timed(command: list[str]) -> tuple[float, float]:
    """Seconds and peak memory in MB of a command."""
    begun = time.perf_counter()
    code = (
        "import resource, subprocess, sys; c = subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL).returncode; "
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024); sys.exit(c)"
    )
    done = subprocess.run([sys.executable, "-c", code, *command], check=True, capture_output=True, text=True)
    return time.perf_counter() - begun, float(done.stdout)


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--data", type=Path, default=Path(tempfile.gettempdir()) / "eskret-bench")
    parser.add_argument("--plain", type=Path, default=SHARED / "plain.py")
    parser.add_argument("--make", type=Path, default=SHARED / "make_data.py")
    parser.add_argument("--times", type=int, default=3)
    parser.add_argument("tasks", nargs="*", default=list(WORKFLOWS))
    options = parser.parse_args()
    data = options.data / "data"
    if not (data / "landings.csv").exists():
        if not options.make.exists():
            sys.exit(f"There is no data in {data} and no script to make it; name one with --make.")
        subprocess.run([sys.executable, str(options.make), str(data)], check=True)
    if not (data / "layers.gpkg").exists():
        subprocess.run([sys.executable, str(APPEND), "--make", str(data / "layers.gpkg")], check=True)
    plain = options.plain if options.plain.exists() else None
    out = options.data / "out"
    print("| task | plain script | Eskret | ratio | peak memory, plain | peak memory, Eskret |")
    print("|---|---|---|---|---|---|")
    for task in options.tasks:
        ours, theirs = [], []
        for _ in range(options.times):
            shutil.rmtree(out, ignore_errors=True)
            out.mkdir(parents=True)
            file = options.data / f"{task}.toml"
            file.write_text(workflow(task, data, out))
            ours.append(timed([sys.executable, "-m", "eskret", "run", str(file), "--quiet", "--fresh"]))
            other = plain_command(task, plain, data, out)
            # appending layer by layer takes minutes: once is enough
            if other and not (task in ("layers", "split") and theirs):
                shutil.rmtree(out, ignore_errors=True)
                out.mkdir(parents=True)
                theirs.append(timed(other))
        best = min(ours)
        if theirs:
            least = min(theirs)
            print(f"| {task} | {least[0]:.1f} s | {best[0]:.1f} s | {least[0] / best[0]:.1f}x | {least[1]:.0f} MB | {best[1]:.0f} MB |")
        else:
            print(f"| {task} | | {best[0]:.1f} s | | | {best[1]:.0f} MB |")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
