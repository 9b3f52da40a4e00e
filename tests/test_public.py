"""What stands on the outside: the public names, the README's examples, the fonts, the demo's facts."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import shapely
from PySide6.QtGui import QFontDatabase, QFontMetricsF, QGuiApplication, QRawFont

import eskret
from eskret import Workflow, read
from eskret.core.geometry.globe.moving import reproject
from eskret.desktop.theme.style import FAMILY, FONTS, NARROW, font
from eskret.formats import sources

ROOT = Path(__file__).parent.parent


def test_the_public_face_is_flat_short_and_light() -> None:
    assert sorted(eskret.__all__) == [
        "Account",
        "EskretError",
        "Layer",
        "Workflow",
        "from_geopandas",
        "operation",
        "read",
        "setting",
        "to_geopandas",
        "use",
        "write",
    ]
    assert all(getattr(eskret, name).__doc__ for name in eskret.__all__)
    with pytest.raises(AttributeError, match="no attribute 'nothing'"):
        _ = eskret.nothing
    code = "import sys, eskret; print([m for m in sys.modules if m.split('.')[0] in ('numpy', 'pyarrow', 'PySide6', 'pandas')])"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout == "[]\n"


def blocks(kind: str) -> list[str]:
    return re.findall(rf"```{kind}\n(.*?)```", (ROOT / "README.md").read_text(), re.DOTALL)


def test_the_readmes_workflow_is_the_demos(demo: Path) -> None:
    assert blocks("toml")[0] in (demo / "piles.toml").read_text()


def test_every_picture_of_the_readme_is_there_and_every_one_there_is_shown() -> None:
    shown = set(re.findall(r"docs/screenshots/([\w-]+\.png)", (ROOT / "README.md").read_text()))
    assert shown == {p.name for p in (ROOT / "docs" / "screenshots").glob("*.png")} and 5 <= len(shown) < 20


def test_the_fonts_ship_with_tabular_figures(qapp: QGuiApplication) -> None:
    for file in FONTS.glob("*.ttf"):
        assert QFontDatabase.addApplicationFont(str(file)) >= 0
    assert {FAMILY, NARROW} <= set(QFontDatabase.families())
    assert len(list(FONTS.glob("OFL-*.txt"))) == 2
    for family in (FAMILY, NARROW):
        metrics = QFontMetricsF(font(40, family=family))
        assert len({metrics.horizontalAdvance(d) for d in "0123456789"}) == 1
        raw = QRawFont.fromFont(font(40, family=family))
        assert raw.familyName() == family and all(raw.supportsCharacter(ord(c)) for c in "aé§øŁ·…“”’²°")


# -- the demo: its facts are what the texts say


def test_the_demos_sources(demo_master: Path) -> None:
    found = {
        f"{p.name}/{x.name}": (x.count, str(x.kind))
        for p in sorted(demo_master.rglob("*.*"))
        if sources.is_offered(p)
        for x in sources.look(p)
    }
    assert found["marks.gpx/waypoints"] == (173, "point") and found["register.gpkg/lease_beds"] == (412, "area")
    assert found["register.gpkg/districts"] == (5, "area") and found["register.gpkg/moorings"] == (18, "point")
    assert found["boat-a.gpx/track_points"] == (802, "point") and found["boat-b.gpx/track_points"] == (652, "point")
    assert found["breakwater.shp/breakwater"] == (1, "line") and found["islands.geojson/islands"] == (5, "area")
    assert found["soundings.fgb/soundings"][0] > 1000 and len(found) == 19 and found["landings_2031.csv/landings_2031"] == (236, "table")
    assert found["harbour.gpkg/harbour_limit_2029"] == found["harbour.gpkg/harbour_limit_2031"] == (1, "area")


def test_facts_agree_with_what_is_read(demo_master: Path) -> None:
    for path in sorted(demo_master.rglob("*.*")):
        if not sources.is_offered(path):
            continue
        for facts in sources.look(path):
            layer = sources.read(path, facts.name, facts.key).layer
            assert len(layer) == facts.count and layer.kind == facts.kind and layer.crs == facts.crs
            assert [(f.name, f.type) for f in layer.fields] == [(f.name, f.type) for f in facts.fields]


def test_the_beds_lie_in_the_water_and_apart(demo_master: Path) -> None:
    beds = read(demo_master / "register" / "register.gpkg", "lease_beds")
    land = read(demo_master / "chart" / "islands.geojson")
    assert beds.geometry is not None and land.geometry is not None
    islands, _ = reproject(land.geometry, str(land.crs), "EPSG:32626")
    assert not shapely.intersects(beds.geometry, shapely.union_all(islands)).any()
    tree = shapely.STRtree(beds.geometry)
    pairs = tree.query(beds.geometry, predicate="intersects")
    assert (pairs[0] == pairs[1]).all()
    districts = read(demo_master / "register" / "register.gpkg", "districts")
    assert districts.geometry is not None
    inside = shapely.STRtree(districts.geometry).query(shapely.centroid(beds.geometry), predicate="within")
    names = districts.table.column("name").to_pylist()
    assert [names[i] for i in inside[1][np.argsort(inside[0])]] == beds.table.column("district").to_pylist()


def test_the_breakwater_misses_itself_by_less_than_half_a_metre(demo_master: Path) -> None:
    line = read(demo_master / "register" / "breakwater.shp").geometry
    assert line is not None
    ends = shapely.get_coordinates(line[0])[[0, -1]]
    assert 0.4 < np.hypot(*(ends[0] - ends[1])) < 0.5 and not line[0].is_closed
    west, _, east, _ = line[0].bounds
    assert 42_000 < east - west < 46_000


def test_the_demos_workflow_is_canonical_and_balances(demo: Path) -> None:
    workflow = Workflow.read(demo / "piles.toml")
    assert workflow.document.to_text() == (demo / "piles.toml").read_text()
    found = {kind: workflow.run(kind=kind).steps[1].inputs[0].used for kind in ("Pile", "Buoy", "Stake", "Beacon", "Rock")}
    assert found == {"Pile": 61, "Buoy": 44, "Stake": 37, "Beacon": 12, "Rock": 15} and sum(found.values()) == 173 - 4


def test_a_workflow_that_somebody_changed_is_not_made_anew(demo: Path) -> None:
    from eskret.demo.generate import make

    (demo / "piles.toml").write_text("eskret = 1\n")
    assert (make(demo) / "piles.toml").read_text() == "eskret = 1\n"


def test_the_harbour_limits_differ_by_the_basin_and_the_landings_by_their_keys(demo_master: Path) -> None:
    old, new = (read(demo_master / "chart" / "harbour.gpkg", f"harbour_limit_{y}").geometry for y in (2029, 2031))
    assert old is not None and new is not None
    assert new[0].contains(old[0]) and 1e6 < new[0].area - old[0].area < 6e6
    leases = set(read(demo_master / "register" / "register.gpkg", "lease_beds").table.column("lease").to_pylist())
    rows = (demo_master / "register" / "landings_2031.csv").read_text().splitlines()[1:]
    keys = [row.split(",")[0] for row in rows]
    assert len(keys) == 236 and sum(k.strip().upper() not in leases for k in keys) == 24
    assert sum(k not in leases and k.strip().upper() in leases for k in keys) > 5, "written otherwise"
    assert len((demo_master / "text" / "shoreline.txt").read_text().splitlines()) == 601
    assert len((demo_master / "text" / "stations.txt").read_text().splitlines()) == 36
