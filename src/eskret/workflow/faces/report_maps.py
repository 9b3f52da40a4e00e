"""Maps of a report as SVG: the layers that a run delivers, in their styles, over those that the workflow keeps on its map."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from html import escape
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from eskret.core.crs import crs_facts, same_crs
from eskret.core.geometry.globe.moving import reproject
from eskret.core.layer import Layer
from eskret.core.style.classes import breaks_of
from eskret.core.style.legend import LegendEntry, legend_of, numbers_of
from eskret.core.style.ramps import darker
from eskret.core.style.style import CLASSES, Style
from eskret.core.words import format_quantity
from eskret.errors import EskretError
from eskret.formats import sources
from eskret.operations.base import Outcome
from eskret.workflow.cache.cached_layer import LayerHandle, materialise
from eskret.workflow.cache.results import LINE, POINT, drawing_of
from eskret.workflow.cache.stored import Shapes
from eskret.workflow.faces.report_charts import Chart, of_tally, spread_of
from eskret.workflow.model.document import Document
from eskret.workflow.model.styles import style_for

WIDTH, HEIGHT, MARGIN = 720, 440, 12
MOST = 12
"""Maps in a report."""
_MOST_PIECES = 40_000
_NEAR_PIECES, _NEAR_CORNERS = 4_000, 30_000
_TINY = 1.3  # pixels: smaller features are dots
_USUAL, _KEPT = "#7DB6A3", "#E5DFD0"
_DELIVER = ("save", "publish")


@dataclass(frozen=True)
class Figure:
    """A map: its title, the drawing, and what its colours mean (colour, text, how many)."""

    title: str
    svg: str
    keys: tuple[tuple[str, str, int], ...] = ()
    about: str = ""
    spread: str = ""
    """How the values of its classes are spread, as SVG."""


@dataclass(frozen=True)
class Figures:
    """What a report shows beside its tables."""

    maps: Sequence[Figure] = ()
    charts: Sequence[Chart] = ()


@dataclass
class Maps:
    """Collects maps while a run goes on; ``keep`` is for the engine."""

    document: Document
    folder: Path
    figures: list[Figure] = field(default_factory=list)
    charts: list[Chart] = field(default_factory=list)
    _last: list[Layer] = field(default_factory=list)
    _kept: dict[str, list[tuple[Layer, Style]]] = field(default_factory=dict)

    def keep(
        self, step: str, entering: Sequence[LayerHandle], outcomes: Sequence[Outcome], others: Sequence[LayerHandle] = ()
    ) -> Mapping[str, Any]:
        """Draw what a delivering step leaves; of other steps remember the last one's layers."""
        layers = [layer for o in outcomes for layer in o.layers if layer.has_geometry and len(layer)]
        if self.document.step(step).use == "tally" and len(self.charts) < MOST:
            self.charts += filter(None, (of_tally(materialise(x)) for o in outcomes for x in o.layers))
        if self.document.step(step).use in _DELIVER:
            for layer in layers:
                self.add(materialise(layer), step)
        elif layers:
            self._last = list(map(materialise, layers))
        return {}

    def finish(self) -> Figures:
        """The maps, of the last step that left any layers where none was delivered; and the charts."""
        if not self.figures:
            for layer in self._last:
                self.add(layer, layer.step)
        return Figures(self.figures, self.charts)

    def add(self, layer: Layer, step: str) -> None:
        """Draw one layer."""
        if len(self.figures) < MOST and layer.geometry is not None:
            shapes = Shapes(*drawing_of(layer))
            style = style_for(self.document, layer.provenance)
            self.draw(f"{layer.name or layer.key} · {step}", shapes, layer.table, str(layer.kind), layer.crs, style)

    def draw(self, title: str, shapes: Shapes, table: pa.Table, kind: str, crs: str | None, style: Style) -> None:
        """Draw shapes as arrays, with their attributes."""
        below = [_Drawn(s, k.kind, st.colour or _KEPT, opacity=st.opacity) for k, st in self._beside(crs) for s in _shapes_of(k)]
        entries, of, breaks = _groups(style, table)
        own = [
            _Drawn(shapes, kind, e.colour, np.flatnonzero(of == n) if of is not None else None, style.opacity)
            for n, e in enumerate(entries)
        ]
        box = _box(shapes)
        if box is None:
            return
        keys = tuple((e.colour, e.text, e.count) for e in entries if e.count) if of is not None else ()
        spread = ""
        if of is not None and style.by == CLASSES and (numbers := numbers_of(table.column(style.field))) is not None:
            spread = spread_of(numbers, breaks, [e.colour for e in entries][: len(breaks) + 1])
        self.figures.append(Figure(title, _svg(title, [*below, *own], box, crs), keys, style.field if of is not None else "", spread))

    def _beside(self, crs: str | None) -> list[tuple[Layer, Style]]:
        """The files' layers that the workflow keeps on its map, in this CRS."""
        if crs is None:
            return []
        if crs not in self._kept:
            self._kept[crs] = []
            for one in reversed(self.document.map.layers):
                if one.file and not one.off:
                    layer = self._file(one.file, one.layer, crs)
                    if layer is not None:
                        self._kept[crs].append((layer, one.style or Style()))
        return self._kept[crs]

    def _file(self, file: str, name: str, crs: str) -> Layer | None:
        path = Path(file) if Path(file).is_absolute() else self.folder / file
        try:
            layer = sources.read(path, name or sources.layer_names(path)[0], path.stem).layer
            if layer.geometry is None or layer.crs is None:
                return None
            return layer if same_crs(layer.crs, crs) else layer.with_geometry(reproject(layer.geometry, layer.crs, crs)[0], crs=crs)
        except EskretError:
            return None  # the map is drawn without it


@dataclass(frozen=True)
class _Drawn:
    shapes: Shapes
    kind: str
    colour: str
    rows: np.ndarray | None = None
    opacity: int = 100


def _shapes_of(layer: Layer) -> list[Shapes]:
    assert layer.geometry is not None
    return [Shapes(*drawing_of(layer))]


def _groups(style: Style, table: pa.Table) -> tuple[list[LegendEntry], np.ndarray | None, Sequence[float]]:
    breaks: Sequence[float] = ()
    if style.by == CLASSES and style.field in table.column_names:
        numbers = numbers_of(table.column(style.field))
        breaks = style.breaks if style.method == "own" else breaks_of(numbers, style.method, style.count) if numbers is not None else ()
    found = legend_of(style, table, breaks)
    if not found or found.of is None:
        return [LegendEntry("", style.colour or _USUAL, table.num_rows)], None, ()
    return list(found.entries), found.of, breaks


def _box(shapes: Shapes) -> tuple[float, float, float, float] | None:
    boxes = shapes.boxes[np.isfinite(shapes.boxes).all(axis=1)]
    if not len(boxes):
        return None
    low, high = boxes[:, :2].min(axis=0), boxes[:, 2:].max(axis=0)
    return float(low[0]), float(low[1]), float(high[0]), float(high[1])


def _svg(title: str, drawn: Sequence[_Drawn], box: tuple[float, float, float, float], crs: str | None) -> str:
    facts = crs_facts(crs) if crs else None
    west, south, east, north = box
    # degrees of longitude are shorter than those of latitude
    squeeze = float(np.cos(np.radians((south + north) / 2))) if facts is not None and facts.geographic else 1.0
    scale = min((WIDTH - 2 * MARGIN) / max((east - west) * squeeze, 1e-12), (HEIGHT - 2 * MARGIN) / max(north - south, 1e-12))
    if west == east and south == north:
        scale = 1.0
    middle = np.array([(west + east) / 2, (south + north) / 2])
    to = np.array([scale * squeeze, -scale])
    head = f'<svg viewBox="0 0 {WIDTH} {HEIGHT}" role="img" aria-label="Map: {escape(title)}">'
    parts = [head, f'<rect width="{WIDTH}" height="{HEIGHT}" fill="#ECF2F3"/>']
    for one in drawn:
        parts.append(_layer(one, middle, to))
    parts.append(_scale_bar(scale, facts))
    return "".join(parts) + "</svg>"


def _layer(one: _Drawn, middle: np.ndarray, to: np.ndarray) -> str:
    shapes = one.shapes
    rows = np.arange(len(shapes)) if one.rows is None else one.rows
    boxes = (shapes.boxes[rows].reshape(-1, 2, 2) - middle) * to + (WIDTH / 2, HEIGHT / 2)
    parts = int(np.diff(shapes.first)[rows].sum()) if len(rows) else 0
    # few features keep what is seen from near: their corners finer, and small ones as shapes
    near = parts <= _NEAR_PIECES and len(shapes.xy) <= _NEAR_CORNERS
    there = np.isfinite(boxes).all(axis=(1, 2))
    low, high = boxes.min(axis=1), boxes.max(axis=1)
    seen = there & (high[:, 0] > 0) & (low[:, 0] < WIDTH) & (high[:, 1] > 0) & (low[:, 1] < HEIGHT)
    points = one.kind == "point"
    tiny = seen & ((high - low).max(axis=1) < (_TINY / 16 if near else _TINY)) & (not points)
    dots = np.unique(((low + high) / 2)[tiny].round().astype(int), axis=0)
    path = "".join(f"M{x} {y}h1v1h-1z" for x, y in dots.tolist())
    rim = darker(one.colour, 0.22)
    look = f'fill="{one.colour}" stroke="{rim}" stroke-width=".6" fill-opacity="{one.opacity / 100:g}"'
    out = [f'<path d="{path}" fill="{rim}"/>'] if path else []
    large = rows[seen & ~tiny][:_MOST_PIECES]
    if points:
        xy = ((shapes.boxes[large, :2] - middle) * to + (WIDTH / 2, HEIGHT / 2)).round(1)
        circles = "".join(f'<circle cx="{x:g}" cy="{y:g}" r="2.4"/>' for x, y in np.unique(xy, axis=0).tolist())
        return f"<g {look}>{circles}</g>"
    areas, lines, steps = [], [], 20 if near else 2
    for row in large.tolist():
        for piece in range(int(shapes.first[row]), int(shapes.first[row + 1])):
            xy = (shapes.xy[shapes.starts[piece] : shapes.starts[piece + 1]] - middle) * to + (WIDTH / 2, HEIGHT / 2)
            grid = (xy * steps).round().astype(int)
            grid = grid[np.r_[True, (np.diff(grid, axis=0) != 0).any(axis=1)]] / steps
            text = "M" + "L".join(f"{x:g} {y:g}" for x, y in grid.tolist())
            kind = shapes.kinds[piece]
            if kind == POINT:
                areas.append(f"M{grid[0][0] - 2:g} {grid[0][1] - 2:g}h4v4h-4z")
            elif kind == LINE:
                lines.append(text)
            else:
                areas.append(text + "z")
    if areas:
        out.append(f'<path d="{"".join(areas)}" {look} fill-rule="evenodd"/>')
    if lines:
        out.append(f'<path d="{"".join(lines)}" fill="none" stroke="{rim}" stroke-width="1.4"/>')
    return "".join(out)


def _scale_bar(scale: float, facts: Any) -> str:
    """A bar of a round length, where the CRS has a unit of length."""
    if facts is None or facts.geographic or not facts.unit_metres:
        return ""
    each = facts.unit_metres / scale  # metres of a unit of the drawing
    metres = WIDTH / 5 / scale * facts.unit_metres
    step = 10.0 ** np.floor(np.log10(metres))
    length = step * (5 if metres >= 5 * step else 2 if metres >= 2 * step else 1)
    wide = length / facts.unit_metres * scale
    x, y = WIDTH - MARGIN - wide, HEIGHT - MARGIN
    text = format_quantity(length / 1000, "km") if length >= 1000 else format_quantity(length, "m")
    return (
        f'<g class="scale" data-metres="{each:.9g}">'
        f'<path d="M{x:.1f} {y - 4}v4h{wide:.1f}v-4" fill="none" stroke="#1D2B2A" stroke-width="1.4"/>'
        f'<text x="{x + wide / 2:.1f}" y="{y - 6}" text-anchor="middle" font-size="11" fill="#1D2B2A">{escape(text)}</text></g>'
    )
