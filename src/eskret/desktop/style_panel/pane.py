"""The pane about the map: what lies on it, how the layer in hand is drawn, its lines and legend, and saving it."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMenu,
    QPushButton,
    QScrollArea,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from eskret.core.style.style import Style
from eskret.desktop.map_view.canvas import symbols
from eskret.desktop.panes.pane import Pane
from eskret.desktop.panes.viewer import LEAVING, Viewer
from eskret.desktop.state.paths import relative
from eskret.desktop.state.session import Session
from eskret.desktop.style_panel.kept_list import KeptList
from eskret.desktop.style_panel.style_form import StyleForm
from eskret.workflow.model import styles
from eskret.workflow.model.map_spec import LINES, OnMap

_MOST = 60
"""A menu of more layers than this would not be read."""


class MapPane(Pane):
    """Shows what the viewer has in hand; every change is an edit of the workflow."""

    closed = Signal()
    save_asked = Signal()
    write_style_asked = Signal()

    def __init__(self, session: Session, viewer: Viewer, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._viewer = session, viewer
        self._stale = True
        title = QLabel("On the map")
        title.setObjectName("title")
        close = QToolButton()
        close.setObjectName("quiet")
        close.setText("Close")
        close.setToolTip("The settings of the step again (F5)")
        close.clicked.connect(self.closed)
        self.row.addWidget(title)
        self.row.addStretch()
        self.row.addWidget(close)
        self.kept = KeptList()
        self.kept.changed.connect(lambda layers, what: self._map_said(layers, what))
        self.kept.add_asked.connect(self._fill_menu)
        self.kept.look_asked.connect(self._look_at)
        self.form = StyleForm()
        self.form.changed.connect(self._styled)
        self.from_step = QLabel()
        self.from_step.setObjectName("faint")
        self.from_step.setWordWrap(True)
        self.wider = _link("Draw it so from where it comes in")
        self.wider.clicked.connect(self._from_the_start)
        self.all = _link("Draw all layers of this step so")
        self.all.clicked.connect(self._for_all)
        self.usual = _link("As usual again")
        self.usual.clicked.connect(self._as_usual)
        self.lines = QComboBox()
        self.lines.setAccessibleName("Lines behind the map")
        self.lines.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.lines.setMinimumWidth(60)
        for name, text in LINES.items():
            self.lines.addItem(text, name)
        self.lines.activated.connect(lambda _: self._lines_chosen())
        self.legend = QCheckBox("Legend")
        self.legend.setChecked(True)
        self.legend.toggled.connect(viewer.canvas.show_legend)
        self.save = QPushButton("Save the map …")
        self.save.setToolTip("As it is in view: PNG, SVG or PDF")
        self.save.clicked.connect(self.save_asked)
        self.write = QPushButton("Write the style …")
        self.write.setToolTip("As OGC SLD, which other programs read")
        self.write.clicked.connect(self.write_style_asked)
        self._build()
        viewer.shown.connect(self.refresh)
        viewer.styled.connect(self.refresh)
        viewer.canvas.drawn.connect(self._tell_room)
        session.figures_changed.connect(self._kept_changed)

    def _build(self) -> None:
        body = QWidget()
        body.setObjectName("formBody")
        column = QVBoxLayout(body)
        column.setContentsMargins(12, 10, 12, 12)
        column.setSpacing(7)
        column.addWidget(_eyebrow("LAYERS, TOPMOST FIRST"))
        column.addWidget(self.kept)
        column.addSpacing(4)
        self.drawn_title = _eyebrow("")
        column.addWidget(self.drawn_title)
        column.addWidget(self.form)
        column.addWidget(self.from_step)
        for link in (self.wider, self.all, self.usual):
            column.addWidget(link)
        column.addSpacing(4)
        column.addWidget(_eyebrow("THE MAP"))
        row = QHBoxLayout()
        row.addWidget(self.lines, 1)
        row.addWidget(self.legend)
        column.addLayout(row)
        column.addWidget(self.save)
        column.addWidget(self.write)
        column.addStretch()
        self.area = QScrollArea()
        self.area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.area.setWidgetResizable(True)
        self.area.setFrameShape(QFrame.Shape.NoFrame)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.area.setWidget(body)
        self.column.addWidget(self.area, 1)

    # -- showing

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        if self._stale:
            self.refresh()

    def refresh(self) -> None:
        """Show things as they are, if anybody sees it."""
        self._stale = not self.isVisible()
        if self._stale:
            return
        viewer, session = self._viewer, self._session
        layer, _ = viewer.current()
        said = session.document.map
        drawn = layer is not None and layer.shapes is not None
        self.kept.show_layers(viewer.stage.beside(), viewer.key if drawn else "")
        self.lines.setCurrentIndex(self.lines.findData(said.lines))
        for widget in (self.form, self.drawn_title, self.from_step):
            widget.setVisible(drawn)
        self.write.setEnabled(drawn)
        self.save.setEnabled(bool(viewer.canvas.scene.drawn))
        if layer is None or not drawn:
            for link in (self.wider, self.all, self.usual):
                link.hide()
            return
        style = viewer.style()
        breaks = viewer.stage.breaks(layer, style) if style.by == "classes" and style.field in layer.table.column_names else None
        usual = symbols()["leaving" if viewer.view == LEAVING else "plain"].fill
        self.drawn_title.setText(f"HOW {viewer.key.upper()} IS DRAWN")
        self.form.show_style(style, layer.table, layer.kind, viewer.stage.legend(layer, style), breaks, usual)
        self._tell_room()
        self._show_place(style)

    def _tell_room(self) -> None:
        """Say whether the labels had room; asked after every picture, so it fills nothing else anew."""
        if self.isVisible():
            self.form.show_room(*(self._viewer.canvas.labels_placed() if self._viewer.canvas.scene.labels else (0, 0)))

    def _kept_changed(self) -> None:
        if self.isVisible():
            layer, _ = self._viewer.current()
            drawn = layer is not None and layer.shapes is not None
            self.kept.show_layers(self._viewer.stage.beside(), self._viewer.key if drawn else "")

    def _place(self) -> tuple[str, str]:
        """The step and key that a style for what is in hand belongs to; nothing for a source that no step loads."""
        layer, _ = self._viewer.current()
        if layer is None or self._viewer.subject.source is not None:
            return "", ""
        return tuple(self._session.line_of(layer)[0])  # type: ignore[return-value]

    def _show_place(self, style: Style) -> None:
        session = self._session
        document = session.document
        layer, _ = self._viewer.current()
        step_id, key = self._place()
        step = next((s for s in document.steps if s.id == step_id), None)
        self.wider.hide()
        self.all.hide()
        self.usual.hide()
        if layer is None or step is None:
            self.from_step.setText("No step loads this layer yet. Load it, and its style goes with it.")
            self.usual.setVisible(style != Style())
            return
        line = session.line_of(layer)
        where = next((s for id, k in line for s in document.steps if s.id == id and styles.said_at(s, k) is not None), None)
        number = document.index(step.id) + 1
        if where is None:
            shown = styles.proposed(step) is not None
            self.from_step.setText("Drawn as its operation proposes." if shown else f"A change holds from step {number} on, {step.id}.")
        else:
            self.from_step.setText(f"Said at step {document.index(where.id) + 1}, {where.id}; it holds from there on.")
        here = styles.said_at(step, key)
        start = styles.begins(document, line)
        self.usual.setVisible(here is not None)
        self.wider.setVisible(here is not None and start[0] != step.id)
        leaving = session.leaving(step.id)
        self.all.setVisible(here == key and len(leaving) > 1)

    # -- changes

    def _styled(self, style: Style, what: str) -> None:
        source = self._viewer.subject.source
        if source is not None:
            self._session.source_styles[source["path"], source["layer"]] = style
            self._viewer.restyle()
            return
        step_id, key = self._place()
        step = next((s for s in self._session.document.steps if s.id == step_id), None)
        if step is not None:
            self._session.set_style((step_id, styles.said_at(step, key) or key), style, what)

    def _as_usual(self) -> None:
        source = self._viewer.subject.source
        if source is not None:
            self._session.source_styles.pop((source["path"], source["layer"]), None)
            self._viewer.restyle()
            return
        step_id, key = self._place()
        step = next(s for s in self._session.document.steps if s.id == step_id)
        self._session.set_style((step_id, styles.said_at(step, key) or key), None, "draw as usual")

    def _from_the_start(self) -> None:
        """Move the style to where the layer comes in."""
        layer, _ = self._viewer.current()
        assert layer is not None
        session, style = self._session, self._viewer.style()
        step_id, key = self._place()
        start, first = styles.begins(session.document, session.line_of(layer))
        document = session.document
        steps = []
        for step in document.steps:
            if step.id == step_id:
                step = styles.with_style(step, styles.said_at(step, key) or key, None)
            if step.id == start:
                step = styles.with_style(step, first, style)
            steps.append(step)
        session.edit(replace(document, steps=tuple(steps)), "draw a layer so from where it comes in")

    def _for_all(self) -> None:
        """Let the style hold for all layers of the step."""
        step_id, _ = self._place()
        step = next(s for s in self._session.document.steps if s.id == step_id)
        self._session.change_step(replace(step, style={"*": self._viewer.style()}), "draw all layers of a step so")

    def _map_said(self, layers: list[OnMap], what: str) -> None:
        self._session.edit(styles.put_on_map(self._session.document, layers), what)

    def _lines_chosen(self) -> None:
        said = self._session.document.map
        self._session.change_map(replace(said, lines=self.lines.currentData()), "change the lines of the map")

    # -- layers to add

    def _fill_menu(self, menu: QMenu) -> None:
        """What can be kept: the layer in hand, then layers of steps that have run, then sources."""
        menu.clear()
        viewer, session = self._viewer, self._session
        there = {x.place for x in session.document.map.layers}
        source = viewer.subject.source
        if source is not None:
            mine = self._of_file(source["path"], source["layer"])
            self._offer(menu, mine, f"{viewer.subject.title}, in hand", there)
        else:
            layer, _ = viewer.current()
            if layer is not None and layer.shapes is not None:
                step, key = session.line_of(layer)[0]
                self._offer(menu, OnMap(step=step, layer=key), f"{key} · {step}, in hand", there)
        menu.addSeparator()
        steps = [s.id for s in reversed(session.document.steps)]
        found = [OnMap(step=id, layer=str(i["key"])) for id in steps for i in session.leaving(id) if i["drawn"]]
        for entry in found[:_MOST]:
            self._offer(menu, entry, f"{entry.layer} · {entry.step}", there)
        files = [(path, facts) for path, layers in session.seen_sources.items() for facts in layers if facts["kind"] != "table"]
        if files:
            more = menu.addMenu("From the sources")
            for path, facts in files[:_MOST]:
                self._offer(more, self._of_file(path, facts["name"]), f"{facts['name']} · {Path(path).name}", there)
        if menu.isEmpty():
            menu.addAction("Run the workflow, or choose a source first").setEnabled(False)

    def _of_file(self, path: str, layer: str) -> OnMap:
        style = self._session.source_styles.get((path, layer))
        return OnMap(file=relative(path, self._session.folder), layer=layer, style=style)

    def _offer(self, menu: QMenu, entry: OnMap, text: str, there: set[tuple[str, str, str]]) -> None:
        action = menu.addAction(text, partial(self._keep, entry))
        action.setEnabled(entry.place not in there)

    def _keep(self, entry: OnMap) -> None:
        kept = self._session.document.map.layers
        over = [x for x in kept if x.over]
        under = [x for x in kept if not x.over]
        self._map_said([*over, entry, *under], "keep a layer on the map")

    def _look_at(self, entry: OnMap) -> None:
        """Take a kept layer of a step in hand."""
        if entry.step:
            self._session.select(entry.step)
            self._viewer.choose_layer(entry.layer)


def _eyebrow(text: str) -> QLabel:
    label = QLabel(text)
    label.setObjectName("eyebrow")
    label.setWordWrap(True)
    return label


def _link(text: str) -> QPushButton:
    link = QPushButton(text)
    link.setObjectName("link")
    link.hide()
    return link
