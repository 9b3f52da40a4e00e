"""What a push changes, or what a dataset holds: map and table side by side, and buttons for each kind of change."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QSplitter, QVBoxLayout, QWidget

from eskret.core.style.style import Style
from eskret.desktop.map_view.canvas import MapCanvas, symbols
from eskret.desktop.map_view.scene import Scene
from eskret.desktop.map_view.style_items import look_of
from eskret.desktop.panes.scene_builder import SceneBuilder
from eskret.desktop.state.session import Session
from eskret.desktop.table.table_view import FeatureTable
from eskret.desktop.theme.style import theme
from eskret.desktop.views.published_list import ADDED, CHANGED, CONFLICT, REMOVED
from eskret.operations.support import differing
from eskret.workflow.cache.stored import StoredLayer

ALL = "all"
_WORDS = {ALL: "All", ADDED: "Added", CHANGED: "Changed", REMOVED: "Removed", CONFLICT: "By others"}
_BY_OTHERS = "somebody else changed it"


class ChangesPane(QWidget):
    """Shows one stored layer. ``switch`` holds the buttons that choose a kind of change; it is put where there is room."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._stage = SceneBuilder(session, self)
        self._stage.ready.connect(self._draw)
        self.layer: StoredLayer | None = None
        self.kind = ALL
        self._state_at = -1  # the column that says how a change stands; -1 for a layer that is no push
        self.switch = QWidget()
        self.switch.setObjectName("viewSwitch")
        row = QHBoxLayout(self.switch)
        row.setContentsMargins(1, 0, 0, 0)
        row.setSpacing(0)
        group = QButtonGroup(self)
        self.buttons: dict[str, QPushButton] = {}
        for kind in _WORDS:
            button = QPushButton()
            button.setCheckable(True)
            button.clicked.connect(lambda _=False, k=kind: self.choose(k))
            group.addButton(button)
            self.buttons[kind] = button
            row.addWidget(button)
        self.canvas = MapCanvas()
        self.table = FeatureTable()
        self.table.setEditTriggers(FeatureTable.EditTrigger.NoEditTriggers)
        self.table.rows_chosen.connect(lambda rows: self.canvas.choose(rows, show=True))
        self.canvas.clicked.connect(self._clicked)
        panes = QSplitter(Qt.Orientation.Horizontal)
        panes.setHandleWidth(1)
        panes.addWidget(self.canvas)
        panes.addWidget(self.table)
        panes.setSizes([470, 520])
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(panes)
        theme.changed.connect(self._draw)

    def show_layer(self, layer: StoredLayer | None, hint: str = "") -> None:
        """Show a layer, or nothing and why."""
        self.layer, self._state_at, self.kind = layer, -1, ALL
        self._fill(False, hint)

    def show_push(self, layer: StoredLayer, keys: int, again: bool) -> None:
        """Show the changes of a push, which has so many key fields; ``again`` keeps what is chosen and where one looks."""
        self.layer, self._state_at = layer, 2 + keys
        if not again or not len(self._of(self.kind)):
            self.kind = ALL
        self._fill(again)

    def show_difference(self, layer: StoredLayer) -> None:
        """Show a difference: added, changed and removed features, by the word in its first field."""
        self.layer, self._state_at, self.kind = layer, 0, ALL
        self._fill(False)

    def choose(self, kind: str) -> None:
        """Show changes of one kind, or all."""
        self.kind = kind
        self._fill(True)

    def _of(self, kind: str) -> np.ndarray:
        """The rows of a kind (int64)."""
        assert self.layer is not None
        if kind == ALL:
            return np.arange(self.layer.rows)
        column = self.layer.table.column(self._state_at if kind == CONFLICT else 0).to_pylist()
        wanted = _BY_OTHERS if kind == CONFLICT else kind
        return np.flatnonzero(np.array([v == wanted for v in column], bool)).astype(np.int64)

    def _rows(self) -> np.ndarray | None:
        return None if self.layer is None or self.kind == ALL else self._of(self.kind)

    def _fill(self, keep_view: bool, hint: str = "") -> None:
        self._fill_buttons()
        self.table.model_.show_table(self.layer.table if self.layer is not None else None, self._rows())
        if self.layer is None:
            self.canvas.show_scene(Scene(hint=hint or "Nothing is shown yet."))
        else:
            self.canvas.show_scene(self._scene(), keep_view)

    def _fill_buttons(self) -> None:
        shown = self.layer is not None and self._state_at >= 0
        self.switch.setVisible(shown)
        for kind, button in self.buttons.items() if shown else ():
            count = len(self._of(kind))
            button.setText(f"{_WORDS[kind]} {count:,}")
            button.setVisible(kind != CONFLICT or count > 0)
            button.setEnabled(count > 0 or kind == ALL)
            button.setChecked(kind == self.kind)

    def _scene(self) -> Scene:
        layer, push = self.layer, self._state_at >= 0
        if layer is None:
            return Scene()
        if layer.shapes is None or not layer.rows:
            return self._stage.kept_alone("Nothing differs." if push else "It is empty.")
        style, rows, usual = differing.difference_style() if push else Style(), self._rows(), symbols()["leaving"]
        if rows is None:
            return self._stage.scene(layer, None, style, usual, [])
        colour = style.colours.get(self.kind, theme.palette.look)
        return self._stage.scene(layer, rows, None, look_of(colour, style, "area", theme.palette), [])

    def _draw(self) -> None:
        if self.layer is not None:
            self.canvas.restyle(self._scene())

    def _clicked(self, row: int, _does: str) -> None:
        rows = np.array([row] if row >= 0 else [], np.int64)
        self.canvas.choose(rows)
        self.table.choose(rows)

    def close_down(self) -> None:
        """Let no work outlive the window."""
        theme.changed.disconnect(self._draw)
        self._stage.close_down()
        self.canvas.close_down()
        self.table.model_.close_down()
