"""What is on the map, all told: features with their looks, labels, the legend, the lines behind."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from eskret.desktop.map_view.labels import Labels
from eskret.desktop.map_view.render import PaintItem, Symbol
from eskret.desktop.map_view.viewport import Box
from eskret.workflow.model.map_spec import GRID


@dataclass(frozen=True)
class Key:
    """One line of the legend: how it is drawn, what it is, how many features."""

    look: Symbol
    text: str
    count: int | None = None


@dataclass(frozen=True)
class Block:
    """What the legend says of one layer. ``kind`` is what the layer draws."""

    title: str
    kind: str
    keys: tuple[Key, ...]
    about: str = ""


@dataclass(frozen=True)
class Scene:
    """What is on the map. ``under``, ``items`` and ``over`` are drawn in that order; ``pick`` can be chosen from."""

    items: tuple[PaintItem, ...] = ()
    pick: PaintItem | None = None
    crs: Mapping[str, Any] | None = None
    hint: str = ""
    under: tuple[PaintItem, ...] = field(default_factory=tuple)
    over: tuple[PaintItem, ...] = field(default_factory=tuple)
    labels: tuple[Labels, ...] = field(default_factory=tuple)
    legend: tuple[Block, ...] = field(default_factory=tuple)
    lines: str = GRID

    @property
    def drawn(self) -> tuple[PaintItem, ...]:
        """All features from the lowest up."""
        return (*self.under, *self.items, *self.over)

    def extent(self) -> Box | None:
        """The box of what is in hand; of all, where nothing is."""
        items = self.items or (*self.under, *self.over)
        boxes = [i.shapes.boxes if i.rows is None else i.shapes.boxes[i.rows] for i in items if len(i.shapes)]
        boxes = [b for b in boxes if len(b) and not np.isnan(b).all()]
        if not boxes:
            return None
        low = np.min([np.nanmin(b[:, :2], axis=0) for b in boxes], axis=0)
        high = np.max([np.nanmax(b[:, 2:], axis=0) for b in boxes], axis=0)
        return float(low[0]), float(low[1]), float(high[0]), float(high[1])
