"""One operation without a workflow, a workflow run again when its inputs change, and what is kept of earlier runs."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

from eskret import read, write
from eskret.cli import app
from eskret.workflow.run import watch
from tests.conftest import points, squares


@pytest.fixture
def folder(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    write(points({"n": list(range(6)), "k": list("aabbcc")}), tmp_path / "places.gpkg", "places")
    write(squares(4), tmp_path / "areas.gpkg", "squares")
    write(squares(1), tmp_path / "two.gpkg", "one")
    monkeypatch.chdir(tmp_path)
    return tmp_path


def cli(*words: object, code: int = 0) -> Any:
    done = CliRunner().invoke(app, [str(w) for w in words])
    assert done.exit_code == code, done.output
    return done.output


def test_one_operation_is_done(folder: Path) -> None:
    told = cli("do", "buffer", "places.gpkg", "--distance", "20 m", "--out", "wide.gpkg", "--workflow", "wide.toml")
    assert "Buffer" in told and "Saved" in told
    assert read(folder / "wide.gpkg").kind == "area"
    # kept as a workflow, it does the same again
    (folder / "wide.gpkg").unlink()
    cli("run", "wide.toml", "-q")
    assert read(folder / "wide.gpkg").table.num_rows == 6
    # layers that settings name are files; lists have commas; several outputs
    cli("do", "clip", "places.gpkg:places", "--to", "areas.gpkg:squares", "-o", "in.geojson", "-o", "in.csv", "-q")
    assert read(folder / "in.geojson").table.num_rows < 6 and (folder / "in.csv").exists()
    cli("do", "dissolve", "places.gpkg", "--by=k", "--figures", '{ n = "sum n" }', "--out", "d.gpkg", "-q")
    assert read(folder / "d.gpkg").table.column("n").to_pylist() == [1, 5, 9]
    cli("do", "save", "places.gpkg", "--to", "copy.parquet", "-q")
    assert read(folder / "copy.parquet").table.num_rows == 6
    told = json.loads(cli("do", "merge", "places.gpkg", "--json"))
    assert told["state"] == "balanced" and not told["outputs"]
    assert "Nothing was saved" in cli("do", "measure", "areas.gpkg", "--what", "area")
    assert "must be given" in cli("do", "buffer")  # without anything, it is explained
    assert cli("do", "check", "places.gpkg", "--that", "condition", "--where", "n < 3", code=3)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["do", "nothing", "places.gpkg"], "no operation 'nothing'"),
        (["do", "buffer", "places.gpkg", "--width", "3"], "'buffer' has no setting 'width'. It has distance"),
        (["do", "buffer", "--distance", "3 m"], "needs layers to work on"),
        (["do", "buffer", "none.gpkg", "--distance", "3 m"], "there is no such file"),
        (["do", "dissolve", "places.gpkg", "--figures", "{ n = "], "is no table or list"),
        (["do", "dissolve", "places.gpkg", "--figures", "sum n"], "is not what 'figures' takes"),
        (["do", "clip", "places.gpkg:places", "areas.gpkg", "--to", "two.gpkg"], "Name the layer of each"),
    ],
)
def test_what_is_wrong_with_one_operation_is_said(folder: Path, words: list[str], said: str) -> None:
    done = CliRunner().invoke(app, words)
    assert done.exit_code in (1, 2) and said in done.output.replace("\n", " ")


WATCHED = (
    'eskret = 1\n[[steps]]\nid = "in"\nuse = "load"\nfiles = ["*.gpkg"]\n[[steps]]\nid = "out"\nuse = "save"\nfrom = "in"\n'
    'to = "out/all.gpkg"\n'
)


def test_what_is_watched(folder: Path, tmp_path: Path) -> None:
    path = folder / "w.toml"
    path.write_text(WATCHED)
    state, unseen = watch.seen(path)
    assert {Path(p).name for p in state} == {"w.toml", "areas.gpkg", "places.gpkg", "two.gpkg"} and not unseen
    write(points({"n": [1]}), folder / "new.gpkg", "new")
    assert str(folder / "new.gpkg") in watch.seen(path)[0]
    path.write_text(WATCHED + '[[steps]]\nid = "there"\nuse = "fetch"\nservice = "http://localhost:1"\ndataset = "x"\n')
    assert watch.seen(path)[1] == ["there"]
    path.write_text("broken")
    assert set(watch.seen(path)[0]) == {str(path)}


def test_a_run_follows_once_nothing_changes_any_more(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    states = iter([({"a": 1}, []), ({"a": 1}, []), ({"a": 2}, []), ({"a": 3}, []), ({"a": 3}, []), ({"a": 3}, [])])
    stop, runs = threading.Event(), []

    def seen(*_: Any) -> Any:
        try:
            return next(states)
        except StopIteration:
            stop.set()
            return {"a": 3}, []

    monkeypatch.setattr(watch, "seen", seen)
    watch.watch(folder / "w.toml", lambda: runs.append(1), every=0.001, stop=stop)
    assert len(runs) == 2  # at once, and when what was being written was whole


def test_watch_on_the_command_line(folder: Path) -> None:
    (folder / "w.toml").write_text(WATCHED)
    process = subprocess.Popen(
        [sys.executable, "-u", "-m", "eskret", "watch", "w.toml", "--every", "0.2"],
        cwd=folder,
        text=True,
        stdout=subprocess.PIPE,
        env={**os.environ, "PYTHONUNBUFFERED": "1"},
    )
    assert process.stdout is not None
    assert "2 balanced" in process.stdout.readline()
    (folder / "w.toml").write_text(WATCHED.replace("load", "lod"))
    assert "there is no operation 'lod'" in process.stdout.readline()
    (folder / "w.toml").write_text(WATCHED.replace("all.gpkg", "other.gpkg"))
    assert "1 of 2 reused" in process.stdout.readline() and (folder / "out" / "other.gpkg").exists()
    time.sleep(0.3)
    process.send_signal(signal.SIGINT)
    assert process.wait(timeout=20) == 0
    process.stdout.close()


def test_the_cache_is_told_limited_and_cleared(folder: Path) -> None:
    (folder / "w.toml").write_text(WATCHED)
    cli("run", "w.toml", "-q")
    assert "results of tasks" in cli("cache") and "at most 4.3 GB" in cli("cache")
    assert "at most 1.5 GB" in cli("cache", "--limit", "1.5gb") and "is no size" in cli("cache", "--limit", "much", code=2)
    assert "reused" in cli("run", "w.toml") and "Left as it was" in cli("run", "w.toml")
    assert "reused" not in cli("run", "w.toml", "--fresh")
    assert cli("cache", "--clear").startswith("0 results") and "reused" not in cli("run", "w.toml")
