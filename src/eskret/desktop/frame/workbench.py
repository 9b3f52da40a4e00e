"""All that is in the window: puts the parts together and passes their signals on. It computes nothing."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QPoint, QSettings, Qt, QTimer, Signal
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtWidgets import QLabel, QMessageBox, QSplitter, QVBoxLayout, QWidget

from eskret.core.naming import clean_name
from eskret.core.words import duration, moment
from eskret.desktop.forms.asking_parameters import RunBox, asks
from eskret.desktop.forms.step_form import SettingsForm
from eskret.desktop.frame.actions import Actions, chosen_key
from eskret.desktop.frame.banner import Banner
from eskret.desktop.frame.beside import SidePanes
from eskret.desktop.frame.boxes import Boxes
from eskret.desktop.frame.call_back import call_back
from eskret.desktop.frame.find_anything import FindAnything
from eskret.desktop.frame.full_views import FullViews
from eskret.desktop.frame.lesson import LessonUnderWay
from eskret.desktop.frame.page_stack import START, WORK, PageStack
from eskret.desktop.frame.status import StatusLine
from eskret.desktop.frame.step_strip import StepStrip
from eskret.desktop.frame.topbar import TopBar
from eskret.desktop.ledger.ledger_view import LedgerView
from eskret.desktop.panes.edit_actions import EditActions, ViewContext
from eskret.desktop.panes.pane import Pane, QuietButton
from eskret.desktop.panes.viewer import Viewer
from eskret.desktop.sources.panel import SourcesPanel
from eskret.desktop.state.background import Background
from eskret.desktop.state.open_and_save import Files
from eskret.desktop.state.publisher import Publisher
from eskret.desktop.state.session import Session
from eskret.desktop.style_panel.pane import MapPane
from eskret.desktop.style_panel.saving_maps import Saving
from eskret.desktop.theme.style import theme
from eskret.desktop.user_operations.code import OwnCode
from eskret.desktop.views.finder import Finder
from eskret.desktop.views.isolate import IsolateBox
from eskret.desktop.views.parts import finish_typing
from eskret.desktop.views.start import StartView
from eskret.desktop.views.store import StoreBox
from eskret.errors import EskretError
from eskret.operations.base import ServiceAccess
from eskret.operations.finding import find_operations
from eskret.operations.registry import operation_by_id
from eskret.workflow.faces import ledger
from eskret.workflow.faces.catalogue import CatalogueEntry
from eskret.workflow.history.runs import Whole
from eskret.workflow.model.document import Step
from eskret.workflow.run import consent

_FOLLOWS = "figures_follow_edits"
_LARGER = "larger"
_LATER = 400  # milliseconds
LONG_RUN = 10.0
"""Seconds of a run from which on its end is told to somebody who turned to another window."""


class Workbench(QWidget):
    """The content of the window. ``titled`` says what the window should be called."""

    titled = Signal(str)
    close_asked = Signal()

    def __init__(self, settings: QSettings, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._settings = settings
        self.session = Session(self)
        self.session.memory = settings
        self.session.keeps_current = settings.value(_FOLLOWS, "yes") != "no"
        self.files = Files(self.session, settings, self)
        self.setAcceptDrops(True)
        self.bar = TopBar(self.session)
        self.sources = SourcesPanel(self.session)
        self.ledger = LedgerView(self.session)
        self.viewer = Viewer(self.session, self)
        self.own = OwnCode(self.session)
        self.form = SettingsForm(self.session)
        self.status = StatusLine()
        self.start = StartView()
        self._build()
        self.finder = Finder(self)
        self.anything = FindAnything(self)
        self.boxes = Boxes(self.session, self.files, self.own, self, lambda: self.pages.at_work)
        self._connect()
        self.actions_ = Actions(self, self.bar.menu)
        self.form.after = self.step_strip.remove
        larger = {"settings": self.form_full, "map": self.viewer.map_full, "table": self.viewer.table_full}.get(
            str(settings.value(_LARGER, ""))
        )
        if larger is not None:
            larger.click()
        self.start.show_recent(self.files.recent_told())
        self._refresh()

    # -- putting together

    def _build(self) -> None:
        self.form_pane = Pane()
        self.form_title = QLabel()
        self.form_title.setObjectName("title")
        self.form_pane.row.addWidget(self.form_title)
        self.form_pane.row.addStretch()
        self.form_full = QuietButton("larger", "Give the settings the whole lower half (Shift+F6)", True)
        self.form_full.clicked.connect(lambda on: self._enlarge(self.form_pane, on))
        self.form_pane.row.addWidget(self.form_full)
        self.form_pane.column.addWidget(self.form, 1)
        self.map_pane = MapPane(self.session, self.viewer)
        self.saving = Saving(self.session, self.viewer, self)
        self.panes = QSplitter(Qt.Orientation.Horizontal)
        self.panes.setHandleWidth(1)
        self.panes.setChildrenCollapsible(False)
        for pane, least, share in (
            (self.form_pane, 226, 1),
            (self.map_pane, 270, 1),
            (self.viewer.map_pane, 0, 4),
            (self.viewer.table_pane, 150, 3),
        ):
            self.panes.addWidget(pane)
            pane.setMinimumWidth(least)  # the map's own is what its head needs
            self.panes.setStretchFactor(self.panes.count() - 1, share)
        self.panes.setSizes([286, 300, 452, 330])
        self.map_pane.hide()
        self.upper = QWidget()
        upper = QVBoxLayout(self.upper)
        upper.setContentsMargins(0, 0, 0, 0)
        upper.setSpacing(0)
        self.banner = Banner()
        self.tell = self.banner.tell
        self.banner_text = self.banner.text
        self.allow_button, self.look_button, self.code_button = self.banner.allow, self.banner.look, self.banner.code
        self.allow_button.clicked.connect(self._allow_outside)
        self.look_button.clicked.connect(lambda: self.show_publish(True))
        self.banner.show_step.clicked.connect(self.session.select_next_look)
        self._said_of: set[str] = set()
        self._run_began = 0.0
        self._beside = Background(self)
        self.lesson = LessonUnderWay(self)
        upper.addWidget(self.lesson.strip)
        upper.addWidget(self.banner)
        upper.addWidget(self.ledger, 1)
        self.step_strip = StepStrip(self.ledger)
        self.add_button, self.up_button = self.step_strip.add, self.step_strip.up
        self.progress, self.progress_text = self.step_strip.progress, self.step_strip.progress_text
        upper.addWidget(self.step_strip)
        self.right = QSplitter(Qt.Orientation.Vertical)
        self.right.setObjectName("ledgerSplit")
        self.right.setHandleWidth(2)
        self.beside = QSplitter(Qt.Orientation.Horizontal)
        self.beside.setHandleWidth(1)
        self.beside.addWidget(self.upper)
        self.beside.setStretchFactor(0, 1)
        self.right.addWidget(self.beside)
        self.main = QSplitter(Qt.Orientation.Horizontal)
        self.main.setHandleWidth(1)
        self.main.addWidget(self.sources)
        self.main.addWidget(self.right)
        self.side = SidePanes(self.session)
        self.side.save_asked.connect(self.files.save_script)
        self.beside.addWidget(self.side)
        self.main.setSizes([212, 1068])
        self.main.setStretchFactor(1, 1)
        self.main.setCollapsible(1, False)
        work = QWidget()
        column = QVBoxLayout(work)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.main, 1)
        column.addWidget(self.status)
        lower_half = QWidget()
        lower = QVBoxLayout(lower_half)
        lower.setContentsMargins(0, 0, 0, 0)
        lower.setSpacing(1)
        lower.addWidget(self.panes, 1)
        lower.addWidget(self.viewer.waybar)
        lower.addWidget(self.viewer.asidebar)
        lower.addWidget(self.viewer.handbar)
        self.right.addWidget(lower_half)
        self.right.setSizes([320, 390])
        self.pages = PageStack()
        self.pages.register(START, lambda: self.start, lambda: self.start)
        self.pages.register(WORK, lambda: work, lambda: self.ledger)
        self.pages.turn_to(START)
        self.publisher = Publisher(self.session, self)
        self.views = FullViews(self.session, self.publisher, self.pages)
        self.views.added.connect(self._added_there)
        self.views.open_asked.connect(self._reopen)
        self.views.report_asked.connect(self.saving.save_report_of)
        self.files.guards.append(self.views.may_leave)
        self.pages.turned.connect(self._page_changed)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addWidget(self.bar)
        outer.addWidget(self.pages, 1)

    def _page_changed(self, page: str) -> None:
        self.bar.show_work(page != START)
        for name, button in (("words", self.bar.words), ("publish", self.bar.publish), ("runs", self.bar.runs)):
            button.setChecked(page == name)
        self._refresh()

    def show_words(self, on: bool) -> None:
        """The word lists over the whole window, or the ledger again."""
        self.pages.open_view("words", on)

    def show_publish(self, on: bool) -> None:
        """Published datasets over the whole window, or the ledger again."""
        self.pages.open_view("publish", on)

    def show_parameters(self, on: bool, name: str = "") -> None:
        """The parameters over the whole window, one of them in hand; or the ledger again."""
        self.pages.open_view("parameters", on, lambda: self.views.parameters.open_view(name))

    def show_runs(self, on: bool) -> None:
        """The runs of earlier over the whole window, or the ledger again."""
        self.pages.open_view("runs", on)

    def show_rounds(self, on: bool) -> None:
        """A run in rounds over the whole window, or the ledger again."""
        self.pages.open_view("rounds", on)

    def show_layers(self, on: bool) -> None:
        """The step in hand layer by layer, over the whole window; or the ledger again."""
        if self.pages.at_work and (not on or self._by_layer(self.session.step())):
            self.pages.open_view("layers", on)

    def _by_layer(self, step: Step | None) -> bool:
        """Whether single layers can have settings of their own in a step; else it is said why not."""
        try:
            operation = operation_by_id(step.use) if step is not None else None
        except EskretError:
            operation = None
        if step is None or operation is None:
            self.tell("look", "Choose a step first, to go through its layers.")
        elif operation.single == ():
            self.tell("look", f"{operation.title} sees the whole set at once: its layers have no settings of their own.")
        elif step.each is not None:
            self.tell("look", "This step is done in rounds, which give it its settings.")
        else:
            return True
        return False

    def _reopen(self, whole: Whole, run: bool) -> None:
        """Open a run of earlier as it was, and run it again where that is wanted."""
        if not self.files.reopen(whole):
            return
        self.show_runs(False)
        when = moment(whole.kept.started)
        if run:
            self._run_now()
        else:
            self.tell("good", f"This is run {whole.kept.id} of {when}: the workflow, its values and its ledger as they were.")

    def _added_there(self, id: str) -> None:
        """A step was added from the Publish view: show it."""
        self.show_publish(False)
        self.session.select(id)

    def _connect(self) -> None:
        session, viewer = self.session, self.viewer
        session.changed.connect(self._refresh)
        session.figures_changed.connect(self._refresh)
        session.selected_changed.connect(lambda _: self._refresh())
        session.run_changed.connect(self._run_changed)
        session.progress.connect(self._progress)
        session.told.connect(self.tell)
        session.waits.changed.connect(viewer.canvas.show_wait)
        session.waits.changed.connect(self.status.show_wait)
        self.own.told.connect(self._own_told)
        self.own.changed.connect(self.form.rebuild)
        self.bar.rehearse_asked.connect(session.rehearse)
        self.bar.run_asked.connect(self.run)
        self.bar.stop_asked.connect(session.stop)
        self.bar.words_asked.connect(self.show_words)
        self.bar.publish_asked.connect(self.show_publish)
        self.bar.runs_asked.connect(self.show_runs)
        self.bar.edit_asked.connect(lambda: self.show_parameters(True))
        self.bar.values_asked.connect(self._ask_values)
        self.publisher.pushes_changed.connect(self._prepared)
        self.ledger.add_asked.connect(self.add_step)
        self.ledger.rename_asked.connect(lambda: self.form.focus_field("step.id"))
        self.ledger.layer_chosen.connect(viewer.choose_layer)
        self.ledger.reason_asked.connect(viewer.show_reason)
        self.finder.taken.connect(self._insert)
        self.form.page_asked.connect(self.boxes.show_handbook)
        self.code_button.clicked.connect(lambda: self.boxes.show_code())
        self.boxes.told.connect(self.tell)
        self.form.by_layer_asked.connect(lambda: self.show_layers(True))
        self.add_button.clicked.connect(self.add_step)
        self.sources.look_asked.connect(self._look)
        self.sources.load_asked.connect(self._load_source)
        self.sources.layers_asked.connect(self._load_layers)
        self.sources.several_asked.connect(self._load_several)
        self.sources.tidy_asked.connect(self._tidy)
        self.sources.back_asked.connect(self._take_back)
        self.publisher.services_changed.connect(self._show_published)
        viewer.load_asked.connect(self._load_source)
        bar = viewer.handbar
        bar.pick_asked.connect(lambda: self.edit_by_hand("pick"))
        bar.leave_out_asked.connect(lambda: self.edit_by_hand("leave out"))
        bar.keep_asked.connect(lambda: self.edit_by_hand("keep"))
        bar.isolate_asked.connect(lambda: self.edit_by_hand("isolate"))
        bar.follow_asked.connect(viewer.follow)
        viewer.asidebar.back_asked.connect(lambda: self._with_all_shown("take back"))
        viewer.asidebar.save_asked.connect(lambda: self._with_all_shown("isolate"))
        viewer.canvas.sketched.connect(self._sketched)
        viewer.table.model_.edited.connect(self._corrected)
        viewer.table.model_.refused.connect(lambda text: self.tell("bad", text))
        viewer.scene_changed.connect(self._scene_changed)
        session.selected_changed.connect(lambda _: self.sources.release())
        self.ledger.clicked.connect(self._back_to_step)
        viewer.canvas.pointed.connect(self.status.show_place)
        viewer.canvas.left.connect(self.status.forget_place)
        viewer.canvas.view_changed.connect(self._view_changed)
        viewer.said_button.clicked.connect(self.show_map_pane)
        self.map_pane.closed.connect(lambda: self.show_map_pane(False))
        self.map_pane.save_asked.connect(self.saving.save_map)
        self.map_pane.write_style_asked.connect(self.saving.write_style)
        self.saving.told.connect(self.tell)
        viewer.map_full.clicked.connect(lambda on: self._enlarge(viewer.map_pane, on))
        viewer.table_full.clicked.connect(lambda on: self._enlarge(viewer.table_pane, on))
        files = self.files
        files.opened.connect(self._opened)
        files.failed.connect(self._not_opened)
        files.recent_changed.connect(lambda: self.start.show_recent(files.recent_told()))
        self.start.demo_asked.connect(files.open_demo)
        self.start.new_asked.connect(files.new_in_folder)
        self.start.open_asked.connect(files.open_dialog)
        self.start.recent_asked.connect(lambda p: files.open_path(Path(p)))
        self.start.lesson_asked.connect(self.begin_lesson)
        self.start.back_asked.connect(lambda: self.pages.turn_to(WORK))

    def focus_form(self) -> None:
        """Go to the settings of the step in hand."""
        first = next(iter(self.form.blocks), "")
        self.form.focus_field(first)

    # -- what is on screen

    def _refresh(self) -> None:
        session = self.session
        step = session.step()
        name = session.document.title or "Eskret"
        self.titled.emit(f"{'• ' if session.dirty else ''}{name} · Eskret")
        if step is not None:
            try:
                title = operation_by_id(step.use).title
            except EskretError:
                title = step.use
            self.form_title.setText(f"{session.document.index(step.id) + 1} · {title}")
        else:
            self.form_title.setText("Settings")
        self.step_strip.show_step(step)
        rows = [r for r in session.rows() if r.state]
        self.status.show_run(session.last_run, ledger.summary(rows))
        self.actions_.refresh()

    def has_report(self) -> bool:
        """Whether there was a run to report on."""
        return bool(self.session.last_run.get("steps"))

    def can_undo(self) -> bool:
        """Whether there is something to undo; the word lists have edits of their own."""
        return bool(self.session.undo_word) or self.pages.page == "words"

    def _prepared(self) -> None:
        """A run prepared a push: say so where the run is told of."""
        waiting = self.publisher.waiting()
        told = {p["push"] for p in self.session.last_run.get("pushes", ())}
        new = [p for p in waiting if p["id"] in told]
        if new and self.pages.page == WORK and self._said_of != told:
            self._said_of = told
            one = new[0]
            more = f" And {len(new) - 1} more." if len(new) > 1 else ""
            text = (
                f"{one['added']:,} to add, {one['changed']:,} to change, {one['removed']:,} to remove in '{one['dataset']}'; "
                f"nothing is sent yet.{more}"
            )
            self.tell("look", text)
            self.look_button.show()

    def _allow_outside(self) -> None:
        session = self.session
        if session.path is not None:
            planned = [Path(o.path) for s in session.forecast.steps.values() for o in s.outputs]
            reaches = [ServiceAccess(*s) for s in session.forecast.unapproved]
            consent.allow(session.path, consent.outside(session.path, session.folder, planned), reaches, map(Path, session.forecast.shared))
            self.banner.hide()
            session.rehearse()

    def _view_changed(self, view: Any) -> None:
        self.status.show_view(view)

    def _scene_changed(self, crs: Any) -> None:
        self.status.show_crs(crs)
        self.status.show_view(self.viewer.canvas.view)

    def _back_to_step(self) -> None:
        """A click on the step in hand while a source is shown."""
        if self.viewer.subject.source is not None:
            self.sources.release()
            self.viewer.show_step()

    def _enlarge(self, pane: QWidget, on: bool) -> None:
        """Give one of settings, map and table the whole lower half, or all of them their own part; remembered."""
        viewer = self.viewer
        saying = viewer.said_button.isChecked() and pane is not self.form_pane
        viewer.said_button.setChecked(saying)
        panes = {"settings": self.form_pane, "map": viewer.map_pane, "table": viewer.table_pane}
        buttons = {"settings": self.form_full, "map": viewer.map_full, "table": viewer.table_full}
        for name, other in panes.items():
            alone = on and other is pane
            buttons[name].setChecked(alone)
            other.setVisible(alone or not on)
            if alone:
                self._settings.setValue(_LARGER, name)
        if not on:
            self._settings.setValue(_LARGER, "")
        self.form_pane.setVisible((not on or pane is self.form_pane) and not saying)
        self.map_pane.setVisible(saying and not (on and pane is viewer.table_pane))

    def show_map_pane(self, on: bool) -> None:
        """What is on the map and how it is drawn, in place of the step's settings; or these again."""
        self.viewer.said_button.setChecked(on)
        large = self.viewer.table_full if self.viewer.table_full.isChecked() else self.viewer.map_full
        pane = self.viewer.table_pane if large is self.viewer.table_full else self.viewer.map_pane
        self._enlarge(pane, large.isChecked())

    def map_alone(self) -> None:
        """The map over the whole window, and back."""
        alone = self.beside.isVisible()
        self.beside.setVisible(not alone)
        self.sources.setVisible(not alone)
        self._enlarge(self.viewer.map_pane, alone)
        self.viewer.canvas.setFocus()

    def fold_sources(self) -> None:
        """Fold the sources away, or show them."""
        self.sources.setVisible(not self.sources.isVisible())

    # -- the run

    def run_fresh(self) -> None:
        """Run, and do also anew what an earlier run made."""
        if self.session.document.steps and not self.session.running:
            self.banner.hide()
            self.session.run(fresh=True)

    def run(self) -> None:
        """Run, after the values were asked for where there are any; from a run on, the step in hand shows its features."""
        session = self.session
        if not session.document.steps or session.running:
            return
        if session.document.parameters and asks(session.memory):
            self._ask_values()
        else:
            self._run_now()

    def _ask_values(self) -> None:
        """Ask for the values of all parameters, and run with them."""
        box = RunBox(self.session, self)
        box.run_asked.connect(self._run_now)
        box.rounds_asked.connect(lambda: self.show_rounds(True))
        box.open()

    def _run_now(self) -> None:
        self.banner.hide()
        self.session.run()

    def _run_changed(self) -> None:
        running = self.session.running
        if running:
            self._run_began = time.monotonic()
        elif time.monotonic() - self._run_began > LONG_RUN and not self.window().isActiveWindow():
            call_back(self.window(), self.session.document.title, self.session.last_run)
        self.progress.setVisible(running)
        self.progress.setRange(0, 0)
        self.progress_text.setText("Starting …" if running else "")
        self._refresh()

    def _progress(self, event: dict[str, Any]) -> None:
        whole = event["tasks"] > 1 or not event["of"]
        done, of = (event["tasks_done"], event["tasks"]) if whole else (event["done"], event["of"])
        self.progress.setRange(0, of)
        self.progress.setValue(done)
        noun = "layers" if whole else "features"
        left = ""
        if done and event["seconds"] > 1:
            left = f", about {duration(event['seconds'] * (of - done) / done)} left"
        self.progress_text.setText(f"{event['step']}: {done:,} of {of:,} {noun}{left}")

    # -- steps

    def add_step(self) -> None:
        """Ask what the next step should do."""
        if not self.pages.at_work:
            return
        top = self.bar.height() + self.ledger.mapTo(self, QPoint(0, 0)).y() // 2
        self.finder.open_at(top, bool(self.session.document.steps), self.session.folder, self.session.path)

    def find_anything(self) -> None:
        """Ask what is wanted, and go there or do it."""
        if self.pages.at_work:
            self.anything.open_over(self.bar.height() + 24)

    def show_start(self) -> None:
        """The page where one begins, with the lessons; what is open stays open until something else is opened."""
        self.start.show_recent(self.files.recent_told())
        self.start.offer_back(self.session.document.title)
        self.pages.turn_to(START)

    def _insert(self, entry: CatalogueEntry) -> None:
        session = self.session
        step = session.step()
        at = session.place_after(step.id) if step is not None else None
        source: tuple[str, ...] = ()
        settings = dict(entry.settings)
        if entry.has_input and step is not None:
            source = (step.id,)
            if entry.use == "apply_words" and step.use == "draft_words":
                # the words are for the layer that they were drafted of
                source = step.source
                saved = [str(s.settings.get("to", "")) for s in session.document.steps if s.use == "save" and step.id in s.source]
                words = str(step.settings.get("earlier") or next((to for to in saved if to.endswith(".csv")), ""))
                settings = {"fields": step.settings.get("fields", []), **({"words": words} if words else {})}
        name = clean_name(Path(str(entry.settings["file"])).stem if "file" in entry.settings else entry.use.rpartition(":")[2])
        made = Step(name or "step", entry.use, source, settings)
        looked = self.viewer.subject.source
        if entry.has_input and looked is not None and not str(looked["path"]).startswith(("http://", "https://")):
            session.add_step_after_source(made, looked["path"], looked["layer"], looked["layers"])
        else:
            session.add_step(made, at)
        first = next((n for n in self.form.blocks if n != "from"), "")
        self.form.focus_field(first)

    def edit_by_hand(self, what: str) -> None:
        """Write what is chosen into the workflow."""
        viewer, hand = self.viewer, EditActions(self.session)
        at, rows = viewer.looked_at(), viewer.chosen
        if at is None:
            return
        if what == "isolate":
            self._ask_to_isolate(hand, at, rows)
            return
        acts: dict[str, Callable[[ViewContext, Any], str]] = {
            "pick": hand.pick,
            "leave out": partial(hand.pick, all_but=True),
            "keep": hand.keep,
            "take back": hand.take_back,
        }
        self._act(lambda: acts[what](at, rows))

    def _ask_to_isolate(self, hand: EditActions, at: ViewContext, rows: np.ndarray) -> None:
        try:
            name = hand.isolated_name(at, rows)
        except EskretError as error:
            self.tell("bad", error.sentence())
            return
        add = partial(hand.isolate, at, rows)
        box = IsolateBox(len(rows), name, hand.isolated_places(at), lambda name, to: self._act(lambda: add(name, to)), self)
        box.open()

    def _with_all_shown(self, what: str) -> None:
        """Write into the workflow what is to become of all that is shown."""
        self.viewer.choose_all()
        self.edit_by_hand(what)

    def _sketched(self, kind: str, xy: Any) -> None:
        crs = self.viewer.canvas.scene.crs
        self._act(lambda: EditActions(self.session).sketch(kind, xy, crs))

    def _corrected(self, row: int, field: str, new: object) -> None:
        at = self.viewer.looked_at()
        if at is not None:
            self._act(lambda: EditActions(self.session).correct(at, row, field, new))

    def show_keys(self) -> None:
        """What the keys do, and which one opens the search over everything."""
        self.boxes.show_keys(chosen_key(self.session.memory), self.actions_.choose_key)

    def undo_last(self) -> None:
        """Take the last edit back; what was said of it is said no more."""
        self.banner.hide()
        self.session.undo()

    def _act(self, act: Callable[[], str]) -> None:
        try:
            added = act()
        except EskretError as error:
            self.tell("bad", error.sentence())
            return
        self.sources.release()
        self.viewer.show_step()
        if added:
            number = self.session.document.index(added) + 1
            merged = self.session.document.step(added).use == "merge"
            later = f" Later steps take the layer '{added}' of it." if merged else ""
            self.tell("good", f"Step {number}, {added}, holds it now.{later} Run to see what it makes; undo takes it back.")

    def _load_source(self, path: str, layer: str, layers: int) -> None:
        """Add the step that loads a file, or one layer of it; or that fetches a published dataset."""
        if path.startswith(("http://", "https://")):
            self._added_there(self.session.add_step(Step(layer, "fetch", (), {"service": path, "dataset": layer}), None))
            return
        self.session.add_step(*self.session.load_step(path, layer, layers))
        self.ledger.setFocus()

    def _tidy(self, path: str) -> None:
        """Names and sections of a GeoPackage's layers."""
        box = StoreBox(self.session, Path(path), self)
        box.changed.connect(self.sources.look_again)
        box.changed.connect(self.session.rehearse)
        box.open()

    def _load_layers(self, path: str, layers: list[str]) -> None:
        """Add the step that loads some of a file's layers."""
        self.session.add_step(*self.session.load_step(path, layers, len(layers) + 1))
        self.ledger.setFocus()

    def _load_several(self, paths: list[str]) -> None:
        """Add the step that loads several files."""
        self.session.load_files(paths)
        self.ledger.setFocus()

    def _look(self, path: str, layer: str, key: str) -> None:
        file = Path(path)
        title = f"{file.stem} · {layer.replace('_', ' ')}" if layer != file.stem else layer
        published = path.startswith(("http://", "https://"))
        if published:
            title = f"{layer} · {path.split('//')[-1]}"
        layers = int(self.sources.chosen_source().get("layers", 1))

        def take(event: Mapping[str, Any]) -> None:
            if event["event"] != "done":
                self.tell("bad", event["text"])
                return
            now = self.sources.chosen_source()
            if now.get("path") == path and now.get("layer") == layer:
                self.viewer.show_source(event["layer"], title, {"path": path, "layer": layer, "layers": layers})

        if published:
            self.publisher.ask("look_published", take, self, address=path, dataset=layer, token_from=self.publisher.variable(path))
        else:
            figures = str(self.sources.chosen_source().get("figures", ""))
            says = f"Reading {title}{f': {figures}' if figures else ''} …"
            self.session.ask("open", take, says=says, path=path, layer=layer, key=key)

    def _show_published(self) -> None:
        """Published datasets among the sources."""
        told = []
        for address, service in self.publisher.services.items():
            name = "Practice server" if service.practice else address.split("//")[-1]
            found = [(d["id"], d["title"], "" if d["count"] is None else f"{d['count']:,}") for d in service.datasets or ()]
            told.append((address, name, found))
        self.sources.show_published(told)

    def _take_back(self, path: str) -> None:
        """Bring a file back to what it held before rows were appended or changed."""

        def taken(event: Mapping[str, Any]) -> None:
            if event["event"] == "done":
                self.tell("good", f"{Path(path).name} is as it was before its last change.")
            else:
                self.tell("bad", event["text"])
            self.sources.look_again()
            self.session.rehearse()

        self.session.ask("take_back", taken, path=path)

    # -- files

    def begin_lesson(self, file: str) -> None:
        """Begin a lesson of the demo: its job, from an empty workflow."""
        found = self.files.lesson(file)
        if found is not None:
            self.lesson.begin(*found)
            self.files.opened.emit()

    def _opened(self) -> None:
        self.banner.hide()
        self.pages.turn_to(WORK)
        self.sources.refresh()
        if self.publisher.addresses():
            self.publisher.refresh()
        self.ledger.setFocus()

    def _not_opened(self, sentence: str) -> None:
        if not self.pages.at_work:
            QMessageBox.warning(self, "Eskret", sentence)
        else:
            self.tell("bad", sentence)

    # -- beside the ledger

    def _own_told(self, tone: str, text: str) -> None:
        """What there is to say of the project's own code; nothing takes it away again."""
        if text:
            self.tell(tone, text)
            self.code_button.show()
        elif self.code_button.isVisible():
            self.banner.hide()

    def show_script(self, on: bool) -> None:
        """The workflow as Python beside the ledger, or not."""
        self.show_beside("script", on)

    def show_console(self, on: bool) -> None:
        """The Python pane, or not."""
        self.show_beside("console", on)

    def show_beside(self, name: str, on: bool) -> None:
        """``script`` or ``console`` at the right of the ledger, or not."""
        if self.pages.at_work:
            self.pages.turn_to(WORK)
            self.side.show_pane(name, on)

    def add_parameter(self) -> None:
        """Add a parameter, and show it."""
        if self.pages.at_work:
            self.show_parameters(True)
            self.views.parameters.add()

    def switch_following(self) -> None:
        """Make figures anew after every edit, or only when asked; remembered."""
        on = not self.session.keeps_current
        self._settings.setValue(_FOLLOWS, "yes" if on else "no")
        self.session.keep_current(on)

    def update_figures(self) -> None:
        """Make the figures that are not there, however long they take."""
        self.session.make_current(asked=True)
        if self.session.current.working:
            return
        if self.session.forecast.errors:
            self.tell("look", "The figures of all steps that can run are up to date; Rehearse says what is wrong with the others.")
        else:
            self.tell("good", "The figures are up to date; Run writes the outputs.")

    def switch_theme(self) -> None:
        """Light or dark, remembered."""
        name = "light" if theme.palette.name == "dark" else "dark"
        theme.follows = False
        self._settings.setValue("theme", name)
        theme.use(name)

    # -- Qt

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(u.isLocalFile() for u in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """A workflow is opened; data files become a load step."""
        paths = [Path(u.toLocalFile()) for u in event.mimeData().urls() if u.isLocalFile()]
        workflows = [p for p in paths if p.suffix in (".toml", ".zip", ".py")]
        if workflows:
            self.files.open_path(workflows[0])
        elif paths:
            if not self.pages.at_work:
                self.session.new(paths[0].parent)
                self.pages.turn_to(WORK)
            self.session.load_files([str(p) for p in paths])

    def close_down(self) -> bool:
        """End what is under way; False where the analyst would rather stay."""
        finish_typing()
        if not self.files.may_leave():
            return False
        self.own.close_down()
        self.side.close_down()
        self._beside.close()
        self.viewer.close_down()
        self.sources.close_down()
        self.views.close_down()
        self.publisher.close_down()
        self.saving.close_down()
        self.session.close()
        return True

    def warm_later(self) -> None:
        """Start the workers once the window is on screen, and have the operations imported and learnt beside its thread."""
        QTimer.singleShot(0, self.session.warm)
        QTimer.singleShot(_LATER, lambda: self._beside.run(partial(find_operations, "step"), lambda _: None))
