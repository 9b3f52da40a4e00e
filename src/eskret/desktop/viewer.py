"""Map and table about the step in hand, or about a source: they show the same features and choose together."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from eskret.core.words import counted
from eskret.desktop.map.canvas import MapCanvas, Scene, looks
from eskret.desktop.map.card import FeatureCard
from eskret.desktop.map.render import Item
from eskret.desktop.map.viewport import Box
from eskret.desktop.session import Session
from eskret.desktop.table.model import show
from eskret.desktop.table.view import FeatureTable
from eskret.desktop.theme.icons import icon
from eskret.desktop.theme.style import theme
from eskret.workflow.stored import StoredAside, StoredLayer

ENTERING, LEAVING, ASIDE = "entering", "leaving", "aside"
_WORDS = {ENTERING: "Entering", LEAVING: "Leaving", ASIDE: "Set aside"}


@dataclass
class Subject:
    """What can be looked at: layers by view and key, rows set aside, a title."""

    title: str = ""
    layers: dict[str, dict[str, StoredLayer]] = field(default_factory=lambda: {ENTERING: {}, LEAVING: {}})
    asides: dict[str, StoredAside] = field(default_factory=dict)
    counts: dict[str, dict[str, int]] = field(default_factory=dict)
    source: dict[str, Any] | None = None
    hint: str = ""

    def layer_keys(self) -> list[str]:
        return list(dict.fromkeys([*self.layers[ENTERING], *self.layers[LEAVING]]))


class Pane(QWidget):
    """A head and a body."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.head = QWidget()
        self.head.setObjectName("paneHead")
        self.head.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.head.setFixedHeight(34)
        self.row = QHBoxLayout(self.head)
        self.row.setContentsMargins(12, 0, 8, 0)
        self.row.setSpacing(8)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(0)
        self.column.addWidget(self.head)


ICONS = ("fit", "larger")


class QuietButton(QToolButton):
    """A button that stays in the background until it is needed; ``text`` is one of ``ICONS``, or words."""

    def __init__(self, text: str, tip: str, checkable: bool = False) -> None:
        super().__init__()
        self.setObjectName("quiet")
        self.setToolTip(tip)
        self.setCheckable(checkable)
        self._icon = text if text in ICONS else ""
        if self._icon:
            self.setAccessibleName(tip)
            self._dress()
            theme.changed.connect(self._dress)
        else:
            self.setText(text)

    def _dress(self) -> None:
        self.setIcon(icon(self._icon, theme.colour("ink")))


class Viewer(QObject):
    """Holds both panes and keeps them together."""

    load_asked = Signal(str, str, int)
    scene_changed = Signal(object)  # the CRS of what is shown

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.subject = Subject()
        self.view = LEAVING
        self.key = ""
        self.map_pane, self.table_pane = Pane(), Pane()
        self.canvas = MapCanvas()
        self.table = FeatureTable()
        self._map_head()
        self.map_pane.column.addWidget(self.canvas, 1)
        self.table_title = QLabel("Table")
        self.table_title.setObjectName("title")
        self.table_count = QLabel()
        self.table_count.setObjectName("faint")
        self.table_full = QuietButton("larger", "Give the table the whole lower half (F7)", True)
        for widget in (self.table_title, self.table_count):
            self.table_pane.row.addWidget(widget)
        self.table_pane.row.addStretch()
        self.table_pane.row.addWidget(self.table_full)
        self.table_pane.column.addWidget(self.table, 1)
        self.card = FeatureCard(self.canvas)
        self.card.closed.connect(self._card_closed)
        self.canvas.resized.connect(lambda: self.card.place() if self.card.isVisible() else None)
        self.canvas.clicked.connect(self._clicked)
        self.table.rows_chosen.connect(self._rows_chosen)
        session.selected_changed.connect(lambda _: self.show_step())
        session.figures_changed.connect(self._figures)
        session.changed.connect(self._figures)
        theme.changed.connect(self._redraw)
        self._seen: Any = None

    def _map_head(self) -> None:
        self.layer_box = QComboBox()
        self.layer_box.setAccessibleName("Layer shown")
        self.layer_box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.layer_box.setMinimumWidth(96)
        self.layer_box.setMaximumWidth(200)
        self.layer_box.activated.connect(lambda _: self.choose_layer(self.layer_box.currentData()))
        self.switch = QWidget()
        self.switch.setObjectName("viewSwitch")
        row = QHBoxLayout(self.switch)
        row.setContentsMargins(1, 0, 0, 0)
        row.setSpacing(0)
        self._group = QButtonGroup(self)
        self.buttons: dict[str, QPushButton] = {}
        for number, view in enumerate((ENTERING, LEAVING, ASIDE), 1):
            button = QPushButton(_WORDS[view])
            button.setCheckable(True)
            button.setToolTip(f"{_WORDS[view]} (Alt+{number})")
            button.clicked.connect(lambda _=False, v=view: self.choose_view(v))
            self._group.addButton(button)
            self.buttons[view] = button
            row.addWidget(button)
        self.load_button = QPushButton("Load it")
        self.load_button.setObjectName("primary")
        self.load_button.setToolTip("Add a step that loads this layer (Enter in the sources)")
        self.load_button.clicked.connect(self._load)
        self.load_button.hide()
        self.fit_button = QuietButton("fit", "Show everything (0 on the map)")
        self.fit_button.clicked.connect(lambda: self.canvas.fit())
        self.map_full = QuietButton("larger", "Give the map the whole lower half (F6)", True)
        head = self.map_pane.row
        head.addWidget(self.layer_box)
        head.addWidget(self.switch)
        head.addWidget(self.load_button)
        head.addStretch()
        # over the map itself: the head has no room to spare
        over = QWidget(self.canvas)
        over.setObjectName("overMap")
        over.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        corner = QHBoxLayout(over)
        corner.setContentsMargins(2, 2, 2, 2)
        corner.setSpacing(0)
        corner.addWidget(self.fit_button)
        corner.addWidget(self.map_full)
        place = QVBoxLayout(self.canvas)
        place.setContentsMargins(0, 8, 8, 0)
        place.addWidget(over, 0, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)

    # -- what is looked at

    def show_step(self) -> None:
        """Look at the step in hand."""
        self._seen = None
        self._figures()

    def _figures(self) -> None:
        """The step's results may be there now, or be gone."""
        if self.subject.source is not None and self._seen == "source":
            return
        id = self._session.selected
        view = self._session.view(id)
        seen = (id, view and [i["path"] for i in (*view["entering"], *view["leaving"])], self._before(id))
        if seen == self._seen:
            return
        same_step = self._seen is not None and self._seen[0] == id
        self._seen = seen
        self._take(self._subject(id), keep=same_step)

    def _before(self, id: str) -> list[str]:
        return [str(x.info["path"]) for x in self._session.entering_stored(id)] if not self._session.view(id) else []

    def _subject(self, id: str) -> Subject:
        session = self._session
        view = session.view(id)
        subject = Subject(id)
        if view is not None:
            subject.layers[ENTERING] = {i["key"]: StoredLayer(i) for i in view["entering"]}
            subject.layers[LEAVING] = {i["key"]: StoredLayer(i) for i in view["leaving"]}
            subject.asides = {key: StoredAside.open(i) for key, i in view["aside"].items()}
            if not subject.layer_keys():
                subject.hint = "This step left no layers."
        else:
            subject.layers[ENTERING] = {x.key: x for x in session.entering_stored(id)}
            if not subject.layers[ENTERING]:
                subject.hint = "Run the workflow to see this step's features here.\nOr choose a source at the left."
                if not session.document.steps:
                    subject.hint = "Choose a source at the left to look at it."
        return subject

    def show_source(self, info: dict[str, Any], title: str, source: dict[str, Any]) -> None:
        """Look at a layer that no step has loaded yet."""
        layer = StoredLayer(info)
        subject = Subject(title, source=source)
        subject.layers[LEAVING] = {layer.key: layer}
        self._seen = "source"
        self._take(subject, keep=False)

    def _take(self, subject: Subject, keep: bool) -> None:
        self.subject = subject
        keys = subject.layer_keys()
        if self.key not in keys:
            self.key = keys[0] if keys else ""
        if not self._available(self.view):
            self.view = next((v for v in (LEAVING, ENTERING, ASIDE) if self._available(v)), LEAVING)
        self._show(keep)

    def _available(self, view: str) -> bool:
        if view == ASIDE:
            return self.key in self.subject.asides
        return self.key in self.subject.layers[view]

    def choose_view(self, view: str) -> None:
        """Entering, leaving or set aside."""
        if self._available(view):
            self.view = view
        self._show(True)

    def choose_layer(self, key: str) -> None:
        """Another layer of the set."""
        if key in self.subject.layer_keys():
            self.key = key
            if not self._available(self.view):
                self.view = next((v for v in (LEAVING, ENTERING, ASIDE) if self._available(v)), LEAVING)
            self._show(False)

    def current(self) -> tuple[StoredLayer | None, np.ndarray | None]:
        """The layer shown, and the rows of it (None for all)."""
        if self.view == ASIDE and self.key in self.subject.asides:
            return self.subject.layers[ENTERING].get(self.key), self.subject.asides[self.key].rows
        return self.subject.layers.get(self.view, {}).get(self.key), None

    # -- showing it

    def _show(self, keep_view: bool) -> None:
        self._fill(keep_view)
        self.scene_changed.emit(self.canvas.scene.crs)

    def _fill(self, keep_view: bool) -> None:
        self.card.hide()
        self._show_head()
        layer, rows = self.current()
        if layer is None:
            self.canvas.show_scene(Scene(hint=self.subject.hint))
            self.table.model_.show_table(None)
            self.table_count.setText("")
            return
        aside = self.subject.asides.get(self.key)
        reasons = (aside.codes, aside.reasons) if self.view == ASIDE and aside else None
        self.table.model_.show_table(layer.table, rows, reasons)
        shown = layer.rows if rows is None else len(rows)
        text = counted(shown, "row") if rows is None else f"{shown:,} of {counted(layer.rows, 'row')}"
        self.table_count.setText(text)
        self.canvas.show_scene(self._scene(layer, rows), keep_view, self._whole())

    def _whole(self) -> Box | None:
        """What entered and what left together: so that a few features that stayed are seen among the rest."""
        layers = [self.subject.layers[view].get(self.key) for view in (ENTERING, LEAVING)]
        boxes = np.array([x.info["extent"] for x in layers if x is not None and x.info["extent"]])
        if not len(boxes):
            return None
        low, high = boxes[:, :2].min(axis=0), boxes[:, 2:].max(axis=0)
        return float(low[0]), float(low[1]), float(high[0]), float(high[1])

    def _scene(self, layer: StoredLayer, rows: np.ndarray | None) -> Scene:
        if layer.shapes is None:
            return Scene(hint="This layer is a plain table; it draws nothing.")
        if not layer.rows:
            return Scene(hint="Nothing left: no feature came this far.")
        look = looks()
        items = [
            Item(
                layer.shapes,
                look["aside" if self.view == ASIDE else "leaving" if self.view == LEAVING else "plain"],
                rows,
            )
        ]
        context: tuple[Item, ...] = ()
        if self.view == ASIDE:
            beside = self.subject.layers[LEAVING].get(self.key)
            if beside is not None and beside.shapes is not None and beside.rows:
                context = (Item(beside.shapes, look["behind"]),)
        return Scene(tuple(items), layer.crs, "", context)

    def _show_head(self) -> None:
        subject = self.subject
        source = subject.source is not None
        self.layer_box.blockSignals(True)
        self.layer_box.clear()
        for key in subject.layer_keys():
            self.layer_box.addItem(subject.title if source else key, key)
        self.layer_box.setCurrentIndex(max(0, self.layer_box.findData(self.key)))
        self.layer_box.blockSignals(False)
        self.layer_box.setVisible(bool(subject.layer_keys()))
        self.switch.setVisible(bool(subject.layer_keys()) and not source)
        self.load_button.setVisible(source)
        for view, button in self.buttons.items():
            there = self._available(view)
            button.setEnabled(there)
            button.setChecked(view == self.view)
            count = ""
            if there:
                rows = len(subject.asides[self.key].rows) if view == ASIDE else subject.layers[view][self.key].rows
                count = f" {rows:,}"
            button.setText(_WORDS[view] + count)

    def _redraw(self) -> None:
        self._show(True)

    # -- choosing features

    def _clicked(self, row: int) -> None:
        self.canvas.choose(np.array([row], np.int64) if row >= 0 else np.empty(0, np.int64))
        self.table.choose(row)
        self._show_card(row)

    def _show_card(self, row: int) -> None:
        layer, _ = self.current()
        if row < 0 or layer is None:
            self.card.hide()
            return
        values = [(name, layer.table.column(name)[row].as_py()) for name in layer.table.column_names]
        fields = [(name, show(value), value is None or value == "") for name, value in values]
        aside = self.subject.asides.get(self.key)
        if self.view == ASIDE and aside is not None:
            code = aside.codes[np.searchsorted(aside.rows, row)]
            fields.insert(0, ("set aside", aside.reasons[int(code)], False))
        self.card.show_fields(f"Row {row + 1:,}", fields)

    def _card_closed(self) -> None:
        self._clicked(-1)

    def _rows_chosen(self, rows: np.ndarray) -> None:
        self.canvas.choose(rows, show=True)

    def _load(self) -> None:
        source = self.subject.source
        if source is not None:
            self.load_asked.emit(source["path"], source["layer"], source["layers"])
