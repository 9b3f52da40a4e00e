"""The way of the features that are followed: one station after another, back to their records and on to all that came of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QWidget

from eskret.core.words import pluralise
from eskret.desktop.panes.pane import QuietButton


class WayBar(QWidget):
    """Shown while features are followed; a station that is chosen is gone to."""

    station_chosen = Signal(object)  # a station as the job tells it

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(34)
        self.stations: list[Mapping[str, Any]] = []
        label = QLabel("Way")
        label.setObjectName("faint")
        self.box = QComboBox()
        self.box.setAccessibleName("Stations of the features that are followed")
        self.box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.box.activated.connect(self._go)
        self.before = QuietButton("Back", "To the station before this one (Alt+PgUp)")
        self.before.clicked.connect(lambda: self.walk(-1))
        self.next = QuietButton("On", "To the next station (Alt+PgDown)")
        self.next.clicked.connect(lambda: self.walk(1))
        close = QuietButton("Close", "Follow them no further")
        close.clicked.connect(self.end)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 3, 8, 3)
        for widget in (label, self.box, self.before, self.next, close):
            row.addWidget(widget, 1 if widget is self.box else 0)
        self.hide()

    def show_way(self, stations: Sequence[Mapping[str, Any]]) -> None:
        """Show a way; where one is on it is the station that was asked for."""
        self.stations = list(stations)
        self.box.clear()
        for station in self.stations:
            self.box.addItem(words(station))
        here = next((n for n, s in enumerate(self.stations) if s["here"]), 0)
        self.box.setCurrentIndex(here)
        self.show()

    def end(self) -> None:
        """Show none any more."""
        self.stations = []
        self.hide()

    def walk(self, by: int) -> None:
        """Go to the next station (1) or to the one before (-1); at the ends one stays."""
        at = self.box.currentIndex() + by
        if self.stations and 0 <= at < len(self.stations):
            self.box.setCurrentIndex(at)
            self._go(at)

    def _go(self, at: int) -> None:
        self.station_chosen.emit(self.stations[at])


def words(station: Mapping[str, Any]) -> str:
    """A station in a line: the step, the rows, what changed."""
    rows = f"row {station['rows'][0] + 1:,}" if station["count"] == 1 else pluralise(station["count"], "row")
    if station["count"] > len(station["rows"]):
        rows += f" (the first {len(station['rows']):,} are chosen)"
    where = f"{station['number']}  {station['words']}: {rows} of {station['layer']}"
    if station["reason"]:
        return f"{where}, set aside: {station['reason']}"
    changed = f", changed: {', '.join(station['changed'][:4])}" if station["changed"] else ""
    return where + changed + ("   (asked for)" if station["here"] else "")
