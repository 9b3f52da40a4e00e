"""Killed, crashed, stopped: every output is old or new, and whoever asked is told."""

from __future__ import annotations

import json
import os
import random
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyogrio
import pytest

from eskret import Workflow
from eskret.core.files.alone import say_alone
from eskret.core.files.transaction import CommitJournal, pending
from eskret.formats import geopackage
from eskret.formats.geopackage.in_place import GeoPackageInPlace
from eskret.process.client import Worker
from eskret.workflow.outputs.records import Outputs, outputs_path
from eskret.workflow.outputs.recovery import recover
from eskret.workflow.outputs.transaction import OutputTransaction
from tests.conftest import squares
from tests.length import turns

RUN = "import sys; from eskret import Workflow; Workflow.read(sys.argv[1]).run(kind=sys.argv[2])"


def outputs(folder: Path) -> tuple[str, str]:
    """Which word the GeoPackage and the GeoJSON are of: what they hold tells."""
    names = [e.name for e in geopackage.entries(folder / "out" / "survey.gpkg")]
    container = "buoy" if "buoy_marks_waypoints" in names else "pile"
    features = json.loads((folder / "out" / "marks_waypoints.geojson").read_text())["features"]
    return container, features[0]["properties"]["desc"][:4].lower()


def test_killed_at_any_instant_every_output_is_old_or_new(project: Path) -> None:
    Workflow.read(project).run()
    chance = random.Random(7)
    begun = time.perf_counter()
    whole = subprocess.run([sys.executable, "-c", RUN, str(project), "Pile"], check=True)
    assert whole.returncode == 0
    usual = time.perf_counter() - begun
    for _ in range(turns(12, 4)):
        process = subprocess.Popen([sys.executable, "-c", RUN, str(project), "Buoy"])
        try:
            # most of a run is start-up: the instants that matter are near its end
            process.wait(usual * chance.uniform(0.55, 1.05))
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        recover(project.parent)
        state = outputs(project.parent)
        assert state[0] == state[1], "one output is old and the other new"
        db = sqlite3.connect(project.parent / "out" / "survey.gpkg")
        assert db.execute("PRAGMA integrity_check").fetchall() == [("ok",)]
        db.close()
        assert not Workflow.read(project).rehearse().errors  # its own outputs are still its own
    Workflow.read(project).run(kind="Pile")
    assert not list((project.parent / "out").glob(".*")), "what the killed runs staged is swept away"


def test_the_members_of_a_shapefile_and_what_stands_beside_are_of_one_run(tmp_path: Path) -> None:
    """Killed at random instants: shapes, table, style, list of names and index page are all old or all new."""
    path = tmp_path / "both.toml"
    path.write_text(
        """eskret = 1
[parameters.kind]
type = "text"
default = "old"
[[steps]]
id = "in"
use = "load"
files = ["{kind}.gpkg"]
[[steps]]
id = "out"
use = "save"
from = "in"
to = "web/beds.shp"
also = ["web/beds.geojson"]
index = true
sld = true
"""
    )
    for kind, count in (("old", 400), ("new", 900)):
        made = squares(count, key="beds")
        names = pa.table({"a_long_name_of_a_field": np.arange(count), "kind": [kind] * count})
        with geopackage.writing(tmp_path / f"{kind}.gpkg") as container:
            container.add(made.with_table(names), "beds")

    def state() -> set[str]:
        found = {400: "old", 900: "new"}
        shapes = pyogrio.read_info(tmp_path / "web" / "beds.shp")["features"]
        table = int.from_bytes((tmp_path / "web" / "beds.dbf").read_bytes()[4:8], "little")
        web = len(json.loads((tmp_path / "web" / "beds.geojson").read_text())["features"])
        page = (tmp_path / "web" / "index.html").read_text()
        assert (tmp_path / "web" / "beds.fields.csv").exists() and (tmp_path / "web" / "beds.sld").exists()
        return {found[shapes], found[table], found[web], "new" if ">900<" in page else "old"}

    Workflow.read(path).run()
    chance = random.Random(5)
    begun = time.perf_counter()
    subprocess.run([sys.executable, "-c", RUN, str(path), "old"], check=True)
    usual = time.perf_counter() - begun
    for turn in range(turns(10, 4)):
        process = subprocess.Popen([sys.executable, "-c", RUN, str(path), "new" if turn % 2 else "old"])
        try:
            process.wait(usual * chance.uniform(0.6, 1.05))
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        recover(path.parent)
        assert len(state()) == 1
        assert not Workflow.read(path).rehearse().errors
    Workflow.read(path).run(kind="new")
    assert state() == {"new"} and not list((tmp_path / "web").glob(".*"))


def is_staged(path: Any) -> bool:
    """An output that waits for its place, and no mark."""
    return Path(path).name.startswith(".eskret-") and not Path(path).name.endswith("-new")


@pytest.mark.parametrize("where", ["before the file", "before the database", "before the records"])
def test_a_commit_cut_short_is_completed_by_the_next_command(project: Path, own_data: Path, where: str) -> None:
    """Killed behind the commit point; the next rehearsal completes and says it."""
    Workflow.read(project).run()
    child = os.fork()
    if child == 0:
        say_alone()
        if where == "before the file":
            real = os.replace
            os.replace = lambda a, b: os._exit(9) if is_staged(a) else real(a, b)  # type: ignore[assignment]
        elif where == "before the database":
            GeoPackageInPlace.complete = lambda self: os._exit(9)  # type: ignore[method-assign, assignment, return-value]
        else:
            Outputs.remember = lambda *_: os._exit(9)  # type: ignore[method-assign, assignment, return-value]
        Workflow.read(project).run(kind="Buoy")
        os._exit(0)
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 9
    assert len(list(own_data.glob("transactions/*.json"))) == 1
    assert list((project.parent / "out").glob(".eskret-*.mark")), "colleagues are told"
    told = Workflow.read(project).rehearse(kind="Buoy")
    assert any("cut short" in f.text and f.code == "recovered" for f in told.findings) and not told.errors
    assert outputs(project.parent) == ("buoy", "buoy")
    assert "buoy_marks_waypoints" in outputs_path(project).read_text()
    assert not list(own_data.glob("transactions/*")) and not list((project.parent / "out").glob(".*"))
    assert recover(project.parent) == []


def test_only_what_was_staged_by_processes_that_are_gone_is_taken_away(tmp_path: Path, own_data: Path) -> None:
    living = OutputTransaction(None, tmp_path)
    mine = living.stage(tmp_path / "mine.geojson")
    mine.write_text("")
    child = os.fork()
    if child == 0:
        transaction = OutputTransaction(None, tmp_path)
        transaction.stage(tmp_path / "deep" / "gone.geojson").write_text("")
        os._exit(0)
    os.waitpid(child, 0)
    assert len(list((tmp_path / "deep").glob(".eskret-*"))) == 1
    assert recover(tmp_path) == []
    assert not (tmp_path / "deep").exists() and mine.exists()
    living.rollback()
    assert list(tmp_path.iterdir()) == [] and not list(own_data.glob("transactions/*"))


def test_a_journal_of_thousands_of_folders_grows_by_a_line_for_each(tmp_path: Path, own_data: Path) -> None:
    journal = CommitJournal.begin(None, "Many")
    file = own_data / "transactions" / f"{journal.token}.json"
    begun, lengths = file.stat().st_ino, []
    for number in range(2_000):
        journal.use_folder(tmp_path / f"sheet {number}", [tmp_path / f"sheet {number}"])
        journal.use_folder(tmp_path / "sheet 0")
        lengths.append(file.stat().st_size)
    assert file.stat().st_ino == begun and lengths[-1] - lengths[-2] < 2 * len(str(tmp_path)) + 80
    with file.open("ab") as stream:
        stream.write(b'{"folders": ["/never beg')  # killed while it wrote that it would
    journal.leave()
    found = pending()
    assert [j.told["folders"] for j in found] == [[str(tmp_path / f"sheet {n}") for n in range(2_000)]]
    assert len(found[0].told["made"]) == 2_000
    found[0].end()


# -- the worker


class Listener:
    """Collects a worker's events and waits for one."""

    def __init__(self) -> None:
        self.events: list[Mapping[str, Any]] = []
        self._news = threading.Condition()
        self.worker = Worker(self.take)

    def take(self, event: Mapping[str, Any]) -> None:
        with self._news:
            self.events.append(event)
            self._news.notify_all()

    def wait(self, want: Callable[[Mapping[str, Any]], bool], seconds: float = 60) -> Mapping[str, Any]:
        with self._news:
            assert self._news.wait_for(lambda: any(want(e) for e in self.events), seconds), self.events
            return next(e for e in self.events if want(e))

    def last(self, job: int) -> Mapping[str, Any]:
        return self.wait(lambda e: e["job"] == job and e["event"] in ("done", "error", "crashed"))


@pytest.fixture
def listener() -> Any:
    listener = Listener()
    yield listener
    listener.worker.close()


def request(project: Path, **more: Any) -> dict[str, Any]:
    return {"text": project.read_text(), "values": {}, "workflow": str(project), "folder": str(project.parent), **more}


def test_a_worker_rehearses_runs_looks_and_counts(project: Path, tmp_path: Path, listener: Listener) -> None:
    worker = listener.worker
    assert not listener.last(worker.send("rehearse", **request(project)))["steps"]["web"]["outputs"][0]["layer"]
    run = worker.send("run", store=str(tmp_path / "store"), **request(project))
    assert listener.last(run)["state"] == "look"
    kinds = [e["event"] for e in listener.events if e["job"] == run]
    assert kinds[0] == "run_started" and kinds[-2:] == ["run_finished", "done"] and kinds.count("step_finished") == 4
    view = listener.wait(lambda e: e.get("id") == "chosen")["view"]
    assert view["leaving"][0]["rows"] == 1 and view["aside"]["marks_waypoints"]["rows"] == 2
    count = worker.send("count", layer=view["entering"][0], where="desc LIKE $k || '%'", values={"k": "B"})
    assert {k: listener.last(count)[k] for k in ("kept", "of")} == {"kept": 1, "of": 3}
    wrong = listener.last(worker.send("count", layer=view["entering"][0], where="dsc = 1", values={}))
    assert (wrong["event"], wrong["start"], wrong["length"]) == ("error", 0, 3)
    looked = listener.last(worker.send("look", path=str(project.parent / "field" / "marks.gpx")))
    assert [x["name"] for x in looked["layers"]] == ["waypoints", "routes", "route_points", "tracks", "track_points"]
    opened = worker.send("open", path=looked["path"], layer="tracks", key="k", store=str(tmp_path / "look"))
    assert listener.last(opened)["layer"]["kind"] == "line"
    assert "no such file" in listener.last(worker.send("look", path="/no/where.gpx"))["text"]


def test_a_crash_takes_down_one_run_and_is_told(project: Path, tmp_path: Path, listener: Listener) -> None:
    worker = listener.worker
    Workflow.read(project).run()
    job = worker.send("run", store=str(tmp_path / "store"), **{**request(project), "values": {"kind": "Buoy"}})
    assert worker.pid is not None
    os.kill(worker.pid, signal.SIGSEGV)
    told = listener.last(job)
    assert told["event"] == "crashed" and "SIGSEGV" in told["text"] and "unharmed" in told["text"]
    assert outputs(project.parent) == ("pile", "pile")
    assert listener.last(worker.send("rehearse", **request(project)))["event"] == "done"  # a fresh process answers


@pytest.mark.parametrize("deaf", [False, True])
def test_stop_is_prompt_even_where_the_computation_does_not_listen(project: Path, tmp_path: Path, listener: Listener, deaf: bool) -> None:
    worker = listener.worker
    slow = "list_sum(range(length(name) * 0 + 400000000)) > 0" if deaf else "true"
    text = project.read_text().replace("desc LIKE $kind || '%'", slow)
    listener.last(worker.send("look", path=str(project.parent / "field" / "marks.gpx")))  # warm
    job = worker.send("run", store=str(tmp_path / "store"), **{**request(project), "text": text})
    if deaf:
        listener.wait(lambda e: e.get("step") == "chosen")
    worker.stop(job)
    told = listener.last(job)
    if deaf:  # it did not come to its end: the process was ended
        assert told["stopped"] and told["text"] == "Stopped; nothing was written."
    Workflow.read(project).run()
    assert not list(project.parent.glob("out/.eskret*"))


def test_a_job_sent_the_instant_after_a_worker_died_is_done_and_told_so(project: Path, listener: Listener) -> None:
    """Open jobs belong to a process: the death of one takes no job of the next along."""
    worker = listener.worker
    for _ in range(6):
        listener.last(worker.send("rehearse", **request(project)))
        assert worker.pid is not None
        os.kill(worker.pid, signal.SIGKILL)
        job = worker.send("rehearse", **request(project))
        told = listener.last(job)
        # whichever process it went to, there is one answer, and it is the true one
        if told["event"] == "crashed":
            assert worker.pid is None or "ended from outside" in told["text"]
        else:
            assert told["event"] == "done" and told["steps"]
        time.sleep(0.2)
        assert sum(e["job"] == job and e["event"] in ("done", "error", "crashed") for e in listener.events) == 1
