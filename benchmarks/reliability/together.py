"""Every pair of {run, run of another workflow, window, watch, somebody's editor in rollback or write-ahead mode} at one file.

Each writes rows of its own into the same GeoPackage at the same time; afterwards every row that anybody was told was written is
there. The window's part is its worker process with the requests that the window sends.

    python benchmarks/reliability/together.py [ROWS_EACH]
"""

from __future__ import annotations

import itertools
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import closing, suppress
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[2]))
_OWN = tempfile.mkdtemp(prefix="trial-data-")
os.environ.update(XDG_DATA_HOME=_OWN, XDG_CACHE_HOME=f"{_OWN}/cache", XDG_STATE_HOME=f"{_OWN}/state")

from benchmarks.reliability.common import ESKRET, areas, left_behind  # noqa: E402
from eskret.formats import geopackage  # noqa: E402
from eskret.formats.geopackage import triggers  # noqa: E402
from eskret.process.client import Worker  # noqa: E402

TURN = 5
"""Rows that are written at a time."""
WORKFLOW = """eskret = 1
title = "{name}"
[[steps]]
id = "in"
use = "load"
files = ["{name}.gpkg"]
[[steps]]
id = "out"
use = "save"
from = "in"
to = "all.gpkg"
name = "log"
if_exists = "append"
"""


class Part:
    """Somebody at work: ``wrote`` counts the rows that were told to be in the file."""

    def __init__(self, home: Path, name: str, turns: int) -> None:
        self.home, self.name, self.turns = home, name, turns
        self.wrote, self.refused = 0, 0
        self.error = ""
        source = home / f"{name}.gpkg"
        with geopackage.writing(source) as container:
            container.add(areas(TURN, "beds"), "beds")
        self.workflow = home / f"{name}.toml"
        self.workflow.write_text(WORKFLOW.format(name=name))

    def take(self, well: bool) -> None:
        self.wrote += TURN * well
        self.refused += not well


def _run(part: Part) -> None:
    for _ in range(part.turns):
        done = subprocess.run([*ESKRET, "run", str(part.workflow), "--fresh", "-q"], capture_output=True, text=True)
        if "Traceback" in done.stderr:
            part.error = done.stderr[-300:]
        part.take(done.returncode == 0)


def _window(part: Part) -> None:
    events: list[dict[str, object]] = []
    news = threading.Condition()

    def hear(event: object) -> None:
        with news:
            events.append(dict(event))  # type: ignore[call-overload]
            news.notify_all()

    worker = Worker(hear)
    asked = {"text": part.workflow.read_text(), "values": {}, "workflow": str(part.workflow), "folder": str(part.home)}
    for turn in range(part.turns):
        store = tempfile.mkdtemp(prefix="trial-store-")
        worker.send("rehearse", **asked)  # as an edit meanwhile would
        job = worker.send("run", store=store, fresh=True, **asked)
        worker.send("look", path=str(part.home / "all.gpkg"))
        with news:
            news.wait_for(lambda j=job: any(e["job"] == j and e["event"] in ("done", "error", "crashed") for e in events), 120)  # type: ignore[misc]
        last = next((e for e in events if e["job"] == job and e["event"] in ("done", "error", "crashed")), {})
        if not last or last["event"] == "crashed":
            part.error = f"turn {turn}: {last}"
        part.take(last.get("state") in ("balanced", "look"))
        shutil.rmtree(store, ignore_errors=True)
    worker.close()


def _watch(part: Part) -> None:
    source = part.home / f"{part.name}.gpkg"
    process = subprocess.Popen(
        [*ESKRET, "watch", str(part.workflow), "--every", "0.3"],
        stdout=subprocess.PIPE,
        text=True,
        env={**os.environ, "PYTHONUNBUFFERED": "1"},
    )
    assert process.stdout is not None
    for turn in range(part.turns):
        line = process.stdout.readline()
        part.take("balanced" in line or "look" in line)
        if turn < part.turns - 1:
            os.utime(source)
            with closing(sqlite3.connect(source)) as db, db:
                db.execute(f"PRAGMA user_version = {10400 + turn}")
    process.terminate()
    process.wait(30)


def _editor(mode: str) -> Callable[[Part], None]:
    def edit(part: Part) -> None:
        with closing(sqlite3.connect(part.home / "all.gpkg", isolation_level=None, timeout=30)) as db:
            triggers.know_shapes(db)
            while mode == "wal":  # it is refused while another one writes
                with suppress(sqlite3.Error):
                    db.execute("PRAGMA journal_mode = wal").fetchall()
                    break
                time.sleep(0.02)
            for _ in range(part.turns):
                try:
                    db.execute("BEGIN IMMEDIATE")
                    db.executemany("INSERT INTO log (id, kind) VALUES (?, ?)", [(n, part.name) for n in range(TURN)])
                    time.sleep(0.05)
                    db.execute("COMMIT")
                    part.take(True)
                except sqlite3.Error:
                    if db.in_transaction:
                        db.execute("ROLLBACK")
                    part.take(False)
                time.sleep(0.25)

    return edit


PARTS: dict[str, Callable[[Part], None]] = {
    "run": _run,
    "other run": _run,
    "window": _window,
    "watch": _watch,
    "editor": _editor("delete"),
    "editor in write-ahead mode": _editor("wal"),
}


def main(each: int) -> int:
    """Try; gives how many rows were lost."""
    lost = 0
    for one, other in itertools.combinations_with_replacement(PARTS, 2):
        home = Path(tempfile.mkdtemp(prefix="trial-"))
        path = home / "all.gpkg"
        with geopackage.writing(path) as container:
            container.add(areas(1, "log"), "log")
        parts = [Part(home, f"p{n}", max(1, each // TURN)) for n in range(2)]
        threads = [threading.Thread(target=PARTS[what], args=(part,)) for what, part in zip((one, other), parts, strict=True)]
        begun = time.monotonic()
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(300)
        with closing(sqlite3.connect(path)) as db:
            sound = db.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
            sound &= db.execute("SELECT rtreecheck('rtree_log_geom')").fetchone() == ("ok",)
            found = db.execute("SELECT count(*) FROM log").fetchone()[0] - 1
        told = sum(p.wrote for p in parts)
        left = list(left_behind(home))
        errors = [p.error for p in parts if p.error]
        wrong = abs(told - found) + (not sound) + len(left) + len(errors)
        lost += wrong
        print(
            f"{one} + {other}: {told} rows told, {found} there, {sum(p.refused for p in parts)} turns refused, "
            f"{'sound' if sound else 'NOT SOUND'}{', LEFT ' + str(left) if left else ''}{errors or ''}, {time.monotonic() - begun:.0f} s",
            flush=True,
        )
        shutil.rmtree(home)
    print(f"together: {lost} rows lost or wrong")
    return lost


if __name__ == "__main__":
    sys.exit(bool(main(int(sys.argv[1]) if len(sys.argv) > 1 else 25)))
