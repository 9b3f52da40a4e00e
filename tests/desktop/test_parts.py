"""The parts of the window on their own: threads, painting, picking, table, colours, start-up."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPainterPath
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from eskret.core.layer import Layer
from eskret.desktop.ledger.threads import between, lanes, width
from eskret.desktop.map_view.graticule import grid_text, nice
from eskret.desktop.map_view.hit_test import feature_at
from eskret.desktop.map_view.render import CHUNK, PaintItem, Symbol, paths_of, render, thin, visible_rows
from eskret.desktop.map_view.viewport import Viewport
from eskret.desktop.table.layer_model import EMPTY, NULL, TableModel
from eskret.desktop.theme.palette import EDGE_PAIRS, TEXT_PAIRS, THEMES
from eskret.workflow.cache.results import ResultStore, pieces_of
from eskret.workflow.cache.stored import Shapes, StoredAside, StoredLayer
from tests.conftest import squares

# -- colours


def luminance(colour: str) -> float:
    """Relative luminance, as WCAG 2.2 defines it."""
    parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    r, g, b = (c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts)
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


@pytest.mark.parametrize("theme", THEMES)
@pytest.mark.parametrize("pair", TEXT_PAIRS, ids=lambda p: "-".join(p))
def test_text_meets_wcag_aa(theme: str, pair: tuple[str, str]) -> None:
    a, b = (luminance(getattr(THEMES[theme], name)) for name in pair)
    assert (max(a, b) + 0.05) / (min(a, b) + 0.05) >= 4.5  # success criterion 1.4.3


@pytest.mark.parametrize("theme", THEMES)
@pytest.mark.parametrize("pair", EDGE_PAIRS, ids=lambda p: "-".join(p))
def test_what_shows_where_one_is_meets_wcag_aa(theme: str, pair: tuple[str, str]) -> None:
    a, b = (luminance(getattr(THEMES[theme], name)) for name in pair)
    assert (max(a, b) + 0.05) / (min(a, b) + 0.05) >= 3.0  # success criterion 1.4.11


@pytest.mark.parametrize("theme", THEMES)
def test_threads_and_shapes_stand_out_from_their_ground(theme: str) -> None:
    palette = THEMES[theme]
    grounds = [palette.paper, palette.band, palette.hand_row]
    pairs = [(t, g) for t in palette.threads for g in grounds] + [(palette.mark_line, palette.sea), (palette.bad, palette.sea)]
    for mark, ground in pairs:
        a, b = luminance(mark), luminance(ground)
        assert (max(a, b) + 0.05) / (min(a, b) + 0.05) >= 3.0  # success criterion 1.4.11


# -- threads


@st.composite
def chains(draw: st.DrawFn) -> tuple[list[str], dict[str, list[str]]]:
    ids = [f"s{i}" for i in range(draw(st.integers(0, 12)))]
    takes = {id: draw(st.lists(st.sampled_from(ids[:i]), max_size=3, unique=True)) if i else [] for i, id in enumerate(ids)}
    return ids, takes


@given(chains())
def test_every_thread_runs_unbroken_from_its_step_to_those_that_take_from_it(chain: tuple) -> None:
    ids, takes = chain
    rows = lanes(ids, takes)
    assert len(rows) == len(ids) and width(rows) >= 1
    for i, id in enumerate(ids):
        row = rows[i]
        assert row.knot not in row.through
        assert len(row.joins) == len(takes[id]), "a thread for each step it takes from"
        users = [j for j, other in enumerate(ids) if id in takes[other]]
        assert row.starts == bool(users)
        if users:
            for j in range(i + 1, users[-1] + 1):
                here = rows[j]
                lanes_here = {*here.through, *(lane for lane, _ in here.joins)}
                assert row.knot in lanes_here, f"the thread of {id} is broken at {ids[j]}"
                if j < users[-1]:
                    assert row.knot in between(rows, j)


def test_references_that_lead_nowhere_draw_nothing() -> None:
    rows = lanes(["a", "b"], {"a": ["b"], "b": ["gone"]})
    assert all(not r.joins and not r.starts for r in rows)


# -- painting and picking


def shapes_of(geometry: list) -> Shapes:
    array = np.array(geometry, dtype=object)
    return Shapes(*pieces_of(array), shapely.bounds(array).reshape(-1, 4))


LOOK = Symbol("#00ff00", "#ff0000")
VIEW = Viewport(50, 50, 1.0, 100, 100)


def pixel(image: QImage, x: float, y: float) -> str:
    colour = image.pixelColor(int(x), int(100 - y))
    return colour.name() if colour.alpha() > 200 else ""


def test_holes_are_empty_and_overlaps_are_full(qapp: QApplication) -> None:
    ring = shapely.Polygon([(5, 5), (45, 5), (45, 45), (5, 45)], [[(15, 15), (35, 15), (35, 35), (15, 35)]])
    other_way = shapely.Polygon(list(shapely.box(50, 50, 80, 80).exterior.coords)[::-1])
    over = shapely.box(70, 70, 95, 95)
    image = render([PaintItem(shapes_of([ring, other_way, over, None]), LOOK)], VIEW, 1.0)
    assert pixel(image, 10, 10) == "#00ff00" and pixel(image, 25, 25) == ""
    assert pixel(image, 60, 60) == pixel(image, 76, 76) == pixel(image, 90, 90) == "#00ff00"


def test_tiny_features_lines_and_points_are_seen(qapp: QApplication) -> None:
    tiny = shapely.box(20, 20, 20.4, 20.4)
    line = shapely.LineString([(40, 0), (40, 100)])
    nested = shapely.GeometryCollection([shapely.Point(70, 70), shapely.GeometryCollection([shapely.box(80, 10, 95, 25)])])
    image = render([PaintItem(shapes_of([tiny, line, nested]), LOOK)], VIEW, 1.0)
    assert pixel(image, 20.2, 20.2) == "#ff0000" or pixel(image, 20.2, 21.2) == "#ff0000"
    assert any(pixel(image, x, 50) == "#ff0000" for x in (39, 40))
    assert pixel(image, 70, 71) == "#00ff00" and pixel(image, 88, 18) == "#00ff00"


def test_rows_out_of_view_or_not_chosen_are_left_out(qapp: QApplication) -> None:
    shapes = shapes_of([shapely.box(10, 10, 20, 20), shapely.box(500, 500, 510, 510), None, shapely.box(60, 60, 70, 70)])
    assert visible_rows(PaintItem(shapes, LOOK), VIEW).tolist() == [0, 3]
    assert visible_rows(PaintItem(shapes, LOOK, np.array([1, 3])), VIEW).tolist() == [3]
    image = render([PaintItem(shapes, LOOK, np.array([3]))], VIEW, 1.0)
    assert pixel(image, 15, 15) == "" and pixel(image, 65, 65) == "#00ff00"


@given(st.lists(st.integers(2, 6), min_size=1, max_size=260))
def test_paths_stay_short_and_hold_everything(lengths: list[int]) -> None:
    # Qt's cost grows faster than a path's length: one path for all took a minute where short ones take half a second
    vertices = np.random.default_rng(1).uniform(0, 100, (sum(lengths), 2))
    paths = list(paths_of(vertices, np.array(lengths)))
    assert sum(p.elementCount() for p in paths) == len(vertices)
    starts = [sum(p.elementAt(i).isMoveTo() for i in range(p.elementCount())) for p in paths]
    assert sum(starts) == len(lengths) and max(starts) <= CHUNK


@given(st.lists(st.tuples(st.floats(-1e3, 1e3), st.floats(-1e3, 1e3)), min_size=2, max_size=30), st.integers(1, 4))
def test_thinning_moves_nothing_by_more_than_a_pixel_and_keeps_ends(points: list, pieces: int) -> None:
    screen = np.array(points * pieces)
    lengths = np.full(pieces, len(points))
    kept, counts = thin(screen, lengths)
    assert counts.sum() == len(kept) and (counts >= 2).all() and len(counts) == pieces
    at = 0
    for i, count in enumerate(counts):
        piece = kept[at : at + count]
        assert (piece[0] == points[0]).all() and (piece[-1] == points[-1]).all()
        whole, thinned = shapely.LineString(points), shapely.LineString(piece)
        assert shapely.hausdorff_distance(whole, thinned) <= 1.0
        at += count
        del i


@given(st.floats(0.01, 50), st.floats(-1e6, 1e6), st.floats(-1e6, 1e6), st.floats(0, 100), st.floats(0, 100))
def test_the_ground_under_the_pointer_stays_there_when_zooming(f: float, x: float, y: float, px: float, py: float) -> None:
    view = Viewport(x, y, 0.5, 100, 100)
    assert view.zoomed(f, px, py).to_ground(px, py) == pytest.approx(view.to_ground(px, py), abs=1e-3)
    ground = view.to_ground(px, py)
    assert view.to_screen(np.array([ground]))[0] == pytest.approx((px, py), abs=1e-6)


@given(st.integers(0, 2**32 - 1))
def test_picking_agrees_with_geos(seed: int) -> None:
    rng = np.random.default_rng(seed)
    areas = shapely.buffer(shapely.points(rng.uniform(10, 90, (6, 2))), rng.uniform(2, 15, 6))
    item = PaintItem(shapes_of([*areas, shapely.LineString(rng.uniform(0, 100, (3, 2))), None]), LOOK)
    for x, y in rng.uniform(0, 100, (20, 2)):
        point = shapely.Point(x, y)
        inside = [i for i, a in enumerate(areas) if a.contains(point)]
        found = feature_at(item, x, y, 0.5)
        if inside:
            assert found == max(inside)  # the topmost
        elif found >= 0:
            assert shapely.distance([*areas, shapely.LineString(item.shapes.pieces(6)[0])][found], point) <= 0.5


def test_round_figures_for_grid_and_scale_bar() -> None:
    assert [nice(v) for v in (0.7, 1.0, 3.9, 51.0, 999.0)] == [0.5, 1.0, 2.0, 50.0, 500.0]
    assert grid_text(546_000, 1000, 1.0, False) == "546 km" and grid_text(546_020, 20, 1.0, False) == "546,020"
    assert grid_text(-26.4, 0.1, 1.0, True) == "-26.4°"


# -- stored results and the table


def test_stored_layers_are_mapped_not_copied_and_stored_once(tmp_path: Path) -> None:
    layer = squares(1000)
    store = ResultStore(tmp_path)
    first, again = store.put(layer), store.put(layer.with_key("other"))
    assert first["path"] == again["path"] and again["key"] == "other"
    stored = StoredLayer(first)
    before = pa.total_allocated_bytes()
    assert stored.table.equals(layer.table) and pa.total_allocated_bytes() - before < 10_000
    assert stored.shapes is not None and not stored.shapes.xy.flags.owndata and len(stored.shapes) == 1000
    plain = StoredLayer(store.put(Layer("t", pa.table({"a": [1]}))))
    assert plain.shapes is None and plain.crs is None


def test_nulls_and_empty_texts_look_different(qtbot: QtBot) -> None:
    model = TableModel()
    model.show_table(pa.table({"t": ["", None, "x"], "n": pa.array([None, 1.25, 2e9]), "b": [True, None, False]}))

    def column(c: int) -> list[str]:
        return [model.data(model.index(r, c), Qt.ItemDataRole.DisplayRole) for r in range(3)]

    assert column(1) == [EMPTY, NULL, "x"] and column(2) == [NULL, "1.25", "2,000,000,000.0"] and column(3) == ["yes", NULL, "no"]
    assert model.data(model.index(1, 1), Qt.ItemDataRole.FontRole).italic()
    assert model.data(model.index(2, 1), Qt.ItemDataRole.FontRole) is None
    assert model.headerData(1, Qt.Orientation.Horizontal, Qt.ItemDataRole.ToolTipRole) == "text"
    model.close_down()


def test_a_million_rows_without_copying_sorted_in_the_background(qtbot: QtBot) -> None:
    n = 1_000_000
    table = pa.table({"a": pa.array(np.random.default_rng(1).permutation(n)), "t": pa.nulls(n, pa.string())})
    model = TableModel()
    before = pa.total_allocated_bytes()
    model.show_table(table)
    assert model.rowCount() == n and pa.total_allocated_bytes() == before
    with qtbot.waitSignal(model.sorted_, timeout=20_000):
        model.sort(1, Qt.SortOrder.DescendingOrder)
    assert [model.value(r, 1) for r in range(3)] == [n - 1, n - 2, n - 3]
    assert model.lines_of(np.array([model.position(2)])).tolist() == [2]
    model.close_down()


def test_rows_set_aside_show_their_reason_and_sort_with_nulls_last(qtbot: QtBot) -> None:
    model = TableModel()
    table = pa.table({"v": [3, None, 1, 2]})
    places = np.array([0, 1, 3])
    model.show_table(table, places, StoredAside(places, np.array([0, 1, 0]), ("far", "near")))
    assert model.titles == ["Row", "Reason", "v"] and model.rowCount() == 3
    with qtbot.waitSignal(model.sorted_, timeout=5000):
        model.sort(2, Qt.SortOrder.AscendingOrder)
    rows = [[model.value(r, c) for c in range(3)] for r in range(3)]
    assert rows == [[4, "far", 2], [1, "far", 3], [2, "near", None]]
    assert model.lines_of(np.array([2, 3])).tolist() == [0]
    with qtbot.waitSignal(model.sorted_, timeout=5000):
        model.sort(1, Qt.SortOrder.DescendingOrder)
    assert model.value(0, 1) == "near"
    cut = StoredAside(places, np.array([0, 0, 1]), ("cut at the edge", "mended"), np.array([0.25, 4.0, np.nan]), ("ha", ""))
    model.show_table(table, places, cut)
    with qtbot.waitSignal(model.sorted_, timeout=5000):
        model.sort(1, Qt.SortOrder.DescendingOrder)
    assert [model.value(r, 1) for r in range(3)] == ["mended", "cut at the edge: 4.0 ha", "cut at the edge: 0.25 ha"]
    model.close_down()


# -- the machine


def test_the_window_is_on_screen_before_anything_heavy_is_imported() -> None:
    code = (
        "import sys; from PySide6.QtCore import QSettings; from eskret.desktop.app import make_application\n"
        "app = make_application(); from eskret.desktop.window import Window\n"
        "w = Window(QSettings('/nonexistent/x.ini', QSettings.Format.IniFormat)); w.show(); app.processEvents()\n"
        "print([m for m in ('pyarrow', 'numpy', 'pandas', 'duckdb', 'shapely', 'pydantic', 'pyogrio') if m in sys.modules])\n"
        "w.furnish(); app.processEvents(); print([m for m in ('pandas', 'pyogrio', 'geopandas') if m in sys.modules])\n"
        "w.close()"
    )
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert out.splitlines() == ["[]", "[]"]


def test_void_calls_of_qt_do_not_eat_references_to_none(qapp: QApplication) -> None:
    # PySide6 6.12.0 on CPython 3.11 lost one a call, and the interpreter aborted after a few thousand
    image = QImage(4, 4, QImage.Format.Format_ARGB32)
    painter, path = QPainter(image), QPainterPath()
    before = sys.getrefcount(None)
    for _ in range(5000):
        painter.setPen(QColor("red"))
        path.moveTo(1.0, 2.0)
    painter.end()
    assert abs(sys.getrefcount(None) - before) < 500
