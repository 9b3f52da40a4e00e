"""Parts of the map by themselves: labels, legend, lines, a layer in another CRS, the same picture as pixels and as strokes."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from pyproj import Transformer
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QFontMetricsF, QImage, QPainter
from PySide6.QtWidgets import QApplication

from eskret.core.layer import Layer
from eskret.core.style.style import CLASSES, Style
from eskret.desktop.map_view import labels
from eskret.desktop.map_view.graticule import degree_step, degree_text, paint_lines, paint_scale_bar
from eskret.desktop.map_view.legend import legend_size, paint_legend
from eskret.desktop.map_view.picture import ENDINGS, PictureOptions, picture, save
from eskret.desktop.map_view.render import PaintItem, Symbol, paint, render
from eskret.desktop.map_view.scene import Block, Key, Scene
from eskret.desktop.map_view.style_items import brought, look_of
from eskret.desktop.map_view.viewport import Viewport
from eskret.desktop.theme.palette import DARK, LIGHT
from eskret.desktop.theme.style import font
from eskret.errors import DeliveryError
from eskret.workflow.cache.results import LINE, POINT, RING, drawing_of, pieces_of
from eskret.workflow.cache.stored import Shapes
from tests.length import examples

RED, BLUE = Symbol("#C04040", "#802020"), Symbol("#4040C0", "#202080")
UTM = {"code": "EPSG:32626", "geographic": False, "unit_metres": 1.0}


def shapes_of(geometry: list[shapely.Geometry | None]) -> Shapes:
    array = np.array([*geometry, None], object)[:-1]
    return Shapes(*pieces_of(array), shapely.bounds(array).reshape(-1, 4))


def view_of(shapes: Shapes, width: int = 300, height: int = 200) -> Viewport:
    low, high = np.nanmin(shapes.boxes[:, :2], axis=0), np.nanmax(shapes.boxes[:, 2:], axis=0)
    return Viewport().sized(width, height).fitted((*low.tolist(), *high.tolist()))  # type: ignore[arg-type]


# -- labels


@given(st.lists(st.tuples(st.floats(0, 6.28), st.floats(1, 10)), min_size=3, max_size=9))
def test_a_label_of_an_area_stands_inside_it(spokes: list[tuple[float, float]]) -> None:
    turns = np.sort([a for a, _ in spokes])
    ring = np.column_stack([np.cos(turns), np.sin(turns)]) * np.array([[r] for _, r in spokes]) * 100
    area = shapely.Polygon(ring)
    if not area.is_valid or area.area < 100:
        return
    shapes = shapes_of([area])
    kind, x, y = labels.anchor(shapes, 0, view_of(shapes))
    assert kind == RING and area.buffer(1e-6 * (1 + abs(x))).contains(shapely.Point(x, y))


def test_labels_of_what_is_no_plain_area() -> None:
    ring = shapely.Polygon(shapely.Point(0, 0).buffer(50).exterior, [shapely.Point(0, 0).buffer(40).exterior])
    shapes = shapes_of(
        [ring, shapely.LineString([(0, 0), (10, 0), (10, 30)]), shapely.Point(3, 4), None, shapely.MultiPoint([(0, 0), (1, 1)])]
    )
    view = view_of(shapes)
    kind, x, y = labels.anchor(shapes, 0, view)
    assert kind == RING and ring.contains(shapely.Point(x, y)), "not in the hole"
    assert labels.anchor(shapes, 1, view) == (LINE, 10.0, 10.0), "midway along"
    assert labels.anchor(shapes, 2, view) == (POINT, 3.0, 4.0)
    assert np.isnan(labels.anchor(shapes, 3, view)[1])
    # an area that reaches out of view is labelled where it is seen
    close = Viewport(45.0, 0.0, 10.0, 100, 60)
    x0, y0, x1, y1 = close.box
    _, x, y = labels.anchor(shapes, 0, close)
    assert x0 <= x <= x1 and y0 <= y <= y1


@settings(max_examples=examples(25))
@given(st.lists(st.tuples(st.integers(0, 300), st.integers(0, 200)), min_size=1, max_size=40))
def test_no_label_lies_over_another_or_out_of_the_map(qapp: QApplication, places: list[tuple[int, int]]) -> None:
    shapes = shapes_of([shapely.Point(p) for p in places])
    view = Viewport(150, 100, 1.0, 300, 200)
    column = pa.chunked_array([[f"mark {n}" for n in range(len(places))]])
    metrics = QFontMetricsF(font(12))
    asked = labels.Labels(PaintItem(shapes, RED), column, str)
    placed = labels.place(asked, view, metrics, labels.cells(view))
    boxes = [shapely.box(p.x, p.y - metrics.ascent(), p.x + metrics.horizontalAdvance(p.text), p.y + metrics.descent()) for p in placed]
    assert len({p.text for p in placed}) == len(placed) <= len(places)
    assert all(b.bounds[0] >= 0 and b.bounds[2] <= 300 and b.bounds[1] >= 0 and b.bounds[3] <= 200 for b in boxes)
    for n, box in enumerate(boxes):
        assert not any(box.buffer(-0.5).intersects(other) for other in boxes[:n])


def test_empty_values_have_no_label_and_a_picture_tells_how_many_had_room(qapp: QApplication) -> None:
    shapes = shapes_of([shapely.Point(n * 60, 0) for n in range(5)] + [shapely.Point(1, 0)])
    column = pa.chunked_array([["a", None, "", "d", "e", "f f f f f f f f f"]])
    scene = Scene((PaintItem(shapes, RED),), labels=(labels.Labels(PaintItem(shapes, RED), column, str),))
    view = Viewport(120, 0, 1.0, 330, 40)
    made = picture(scene, (), view, 1.0, LIGHT)
    assert made.placed == 3, "the long one beside the first has no room"
    ink = QColor(LIGHT.ink)
    dark = [(x, y) for x in range(330) for y in range(40) if made.image.pixelColor(x, y) == ink]
    assert dark, "the words are there"


# -- pixels and strokes


def test_the_same_features_as_pixels_and_as_strokes(qapp: QApplication) -> None:
    """Wherever both are painted plainly, the colours are the same."""
    rng = np.random.default_rng(4)
    squares = [shapely.box(x, y, x + 8, y + 8) for x in range(0, 100, 10) for y in range(0, 60, 10)]
    shapes = shapes_of([*squares, shapely.LineString([(0, 65), (100, 65)]), *(shapely.Point(p) for p in rng.uniform(0, 60, (9, 2)))])
    view = view_of(shapes)
    items = [PaintItem(shapes, RED, np.arange(0, 40)), PaintItem(shapes, BLUE, np.arange(40, len(shapes)))]
    pixels = render(items, view, 1.0)
    strokes = QImage(view.width, view.height, QImage.Format.Format_ARGB32_Premultiplied)
    strokes.fill(0)
    painter = QPainter(strokes)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    paint(painter, items, view)
    painter.end()
    for n in range(60):
        at = view.to_screen(np.array([(squares[n].centroid.x + 2.5, squares[n].centroid.y + 2.5)]))[0]
        x, y = round(at[0]), round(at[1])
        assert pixels.pixelColor(x, y) == strokes.pixelColor(x, y)


def test_features_too_small_to_see_are_still_strokes(qapp: QApplication, tmp_path: Path) -> None:
    shapes = shapes_of([shapely.box(n, 0, n + 0.01, 0.01) for n in range(20)])
    scene = Scene((PaintItem(shapes, RED),), crs=UTM)
    for ending in ENDINGS:
        file = tmp_path / f"m{ending}"
        save(scene, view_of(shapes), file, PictureOptions(), LIGHT)
        assert file.stat().st_size > 500
    assert RED.line.lower() in (tmp_path / "m.svg").read_text().lower()
    with pytest.raises(DeliveryError, match=r"cannot be saved as '.tif'"):
        save(scene, view_of(shapes), tmp_path / "m.tif", PictureOptions(), LIGHT)


# -- legend, lines, looks


def test_a_legend_fits_into_its_room_and_says_what_it_leaves_out(qapp: QApplication) -> None:
    keys = tuple(Key(RED, f"value {n}", n * 1000) for n in range(40))
    blocks = (Block("beds", "area", keys, "district"), Block("marks", "point", (Key(BLUE, "marks"),)))
    width, height = legend_size(blocks, 200)
    assert height <= 200 and 80 < width <= 280
    assert legend_size(blocks, 2000)[1] > 600 and legend_size((), 200) == (0.0, 0.0)
    image = QImage(400, 300, QImage.Format.Format_RGB32)
    image.fill(QColor("#EDF3F2"))
    painter = QPainter(image)
    paint_legend(painter, blocks, QPointF(10, 290), 200, LIGHT)
    painter.end()
    colours = {image.pixelColor(x, y).name().upper() for x in range(10, 60) for y in range(90, 290)}
    assert "#C04040" in colours and image.pixelColor(300, 20).name().upper() == "#EDF3F2"


def test_degrees_are_told_in_minutes_and_seconds() -> None:
    assert degree_text(47.25, 0.25, "NS") == "47°15'N" and degree_text(-26.5, 1 / 3600, "EW") == "26°30'00\"W"
    assert degree_text(30.0, 10, "EW") == "30°E" and degree_text(0.0, 1, "NS") == "0°N"
    assert degree_step(0.3) == 20 / 60 and degree_step(100) == 30
    assert degree_step(0.6 / 3600) == 0.5 / 3600 and degree_text(-26.5 - 0.05 / 3600, 0.05 / 3600, "EW") == "26°30'00.05\"W"


@pytest.mark.parametrize("which", ["grid", "degrees", "none"])
def test_lines_and_bar_are_painted_on_any_map(qapp: QApplication, which: str) -> None:
    views = [
        (UTM, Viewport(560_000, 5_200_000, 0.01, 300, 200)),
        (UTM, Viewport(560_000, 5_200_000, 300.0, 300, 200)),
        ({"code": "EPSG:4326", "geographic": True, "unit_metres": 0.0}, Viewport(-26, 47, 100.0, 300, 200)),
        ({"code": "EPSG:3857", "geographic": False, "unit_metres": 1.0}, Viewport(0, 0, 1e-5, 300, 200)),
        ({"code": "EPSG:32626", "geographic": False, "unit_metres": 1.0}, Viewport(0, 0, 1e-6, 300, 200)),
    ]
    for crs, view in views:
        image = QImage(300, 200, QImage.Format.Format_RGB32)
        image.fill(QColor(LIGHT.sea))
        painter = QPainter(image)
        paint_lines(painter, view, crs, which, LIGHT)
        painter.end()
        drawn = any(image.pixelColor(x, 60).name().upper() != LIGHT.sea for x in range(300))
        assert drawn == (which != "none") or view.scale < 1e-4, "lines are where they can be told"
        painter = QPainter(image)
        paint_scale_bar(painter, view, crs, LIGHT)
        painter.end()
        assert image.pixelColor(290, 185).name() != QColor(LIGHT.sea).name()


def test_outlines_stand_out_from_the_fill_in_both_themes() -> None:
    style = Style(CLASSES, field="n", opacity=50, width=3, size=9)
    for palette, lighter in ((LIGHT, False), (DARK, True)):
        look = look_of("#2497AA", style, "area", palette)
        assert (QColor(look.line).lightness() > QColor(look.fill).lightness()) == lighter
        assert (look.alpha, look.width, look.point) == (round(50 * 2.55), 3, 9)
    assert look_of("#2497AA", style, "line", LIGHT).line == "#2497AA"


def test_no_band_goes_across_the_map() -> None:
    """An area over the edge of a map of the world is drawn in two pieces, one about a pole is closed over it."""
    over = shapely.box(-35, 10, -25, 20)  # the edge of EPSG:3832 is 30 degrees west
    hole = shapely.box(100, 0, 120, 20).difference(shapely.box(105, 5, 110, 10))
    there = brought(shapes_of([over, hole, None]), "EPSG:4326", "EPSG:3832")
    widths = [np.ptp(p[:, 0]) for p in there.pieces(0)]
    assert len(widths) == 2 and max(widths) < 6e5 and len(there.pieces(1)) == 2 and np.isnan(there.boxes[2]).all()
    assert there.boxes[0, 2] - there.boxes[0, 0] > 3e7, "on both sides of the map"
    ring = shapely.Point(0, 0).buffer(1_500_000)
    back = brought(shapes_of([ring, shapely.box(1e6, 1e6, 2e6, 2e6)]), "EPSG:3413", "EPSG:4326")
    (pole,) = back.pieces(0)
    assert pole[:, 1].max() == 90 and np.ptp(pole[:, 0]) == 360 and np.abs(np.diff(back.pieces(1)[0][:, 0])).max() < 90


def test_a_layer_of_another_crs_lies_where_it_belongs() -> None:
    lonlat = [shapely.Point(-26.1, 47.1), shapely.box(-26.3, 47.0, -26.2, 47.2), None, shapely.Point(200.0, 95.0)]
    there = brought(shapes_of(lonlat), "EPSG:4326", "EPSG:32626")
    forward = Transformer.from_crs("EPSG:4326", "EPSG:32626", always_xy=True)
    assert np.allclose(there.boxes[0, :2], forward.transform(-26.1, 47.1))
    x, y = forward.transform(*shapely.get_coordinates(lonlat[1]).T)
    assert np.allclose(there.boxes[1], [min(x), min(y), max(x), max(y)])
    assert np.isnan(there.boxes[2:]).all(), "what has no place, and what cannot be brought over"


def test_what_crosses_180_degrees_is_drawn_without_a_band() -> None:
    """In two pieces at both edges of the map; a ring round the pole goes over it; what only is wide stays as it is."""
    over = shapely.Polygon([(178, -20), (-178, -20), (-178, -16), (178, -16)])
    line = shapely.LineString([(179, 0), (-179, 2)])
    cap = shapely.Polygon([(lon, 70) for lon in range(-180, 180, 10)])
    wide = shapely.segmentize(shapely.box(-170, -5, 170, 5), 20)  # with edges of 340 degrees it would be the rest of the globe
    shapes = np.array([over, line, cap, wide, shapely.box(0, 0, 1, 1)])
    for crs, cut in (("EPSG:4326", True), ("EPSG:3857", False)):
        drawn = Shapes(*drawing_of(Layer("a", pa.table({"n": range(5)}), shapes, crs)))
        if not cut:
            assert np.diff(drawn.first).tolist() == [1] * 5, "metres have no seam"
            continue
        longest = [
            float(np.abs(np.diff(drawn.xy[drawn.starts[p] : drawn.starts[p + 1], 0])).max())
            for row in (0, 1)
            for p in range(int(drawn.first[row]), int(drawn.first[row + 1]))
        ]
        assert len(longest) == 4 and max(longest) <= 2.0, "two pieces each, none across the map"
        assert drawn.boxes[2].tolist() == [-180, 70, 180, 90]
        assert drawn.boxes[3].tolist() == [-170, -5, 170, 5] and np.diff(drawn.first).tolist()[3:] == [1, 1]
