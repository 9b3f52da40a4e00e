"""``kill -9`` while a run publishes, at file events and at random, each followed by the real next command.

The service is the practice server, in this process; what it holds afterwards is asked of it by plain requests.

    python benchmarks/reliability/pushes.py [HOW_MANY] [SEED]
"""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[2]))
_OWN = tempfile.mkdtemp(prefix="trial-data-")
os.environ.update(XDG_DATA_HOME=_OWN, XDG_CACHE_HOME=f"{_OWN}/cache", XDG_STATE_HOME=f"{_OWN}/state", TRIAL_TOKEN="word")

from benchmarks.reliability.common import ESKRET, areas, left_behind  # noqa: E402
from benchmarks.reliability.kills import whole_process  # noqa: E402
from eskret.core.layer import Layer  # noqa: E402
from eskret.formats import geopackage  # noqa: E402
from eskret.practice_server import PracticeServer  # noqa: E402
from eskret.practice_server.faults import Faults  # noqa: E402

ROWS = 30
HEAD = """eskret = 1
title = "Trial"
[[steps]]
id = "in"
use = "load"
files = ["in.gpkg"]
[[steps]]
id = "copy"
use = "save"
from = "in"
to = "out/copy.geojson"
[[steps]]
id = "online"
use = "publish"
from = "in"
service = "ADDRESS"
dataset = "beds"
key = ["id"]
create = true
token_from = "TRIAL_TOKEN"
"""
AFTER = ("complete", "run", "back")


def source(home: Path, first: int, kind: str) -> dict[int, str]:
    """The file that the workflow reads, and what the dataset is then to hold: kinds by number."""
    layer = areas(ROWS, first=first)
    kinds = [kind if n % 3 else "same" for n in range(ROWS)]
    layer = Layer(layer.key, layer.table.set_column(1, "kind", [kinds]), layer.geometry, layer.crs)
    new = home / "new.gpkg"
    new.unlink(missing_ok=True)
    with geopackage.writing(new) as container:
        container.add(layer, "beds")
    new.replace(home / "in.gpkg")
    return dict(zip(range(first, first + ROWS), kinds, strict=True))


def held(address: str) -> dict[int, str]:
    """What the service holds; a feature that is there twice comes under no number that was ever sent."""
    with urllib.request.urlopen(f"{address}/collections/beds/items?limit=1000", timeout=10) as answer:
        found = [f["properties"] for f in json.load(answer)["features"]]
    out = {int(p["id"]): str(p["kind"]) for p in found}
    return out if len(out) == len(found) else {-1: "twice"}


def eskret(home: Path, *arguments: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([*ESKRET, *arguments], capture_output=True, text=True, cwd=home)


def trial(server: PracticeServer, place: Path, way: int, chance: random.Random) -> tuple[str, bool]:
    """One kill and what came after it: what is wrong, empty where nothing is, and whether it was under way."""
    home = place / "p"
    home.mkdir()
    workflow = home / "w.toml"
    workflow.write_text(HEAD.replace("ADDRESS", server.address))
    old = source(home, 0, "old")
    server.set_faults(Faults())
    first = eskret(home, "publish", str(workflow), "--yes", "-q")
    assert first.returncode == 0, first.stderr
    old_file = (home / "out" / "copy.geojson").read_bytes()
    new = source(home, 4, "new")
    server.set_faults(Faults(slow=chance.choice([0.0, 0.02])))
    command = ["publish", str(workflow), "--yes", "-q"]
    at, seconds = (chance.randint(1, 300), 0.0) if way else (None, chance.uniform(0.8, 3.5))
    code = whole_process(command, at, seconds)
    server.set_faults(Faults())
    what = chance.choice(AFTER)
    found = held(server.address)
    if what == "run" or found == new:
        done = eskret(home, *command)
        if done.returncode:
            # the one thing that a run refuses: it asks for the push that was cut short to be settled first
            done = eskret(home, "publish", str(workflow), "--resume", "-q")
            done = eskret(home, *command) if done.returncode == 0 else done
        wanted = [new]
    elif what == "complete":
        done = eskret(home, "publish", str(workflow), "--resume", "-q")
        wanted = [old, new] if found == old else [new]
    else:
        done = eskret(home, "publish", str(workflow), "--undo", "-q")
        wanted = [{}, old]  # where nothing had been sent, the push before is taken back
        if found != old:
            wanted = [old]
    killed = code == -signal.SIGKILL
    where = f"killed, then '{what}'"
    if "Traceback" in done.stderr:
        return f"{where}: {done.stderr[-400:]}", killed
    try:
        now = held(server.address)
    except OSError:
        now = {}  # the dataset that the first push made went with it
    if now not in wanted:
        return f"{where}: {len(now)} features, neither as before nor as sent: {done.stdout} {done.stderr}", killed
    if what != "back" and now == new and (home / "out" / "copy.geojson").read_bytes() == old_file:
        return f"{where}: sent, but the file is the old one", killed
    left = list(left_behind(home)) if eskret(home, "recover", str(home)).returncode == 0 else ["recovery failed"]
    return (f"{where}: left behind {left}" if left else ""), killed


def main(most: int, seed: int) -> int:
    """Try; gives how many went wrong."""
    chance = random.Random(seed)
    counts: Counter[str] = Counter()
    begun = time.monotonic()
    wrong = 0
    for number in range(most):
        place = Path(tempfile.mkdtemp(prefix="trial-"))
        with PracticeServer(place / "published", token="word") as server:
            problem, killed = trial(server, place, number % 3, chance)
        counts["killed"] += killed
        if problem:
            wrong += 1
            print("WRONG", problem, flush=True)
        shutil.rmtree(place)
        shutil.rmtree(Path(_OWN) / "eskret" / "pushes", ignore_errors=True)
    seconds = time.monotonic() - begun
    print(f"pushes: {most} tried, {counts['killed']} killed under way, {wrong} wrong states, {seconds:.0f} s")
    return wrong


if __name__ == "__main__":
    sys.exit(bool(main(int(sys.argv[1]) if len(sys.argv) > 1 else 100, int(sys.argv[2]) if len(sys.argv) > 2 else 1)))
