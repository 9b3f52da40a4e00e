"""The line at the bottom: where the pointer is, in the layer's CRS and in degrees; scale; the last run."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QWidget

from eskret.core.words import duration
from eskret.desktop.map_view.viewport import Viewport

_DOTS_METRE = 96 / 0.0254


class StatusLine(QWidget):
    """Setters in."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("statusLine")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(25)
        self.place, self.degrees, self.crs, self.scale, self.last = (QLabel() for _ in range(5))
        self.place.setMinimumWidth(150)
        self.degrees.setMinimumWidth(150)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 0, 12, 0)
        row.setSpacing(20)
        for label in (self.crs, self.scale, self.place, self.degrees):
            row.addWidget(label)
        row.addStretch(1)
        row.addWidget(self.last, 0, Qt.AlignmentFlag.AlignRight)
        self._crs: Mapping[str, Any] | None = None
        self._to_degrees: Any = None
        self._run = self._wait = ""

    def show_crs(self, crs: Mapping[str, Any] | None) -> None:
        """The CRS of what is on the map."""
        if crs == self._crs:
            return
        self._crs = crs
        self._to_degrees = None
        self.crs.setText(f"{crs['name']} · {crs['unit']}" if crs else "")
        self.crs.setToolTip(f"{crs['code'][:60]}  {crs['area']}" if crs else "")
        self.forget_place()

    def show_place(self, x: float, y: float) -> None:
        """The ground under the pointer."""
        if self._crs is None:
            return
        if self._crs["geographic"]:
            self.place.setText(f"{x:.5f}  {y:.5f}")
        else:
            self.place.setText(f"{x:,.0f} E  {y:,.0f} N".replace(",", "\u202f"))
        if self._to_degrees is None:
            from pyproj import Transformer

            self._to_degrees = Transformer.from_crs(self._crs["code"], "EPSG:4326", always_xy=True)
        lon, lat = self._to_degrees.transform(x, y)
        if abs(lat) <= 90:
            self.degrees.setText(f"{abs(lat):.4f}° {'N' if lat >= 0 else 'S'}  {abs(lon):.4f}° {'E' if lon >= 0 else 'W'}")
        else:
            self.degrees.setText("")

    def forget_place(self) -> None:
        """The pointer left the map."""
        self.place.setText("")
        self.degrees.setText("")

    def show_view(self, view: Viewport) -> None:
        """The scale, for a screen of 96 dots an inch; none in degrees."""
        if self._crs is None or self._crs["geographic"] or not self._crs["unit_metres"]:
            self.scale.setText("")
            return
        number = _DOTS_METRE * self._crs["unit_metres"] / view.scale
        digits = 10 ** max(0, len(str(int(number))) - 2)
        self.scale.setText(f"1 : {round(number / digits) * digits:,.0f}".replace(",", "\u202f"))

    def show_wait(self, text: str) -> None:
        """What is waited for, in place of the last run; nothing for no text."""
        self._wait = text
        self.last.setText(text or self._run)

    def show_run(self, run: Mapping[str, Any], summary: str) -> None:
        """The last run."""
        if not run:
            self._run = ""
            self.last.setText(self._wait)
            return
        words = {"stopped": "stopped", "failed": "failed"}.get(run["state"], summary)
        self._run = f"Last run: {duration(run['seconds'])} · {words}"
        self.last.setText(self._wait or self._run)
