"""The window's thread is never long at work at a stretch, however much there is: a watchdog counts its processor time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
import shapely

from benchmarks.stretches import watched
from eskret import write
from eskret.core.layer import Layer
from eskret.core.style.style import CLASSES, Style
from eskret.desktop.map_view.canvas import symbols
from eskret.desktop.map_view.render import PaintItem, render
from eskret.desktop.map_view.viewport import Viewport
from eskret.desktop.sources import scan as scanning
from eskret.workflow.cache.stored import Shapes
from eskret.workflow.model.document import Step
from eskret.workflow.model.styles import with_style
from tests.desktop.conftest import Hand

LONGEST = 0.25
"""Seconds of processor time; about 0.05 are usual here. What freezes the window takes many times as much."""


@pytest.fixture
def large(make_hand: Callable[..., Hand], tmp_path: Path) -> Hand:
    """A window on a workflow of 60,000 areas, of which some are kept."""
    side = 245
    x, y = (a.ravel() for a in np.meshgrid(np.arange(side) * 20.0, np.arange(side) * 20.0))
    table = pa.table({"id": np.arange(len(x)), "tonnes": np.arange(len(x)) % 997})
    layer = Layer("beds", table, shapely.box(x, y, x + 20, y + 20), "EPSG:32626")
    write(layer, tmp_path / "beds.gpkg")
    text = 'eskret = 1\ntitle = "Large"\n\n[[steps]]\nid = "beds"\nuse = "load"\nfiles = ["beds.gpkg"]\n\n'
    text += '[[steps]]\nid = "some"\nuse = "keep"\nfrom = "beds"\nwhere = "tonnes > 100"\n'
    (tmp_path / "large.toml").write_text(text)
    hand = make_hand(tmp_path / "large.toml", follows=True)
    hand.until(lambda: hand.bench.session.results.get("some"))
    hand.click_step("some")
    hand.until(hand.bench.viewer.canvas.idle)
    return hand


def test_nothing_that_one_does_with_many_features_takes_the_window_long(large: Hand) -> None:
    bench, viewer = large.bench, large.bench.viewer
    acts: dict[str, Callable[[], object]] = {
        "choose all in the table": lambda: large.keys("Ctrl+A", viewer.table),
        "choose all on the map": lambda: large.keys("Ctrl+A", viewer.canvas),
        "every second": lambda: viewer.choose_rows(viewer.shown_rows()[::2]),
        "the others": lambda: large.keys("Ctrl+Shift+I", bench),
        "what was set aside": lambda: large.keys("Alt+3", bench),
        "what left": lambda: large.keys("Alt+2", bench),
        "sort": lambda: viewer.table.sortByColumn(2, viewer.table.horizontalHeader().sortIndicatorOrder()),
        "classes": lambda: bench.session.change_step(
            with_style(bench.session.document.step("some"), "beds", Style(by=CLASSES, field="tonnes")), "x"
        ),
        "the other theme": bench.switch_theme,
        "the theme again": bench.switch_theme,
    }
    for name, act in acts.items():
        with watched() as seen:
            act()
            large.bot.wait(120)
            large.until(viewer.canvas.idle)
        assert seen.longest < LONGEST, (name, seen.longest, seen.seen[-3:])
    chosen = len(viewer.shown_rows())
    large.keys("Ctrl+A", viewer.table)
    assert len(viewer.chosen) == chosen == int(large.row("some")["out"].replace(",", ""))


def test_a_folder_of_many_files_is_read_beside_the_window(make_hand: Callable[..., Hand], tmp_path: Path) -> None:
    many = tmp_path / "many"
    one = b'{"type":"Feature","properties":{},"geometry":{"type":"Point","coordinates":[1,2]}}'
    for n in range(1500):
        home = many / f"part{n % 3}"
        home.mkdir(parents=True, exist_ok=True)
        (home / f"f{n:04d}.geojson").write_bytes(one)
    hand = make_hand()
    with watched() as seen:
        hand.bench.files.open_path(many)
        hand.until(lambda: hand.bench.sources.model.rowCount() == 3)
        hand.until(lambda: "of 1,500" in hand.bench.sources.hint.text())
    assert seen.longest < LONGEST, (seen.longest, seen.seen[-3:])
    rows = hand.bench.sources.model.rows()
    assert len(rows) == 1503 and [r.told["figures"] for r in rows if r.told["what"] == "folder"] == ["500"] * 3


def test_of_more_files_than_are_listed_it_is_said(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for n in range(8):
        (tmp_path / f"f{n}.geojson").write_text("{}")
    deep = tmp_path / "a" / "b" / "c" / "d" / "e"
    deep.mkdir(parents=True)
    (deep / "far.geojson").write_text("{}")
    found = scanning.scan(tmp_path, None)
    assert len(found.offered) == 8 and found.deeper and not found.cut
    monkeypatch.setattr(scanning, "MOST_FILES", 5)
    assert len(scanning.scan(tmp_path, None).offered) == 5 and scanning.scan(tmp_path, None).cut


def boxes(size: float, side: int) -> Shapes:
    """A coverage of squares as the map has it."""
    from eskret.workflow.cache.results import RING

    x, y = (a.ravel() * size for a in np.meshgrid(np.arange(side), np.arange(side)))
    ring = np.array([(0, 0), (1, 0), (1, 1), (0, 1), (0, 0)]) * size
    xy = (np.column_stack([x, y])[:, None, :] + ring[None]).reshape(-1, 2)
    n = side * side
    return Shapes(xy, np.arange(n + 1) * 5, np.full(n, RING, np.uint8), np.arange(n + 1), np.column_stack([x, y, x + size, y + size]))


def colours(shapes: Shapes, scale: float, side: int) -> set[str]:
    view = Viewport(side / 2, side / 2, scale, 200, 200)
    look = replace(symbols()["leaving"], hatch=False)
    image = render([PaintItem(shapes, look)], view, 1.0)
    return {image.pixelColor(x, y).name() for x in range(60, 140) for y in range(60, 140)}


def test_a_dense_coverage_looks_like_one_and_not_like_a_stain(qapp: object) -> None:
    look = symbols()["leaving"]
    assert colours(boxes(1.0, 100), 2.0, 100) == {look.fill.lower()}  # squares of two pixels: their fill, no outline
    close = colours(boxes(1.0, 100), 20.0, 100)
    assert look.fill.lower() in close and look.line.lower() in close  # of twenty: outlines as well


def test_many_points_are_the_stronger_the_closer_they_lie(qapp: object) -> None:
    from eskret.workflow.cache.results import POINT

    rng = np.random.default_rng(3)
    xy = np.concatenate([rng.uniform(0, 100, (4000, 2)), rng.normal((30, 30), 2, (8000, 2))])
    n = len(xy)
    shapes = Shapes(xy, np.arange(n + 1), np.full(n, POINT, np.uint8), np.arange(n + 1), np.column_stack([xy, xy]))
    image = render([PaintItem(shapes, symbols()["leaving"])], Viewport(50, 50, 2.0, 200, 200), 1.0)
    alpha = np.array([[image.pixelColor(x, y).alpha() for x in range(200)] for y in range(200)])
    dense = alpha[136:144, 56:64]  # around (30, 30); the map's y runs upwards
    sparse = alpha[20:60, 120:180]
    assert dense.mean() > 180 and 0 < sparse[sparse > 0].mean() < 120


def test_branches_stay_in_the_order_in_which_they_were_made(make_hand: Callable[..., Hand], project: Path) -> None:
    session = make_hand(project).bench.session
    source = session.document.steps[0].id
    made = []
    for name in ("one", "two", "three"):
        session.select(source)
        made.append(session.add_step(Step(name, "sort", (source,), {"by": ["name"]}), session.place_after(source)))
    ids = [s.id for s in session.document.steps]
    assert [i for i in ids if i in made] == made
    # above what is saved of a step itself
    session.select("chosen")
    assert session.place_after("chosen") == ids.index("chosen") + 1
