"""``kill -9`` over every kind of delivery: at every file event and at random, each followed by the real next command.

Two thirds of the runs are whole command-line processes; the others are forked from one that has everything imported, which is
faster and hits the commit itself more often.

    python benchmarks/reliability/kills.py [HOW_MANY_KILLS] [SEED]
"""

from __future__ import annotations

import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[2]))
_OWN = tempfile.mkdtemp(prefix="trial-data-")
os.environ.update(XDG_DATA_HOME=_OWN, XDG_CACHE_HOME=f"{_OWN}/cache", XDG_STATE_HOME=f"{_OWN}/state")

from benchmarks.reliability.common import ESKRET, KINDS, Kind, left_behind, make, state  # noqa: E402

# An audit hook sees every file that Python opens, renames, links or takes away, and every database that is opened.
COUNTED = """
import os, sys
import atexit
_at, _seen = int(os.environ["TRIAL_AT"]), 0
def _told():
    with open(os.environ["TRIAL_COUNT"], "w") as out:
        out.write(str(_seen))
if "TRIAL_COUNT" in os.environ:
    atexit.register(_told)
_events = {"open", "os.rename", "os.remove", "os.link", "os.mkdir", "os.rmdir", "os.truncate", "os.chmod", "sqlite3.connect",
           "shutil.move", "os.setxattr", "os.chown", "fcntl.flock", "fcntl.fcntl"}
def _hook(event, args):
    global _seen
    if event not in _events or (event == "open" and not (isinstance(args[2], int) and args[2] & (os.O_WRONLY | os.O_RDWR))):
        return
    _seen += 1
    if _seen == _at:
        os.kill(os.getpid(), 9)
sys.addaudithook(_hook)
"""
WHOLE = COUNTED + "from eskret.cli import main\nmain()\n"
NEXT = ("run", "rehearse", "look", "recover")


def whole_process(command: list[str], at: int | None, seconds: float) -> int:
    """Run a command that is killed at its so-manieth file event, or after a time; its exit code."""
    if at is not None:
        process = subprocess.Popen(
            [sys.executable, "-c", WHOLE, *command],
            env={**os.environ, "TRIAL_AT": str(at)},
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        return process.wait(120)
    process = subprocess.Popen([*ESKRET, *command], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        return process.wait(seconds)
    except subprocess.TimeoutExpired:
        process.kill()
        return process.wait()


def forked(command: list[str], at: int) -> int:
    """The same in a child of this process, which has imported everything."""
    child = os.fork()
    if child == 0:
        silent = os.open(os.devnull, os.O_WRONLY)
        os.dup2(silent, 1), os.dup2(silent, 2)
        os.environ["TRIAL_AT"] = str(at)
        sys.argv = ["eskret", *command]
        try:
            exec(COUNTED, {})
            from eskret.cli import main

            main()
        finally:
            os._exit(1)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])


_known: dict[str, int] = {}


def events_of(kind: Kind, forked_too: bool) -> int:
    """How many file events a run of this kind has, counted once: a kill at a later one would come too late."""
    name = f"{kind.name} {forked_too}"
    if name not in _known:
        place = Path(tempfile.mkdtemp(prefix="trial-"))
        home = place / "p"
        home.mkdir()
        make(home, kind)
        os.environ["TRIAL_COUNT"] = str(place / "count")
        (forked if forked_too else partial(whole_process, seconds=0))(kind.command(home), at=1_000_000)
        del os.environ["TRIAL_COUNT"]
        _known[name] = int((place / "count").read_text())
        shutil.rmtree(place)
    return _known[name]


def after(home: Path, kind: Kind, chance: random.Random) -> str:
    """The next command of somebody who knows of nothing; then what must hold. Empty where all does."""
    what = chance.choice(NEXT)
    command = {
        "run": kind.command(home),
        "rehearse": ["rehearse", str(home / "w.toml"), "-q"],
        "look": ["look", str(home)],
        "recover": ["recover", str(home)],
    }[what]
    before = state(home, kind) if what == "run" and "append" in kind.name else ""
    done = subprocess.run([*ESKRET, *command], capture_output=True, text=True, cwd=home)
    if "Traceback" in done.stderr:
        return f"{what}: {done.stderr[-400:]}"
    found = state(home, kind)
    if found not in ("old", "new"):
        # to append once more is right where the run before had come to its end
        if what == "run" and before in ("new", "old") and "append" in kind.name:
            pass
        else:
            return f"after {what}: {found}"
    left = list(left_behind(home))
    return f"after {what}: left behind {left}" if left else ""


def main(most: int, seed: int) -> int:
    """Try; gives how many went wrong."""
    chance = random.Random(seed)

    wrong: list[str] = []
    counts: Counter[str] = Counter()
    begun = time.monotonic()
    tried = 0
    while counts["killed"] < most:
        kind = chance.choice(KINDS)
        place = Path(tempfile.mkdtemp(prefix="trial-"))  # a child that comes to its end takes no folder of its parent's away
        home = place / "p"
        home.mkdir()
        make(home, kind)
        way = tried % 3
        at = chance.randint(1, events_of(kind, way == 0))
        if way == 0:
            code = forked(kind.command(home), at)
        elif way == 1:
            code = whole_process(kind.command(home), at, 0)
        else:
            code = whole_process(kind.command(home), None, chance.uniform(0.7, 2.2))
        counts["killed" if code == -signal.SIGKILL else "came to its end"] += 1
        tried += 1
        problem = after(home, kind, chance)
        if problem:
            wrong.append(f"{kind.name}, way {way}, event {at}: {problem}")
            print("WRONG", wrong[-1], flush=True)
        shutil.rmtree(place)
        if tried % 50 == 0:
            print(f"{tried} tried, {counts['killed']} killed, {len(wrong)} wrong, {time.monotonic() - begun:.0f} s", flush=True)
    print(f"kills: {tried} tried, {counts['killed']} killed under way, {len(wrong)} wrong states, {time.monotonic() - begun:.0f} s")
    return len(wrong)


if __name__ == "__main__":
    sys.exit(bool(main(int(sys.argv[1]) if len(sys.argv) > 1 else 1_000, int(sys.argv[2]) if len(sys.argv) > 2 else 1)))
