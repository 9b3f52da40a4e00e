"""What one version kept for a user must serve the next: runs, pushes sent, cut short and waiting, takes-back, trust, consents."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

import pyogrio

TOKEN = "golden-token"
_LOAD = '[[steps]]\nid = "in"\nuse = "load"\nfiles = ["FILE"]\n'
_PUBLISH = """eskret = 1
title = "Online"
{load}
[[steps]]
id = "online"
use = "publish"
from = "in"
service = "{address}"
dataset = "{dataset}"
key = ["id"]
create = true
token_from = "GOLDEN_TOKEN"
"""
_UPDATE = """eskret = 1
title = "Update"
{load}
[[steps]]
id = "out"
use = "save"
from = "in"
to = "{to}"
if_exists = "{how}"
{more}
"""
_OWN = '''import geopandas as gpd
import eskret

@eskret.operation(title="Half of it", relation="kept")
def half(layer: gpd.GeoDataFrame) -> gpd.GeoDataFrame:
    """Every second row."""
    return layer.iloc[::2]
'''


def _places(first: int, word: str, rows: int = 12) -> str:
    features = [
        {"type": "Feature", "properties": {"id": i, "kind": word}, "geometry": {"type": "Point", "coordinates": [-26 - i / 100, 47]}}
        for i in range(first, first + rows)
    ]
    return json.dumps({"type": "FeatureCollection", "features": features})


class Version:
    """One version at work in a folder."""

    def __init__(self, source: Path, place: Path) -> None:
        from tests.golden.__main__ import environment

        self.place = place
        self.env = {**environment(source, place / "private"), "GOLDEN_TOKEN": TOKEN, "ESKRET_PRACTICE_TOKEN": TOKEN}

    def __call__(self, *arguments: str, code: int | None = 0) -> str:
        done = subprocess.run(
            [sys.executable, "-W", "ignore", "-m", "eskret", *arguments], cwd=self.place / "p", env=self.env, capture_output=True, text=True
        )
        if code is not None and done.returncode != code:
            raise AssertionError(f"eskret {' '.join(arguments)} ended with {done.returncode}: {done.stdout}{done.stderr}")
        return done.stdout

    def server(self, port: int, *more: str) -> subprocess.Popen[str]:
        told = ["practice-server", "--data", str(self.place / "served"), "--port", str(port), *more]
        command = [sys.executable, "-W", "ignore", "-m", "eskret", *told]
        process = subprocess.Popen(command, cwd=self.place, env=self.env, text=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        for _ in range(100):
            try:
                urllib.request.urlopen(f"http://127.0.0.1:{port}/collections", timeout=2).read()
                return process
            except OSError:
                time.sleep(0.1)
        raise AssertionError("the practice server did not come")


def _held(port: int, dataset: str) -> dict[int, str]:
    with urllib.request.urlopen(f"http://127.0.0.1:{port}/collections/{dataset}/items?limit=1000", timeout=10) as answer:
        return {f["properties"]["id"]: f["properties"]["kind"] for f in json.load(answer)["features"]}


def _kinds(path: Path) -> dict[int, str]:
    _, _, _, (numbers, kinds) = pyogrio.raw.read(path, columns=["id", "kind"])
    return dict(zip(numbers.tolist(), kinds.tolist(), strict=True))


def held(before: Path, after: Path) -> list[str]:
    """What the version after cannot do with what the one before left; empty where it can."""
    place = Path(tempfile.gettempdir()) / "eskret-golden-state"
    shutil.rmtree(place, ignore_errors=True)
    home = place / "p"
    (home / "operations").mkdir(parents=True)
    old, new = Version(before, place), Version(after, place)
    port = 18731
    address = f"http://127.0.0.1:{port}"

    def flow(name: str, text: str, **values: str) -> str:
        (home / f"{name}.toml").write_text(text.format(**values))
        return f"{name}.toml"

    load = _LOAD.replace("FILE", "in.geojson")
    (home / "in.geojson").write_text(_places(0, "old"))
    sent, cut, waiting = (flow(n, _PUBLISH, load=load, address=address, dataset=n) for n in ("sent", "cut", "waiting"))
    first = flow("first", _UPDATE, load=load, to="kept.gpkg", how="replace", more="")
    update = flow("update", _UPDATE, load=load, to="kept.gpkg", how="update", more='key = ["id"]')
    outside = flow("outside", _UPDATE, load=load, to="../else/where.gpkg", how="replace", more="")
    (home / "operations" / "half.py").write_text(_OWN)
    own = flow("own", 'eskret = 1\ntitle = "Own"\n{load}[[steps]]\nid = "h"\nuse = "own:half"\nfrom = "in"\n', load=load)

    server = old.server(port)
    try:
        old("run", first)
        for name in (sent, cut, waiting):
            old("publish", name, "--yes")
        old("trust", ".", "--yes")
        old("run", own)
        old("run", outside, "--allow-outside")
        (home / "in.geojson").write_text(_places(4, "new"))
        old("run", update)
        changed = old("look", "kept.gpkg")
        old("publish", sent, "--yes")
        old("run", waiting)
        runs = json.loads(old("runs", "--json"))
    finally:
        server.terminate()
        server.wait()
    server = old.server(port, "--answer", "503", "--answer-from", "20")
    try:
        old("publish", cut, "--yes", code=None)
    finally:
        server.terminate()
        server.wait()
    wrong = []
    server = new.server(port)
    try:
        was, is_ = dict.fromkeys(range(12), "old"), dict.fromkeys(range(4, 16), "new")
        if _held(port, "cut") in (was, is_):
            wrong.append("the push that should have been cut short was not")
        if json.loads(new("runs", "--json"))[-len(runs) :] != runs and json.loads(new("runs", "--json"))[1:] != runs:
            wrong.append("the runs of earlier are told otherwise")
        new("publish", cut, "--resume")
        if _held(port, "cut") != is_:
            wrong.append("a push that was cut short is not completed")
        new("publish", cut, "--undo")
        if _held(port, "cut") != was:
            wrong.append("a push that was completed is not taken back")
        new("publish", waiting, "--resume")
        if _held(port, "waiting") != is_:
            wrong.append("a push that waited is not sent")
        new("publish", sent, "--undo")
        if _held(port, "sent") != was:
            wrong.append("a push that was sent is not taken back")
        if new("look", "kept.gpkg") != changed:
            wrong.append("a file is told otherwise")
        new("undo", "kept.gpkg")
        if _kinds(home / "kept.gpkg") != was:
            wrong.append("an update is not taken back")
        new("run", own)
        new("run", outside)
    except AssertionError as error:
        wrong.append(str(error))
    finally:
        server.terminate()
        server.wait()
    return wrong
