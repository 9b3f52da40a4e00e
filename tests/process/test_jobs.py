"""What a worker can be asked: arguments checked by their types, answers that are JSON, failures in words."""

from __future__ import annotations

import io
import json
import re
import time
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
import shapely
from pydantic import ValidationError

import eskret.desktop
from eskret import write
from eskret.core.layer import Layer
from eskret.process.jobs import JOBS, Work
from eskret.process.messages import Request
from eskret.process.worker import Server

FLOW = """eskret = 1
title = "Kept"
[parameters.least]
type = "number"
default = 1
[[steps]]
id = "in"
use = "load"
files = ["in.gpkg"]
[[steps]]
id = "some"
use = "keep"
from = "in"
where = "n > $least"
"""


def work(tell: Any = lambda event: None) -> Work:
    return Work(1, tell, lambda done, of: None, lambda stop: None)


def ask(do: str, **arguments: Any) -> dict[str, Any]:
    """A job's answer, as it comes through a line of JSON."""
    answer: dict[str, Any] = json.loads(json.dumps(JOBS[do](work(), **json.loads(json.dumps(arguments, default=str))), default=str))
    return answer


@pytest.fixture
def home(tmp_path: Path) -> Path:
    table = pa.table({"n": [1, 2, 3], "word": ["a", "b", None]})
    write(Layer("things", table, np.array([shapely.Point(i, 50) for i in range(3)], object), "EPSG:4326"), tmp_path / "in.gpkg", "things")
    return tmp_path


def test_every_job_that_a_window_asks_for_is_there() -> None:
    """A name that is misspelt would be found by whoever clicks."""
    asked: set[str] = set()
    for file in Path(eskret.desktop.__file__).parent.rglob("*.py"):
        asked |= set(re.findall(r"\.(?:ask|send)\(\s*\"(\w+)\"", file.read_text("utf-8")))
    assert len(asked) > 25 and asked <= set(JOBS)


def test_arguments_are_brought_to_their_types_or_refused(home: Path) -> None:
    assert ask("look", path=str(home / "in.gpkg"))["layers"][0]["name"] == "things"
    for wrong in ({}, {"path": 5}, {"path": str(home), "deep": True}):
        with pytest.raises(ValidationError):
            JOBS["look"](work(), **wrong)


def test_a_workflow_is_rehearsed_run_and_looked_at(home: Path) -> None:
    request = {"text": FLOW, "values": {"least": 2}, "folder": str(home)}
    told = ask("rehearse", **request)
    assert told["findings"] == [] and [s["key"] for s in told["steps"]["some"]["leaving"]] == ["things"]
    assert told["steps"]["some"]["leaving"][0]["fields"] == [["n", "whole number"], ["word", "text"]]
    events: list[dict[str, Any]] = []
    answer = JOBS["run"](work(lambda e: events.append(dict(e))), **request, store=str(home / "store"))
    assert answer["state"] == "balanced"
    assert [e["event"] for e in events if e["event"] != "progress"] == [
        "run_started",
        "step_started",
        "step_finished",
        "step_started",
        "step_finished",
        "run_finished",
    ]
    layer = next(e for e in events if e["event"] == "step_finished" and e["id"] == "some")["view"]["leaving"][0]
    assert ask("count", layer=layer, where="n = $least + 1", values={"least": 2}) == {"kept": 1, "of": 1}
    assert ask("compute", layer=layer, value="n * 2", values={})["values"] == [6]
    assert "cannot be worked out" in ask("compute", layer=layer, value="CAST('x' AS INTEGER) + n", values={})["wrong"]
    assert ask("values", layers=[layer], field="word", most=5) == {"values": [], "empty": 1}
    assert [f["name"] for f in ask("profile", layer=layer)["fields"]] == ["n", "word"]
    assert ask("offers", **request)["offers"]["least"]["enabled"] is True


def test_a_file_is_opened_and_a_store_changed(home: Path) -> None:
    opened = ask("open", path=home / "in.gpkg", layer="", key="k", store=home / "store")
    assert opened["layer"]["rows"] == 3 and opened["remarks"] == []
    assert ask("store", path=home / "in.gpkg")["layers"] == [{"name": "things", "rows": 3, "section": ""}]
    assert ask("store", path=home / "in.gpkg", rename={"things": "beds"})["layers"][0]["name"] == "beds"
    assert [f["code"] for f in ask("find_crs", words="WGS 84 UTM 26N", recent=[], most=3)["found"]][:1] == ["EPSG:32626"]


def answers(*requests: dict[str, Any], wait: int) -> list[dict[str, Any]]:
    """What a server tells of some requests, once so many of them are at an end."""
    out = io.StringIO()
    server = Server(out)
    lines = io.StringIO("".join(json.dumps(r) + "\n" for r in requests))
    server.serve(lines)
    for _ in range(400):
        told = [json.loads(line) for line in out.getvalue().splitlines()]
        if sum(e["event"] in ("done", "error") for e in told) >= wait:
            return told
        time.sleep(0.02)
    raise AssertionError(out.getvalue())


def test_a_server_answers_each_job_once_and_says_what_went_wrong(home: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def endless(work: Work) -> dict[str, Any]:
        while True:
            work.watch(0, 0)
            time.sleep(0.005)

    monkeypatch.setitem(JOBS, "endless", endless)
    told = answers(
        {"job": 1, "do": "look", "path": str(home / "in.gpkg")},
        {"job": 2, "do": "look", "path": str(home / "none.gpkg")},
        {"job": 3, "do": "fly"},
        {"job": 4, "do": "endless"},
        {"job": 4, "do": "stop"},
        wait=4,
    )
    last = {e["job"]: e for e in told}
    assert len(told) == 4 and last[1]["event"] == "done" and last[1]["do"] == "look"
    assert "no such file" in last[2]["text"] and last[2]["stopped"] is False
    assert last[3]["event"] == "error" and last[3]["text"].endswith((".", "?"))
    assert last[4]["event"] == "error" and last[4]["stopped"] is True


def test_a_request_says_its_job_and_what_it_is() -> None:
    request = Request.model_validate({"job": 7, "do": "look", "path": "a", "more": {"b": [1]}})
    assert (request.job, request.do, request.arguments) == (7, "look", {"path": "a", "more": {"b": [1]}})
    for wrong in ({"do": "look"}, {"job": "x", "do": "look"}, {"job": 1}):
        with pytest.raises(ValidationError):
            Request.model_validate(wrong)
