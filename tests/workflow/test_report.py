"""The report: one page that needs nothing else, and says what the run did; maps whose features can be counted."""

from __future__ import annotations

import json
import re
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from eskret.core.layer import Layer
from eskret.core.style.style import CLASSES, VALUES, Style
from eskret.formats import geopackage
from eskret.workflow.cache.results import drawing_of
from eskret.workflow.cache.stored import Shapes
from eskret.workflow.faces.report import sources_of, to_html
from eskret.workflow.faces.report_charts import spread_of
from eskret.workflow.faces.report_maps import HEIGHT, MOST, WIDTH, Maps
from eskret.workflow.model import document as documents
from eskret.workflow.model.document import Document, parse
from tests.conftest import points, squares
from tests.test_cli import call


class Page(HTMLParser):
    """Heads and rows of the tables below each; whatever was opened must be closed, in turn."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.heads: list[str] = []
        self.rows: dict[str, list[list[str]]] = {}
        self.tags: list[str] = []
        self._open: list[str] = []
        self.feed(text)
        assert not self._open, self._open

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.handle_startendtag(tag, attrs)
        if tag not in ("meta", "br"):
            self._open.append(tag)

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        assert not any(n.startswith("on") or (v or "").startswith(("http", "javascript")) for n, v in attrs)
        if tag == "h2":
            self.heads.append("")
        if tag == "tr":
            self.rows.setdefault(self.heads[-1], []).append([])
        if tag in ("td", "th"):
            self.rows[self.heads[-1]][-1].append("")

    def handle_endtag(self, tag: str) -> None:
        assert self._open.pop() == tag, self.getpos()

    def handle_data(self, data: str) -> None:
        if "h2" in self._open:
            self.heads[-1] += data
        elif "td" in self._open or "th" in self._open:
            self.rows[self.heads[-1]][-1][-1] += data


def test_everything_stands_in_the_page(demo: Path) -> None:
    """The demo's quarterly job: ledger, checks, remarks, sources, outputs, settings, and a map in five classes."""
    page = demo / "report.html"
    assert call("run", demo / "returns.toml", "--report", page)[0] == 0
    text = page.read_text()
    found = Page(text)
    assert found.heads == ["Ledger", "Set aside, and why", "Maps", "Checks", "Remarks", "Sources", "Outputs", "Settings"]
    assert found.tags.count("script") == 1 and "link" not in found.tags and "img" not in found.tags and found.tags.count("svg") == 2
    document = documents.read(demo / "returns.toml")
    assert [r[1] for r in found.rows["Settings"][1:]] == [s.id for s in document.steps]
    assert [r[0] for r in found.rows["Checks"][1:]] == ["key"] and "balanced" in found.rows["Checks"][1][2]
    read = {r[1]: r[2] for r in found.rows["Sources"][1:]}
    for name, size in read.items():
        assert int(size.replace(",", "")) == (demo / name).stat().st_size
    assert set(read) == {"register/register.gpkg", "register/landings_2031.csv"}
    outputs = found.rows["Outputs"][1:]
    assert len(outputs) == 4 and all(re.fullmatch("[0-9a-f]{64}", r[4]) for r in outputs)
    assert text.count("<div class=keys><div><small>landed_per_ha") == 1 and "above" in text and "no value" in text
    counts = [int(n.replace(",", "")) for n in re.findall(r"</span>[^<]*<small>([\d,]+)</small>", text)]
    assert sum(counts) == 412


def test_charts_show_the_figures_of_the_run(demo: Path) -> None:
    """Bars as long as their figures: reasons of what was set aside, what a tally counted, features saved in each round."""
    (demo / "t.toml").write_text(
        'eskret = 1\n[[steps]]\nid = "a"\nuse = "load"\nfiles = ["register/register.gpkg"]\n'
        '[[steps]]\nid = "few"\nuse = "keep"\nfrom = "a:lease_beds"\nwhere = "district IN (\'North\', \'South\')"\n'
        '[[steps]]\nid = "fewer"\nuse = "keep"\nfrom = "few:lease_beds"\nwhere = "district = \'North\'"\n'
        '[[steps]]\nid = "counted"\nuse = "tally"\nfrom = "a:lease_beds"\nby = ["district"]\n'
    )
    assert call("run", demo / "t.toml", "--report", demo / "t.html", "-q")[0] == 0
    found = Page((demo / "t.html").read_text())
    counted = [(label, int(n.replace(",", ""))) for label, n, _ in found.rows["Counted by counted"]]
    assert len(counted) == 5 and sum(n for _, n in counted) == 412
    why = [(label, int(n)) for label, n, _ in found.rows["Set aside, and why"]]
    north = dict(counted)["lease_beds · North"]
    south = dict(counted)["lease_beds · South"]
    assert [n for _, n in why] == [412 - north - south, south] and why[0][0].startswith("2 · few: does not meet")
    wide = [float(x) for x in re.findall(r'class="aside" style="width:([\d.]+)%', (demo / "t.html").read_text())]
    assert wide == [100, pytest.approx(100 * south / (412 - north - south), abs=0.01)]
    assert call("run", demo / "district.toml", "--for-each", "district", "--report", demo / "r.html", "-q")[0] == 0
    rounds = Page((demo / "r.html").read_text()).rows
    assert [r[1] for r in rounds["Features saved in each round"]] == [r[-2] for r in rounds["Rounds"][1:]]
    assert "no" in rounds["Rounds"][1] and "False" not in rounds["Rounds"][1]


@given(st.lists(st.floats(-1e6, 1e6), min_size=2, max_size=60), st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=6, unique=True))
def test_every_value_stands_in_one_column_of_the_spread(values: list[float], breaks: list[float]) -> None:
    """The columns' heights add up to all values, whatever these are; a value on a limit belongs to the class below it."""
    colours = [f"#0000{n:02d}" for n in range(len(breaks) + 1)]
    svg = spread_of(np.array([*values, np.nan, np.inf]), sorted(breaks), colours)
    if len(set(values)) < 2 or max(values) == min(values):
        assert svg == ""
        return
    most = int(re.search(r"at most ([\d,]+) in", svg)[1].replace(",", ""))  # type: ignore[index]
    drawn = dict.fromkeys(colours, 0)
    for height, colour in re.findall(r'height="([\d.]+)" fill="(#\d+)"', svg):
        drawn[colour] += max(1, round(float(height) * most / 66))
    known = np.searchsorted(sorted(breaks), values, side="left")
    assert [drawn[c] for c in colours] == [int((known == n).sum()) for n in range(len(colours))]


def test_a_failed_run_has_a_report_too(demo: Path) -> None:
    path = demo / "bad.toml"
    path.write_text(
        'eskret = 1\ntitle = "<Bad> & worse"\n[[steps]]\nid = "a"\nuse = "load"\nfiles = ["register/register.gpkg"]\n'
        '[[steps]]\nid = "sure"\nuse = "check"\nfrom = "a:moorings"\nthat = "count"\nmost = 3\n'
    )
    assert call("run", path, "--report", demo / "bad.html", "-q")[0] == 3
    text = (demo / "bad.html").read_text()
    assert "&lt;Bad&gt; &amp; worse" in text and "<Bad>" not in text and "■ failed" in text and "18 features" in text
    assert call("run", path, "--report", demo / "bad.json", "-q")[0] == 3
    told = json.loads((demo / "bad.json").read_text())
    assert told["state"] == "failed" and told["sources"][0]["source"] == "register/register.gpkg"


def collected(layers: list[Layer], style: Style | None = None, document: Document | None = None, folder: Path | None = None) -> Maps:
    maps = Maps(document or Document(), folder or Path.cwd())
    for layer in layers:
        if style is None:
            maps.add(layer, "out")
        else:
            maps.draw("map", Shapes(*drawing_of(layer)), layer.table, str(layer.kind), layer.crs, style)
    return maps


def paths(svg: str) -> list[str]:
    return re.findall(r'<path d="([^"]*)"', svg)


def test_what_is_drawn_can_be_counted() -> None:
    areas = collected([squares(30)]).figures[0].svg
    assert paths(areas)[0].count("M") == 30 and "fill-rule" in areas
    dots = collected([points({"n": list(range(40))})]).figures[0].svg
    assert dots.count("<circle") == 40
    crossing = [shapely.LineString([(0, 0), (9, 9)]), shapely.LineString([(0, 9), (9, 0)])]
    lines = Layer("l", pa.table({"n": [1, 2]}), np.array(crossing), "EPSG:32626")
    drawn = collected([lines]).figures[0].svg
    assert paths(drawn)[0].count("M") == 2 and 'fill="none"' in drawn
    ring = shapely.Point(0, 0).buffer(9).difference(shapely.Point(0, 0).buffer(3))
    holed = Layer("h", pa.table({"n": [1]}), np.array([ring]), "EPSG:32626")
    assert paths(collected([holed]).figures[0].svg)[0].count("z") == 2


@given(st.lists(st.tuples(st.floats(-1e6, 1e6), st.floats(-1e6, 1e6)), min_size=1, max_size=30))
def test_nothing_is_drawn_beside_the_sheet(places: list[tuple[float, float]]) -> None:
    layer = Layer("l", pa.table({"n": range(len(places))}), shapely.points(np.array(places)), "EPSG:32626")
    svg = collected([layer]).figures[0].svg
    centres = [(float(x), float(y)) for x, y in re.findall(r'cx="([-\d.]+)" cy="([-\d.]+)"', svg)]
    assert centres and all(0 <= x <= WIDTH and 0 <= y <= HEIGHT for x, y in centres)


def test_many_features_too_small_to_be_seen_are_few_dots() -> None:
    x, y = np.meshgrid(np.arange(400) * 10.0, np.arange(400) * 10.0)
    shapes = shapely.box(x.ravel(), y.ravel(), x.ravel() + 1, y.ravel() + 1)
    svg = collected([Layer("many", pa.table({"n": np.arange(len(shapes))}), shapes, "EPSG:32626")]).figures[0].svg
    assert 50_000 < len(paths(svg)[0]) < 4_000_000 and paths(svg)[0].count("M") <= 160_000


def test_colours_by_value_and_in_classes() -> None:
    layer = squares(10)
    by_kind = Style(VALUES, field="kind", colours={"a": "#112233", "b": "#445566"})
    figure = collected([layer], by_kind).figures[0]
    assert figure.keys == (("#112233", "a", 5), ("#445566", "b", 5)) and figure.about == "kind"
    assert 'fill="#112233"' in figure.svg and 'fill="#445566"' in figure.svg
    classed = collected([layer], Style(CLASSES, field="id", method="own", breaks=(2.5, 6.5))).figures[0]
    assert [k[2] for k in classed.keys] == [3, 4, 3]
    assert collected([layer], Style(VALUES, field="not there", colours={})).figures[0].keys == ()


def test_layers_of_files_that_the_workflow_keeps_lie_below(tmp_path: Path) -> None:
    with geopackage.writing(tmp_path / "land.gpkg") as container:
        container.add(Layer("land", pa.table({"n": [1]}), np.array([shapely.box(-27.01, 46.9, -26.9, 47)]), "EPSG:4326"), "land")
    text = 'eskret = 1\n[map]\nlayers = [{ file = "land.gpkg", style = { colour = "#DCD3BC" } }, { file = "gone.gpkg" }]\n'
    figure = collected([squares(3)], document=parse(text), folder=tmp_path).figures[0]
    assert figure.svg.index("#DCD3BC") < figure.svg.index("#7DB6A3")


def test_not_more_maps_than_anybody_looks_at_and_the_last_step_where_nothing_is_delivered() -> None:
    assert len(collected([squares(1)] * (MOST + 5)).figures) == MOST
    document = parse('eskret = 1\n[[steps]]\nid = "a"\nuse = "load"\nfiles = ["x"]\n')
    maps = Maps(document, Path.cwd())
    from eskret.operations.base import Outcome

    maps.keep("a", [], [Outcome((squares(2).with_provenance("a"),))])
    assert maps.figures == [] and [f.title for f in maps.finish().maps] == ["squares · a"]


@pytest.mark.parametrize("crs", ["EPSG:32626", "EPSG:4326", None])
def test_a_scale_bar_is_of_a_round_length_or_not_there(crs: str | None) -> None:
    layer = Layer("l", pa.table({"n": [1, 2]}), shapely.points([(0, 0), (30, 20)]), crs)
    texts = re.findall(r"<text[^>]*>([^<]*)</text>", collected([layer]).figures[0].svg)
    if crs != "EPSG:32626":
        assert texts == []  # a degree is no length
    else:
        assert re.fullmatch(r"[125](\.0)? m", texts[0])


def test_sources_are_told_as_they_are(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("n\n1\n")
    (tmp_path / "p.txt").write_text("1 2\n")
    document = parse(
        'eskret = 1\n[parameters.what]\ntype = "text"\ndefault = "a"\n[[steps]]\nid = "t"\nuse = "load"\nfiles = ["{what}.csv"]\n'
        '[[steps]]\nid = "c"\nuse = "load_coordinates"\nfiles = ["p.txt"]\n[[steps]]\nid = "f"\nuse = "fetch"\n'
        'service = "https://data.example.org/x"\ndataset = "beds"\n[[steps]]\nid = "gone"\nuse = "load"\nfiles = ["nowhere.csv"]\n'
        '[[steps]]\nid = "off"\nuse = "load"\noff = true\nfiles = ["a.csv"]\n'
    )
    found = [(s.step, s.what, s.size) for s in sources_of(document, {"what": "a"}, tmp_path)]
    assert found == [("t", "a.csv", 4), ("c", "p.txt", 4), ("f", "beds at https://data.example.org/x", None)]


def test_a_push_that_waits_stands_in_the_report() -> None:
    one = {
        "push": "p1",
        "service": "https://data.example.org",
        "dataset": "<beds>",
        "added": 1200,
        "changed": 2,
        "removed": 3,
        "unchanged": 4,
    }
    told: dict[str, Any] = {
        "state": "look",
        "seconds": 1.0,
        "started": "2031-09-03T06:40:00+00:00",
        "values": {},
        "error": "",
        "steps": [],
        "outputs": [],
        "remarks": [],
        "pushes": [one],
    }
    page = to_html(Document(title="x"), told)
    assert "Published datasets" in page and "&lt;beds&gt;" in page and "1,200" in page
