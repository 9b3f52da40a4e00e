"""Measuring on the map by hand: what was drawn, in the unit chosen, in the plane and along the ellipsoid."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject

from eskret.core.measure.ruler import Ruler
from eskret.core.measure.units import AREAS, LENGTHS
from eskret.core.words import format_quantity
from eskret.desktop.map_view.canvas import DISTANCE, MEASURES, SIZE, MapCanvas
from eskret.desktop.panes.selection_bar import SelectionBar
from eskret.desktop.state.session import Session

_USUAL = {DISTANCE: "m", SIZE: "ha"}


class HandRuler(QObject):
    """Keeps canvas and strip together while something is measured; remembers the units."""

    def __init__(self, canvas: MapCanvas, bar: SelectionBar, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._canvas, self._bar, self._session = canvas, bar, session
        self._ruler: tuple[str, Ruler] | None = None
        self._last: tuple[str, np.ndarray, bool] | None = None
        canvas.measured.connect(self._measured)
        canvas.mode_changed.connect(self._mode)
        bar.unit_chosen.connect(self._unit_chosen)

    def unit(self, mode: str) -> str:
        """The unit that was used last."""
        memory = self._session.memory
        known = LENGTHS if mode == DISTANCE else AREAS
        unit = str(memory.value(f"unit of {mode}", _USUAL[mode])) if memory is not None else _USUAL[mode]
        return unit if unit in known else _USUAL[mode]

    def _mode(self, mode: str) -> None:
        self._last = None
        if mode in MEASURES:
            self._bar.show_measure("", self.unit(mode))

    def _unit_chosen(self, mode: str, unit: str) -> None:
        if self._session.memory is not None:
            self._session.memory.setValue(f"unit of {mode}", unit)
        if self._last is not None:
            self._measured(*self._last)
        self._canvas.setFocus()

    def _measured(self, mode: str, xy: np.ndarray, done: bool) -> None:
        crs = self._canvas.scene.crs
        if crs is None:
            return
        self._last = (mode, xy, done)
        if self._ruler is None or self._ruler[0] != crs["code"]:
            self._ruler = (crs["code"], Ruler(crs["code"]))
        ruler, unit = self._ruler[1], self.unit(mode)
        plane, along = ruler.length(xy) if mode == DISTANCE else ruler.area(xy)
        size = (LENGTHS if mode == DISTANCE else AREAS)[unit]
        told = [
            f"{format_quantity(value / size, unit)} {how}"
            for value, how in ((plane, "in the plane"), (along, "along the ellipsoid"))
            if value is not None
        ]
        first = plane if plane is not None else along
        self._canvas.figure = format_quantity(first / size, unit) if first is not None else ""
        self._canvas.update()
        self._bar.show_measure(f"{' · '.join(told)}{'' if done else ' so far'}", unit)
