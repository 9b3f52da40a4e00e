"""What a workflow file says of its map: the layers kept on it beside the one in hand, and the lines behind them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from eskret.core.style.style import Style, style_of
from eskret.errors import DocumentError, SettingError

GRID, DEGREES, NONE = "grid", "degrees", "none"
LINES: Mapping[str, str] = {GRID: "Grid of the CRS", DEGREES: "Degrees", NONE: "No lines"}


@dataclass(frozen=True)
class OnMap:
    """A layer kept on the map: one that a step leaves, or one of a file.

    ``over`` is whether it lies over the layer in hand; ``off`` whether it is hidden. ``style`` is for a file's layer; that of
    a step's layer stands with the step.
    """

    step: str = ""
    file: str = ""
    layer: str = ""
    over: bool = False
    off: bool = False
    style: Style | None = None

    @property
    def place(self) -> tuple[str, str, str]:
        """What tells it from others on the map."""
        return self.step, self.file, self.layer

    def to_table(self) -> dict[str, object]:
        """As in the file."""
        out: dict[str, Any] = {"step": self.step} if self.step else {"file": self.file}
        if self.layer:
            out["layer"] = self.layer
        out |= {name: True for name in ("over", "off") if getattr(self, name)}
        if self.style is not None:
            out["style"] = self.style.to_table()
        return out


@dataclass(frozen=True)
class MapSaid:
    """The whole: ``layers`` from the topmost down."""

    layers: tuple[OnMap, ...] = ()
    lines: str = GRID

    def __bool__(self) -> bool:
        return bool(self.layers) or self.lines != GRID


def map_of(table: object, place: str) -> MapSaid:
    """What the file's ``[map]`` says.

    Raises
    ------
    DocumentError : naming what is wrong with it.
    """
    where = f"{place}, map"
    if not isinstance(table, dict) or not isinstance(table.get("layers", []), list):
        raise DocumentError("it must be a table with a list of layers", place=where, way_out="Write [map]")
    for key in table:
        if key not in ("layers", "lines"):
            raise DocumentError(f"'{key}' is not known here", place=where, way_out="Known: lines, layers")
    lines = table.get("lines", GRID)
    if lines not in LINES:
        raise DocumentError(f"'lines' cannot be {lines!r}", place=where, way_out=f"It can be {', '.join(LINES)}")
    return MapSaid(tuple(_layer(entry, where) for entry in table.get("layers", ())), lines)


def _layer(entry: object, where: str) -> OnMap:
    known = ("step", "file", "layer", "over", "off", "style")
    if not isinstance(entry, dict) or not set(entry) <= set(known):
        raise DocumentError("a layer is not told as it should be", place=where, way_out=f"It has {', '.join(known)}")
    texts = [entry.get(k, "") for k in ("step", "file", "layer")]
    flags = [entry.get(k, False) for k in ("over", "off")]
    if not all(isinstance(t, str) for t in texts) or not all(isinstance(f, bool) for f in flags):
        raise DocumentError("step, file and layer are text, over and off are true or false", place=where)
    if bool(texts[0]) == bool(texts[1]):
        raise DocumentError("a layer is one of a step or one of a file", place=where, way_out="Name one of the two")
    style = style_at(entry["style"], where) if "style" in entry else None
    return OnMap(texts[0], texts[1], texts[2], flags[0], flags[1], style)


def style_at(table: object, place: str) -> Style:
    """The style that a table of the file says.

    Raises
    ------
    DocumentError : it is no table, or says what a style cannot; with its place.
    """
    if not isinstance(table, dict):
        raise DocumentError("a style is told as a table", place=place)
    try:
        return style_of(table)
    except SettingError as error:
        raise DocumentError(error.problem, place=place, way_out=error.way_out) from error
