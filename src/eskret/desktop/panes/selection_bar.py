"""The strip below map and table: what is chosen, and what can be done with it by hand."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QLabel, QMenu, QToolButton, QWidget

from eskret.core.measure.units import AREAS, LENGTHS
from eskret.desktop.map_view.canvas import BOX, DISTANCE, DRAWING, LASSO, MEASURES, PAN, SIZE, SKETCHES

_HINT = "Click features to choose them; Shift adds, Ctrl adds or removes. Or draw a box or a loop around them."
_SKETCH_HINT = {
    "points": "Click where the points are; Enter or a double click ends, Backspace takes the last one back, Esc drops it.",
    "line": "Click along the line; Enter or a double click ends, Backspace takes the last one back, Esc drops it.",
    "area": "Click along the edge; Enter or a double click closes it, Backspace takes the last one back, Esc drops it.",
}
_MEASURE_HINT = {
    DISTANCE: "Click along the way to measure; Enter or a double click ends, Backspace takes the last corner back, Esc stops.",
    SIZE: "Click around the area to measure; Enter or a double click ends, Backspace takes the last corner back, Esc stops.",
}
UNITS = {DISTANCE: tuple(LENGTHS), SIZE: tuple(AREAS)}
_TOOL_HINT = {
    BOX: "Drag a box; Shift adds what it meets, Ctrl removes it. Esc ends.",
    LASSO: "Drag a loop; Shift adds what it meets, Ctrl removes it. Esc ends.",
}


class SelectionBar(QWidget):
    """Signals say what is asked for; the strip itself does nothing."""

    tool_asked = Signal(str)
    all_asked = Signal()
    none_asked = Signal()
    invert_asked = Signal()
    pick_asked = Signal()
    leave_out_asked = Signal()
    keep_asked = Signal()
    isolate_asked = Signal()
    follow_asked = Signal()
    unit_chosen = Signal(str, str)  # distance or size; unit

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._mode: str = PAN
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(32)
        self.buttons: dict[str, QToolButton] = {}
        self.words = QLabel()
        self.words.setObjectName("faint")
        self.words.setMinimumWidth(40)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 1, 8, 1)
        row.setSpacing(2)
        self._row = row
        self._add(BOX, "Box", "Choose what a box meets (B on the map)", lambda: self._tool(BOX), True)
        self._add(LASSO, "Lasso", "Choose what a loop meets (L on the map)", lambda: self._tool(LASSO), True)
        self._add("all", "All", "Choose all (Ctrl+A on map or table)", self.all_asked.emit)
        self._add("none", "None", "Clear the selection (Esc)", self.none_asked.emit)
        self._add("invert", "Invert", "Invert the selection (Ctrl+Shift+I)", self.invert_asked.emit)
        row.addSpacing(6)
        row.addWidget(_line())
        row.addSpacing(8)
        row.addWidget(self.words, 1)
        self._add("pick", "Keep them", "Add a step that keeps exactly these (Ctrl+K)", self.pick_asked.emit)
        self._add("leave_out", "Leave them out", "Add a step that keeps all but these", self.leave_out_asked.emit)
        self._add("keep", "As a condition", "Add a step that keeps them by a condition on their key (Ctrl+Shift+K)", self.keep_asked.emit)
        self._add("isolate", "Isolate", "Put them into a layer of their own and save it (Ctrl+I)", self.isolate_asked.emit)
        self._add("follow", "Follow", "Where they came from, and what became of them (Ctrl+J)", self.follow_asked.emit)
        self.unit = QComboBox()
        self.unit.setAccessibleName("Unit to measure in")
        self.unit.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.unit.activated.connect(lambda _: self.unit_chosen.emit(self._mode, self.unit.currentText()))
        self.unit.hide()
        row.addWidget(self.unit)
        row.addWidget(_line())
        self.measure = self._choice(
            "Measure",
            "Measure a distance or an area on the map (M and Shift+M on the map)",
            zip(MEASURES, ("A distance", "An area"), strict=True),
        )
        self.sketch = self._choice(
            "Sketch",
            "Draw an area, a line or points; they are kept in the workflow as a step",
            zip(SKETCHES, ("Points", "A line", "An area"), strict=True),
        )

    def _choice(self, text: str, tip: str, tools: Iterable[tuple[str, str]]) -> QToolButton:
        """A button that opens into tools of one kind."""
        button = QToolButton()
        button.setObjectName("quiet")
        button.setText(text)
        button.setToolTip(tip)
        button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        menu = QMenu(button)
        for tool, words in tools:
            menu.addAction(words, partial(self.tool_asked.emit, tool))
        button.setMenu(menu)
        self._row.addWidget(button)
        return button

    def _add(self, name: str, text: str, tip: str, do: Callable[[], None], checkable: bool = False) -> None:
        button = QToolButton()
        button.setObjectName("quiet")
        button.setText(text)
        button.setToolTip(tip)
        button.setCheckable(checkable)
        button.clicked.connect(lambda _=False: do())
        self.buttons[name] = button
        self._row.addWidget(button)

    def _tool(self, name: str) -> None:
        self.tool_asked.emit(name if self.buttons[name].isChecked() else PAN)

    def show_state(self, mode: str, drawn: bool, layer: str, chosen: int, shown: int) -> None:
        """Say how things stand.

        Parameters
        ----------
        mode : the tool in hand.
        drawn : whether there is a map to draw on.
        layer, chosen, shown : what is looked at, how much of it is chosen, of how many rows.
        """
        self.setVisible(shown > 0 or drawn)  # with nothing to choose from there is nothing to say
        for name in (BOX, LASSO):
            self.buttons[name].setEnabled(drawn)
            self.buttons[name].setChecked(mode == name)
        self.sketch.setEnabled(drawn)
        self.measure.setEnabled(drawn)
        if mode != self._mode and mode in MEASURES:
            self.unit.clear()
            self.unit.addItems(UNITS[mode])
        self._mode = mode
        self.unit.setVisible(mode in MEASURES)
        for name in ("all", "invert"):
            self.buttons[name].setEnabled(shown > 0)
        self.buttons["none"].setEnabled(chosen > 0)
        for name in ("pick", "leave_out", "keep", "isolate", "follow"):
            self.buttons[name].setVisible(chosen > 0 and mode not in DRAWING)
        if mode in SKETCHES:
            self.words.setText(_SKETCH_HINT[mode])
        elif mode in MEASURES:
            self.words.setText(_MEASURE_HINT[mode])
        elif chosen:
            self.words.setText(f"{chosen:,} of {shown:,} chosen in {layer}")
        else:
            self.words.setText(_TOOL_HINT.get(mode, _HINT) if shown else "")
        self.words.setToolTip(self.words.text())

    def show_measure(self, words: str, unit: str) -> None:
        """Say what the ruler says, in which unit."""
        self.unit.setCurrentText(unit)
        if words:
            self.words.setText(words)
            self.words.setToolTip(words)


def _line() -> QFrame:
    line = QFrame()
    line.setFrameShape(QFrame.Shape.VLine)
    line.setFixedHeight(18)
    return line
