"""An operation tried on its case: what entered and what left, drawn and in rows, and what was set aside and why."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from html import escape
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import pyarrow as pa
import shapely

from eskret.core.layer import Layer
from eskret.core.words import counted_kind
from eskret.operations.base import Context, EachLayer, Operation, Outcome, Source
from eskret.operations.settings import layer_settings, validate
from eskret.workflow.faces.examples import scene
from eskret.workflow.faces.examples.cases import CASES, Case
from eskret.workflow.faces.ledger import reason_text
from eskret.workflow.run.step import prove

_FILLS = ("#CFE3DA", "#EAD9AE", "#D3D6EA", "#E6CFD9", "#DDE0CF", "#CBDDE6")
_EDGES = ("#22695A", "#8A5E00", "#2A4D7A", "#8A4A92", "#4F5D73", "#2F6478")
_OTHER, _ASIDE, _PAPER, _INK = "#B07A12", "#B23A22", "#FFFDF7", "#1D2B2A"
_ROWS = 8


@dataclass(frozen=True)
class Side:
    """One half of the picture: what it is called, its drawing (empty where nothing is drawn) and some of its rows."""

    title: str
    svg: str = ""
    heads: tuple[str, ...] = ()
    rows: tuple[tuple[str, ...], ...] = ()


@dataclass(frozen=True)
class Picture:
    """What an operation makes of a handful of features.

    Parameters
    ----------
    settings : each as a workflow file has it.
    other : how a layer that a setting names is drawn, in words; empty where none is.
    told : reasons and numbers of what was set aside, and what the step said of altered features.
    """

    settings: tuple[str, ...]
    before: Side
    after: Side
    other: str = ""
    told: tuple[str, ...] = ()


def picture_of(operation: Operation) -> Picture | None:
    """What the operation does; None for one that reads or writes files, where there is nothing to see."""
    return _made(operation) if operation.id in CASES else None


@cache
def _made(operation: Operation) -> Picture:
    case = CASES[operation.id]
    entering = [scene.layers()[name] for name in case.entering]
    outcomes = tried(operation, case)
    left = [layer for o in outcomes for layer in o.layers]
    named = [name for name in layer_settings(operation.Settings) if case.settings.get(name)]
    others = [scene.layers()[str(case.settings[n])] for n in named]
    aside = [(x, o.inputs[0].set_aside.rows) for o in outcomes if o.inputs for x in entering[:1]]
    mapped = [x for x in others if x.has_geometry] if case.mapped else []
    marked = f"{mapped[0].key} is the dashed line" if mapped else ""
    if mapped and str(mapped[0].kind) == "point":
        marked = f"{mapped[0].key} are the diamonds"
    return Picture(
        tuple(f"{name} = {_in_file(value)}" for name, value in case.settings.items()),
        _side("Entering", entering, mapped, case, 0) if entering else Side("Nothing enters"),
        _side("Leaving", left, mapped, case, 1, aside),
        marked,
        tuple(_told(outcomes)),
    )


def tried(operation: Operation, case: Case) -> list[Outcome]:
    """What comes of the case, its accounts proved."""
    settings = validate(operation.Settings, dict(case.settings))
    entering = [scene.layers()[name] for name in case.entering]
    named = [name for name in layer_settings(operation.Settings) if case.settings.get(name)]
    with TemporaryDirectory() as place:
        for name, text in case.files.items():
            (Path(place) / name).write_text(text, encoding="utf-8")
        others = {n: [scene.layers()[str(case.settings[n])]] for n in named}
        context = Context(Path(place), operation.id, others=others)
        if isinstance(operation, Source):
            found = [o for part in operation.parts(settings, context) for o in operation.read(part, settings, context)]
        else:
            given = entering[0] if isinstance(operation, EachLayer) else entering
            found = [operation.run(given, settings, context)]  # type: ignore[attr-defined]
    for one in found:
        if not isinstance(operation, Source):
            prove(one, operation.relation)
    return found


def _told(outcomes: Sequence[Outcome]) -> list[str]:
    out = []
    for one in outcomes:
        for account in one.inputs:
            out += [f"Set aside from {account.layer}: {reason_text(reason, n)}" for reason, n in account.set_aside.counts()]
        out += [remark.text[:1].upper() + remark.text[1:] for remark in one.remarks if remark.text]
    return out


def _in_file(value: object) -> str:
    """A value as a workflow file has it."""
    if isinstance(value, Mapping):
        return "{ " + ", ".join(f"{name} = {_in_file(one)}" for name, one in value.items()) + " }"
    if isinstance(value, list):
        return f"[{', '.join(map(_in_file, value))}]"
    if isinstance(value, str) and '"' in value:
        return f"'{value}'"
    return json.dumps(value, ensure_ascii=False)


# -- rows


def _side(
    title: str, layers: Sequence[Layer], others: Sequence[Layer], case: Case, which: int, aside: Sequence[tuple[Layer, np.ndarray]] = ()
) -> Side:
    counted = " · ".join(f"{x.name or x.key}: {counted_kind(len(x), str(x.kind))}" for x in layers[:6])
    svg = (
        _drawing(f"{title}, {counted}", layers, others, aside, case.corners) if case.mapped and any(x.has_geometry for x in layers) else ""
    )
    asked = case.fields[which]
    if not asked:
        return Side(f"{title} · {counted}", svg)
    one = layers[0]
    heads = tuple(one.table.column_names) if asked == ("*",) else asked
    columns = [_texts(one, name) for name in heads]
    rows = tuple(zip(*columns, strict=True))[:_ROWS]
    if len(one) > _ROWS:
        rows = (*rows, tuple(["…"] * len(heads)))
    return Side(f"{title} · {counted}", svg, heads, rows)


def _texts(layer: Layer, field: str) -> list[str]:
    if field == "centre":  # where the shapes lie, as the CRS counts
        digits = 0 if layer.crs == scene.CRS else 5
        xy = shapely.get_coordinates(shapely.centroid(np.asarray(layer.geometry)))
        return [f"{x:.{digits}f}, {y:.{digits}f}" for x, y in xy.tolist()]
    if field == "begins":  # the first corner of each, in the drawing
        first = shapely.get_point(np.asarray(layer.geometry), 0)
        return [f"{x:,.0f}, {y:,.0f}" for x, y in zip(shapely.get_x(first).tolist(), shapely.get_y(first).tolist(), strict=True)]
    if field == "system":
        return [layer.crs or "not declared"] * len(layer)
    column = layer.table.column(field)
    if pa.types.is_floating(column.type):
        return ["" if v is None else f"{v:.4g}" if abs(v) < 10_000 else f"{v:,.0f}" for v in column.to_pylist()]
    return [_text(v) for v in column.to_pylist()]


def _text(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, datetime):
        return value.strftime("%H:%M")
    if isinstance(value, bool):
        return "yes" if value else "no"
    return str(value)


# -- the drawing


def _drawing(title: str, layers: Sequence[Layer], others: Sequence[Layer], aside: Sequence[tuple[Layer, np.ndarray]], corners: bool) -> str:
    many = len(layers) > 1
    body = []
    for number, layer in enumerate(layers):
        shapes = scene.in_scene(np.asarray(layer.geometry))
        for row, shape in enumerate(shapes):
            look = number if many else 0
            body.append(_shape(shape, _FILLS[look % 6], _EDGES[look % 6]))
            if corners and shape is not None:
                body.append(_dots(shapely.get_coordinates(shape), _EDGES[look % 6], 2.0))
            if layer.table.num_columns and shapely.get_type_id(shape) in (3, 6):
                body.append(_label(layer, row, shape))
    for layer, rows in aside:
        if layer.geometry is not None:
            for shape in scene.in_scene(np.asarray(layer.geometry)[rows]):
                body.append(_shape(shape, "none", _ASIDE, ' stroke-dasharray="2 3"', mark="cross"))
    for layer in others:
        for shape in scene.in_scene(np.asarray(layer.geometry)):
            body.append(_shape(shape, "none", _OTHER, ' stroke-dasharray="7 4" stroke-width="1.8"', mark="diamond"))
    named = f'role="img" aria-label="{escape(title)}"'
    head = f'<svg viewBox="0 0 {scene.WIDE} {scene.HIGH}" {named}><rect width="{scene.WIDE}" height="{scene.HIGH}" fill="{_PAPER}"/>'
    return head + "".join(body) + "</svg>"


def _shape(shape: shapely.Geometry | None, fill: str, edge: str, more: str = "", mark: str = "dot") -> str:
    if shape is None or shapely.is_empty(shape):
        return ""
    areas, lines, points = [], [], []
    for part in shapely.get_parts(shape):
        kind = shapely.get_type_id(part)
        if kind == 3:
            areas += [_path(shapely.get_coordinates(ring)) + "z" for ring in (part.exterior, *part.interiors)]
        elif kind == 0:
            points.append(shapely.get_coordinates(part)[0])
        else:
            lines.append(_path(shapely.get_coordinates(part)))
    out = []
    if areas:
        out.append(f'<path d="{"".join(areas)}" fill="{fill}" fill-rule="evenodd" stroke="{edge}"{more}/>')
    if lines:
        out.append(f'<path d="{"".join(lines)}" fill="none" stroke="{edge}" stroke-width="1.8"{more}/>')
    if points:
        out.append(_marks(np.array(points), edge, mark))
    return "".join(out)


def _path(xy: np.ndarray) -> str:
    return "M" + "L".join(f"{x:g} {scene.HIGH - y:g}" for x, y in xy.round(1).tolist())


def _dots(xy: np.ndarray, colour: str, radius: float) -> str:
    spots = np.unique(xy.round(1), axis=0).tolist()
    return "".join(f'<circle cx="{x:g}" cy="{scene.HIGH - y:.4g}" r="{radius:g}" fill="{colour}"/>' for x, y in spots)


def _marks(xy: np.ndarray, colour: str, mark: str) -> str:
    if mark == "dot":
        return _dots(xy, colour, 3.6)
    turned = {"diamond": "M{x:g} {y:g}m0-5l5 5l-5 5l-5-5z", "cross": "M{x:g} {y:g}m-4-4l8 8m0-8l-8 8"}[mark]
    path = "".join(turned.format(x=x, y=scene.HIGH - y) for x, y in xy.round(1).tolist())
    return f'<path d="{path}" fill="none" stroke="{colour}" stroke-width="1.8"/>'


def _label(layer: Layer, row: int, shape: shapely.Geometry) -> str:
    text = _text(layer.table.column(0)[row].as_py())
    (x, y) = shapely.get_coordinates(shapely.point_on_surface(shape))[0].round(1).tolist()
    west, south, east, north = shapely.bounds(shape)
    if not text or east - west < 7 * len(text) or north - south < 12:
        return ""
    return f'<text x="{x:g}" y="{scene.HIGH - y + 4:g}" text-anchor="middle" font-size="11" fill="{_INK}">{escape(text)}</text>'
