"""Map and table about the step in hand, or about a source: they show the same features and choose together."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QComboBox, QHBoxLayout, QLabel, QPushButton, QSizePolicy, QStackedWidget, QVBoxLayout, QWidget

from eskret.core.accounts.account import Relation
from eskret.core.style.style import Style
from eskret.core.tables.keys import rows_of
from eskret.core.words import pluralise
from eskret.desktop.map_view.canvas import LESS, MORE, OTHER, MapCanvas, symbols
from eskret.desktop.map_view.card import FeatureCard
from eskret.desktop.map_view.render import PaintItem, Symbol
from eskret.desktop.map_view.scene import Scene
from eskret.desktop.map_view.select_by_shape import rows_in
from eskret.desktop.map_view.viewport import Box
from eskret.desktop.panes.aside_bar import AsideBar
from eskret.desktop.panes.edit_actions import ViewContext
from eskret.desktop.panes.measuring_bar import HandRuler
from eskret.desktop.panes.pane import Pane, QuietButton
from eskret.desktop.panes.scene_builder import SceneBuilder
from eskret.desktop.panes.selection_bar import SelectionBar
from eskret.desktop.panes.way_bar import WayBar
from eskret.desktop.state.background import Background
from eskret.desktop.state.session import Session
from eskret.desktop.table.field_list import FieldsView
from eskret.desktop.table.layer_model import show
from eskret.desktop.table.table_view import FeatureTable
from eskret.desktop.theme.style import theme
from eskret.errors import EskretError
from eskret.operations.registry import operation_by_id
from eskret.workflow.cache.stored import StoredAside, StoredLayer

MOST_FOLLOWED = 1_000
"""Features that are followed at a time from the window, at most: the first of those chosen."""
MOST_ELSEWHERE = 40
"""Layers whose reasons are offered beside those of the layer in hand."""
ENTERING, LEAVING, ASIDE, ALTERED = "entering", "leaving", "aside", "altered"
_WORDS = {ENTERING: "Entering", LEAVING: "Leaving", ASIDE: "Set aside", ALTERED: "Altered"}


@dataclass
class Subject:
    """What can be looked at: layers by view and key, rows set aside or altered, a title."""

    title: str = ""
    layers: dict[str, dict[str, StoredLayer]] = field(default_factory=lambda: {ENTERING: {}, LEAVING: {}})
    rows: dict[str, dict[str, StoredAside]] = field(default_factory=lambda: {ASIDE: {}, ALTERED: {}})
    counts: dict[str, dict[str, int]] = field(default_factory=dict)
    source: dict[str, Any] | None = None
    hint: str = ""

    def layer_keys(self) -> list[str]:
        return list(dict.fromkeys([*self.layers[ENTERING], *self.layers[LEAVING]]))


class Viewer(QObject):
    """Holds both panes and keeps them together."""

    load_asked = Signal(str, str, int)
    scene_changed = Signal(object)  # the CRS of what is shown
    shown = Signal()  # another layer, or another view of it
    styled = Signal()  # it is drawn otherwise

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
        self.fields_button = QuietButton("Fields", "What the layer is and what each field holds (F4)", True)
        self.fields_button.clicked.connect(self.toggle_fields)
        for widget in (self.table_title, self.table_count):
            self.table_pane.row.addWidget(widget)
        self.table_pane.row.addStretch()
        self.table_pane.row.addWidget(self.fields_button)
        self.table_pane.row.addWidget(self.table_full)
        self.fields = FieldsView()
        self.table_stack = QStackedWidget()
        self.table_stack.addWidget(self.table)
        self.table_stack.addWidget(self.fields)
        self.table_pane.column.addWidget(self.table_stack, 1)
        self.handbar = SelectionBar()
        self.waybar = WayBar()
        self.waybar.station_chosen.connect(self._go_to_station)
        session.changed.connect(self.waybar.end)  # of another workflow the way may be another
        self.asidebar = AsideBar()
        self.asidebar.reason_chosen.connect(self.choose_reason)
        self.asidebar.elsewhere_chosen.connect(self.show_elsewhere)
        self.asidebar.walk_asked.connect(self.walk)
        self.reason = ""  # why rows were set aside or altered, where only those are shown
        self.chosen = np.empty(0, np.int64)
        self._background = Background(self)
        self.card = FeatureCard(self.canvas)
        self.card.closed.connect(self.choose_none)
        self.card.corners_shown.connect(self.canvas.show_vertices)
        self.canvas.resized.connect(lambda: self.card.place() if self.card.isVisible() else None)
        self.canvas.clicked.connect(self._clicked)
        self.canvas.caught.connect(self._caught)
        self.canvas.all_asked.connect(self.choose_all)
        self.canvas.mode_changed.connect(lambda _: self.show_hand())
        self.table.rows_chosen.connect(lambda rows: self.choose_rows(rows, told_by_table=True))
        self.handbar.tool_asked.connect(self.canvas.use)
        self.handbar.all_asked.connect(self.choose_all)
        self.handbar.none_asked.connect(self.choose_none)
        self.handbar.invert_asked.connect(self.invert)
        session.selected_changed.connect(lambda _: self.show_step())
        session.figures_changed.connect(self._figures)
        session.changed.connect(self._figures)
        theme.changed.connect(self.restyle)
        self._seen: Any = None
        self.ruler = HandRuler(self.canvas, self.handbar, session, self)
        self.stage = SceneBuilder(session, self)
        self.stage.ready.connect(self.restyle)
        session.run_changed.connect(self.stage.forget)
        session.changed.connect(self._styles)
        self._said: object = None
        self._closed = False

    def _map_head(self) -> None:
        self.layer_box = QComboBox()
        self.layer_box.setAccessibleName("Layer shown")
        self.layer_box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.layer_box.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.layer_box.setMinimumWidth(64)
        self.layer_box.setMaximumWidth(200)
        self.layer_box.activated.connect(lambda _: self.choose_layer(self.layer_box.currentData()))
        self.switch = QWidget()
        self.switch.setObjectName("viewSwitch")
        row = QHBoxLayout(self.switch)
        row.setContentsMargins(1, 0, 0, 0)
        row.setSpacing(0)
        self._group = QButtonGroup(self)
        self.buttons: dict[str, QPushButton] = {}
        for number, view in enumerate((ENTERING, LEAVING, ASIDE, ALTERED), 1):
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
        self.said_button = QuietButton("colours", "What is on the map and how it is drawn (F5)", True)
        self.map_full = QuietButton("larger", "Give the map the whole lower half (F6)", True)
        head = self.map_pane.row
        head.setContentsMargins(8, 0, 6, 0)
        head.setSpacing(6)
        head.addWidget(self.layer_box, 1)  # it gives way to the buttons beside it
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
        corner.addWidget(self.said_button)
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
        others = [str(x.info["path"]) for x in self._session.others_stored(id)]
        step = self._session.step()
        changes = str(step.settings.get("changes")) if step is not None and step.use == "correct" else ""
        seen = (id, view and [i["path"] for i in (*view["entering"], *view["leaving"])], self._before(id), others, changes)
        if seen == self._seen:
            return
        same_step = self._seen is not None and self._seen[0] == id
        self._seen = seen
        subject = self._subject(id)
        if same_step and subject.layers[LEAVING] and not self.subject.layers[LEAVING]:
            self.view = LEAVING  # it has just been run: what it made is what one wants to see
        self._take(subject, keep=same_step)

    def _before(self, id: str) -> list[str]:
        session = self._session
        if session.view(id):
            return []
        return [str(i["path"]) for i in (*(x.info for x in session.entering_stored(id)), *session.leaving(id))]

    def _subject(self, id: str) -> Subject:
        session = self._session
        view = session.view(id)
        subject = Subject(id)
        if view is not None:
            subject.layers[ENTERING] = {i["key"]: StoredLayer(i) for i in view["entering"]}
            subject.layers[LEAVING] = {i["key"]: StoredLayer(i) for i in view["leaving"]}
            for name in (ASIDE, ALTERED):
                subject.rows[name] = {key: StoredAside.open(i) for key, i in view.get(name, {}).items()}
            # what is left over of a layer that a setting names is looked at like what enters
            for info in view.get("others", ()):
                over = view.get("leftovers", {}).get(info["key"])
                if over is not None and info["key"] not in subject.layers[ENTERING]:
                    subject.layers[ENTERING][info["key"]] = StoredLayer(info)
                    subject.rows[ASIDE][info["key"]] = StoredAside.open(over)
            if not subject.layer_keys():
                subject.hint = "This step left no layers."
        else:
            subject.layers[ENTERING] = {x.key: x for x in session.entering_stored(id)}
            subject.layers[LEAVING] = {str(i["key"]): StoredLayer(i) for i in session.leaving(id)}
            if not subject.layer_keys():
                subject.hint = "Run the workflow to see this step's features here.\nOr choose a source at the left."
                if not session.document.steps:
                    subject.hint = "Choose a source at the left to look at it."
        return subject

    def show_source(self, info: dict[str, object], title: str, source: dict[str, object]) -> None:
        """Look at a layer that no step has loaded yet."""
        layer = StoredLayer(info)
        subject = Subject(title, source=source)
        subject.layers[LEAVING] = {layer.key: layer}
        self._seen = "source"
        self._take(subject, keep=False)

    def _take(self, subject: Subject, keep: bool) -> None:
        self.subject = subject
        if not keep:
            self.reason = ""
        keys = subject.layer_keys()
        made = subject.layers[LEAVING]
        if self.key not in keys or (made and self.key not in made and not keep):
            # what a step made comes first: of a tally its table, not the first of the layers counted
            self.key = next(iter(made), keys[0] if keys else "")
        if not self._available(self.view):
            self.view = next((v for v in (LEAVING, ENTERING, ASIDE, ALTERED) if self._available(v)), LEAVING)
        self._show(keep)

    def _available(self, view: str) -> bool:
        if view in self.subject.rows:
            return self.key in self.subject.rows[view]
        return self.key in self.subject.layers[view]

    def choose_view(self, view: str) -> None:
        """Entering, leaving, set aside or altered."""
        if self._available(view):
            self.view = view
        self._show(True)

    def show_reason(self, reason: str) -> None:
        """Show the features that the step in hand set aside or altered for a reason: of the layer shown, else of the first.

        What was set aside is chosen; of what was altered the first is gone to.
        """
        if self.subject.source is not None:
            self.show_step()
        for view in (ASIDE, ALTERED):
            some = self.subject.rows[view]
            key = next((k for k in (self.key, *some) if k in some and some[k].of(reason).size), None)
            if key is not None:
                self.key, self.view, self.reason = key, view, reason
                self._show(True)
                self.choose_all() if view == ASIDE else self.walk(1)
                return

    def follow(self) -> None:
        """Follow the features that are chosen: back to their records, and on to all that came of them."""
        layer, _ = self.current()
        line = layer.info.get("line", ()) if layer is not None else ()
        if layer is None or not len(self.chosen) or not line or self.subject.source is not None:
            self._session.told.emit("look", "Choose a feature of a step first, to follow it.", "")
            return
        step, key = (str(part) for part in line[0])
        rows, chosen = self.chosen[:MOST_FOLLOWED].tolist(), len(self.chosen)

        def take(event: dict[str, Any]) -> None:
            if event["event"] == "done":
                self.waybar.show_way(event["stations"])
                first = f"The first {len(rows):,} of the {chosen:,} features chosen are followed. " if chosen > len(rows) else ""
                if first or event["remark"]:
                    self._session.told.emit("look", f"{first}{event['remark']}".strip(), "")
            else:
                self._session.told.emit("bad", event["text"], "")

        says = f"Following {pluralise(len(rows), 'feature')} of {key} …"
        self._session.ask("follow", take, self, says, step=step, layer=key, rows=rows, **self._session.request())

    def _go_to_station(self, station: dict[str, Any]) -> None:
        self._session.select(station["by"] or station["step"])
        self.show_step()
        self.view, self.reason = (ASIDE, station["reason"]) if station["reason"] else (LEAVING, "")
        if station["layer"] in self.subject.layer_keys():
            self.key = station["layer"]
        self._show(False)
        self.choose_rows(np.array(station["rows"], np.int64))
        if len(station["rows"]) == 1:
            self.canvas.go_to(station["rows"][0])

    def show_aside(self) -> None:
        """What was set aside: of the layer shown, else of the first that has some."""
        asides = self.subject.rows[ASIDE]
        if self.key not in asides and asides:
            self.key = next(iter(asides))
            self.view = ASIDE
            self._show(False)
        else:
            self.choose_view(ASIDE)

    def choose_layer(self, key: str) -> None:
        """Another layer of the set."""
        if key in self.subject.layer_keys():
            self.key = key
            if not self._available(self.view):
                self.view = next((v for v in (LEAVING, ENTERING, ASIDE, ALTERED) if self._available(v)), LEAVING)
            self._show(False)

    def current(self) -> tuple[StoredLayer | None, np.ndarray | None]:
        """The layer shown, and the rows of it (None for all)."""
        some = self.some()
        if some is not None:
            return self.subject.layers[ENTERING].get(self.key), some.rows
        return self.subject.layers.get(self.view, {}).get(self.key), None

    def some(self) -> StoredAside | None:
        """The rows that the view is about, where it is about some only; those of one reason, where that was chosen."""
        some = self.subject.rows.get(self.view, {}).get(self.key)
        if some is None or not self.reason or self.reason not in some.reasons:
            return some
        return some.only(self.reason)

    def choose_reason(self, reason: str) -> None:
        """Show only what was set aside or altered for a reason; all of it for none."""
        self.reason = reason
        self._show(True)

    def show_elsewhere(self, view: str, key: str, reason: str) -> None:
        """What was set aside or altered of another layer of the step, for a reason."""
        self.view, self.key, self.reason = view, key, reason
        self._show(False)

    def _can_come_back(self) -> bool:
        """Whether what the step in hand set aside can be put with what it left: that has the same fields, and is one layer."""
        step, view = self._session.step(), self._session.view(self._session.selected)
        if step is None or view is None or self.subject.source is not None or len(view["leaving"]) != 1:
            return False
        try:
            return operation_by_id(step.use).relation is Relation.KEPT and self.key in self.subject.layers[LEAVING]
        except EskretError:
            return False

    # -- showing it

    def _show(self, keep_view: bool) -> None:
        self._fill(keep_view)
        self.show_hand()
        self.scene_changed.emit(self.canvas.scene.crs)
        self.shown.emit()

    def _fill(self, keep_view: bool) -> None:
        self.card.hide()
        self._show_head()
        whole = self.subject.rows.get(self.view, {}).get(self.key)
        here = (self.view, self.key)
        elsewhere = [(v, k, some) for v in (ASIDE, ALTERED) for k, some in self.subject.rows[v].items() if (v, k) != here]
        self.asidebar.show_reasons(whole, self.reason, self.view == ASIDE, self._can_come_back(), elsewhere[:MOST_ELSEWHERE])
        self.chosen = np.empty(0, np.int64)
        layer, rows = self.current()
        if layer is None:
            self.canvas.show_scene(self.stage.kept_alone(self.subject.hint), keep_view)
            self.table.model_.show_table(None)
            self.table_count.setText("")
            return
        self.table.model_.show_table(layer.table, rows, self.some())
        shown = layer.rows if rows is None else len(rows)
        text = pluralise(shown, "row") if rows is None else f"{shown:,} of {pluralise(layer.rows, 'row')}"
        self.table_count.setText(text)
        self._overlay()
        self._fill_fields()
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
            return self.stage.kept_alone("This layer is a plain table; it draws nothing.")
        if not layer.rows:
            nothing = "nothing was found" if self._reports() and self.view == LEAVING else "no feature came this far"
            return self.stage.kept_alone(f"Nothing left: {nothing}.")
        look = symbols()
        usual = look[{ASIDE: "aside", ALTERED: "altered", LEAVING: "leaving"}.get(self.view, "plain")]
        under: list[PaintItem] = []
        for other in [] if self.subject.source is not None else self._session.others_stored(self._session.selected):
            shapes = self.stage.shapes(other, layer.crs) if layer.crs and other.crs else None
            if shapes is not None:
                under.append(PaintItem(shapes, look["other"]))
        if self.view in (ASIDE, ALTERED):
            under += self._also(LEAVING, look["behind"])
        elif self.view == LEAVING and self._reports():
            under += self._also(ENTERING, look["plain"])
        return self.stage.scene(layer, rows, self.style() if rows is None else None, usual, under)

    def _also(self, view: str, look: Symbol) -> list[PaintItem]:
        """The layer in hand as it is in another view."""
        layer = self.subject.layers[view].get(self.key)
        return [PaintItem(layer.shapes, look)] if layer is not None and layer.shapes is not None and layer.rows else []

    def style(self) -> Style:
        """How the layer in hand is drawn."""
        layer, _ = self.current()
        source = self.subject.source
        if source is not None:
            return self._session.source_styles.get((source["path"], source["layer"]), Style())
        return self._session.style_of(layer) if layer is not None else Style()

    def restyle(self) -> None:
        """Draw what is on the map as it is now said to be; what is chosen stays chosen."""
        if self._closed:
            return
        layer, rows = self.current()
        if layer is None:
            self.canvas.restyle(self.stage.kept_alone(self.subject.hint))
        else:
            self.canvas.restyle(self._scene(layer, rows))
        self.styled.emit()

    def _styles(self) -> None:
        document = self._session.document
        said = (document.map, [(s.id, dict(s.style)) for s in document.steps])
        if said != self._said:
            self._said = said
            self.restyle()

    def _reports(self) -> bool:
        """Whether the step in hand tells something of its layers, which is then drawn over them."""
        step = self._session.step()
        if step is None or self.subject.source is not None:
            return False
        try:
            return operation_by_id(step.use).relation is Relation.REPORT
        except EskretError:
            return False

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
                some = subject.rows.get(view, {}).get(self.key)
                rows = len(some.rows) if some is not None else subject.layers[view][self.key].rows
                count = f" {rows:,}"
            button.setText(_WORDS[view] + count)
            button.setVisible(there or view != ALTERED)

    # -- choosing features

    def _clicked(self, row: int, does: str) -> None:
        self.choose_rows(changed(self.chosen, np.array([row] if row >= 0 else [], np.int64), does))

    def _caught(self, ring: np.ndarray, does: str) -> None:
        """What a box or a lasso meets; found beside the window's thread, since it can be much."""
        pick, before = self.canvas.scene.pick, self.chosen
        if pick is not None:
            self._background.run(
                lambda: changed(before, rows_in(pick, ring), does), lambda rows: self.choose_rows(rows) if self._still(pick) else None
            )

    def _still(self, pick: PaintItem) -> bool:
        now = self.canvas.scene.pick
        return now is not None and now.shapes is pick.shapes and now.rows is pick.rows

    def choose_rows(self, rows: np.ndarray, told_by_table: bool = False) -> None:
        """Choose these rows (int64) on the map and in the table."""
        self.chosen = rows
        self.canvas.choose(rows, show=told_by_table)
        if not told_by_table:
            self.table.choose(rows)
        self._show_card(int(rows[0]) if len(rows) == 1 and not told_by_table else -1)
        self.show_hand()

    def walk(self, by: int) -> None:
        """Go to the next feature (1) or the one before (-1), in the order of the table; after the last comes the first."""
        model = self.table.model_
        count = model.rowCount()
        if not count:
            return
        here = model.lines_of(self.chosen[:1])
        line = (int(here[0]) + by) % count if len(here) else (0 if by > 0 else count - 1)
        row = int(model.positions(np.array([line]))[0])
        self.choose_rows(np.array([row], np.int64))
        some = self.some()
        self.canvas.go_to(row, some.spot_in(row) if some is not None else None)

    def shown_rows(self) -> np.ndarray:
        """All rows that are shown (int64)."""
        layer, rows = self.current()
        return np.arange(layer.rows if layer else 0) if rows is None else np.asarray(rows, np.int64)

    def choose_all(self) -> None:
        """Choose every row shown."""
        self.choose_rows(self.shown_rows())

    def choose_none(self) -> None:
        """Let go of what is chosen."""
        self.choose_rows(np.empty(0, np.int64))

    def invert(self) -> None:
        """Choose what is not, and let go of what is."""
        self.choose_rows(changed(self.shown_rows(), self.chosen, LESS))

    def show_hand(self) -> None:
        """Tell the strip below how things stand."""
        drawn = self.canvas.scene.crs is not None
        self.handbar.show_state(self.canvas.mode, drawn, self.key, len(self.chosen), len(self.shown_rows()))

    def looked_at(self) -> ViewContext | None:
        """What a hand act is about."""
        layer, _ = self.current()
        if layer is None:
            return None
        source = self.subject.source
        if source is not None:
            return ViewContext(layer, source=(source["path"], source["layer"], source["layers"]))
        return ViewContext(layer, self._session.selected, self.view != LEAVING)

    def _show_card(self, row: int) -> None:
        layer, _ = self.current()
        if row < 0 or layer is None:
            self.card.hide()
            return
        values = [(name, layer.table.column(name)[row].as_py()) for name in layer.table.column_names]
        titles = layer.info.get("titles", {})
        fields = [(titles.get(name, name), show(value), value is None or value == "") for name, value in values]
        some = self.some()
        if some is not None:
            fields.insert(0, (_WORDS[self.view].lower(), some.text(int(np.searchsorted(some.rows, row))), False))
        degrees = bool(layer.crs and layer.crs["geographic"])
        self.card.show_fields(f"Row {row + 1:,}", fields, layer.shapes, row, degrees)

    # -- what the layer holds

    def toggle_fields(self, on: bool) -> None:
        """Show what the layer holds field by field in place of its rows, or its rows again."""
        self.fields_button.setChecked(on)
        self.table_stack.setCurrentIndex(int(on))
        if on:
            self._fill_fields()

    def _fill_fields(self) -> None:
        layer, _ = self.current()
        if layer is None or self.table_stack.currentIndex() == 0:
            return
        self.fields.show_layer(layer.info)

        def take(event: dict[str, Any]) -> None:
            now, _ = self.current()
            if event["event"] == "done" and now is not None and now.info["path"] == layer.info["path"]:
                self.fields.show_fields(event["fields"], layer.info.get("titles", {}))

        self._session.ask("profile", take, says=f"Adding up what the fields of {layer.key} hold …", layer=dict(layer.info))

    def _overlay(self) -> None:
        """Cells that the correct step in hand changes, and that no run has changed yet."""
        step = self._session.step()
        layer, _ = self.current()
        model = self.table.model_
        if step is None or step.use != "correct" or layer is None or self.view != ENTERING or self.subject.source:
            return
        key = str(step.settings.get("key", ""))
        changes = step.settings.get("changes")
        if key not in layer.table.column_names or not isinstance(changes, list):
            return
        at, _counts = rows_of(layer.table.column(key), [c.get("key") for c in changes])
        row_of = {int(n): row for row, n in enumerate(at.tolist()) if n >= 0}
        for n, change in enumerate(changes):
            if n in row_of and change.get("field") in layer.table.column_names:
                model.overlay[row_of[n], change["field"]] = change.get("new")

    def close_down(self) -> None:
        """Let no work outlive the window."""
        self._closed = True  # the theme can still change, and what was shown is gone
        self._background.close()
        self.stage.close_down()
        self.canvas.close_down()
        self.table.model_.close_down()

    def _load(self) -> None:
        source = self.subject.source
        if source is not None:
            self.load_asked.emit(source["path"], source["layer"], source["layers"])


def changed(before: np.ndarray, rows: np.ndarray, does: str) -> np.ndarray:
    """What is chosen after a hand act (int64, ascending)."""
    marked = np.zeros(int(max(before.max(initial=-1), rows.max(initial=-1))) + 1, bool)
    if does in (MORE, LESS, OTHER):
        marked[before] = True
    marked[rows] = ~marked[rows] if does == OTHER else does != LESS
    return np.flatnonzero(marked)
