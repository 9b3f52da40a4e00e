"""Puts the map's scene together: the layer in hand in its style, the layers kept beside it, labels and legend.

What takes long (classes, groups of many rows, layers of files, another CRS) is worked out elsewhere; ``ready`` says that
the scene can be told anew.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Signal

from eskret.core.style.legend import Legend, legend_of, numbers_of
from eskret.core.style.style import CLASSES, Style
from eskret.desktop.map_view.canvas import symbols
from eskret.desktop.map_view.render import PaintItem, Symbol
from eskret.desktop.map_view.scene import Block, Scene
from eskret.desktop.map_view.style_items import block_of, brought, items_of, labels_of, tells
from eskret.desktop.state.background import Background
from eskret.desktop.state.session import Session
from eskret.desktop.table.layer_model import show
from eskret.desktop.theme.style import theme
from eskret.errors import CrsError
from eskret.workflow.cache.stored import Shapes, StoredLayer
from eskret.workflow.model.map_spec import OnMap

NO_FILE = "no such file"
FEW = 20_000
"""Rows that are put into groups at once, without a first picture in one colour."""


@dataclass(frozen=True)
class Beside:
    """A layer kept on the map as it stands: what is known of it, or why it is not drawn."""

    entry: OnMap
    title: str
    layer: StoredLayer | None = None
    missing: str = ""
    why: str = ""


class SceneBuilder(QObject):
    """Knows styles, groups and kept layers; makes scenes."""

    ready = Signal()

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._background = Background(self)
        self._breaks: dict[tuple[Any, ...], tuple[float, ...] | None] = {}
        self._legends: dict[tuple[Any, ...], Legend | None] = {}
        self._moved: dict[tuple[str, str], Shapes | None] = {}
        self._files: dict[tuple[str, str, int], StoredLayer | str | None] = {}

    def forget(self) -> None:
        """Drop what was worked out for results that are gone: it holds their files open, deleted or not."""
        for known in (self._breaks, self._legends, self._moved):
            for asked in [k for k in known if not Path(k[0]).is_dir()]:
                del known[asked]
        for asked in [k for k, layer in self._files.items() if isinstance(layer, StoredLayer) and not layer.home.is_dir()]:
            del self._files[asked]

    def close_down(self) -> None:
        """Let no work outlive the window."""
        self._background.close()

    # -- the layer in hand

    def breaks(self, layer: StoredLayer, style: Style) -> tuple[float, ...] | None:
        """The limits between classes; None while they are being found."""
        if style.method == "own":
            return style.breaks
        asked = (layer.info["path"], style.field, style.method, style.count)
        if asked not in self._breaks:
            self._breaks[asked] = None

            def take(event: Mapping[str, Any]) -> None:
                self._breaks[asked] = tuple(event["breaks"]) if event["event"] == "done" else ()
                self.ready.emit()

            request = {"layer": dict(layer.info), "field": style.field, "method": style.method, "count": style.count}
            self._session.ask("classes", take, self, f"Finding classes of {style.field} …", **request)
        return self._breaks[asked]

    def legend(self, layer: StoredLayer, style: Style) -> Legend:
        """The groups of the layer's rows; an empty one while they are being made, or where there are none."""
        if not tells(style, layer):
            return Legend()
        breaks: tuple[float, ...] = ()
        if style.by == CLASSES:
            if numbers_of(layer.table.column(style.field).slice(0, 0)) is None:
                return Legend()
            found = self.breaks(layer, style)
            if found is None:
                return Legend()
            breaks = found
        asked = (layer.info["path"], breaks, str(style.to_table()))
        if asked in self._legends:
            return self._legends[asked] or Legend()
        if layer.rows <= FEW:
            self._legends[asked] = legend_of(style, layer.table, breaks)
            return self._legends[asked] or Legend()
        self._legends[asked] = None

        def take(made: Legend) -> None:
            self._session.waits.end(asked)
            self._legends[asked] = made
            self.ready.emit()

        self._session.waits.begin(asked, f"Grouping {layer.rows:,} features by {style.field} …")
        self._background.run(lambda: legend_of(style, layer.table, breaks), take)
        return Legend()

    # -- layers kept beside it

    def beside(self) -> list[Beside]:
        """The layers kept on the map, the topmost first."""
        return [self._beside(entry) for entry in self._session.document.map.layers]

    def _beside(self, entry: OnMap) -> Beside:
        if entry.step:
            title = f"{entry.layer} · {entry.step}"
            found = [i for i in self._session.leaving(entry.step) if i["key"] == entry.layer]
            if not found:
                return Beside(entry, title, missing="not run yet")
            layer: StoredLayer | str | None = StoredLayer(found[0])
        else:
            title = entry.layer or Path(entry.file).stem
            layer = self._file(entry)
        if layer is None:
            return Beside(entry, title, missing="being read")
        if isinstance(layer, str):
            why = layer if layer != NO_FILE else f"There is no {entry.file} in the workflow's folder."
            return Beside(entry, title, missing=layer if layer == NO_FILE else "cannot be read", why=why)
        return Beside(entry, title, layer, "" if layer.info["drawn"] else "a plain table")

    def _file(self, entry: OnMap) -> StoredLayer | str | None:
        path = Path(entry.file)
        full = path if path.is_absolute() else self._session.folder / path
        try:
            changed = full.stat().st_mtime_ns
        except OSError:
            return NO_FILE
        asked = (str(full), entry.layer, changed)
        known = self._files.get(asked)
        if isinstance(known, StoredLayer) and not known.home.is_dir():
            del self._files[asked]  # it went with the workflow that it was looked at for
        if asked not in self._files:
            self._files[asked] = None

            def take(event: Mapping[str, Any]) -> None:
                self._files[asked] = StoredLayer(event["layer"]) if event["event"] == "done" else str(event["text"])
                self.ready.emit()

            key = entry.layer or path.stem
            self._session.ask("open", take, self, f"Reading {path.name} …", path=str(full), layer=entry.layer, key=key)
        return self._files[asked]

    def shapes(self, layer: StoredLayer, crs: Mapping[str, Any] | None) -> Shapes | None:
        """A layer's shapes in the map's CRS; None while they are being brought over, or where that cannot be."""
        shapes = layer.shapes
        if shapes is None or not layer.rows:
            return None
        if not crs or not layer.crs or crs["code"] == layer.crs["code"]:
            return shapes
        source, target = layer.crs["code"], crs["code"]
        asked = (str(layer.info["path"]), target)
        if asked not in self._moved:
            self._moved[asked] = None

            def work() -> Shapes | None:
                try:
                    return brought(shapes, source, target)
                except CrsError:
                    return None

            def take(made: Shapes | None) -> None:
                self._session.waits.end(asked)
                self._moved[asked] = made
                if made is not None:
                    self.ready.emit()

            self._session.waits.begin(asked, f"Bringing {layer.key} to the coordinate system of the map …")
            self._background.run(work, take)
        return self._moved[asked]

    # -- scenes

    def scene(self, layer: StoredLayer, rows: np.ndarray | None, style: Style | None, usual: Symbol, under: list[PaintItem]) -> Scene:
        """The scene about a layer.

        Parameters
        ----------
        rows : those that it is about, drawn in ``usual``; None for all, drawn in the layer's ``style``.
        under : what else the step has to show, below.
        """
        palette = theme.palette
        assert layer.shapes is not None
        labels: list[Any] = []
        blocks: list[Block] = []
        if rows is not None or style is None:
            items: tuple[PaintItem, ...] = (PaintItem(layer.shapes, usual, rows),)
        else:
            legend = self.legend(layer, style)
            items = items_of(layer, layer.shapes, style, legend, usual, palette)
            labels += labels_of(layer, layer.shapes, style, show)
            block = block_of(layer, layer.key, style, legend, usual, palette)
            if legend or self._session.document.map.layers:
                blocks.append(block)
        over, below = self._kept(layer, labels, blocks)
        return Scene(
            items,
            PaintItem(layer.shapes, usual, rows),
            layer.crs,
            "",
            (*below, *under),
            over,
            tuple(labels),
            tuple(blocks),
            self._session.document.map.lines,
        )

    def kept_alone(self, hint: str) -> Scene:
        """The kept layers without one in hand; the hint where there are none."""
        first = next((b.layer for b in self.beside() if b.layer is not None and not b.entry.off and b.layer.crs), None)
        if first is None:
            return Scene(hint=hint)
        labels: list[Any] = []
        blocks: list[Block] = []
        over, below = self._kept(first, labels, blocks)
        lines = self._session.document.map.lines
        return Scene((), None, first.crs, "", below, over, tuple(labels), tuple(blocks), lines)

    def _kept(self, hand: StoredLayer, labels: list[object], blocks: list[Block]) -> tuple[tuple[PaintItem, ...], tuple[PaintItem, ...]]:
        """Items of the kept layers over and under the one in hand; their labels and blocks are added to the lists."""
        palette, usual = theme.palette, symbols()["kept"]
        over: list[PaintItem] = []
        below: list[PaintItem] = []
        before: list[Block] = []
        after: list[Block] = []
        for beside in reversed(self.beside()):
            layer, entry = beside.layer, beside.entry
            if layer is None or entry.off or (layer.home == hand.home and blocks):
                continue
            shapes = self.shapes(layer, hand.crs)
            if shapes is None:
                continue
            style = entry.style or Style() if entry.file else self._session.style_of(layer)
            legend = self.legend(layer, style)
            (over if entry.over else below).extend(items_of(layer, shapes, style, legend, usual, palette))
            labels += labels_of(layer, shapes, style, show)
            block = block_of(layer, beside.title, style, legend, usual, palette)
            (before if entry.over else after).insert(0, block)
        blocks[:] = [*before, *blocks, *after]
        return tuple(over), tuple(below)
