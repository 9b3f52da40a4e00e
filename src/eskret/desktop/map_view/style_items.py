"""Put a layer into its style: the items to draw, the block of the legend, and shapes brought to the map's CRS."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from eskret.core.crs import move
from eskret.core.geometry.globe.moving import half_world, reproject
from eskret.core.measure.units import AREAS, LENGTHS
from eskret.core.style.legend import Legend, numbers_of
from eskret.core.style.ramps import NO_VALUE, darker
from eskret.core.style.style import ONE, Style
from eskret.desktop.map_view.labels import Labels
from eskret.desktop.map_view.render import PaintItem, Symbol
from eskret.desktop.map_view.scene import Block, Key
from eskret.desktop.map_view.spliced import with_others
from eskret.desktop.theme.palette import Palette
from eskret.workflow.cache.stored import Shapes, StoredLayer


def look_of(colour: str, style: Style, kind: str, palette: Palette) -> Symbol:
    """How features of a colour are drawn. Outlines stand out from the fill, away from the ground's lightness."""
    if colour == NO_VALUE and palette.name == "dark":
        colour = palette.plain_fill  # it must not outshine what has a value
    rim = darker(colour, -0.22 if palette.name == "dark" else 0.22)
    line = colour if kind == "line" else rim
    return Symbol(
        colour,
        line,
        alpha=round(style.opacity * 2.55),
        width=style.width or (1.6 if kind == "line" else 1.0),
        point=style.size or 7.0,
        case=rim if kind == "line" else "",
    )


def plain_symbol(style: Style, usual: Symbol, kind: str, palette: Palette) -> Symbol:
    """How features are drawn that nothing tells apart."""
    if style.colour:
        return look_of(style.colour, style, kind, palette)
    alpha = min(usual.alpha, round(style.opacity * 2.55))
    return replace(usual, alpha=alpha, width=style.width or usual.width, point=style.size or usual.point)


def items_of(layer: StoredLayer, shapes: Shapes, style: Style, legend: Legend, usual: Symbol, palette: Palette) -> tuple[PaintItem, ...]:
    """The layer's features, an item for each group that has any."""
    if not legend or legend.of is None:
        return (PaintItem(shapes, plain_symbol(style, usual, layer.kind, palette)),)
    found = []
    for number, entry in enumerate(legend.entries):
        if entry.count:
            rows = np.flatnonzero(legend.of == number)
            found.append(PaintItem(shapes, look_of(entry.colour, style, layer.kind, palette), rows))
    return tuple(found)


def block_of(layer: StoredLayer, title: str, style: Style, legend: Legend, usual: Symbol, palette: Palette) -> Block:
    """What the legend says of the layer."""
    if not legend:
        return Block(title, layer.kind, (Key(plain_symbol(style, usual, layer.kind, palette), title),))
    keys = tuple(Key(look_of(e.colour, style, layer.kind, palette), e.text, e.count) for e in legend.entries)
    return Block(title, layer.kind, keys, str(layer.info.get("titles", {}).get(style.field, style.field)))


def labels_of(layer: StoredLayer, shapes: Shapes, style: Style, show: Callable[[object], str]) -> tuple[Labels, ...]:
    """The labels that the style asks for, if the layer has their field; figures with the unit that its name tells."""
    if not style.label or style.label not in layer.table.column_names:
        return ()
    column = layer.table.column(style.label)
    unit = style.label.rpartition("_")[2]
    if numbers_of(column.slice(0, 0)) is None or unit not in (*LENGTHS, *AREAS) or unit == style.label:
        return (Labels(PaintItem(shapes, Symbol("", "")), column, show),)
    return (Labels(PaintItem(shapes, Symbol("", "")), column, lambda value: f"{show(value)} {unit}"),)


def tells(style: Style, layer: StoredLayer) -> bool:
    """Whether the style tells the features of this layer apart."""
    return style.by != ONE and style.field in layer.table.column_names


def brought(shapes: Shapes, source: str, target: str) -> Shapes:
    """Shapes in another CRS; what cannot be brought over is not drawn.

    Raises
    ------
    CrsError : there is no way between the two.
    """
    good = shapes.boxes[np.isfinite(shapes.boxes).all(axis=1)]
    area = None
    if len(good):
        low, high = good[:, :2].min(axis=0), good[:, 2:].max(axis=0)
        area = (float(low[0]), float(low[1]), float(high[0]), float(high[1]))
    xy = np.ascontiguousarray(move(np.asarray(shapes.xy), source, target, area))
    owner = np.repeat(np.arange(len(shapes)), np.diff(shapes.starts[shapes.first]))
    long = np.flatnonzero((np.abs(np.diff(xy[:, 0])) > half_world(source, target)) & (owner[1:] == owner[:-1]))
    if len(long):
        shapes = with_others(shapes, xy, np.unique(owner[long]), lambda some: reproject(some, source, target)[0])
        xy = shapes.xy
        owner = np.repeat(np.arange(len(shapes)), np.diff(shapes.starts[shapes.first]))
    boxes = np.full((len(shapes), 4), np.nan)
    there = np.isfinite(xy).all(axis=1)
    lost = np.unique(owner[~there])
    rows, begin = np.unique(owner, return_index=True)
    if len(rows):
        boxes[rows, :2] = np.minimum.reduceat(xy, begin, axis=0)
        boxes[rows, 2:] = np.maximum.reduceat(xy, begin, axis=0)
    boxes[lost] = np.nan
    return Shapes(xy, shapes.starts, shapes.kinds, shapes.first, boxes)
