"""What tests share: small layers, recordings, and the demo made once."""

from __future__ import annotations

import os
import shutil
from collections.abc import Generator
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import settings

from eskret.core.layer import Layer
from eskret.practice_server import PracticeServer
from eskret.services import connection
from tests.length import LONG, examples

# before any test makes an application: no screen is needed unless one is asked for
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
settings.register_profile("eskret", deadline=None, max_examples=examples(60))
settings.load_profile("eskret")


def pytest_configure(config: pytest.Config) -> None:
    config.addinivalue_line("markers", "screen: also run on a real (virtual) screen")
    config.addinivalue_line("markers", "long: only in the long pass, which ESKRET_LONG_TESTS=1 asks for")


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    left_out = [] if LONG else [i for i in items if i.get_closest_marker("long")]
    if left_out:
        config.hook.pytest_deselected(items=left_out)
        items[:] = [i for i in items if i not in set(left_out)]


MARKS = """<?xml version="1.0" encoding="UTF-8"?>
<gpx version="1.1" creator="test" xmlns="http://www.topografix.com/GPX/1/1" xmlns:u="urn:unit">
  <wpt lat="47.10" lon="-27.20"><ele>3.5</ele><time>2031-09-03T10:00:00.250Z</time><name>A1</name>
    <desc>Pile 1, "oak" &amp; O'Brien</desc><link href="http://example.org/a1"/><sym>pile</sym>
    <extensions><u:unit><u:depth>4.5</u:depth></u:unit></extensions></wpt>
  <wpt lat="47.20" lon="-27.30"><time>2031-09-03T12:00:00+02:00</time><name>A2</name><desc>Buoy</desc></wpt>
  <wpt lat="47.21" lon="-27.31"><name>A3</name></wpt>
  <wpt lat="97.2" lon="-27.3"><name>A4</name><desc>Pile off the earth</desc></wpt>
  <rte><name>Home</name><rtept lat="47.0" lon="-27.0"/><rtept lat="47.1" lon="-27.1"><name>bend</name></rtept></rte>
  <trk><name>Run</name><trkseg>
    <trkpt lat="47.1" lon="-27.2"><ele>0</ele><time>2031-09-03T10:00:00Z</time></trkpt>
    <trkpt lat="47.11" lon="-27.21"><time>2031-09-03T10:00:05Z</time></trkpt></trkseg>
    <trkseg/>
    <trkseg><trkpt lat="47.2" lon="-27.3"/><trkpt lat="47.3" lon="-27.3"/><trkpt lat="47.3" lon="-27.4"/></trkseg></trk>
</gpx>
"""

WORKFLOW = """eskret = 1
title = "Piles"
crs = "EPSG:32626"

[parameters.kind]
type = "text"
default = "Pile"

[[steps]]
id = "recordings"
use = "load"
files = ["field/*.gpx"]

[[steps]]
id = "chosen"
use = "keep"
from = "recordings:*_waypoints"
where = "desc LIKE $kind || '%'"

[[steps]]
id = "archive"
use = "save"
from = ["chosen", "recordings:*_tracks"]
to = "out/survey.gpkg"
name = "{kind}_{layer}"

[[steps]]
id = "web"
use = "save"
from = "chosen"
to = "out/{layer}.geojson"
"""


@pytest.fixture(autouse=True)
def own_data(tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A data folder of the test's own: consents, journals and tokens of whoever runs the tests stay out of it."""
    home = tmp_path_factory.mktemp("home")
    monkeypatch.setenv("XDG_DATA_HOME", str(home))
    monkeypatch.setenv("XDG_CACHE_HOME", str(home / "cache"))
    return home / "eskret"


TOKEN = "open-sesame"


@pytest.fixture
def server(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Generator[PracticeServer, None, None]:
    """A practice server on loopback, and a client in a hurry."""
    monkeypatch.setattr(connection, "PAUSE", 0.005)
    monkeypatch.setattr(connection, "TIMEOUT", 5.0)
    with PracticeServer(tmp_path / "published", token=TOKEN) as made:
        yield made


@pytest.fixture
def marks_file(tmp_path: Path) -> Path:
    """A recording with everything in it, good and bad."""
    path = tmp_path / "field" / "marks.gpx"
    path.parent.mkdir()
    path.write_text(MARKS, encoding="utf-8")
    return path


@pytest.fixture
def project(marks_file: Path) -> Path:
    """A folder with a recording and a workflow; the workflow's path."""
    path = marks_file.parent.parent / "piles.toml"
    path.write_text(WORKFLOW, encoding="utf-8")
    return path


@pytest.fixture(scope="session")
def demo_master(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo, made once; only to be copied."""
    from eskret.demo.generate import make

    return make(tmp_path_factory.mktemp("demo") / "orrel-sound")


@pytest.fixture
def demo(demo_master: Path, tmp_path: Path) -> Path:
    """A fresh copy of the demo; its folder."""
    home = tmp_path / "orrel-sound"
    shutil.copytree(demo_master, home)
    return home


def points(values: dict[str, object], crs: str | None = "EPSG:32626", key: str = "points") -> Layer:
    """A layer of points in a row, with these columns."""
    table = pa.table(values)
    n = np.arange(table.num_rows, dtype=float)
    return Layer(key, table, shapely.points(500_000 + n * 10, 5_200_000 + n), crs)


def squares(count: int, size: float = 10.0, crs: str = "EPSG:32626", key: str = "squares") -> Layer:
    """Squares side by side, numbered from 0 in the field ``id``."""
    x = 500_000 + np.arange(count) * size
    boxes = shapely.box(x, 5_200_000, x + size, 5_200_000 + size)
    return Layer(key, pa.table({"id": np.arange(count), "kind": ["ab"[i % 2] for i in range(count)]}), boxes, crs)
