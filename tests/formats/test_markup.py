"""Markup and sheets hold whatever text there is: GPX and KML stay sound XML, a workbook runs nothing, a page is text."""

from __future__ import annotations

import datetime as dt
import xml.etree.ElementTree as ET
from pathlib import Path

import gpxpy
import numpy as np
import pyarrow as pa
import python_calamine
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from eskret.core.layer import Layer
from eskret.formats import markup, workbook
from eskret.formats.index_page import Listed, index_page
from tests.length import examples

TEXTS = st.lists(st.none() | st.text(st.characters(codec="utf-8"), max_size=12), min_size=1, max_size=5)
KML = "{http://www.opengis.net/kml/2.2}"


def layer(texts: list[str | None]) -> Layer:
    shapes = shapely.points(np.c_[np.linspace(-27, -26, len(texts)), np.linspace(46, 47, len(texts))])
    return Layer("l", pa.table({"name": pa.array(texts, pa.string()), "note <&>": pa.array(texts, pa.string())}), shapes, "EPSG:4326")


def plain(text: str | None) -> str:
    """What XML 1.0 can hold of a text, with its ends of lines as it has them."""
    kept = (c for c in text or "" if c in "\t\n\r" or (ord(c) >= 32 and not 0xD800 <= ord(c) <= 0xDFFF and ord(c) not in (0xFFFE, 0xFFFF)))
    return "".join(kept).replace("\r\n", "\n").replace("\r", "\n")


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(TEXTS)
def test_any_text_goes_through_markup(tmp_path: Path, texts: list[str | None]) -> None:
    markup.write_gpx(tmp_path / "a.gpx", [(layer(texts), "l")], {"title": texts[0] or ""}, 7)
    found = gpxpy.parse((tmp_path / "a.gpx").read_text(encoding="utf-8"))
    assert [(w.name or "").strip() for w in found.waypoints] == [plain(t).strip() for t in texts]
    assert markup.count(tmp_path / "a.gpx") == len(texts)
    markup.write_kml(tmp_path / "a.kml", [(layer(texts), "x < y")], {}, 7)
    root = ET.parse(tmp_path / "a.kml").getroot()
    marks = root.findall(f".//{KML}Placemark")
    assert [(m.findtext(f"{KML}name") or "") for m in marks] == [plain(t) for t in texts]
    assert [d.get("name") for d in root.findall(f".//{KML}SimpleField")] == ["note <&>"] and markup.count(tmp_path / "a.kml") == len(texts)


@settings(max_examples=examples(25), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(TEXTS)
def test_any_text_goes_into_a_sheet(tmp_path: Path, texts: list[str | None]) -> None:
    workbook.write(tmp_path / "a.xlsx", [(layer(texts), "l")], {})
    rows = python_calamine.CalamineWorkbook.from_path(tmp_path / "a.xlsx").get_sheet_by_name("l").to_python()
    assert len(rows) == len(texts) + 1 and workbook.count(tmp_path / "a.xlsx") == [len(texts)]
    shown = ["".join(c for c in t or "" if ord(c) >= 32) for t in texts]
    assert ["".join(c for c in str(r[0]) if ord(c) >= 32) for r in rows[1:]] == shown


def test_dates_and_numbers_that_a_sheet_cannot_hold(tmp_path: Path) -> None:
    table = pa.table(
        {
            "day": [dt.date(1850, 1, 2), dt.date(2031, 1, 2)],
            "x": [float("inf"), float("nan")],
            "n": [10**15, -(10**14)],
            "seen": pa.array([dt.datetime(1899, 1, 1, 5), None], pa.timestamp("ms")),
        }
    )
    workbook.write(tmp_path / "a.xlsx", [(Layer("t", table), "t")], {"title": "T"})
    rows = python_calamine.CalamineWorkbook.from_path(tmp_path / "a.xlsx").get_sheet_by_name("t").to_python()
    assert rows[1] == ["1850-01-02", "inf", str(10**15), "1899-01-01 05:00:00"]
    assert rows[2] == [dt.date(2031, 1, 2), "", -(10**14), ""]


def test_shapes_of_every_kind_as_kml(tmp_path: Path) -> None:
    """OGC 12-007r2: several parts are a MultiGeometry, holes inner boundaries, heights count only where that is said."""
    hole = shapely.box(0, 0, 9, 9).difference(shapely.box(2, 2, 4, 4))
    shapes = np.array(
        [hole, shapely.MultiPoint([(1, 1), (2, 2)]), shapely.LineString([(0, 0, 5), (1, 1, 6)]), None, shapely.Point()], object
    )
    markup.write_kml(tmp_path / "a.kml", [(Layer("l", pa.table({"n": range(5)}), shapes, "EPSG:4326"), "l")], {}, 3)
    marks = ET.parse(tmp_path / "a.kml").getroot().findall(f".//{KML}Placemark")
    assert len(marks) == 5 and len(marks[0].findall(f".//{KML}innerBoundaryIs")) == 1
    assert len(marks[1].findall(f"{KML}MultiGeometry/{KML}Point")) == 2
    assert marks[2].findtext(f".//{KML}altitudeMode") == "absolute" and marks[2].findtext(f".//{KML}coordinates") == "0,0,5 1,1,6"
    assert all(m.find(f"{KML}Point") is None and m.find(f"{KML}MultiGeometry") is None for m in marks[3:])


def test_a_page_of_files_is_text_and_leads_to_them() -> None:
    one = Listed("a b&<.geojson", "<layer>", 1200, "area", "WGS 84", [("<name>", "text")], 1_500_000)
    page = index_page([one], {"title": "<T>", "licence": "CC0"}, "today")
    assert 'href="a%20b%26%3C.geojson"' in page and "1,200" in page and "1.5 MB" in page
    assert not any(t in page for t in ("<T>", "<layer>", "<name>", "<script"))
