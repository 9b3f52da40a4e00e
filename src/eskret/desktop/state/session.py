"""What the window works on: the document with undo, its rehearsal, its run, the workers. No widgets here."""

from __future__ import annotations

import shutil
from collections.abc import Generator, Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QSettings, QTimer, Signal
from shiboken6 import isValid

from eskret.core.files.scratch import drop_scratch, scratch_folder
from eskret.core.naming import AS_TYPED, clean_name
from eskret.core.style.style import Style
from eskret.core.words import pluralise
from eskret.desktop.state.current_figures import CurrentFigures
from eskret.desktop.state.edit_history import EditHistory, SessionState
from eskret.desktop.state.input_files import InputFiles
from eskret.desktop.state.paths import relative
from eskret.desktop.state.waits import Waits
from eskret.errors import DocumentError, EskretError
from eskret.formats.sources import is_text
from eskret.process.client import Worker
from eskret.process.messages import FindingTold, RehearsalTold
from eskret.workflow.cache.stored import StoredLayer
from eskret.workflow.faces import ledger
from eskret.workflow.faces.said_once import findings_once
from eskret.workflow.model import document as documents
from eskret.workflow.model import edits, styles
from eskret.workflow.model.document import Document, Step
from eskret.workflow.model.map_spec import MapSaid
from eskret.workflow.model.references import Reference, bound, dependents, reference_settings
from eskret.workflow.outputs.records import outputs_path
from eskret.workflow.run.engine import makes_figures, stands

REHEARSE_AFTER = 350
"""Milliseconds of quiet after an edit before it is rehearsed."""


class Session(QObject):
    """The open workflow. Setters are edits, and each can be undone; signals say what changed."""

    changed = Signal()  # document, values, file or folder
    figures_changed = Signal()  # results, forecast
    selected_changed = Signal(str)
    run_changed = Signal()  # begins, ends
    progress = Signal(object)
    rounds_told = Signal(object)  # what happens in a run of several rounds
    told = Signal(str, str, str)  # tone (good, look, bad), text, what can be done about it at once
    _event = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._history = EditHistory()
        self.path: Path | None = None
        self.folder: Path = Path.cwd()
        self.results: dict[str, dict[str, Any]] = {}
        self.forecast = RehearsalTold()
        self.selected = ""
        self.fresh = ""
        """The step that was just added, until its first setting was left: nobody says yet what it lacks."""
        self.last_run: dict[str, Any] = {}
        self.started: set[str] = set()
        self.memory: QSettings | None = None  # what is remembered from one time to the next
        self.seen_sources: dict[str, list[dict[str, Any]]] = {}  # by path, as the panel of sources saw them
        self.source_styles: dict[tuple[str, str], Style] = {}  # of layers that no step has loaded, by path and name
        self._saved = Document()
        self._store = scratch_folder("window")
        self._runs = 0
        self._looks = 0
        self._openings = 0
        self._closed = False
        self._run_job: int | None = None
        self._in_rounds = False
        self._bound: tuple[SessionState, Document] = (self.state, self.state.document)
        self._rehearse_job: int | None = None
        self._asked = False
        self._rows: list[ledger.StepRow] | None = None
        self._found_in: RehearsalTold | None = None
        self._found: dict[str, list[FindingTold]] = {}  # of that rehearsal, by step
        for moved in (self.changed, self.figures_changed):
            moved.connect(self._forget_rows)  # before anybody else hears of it
        self._event.connect(self._take)
        self._runner = Worker(lambda e: self._event.emit({**e, "by": "runner"}))
        self._helper = Worker(lambda e: self._event.emit({**e, "by": "helper"}))
        self.current = CurrentFigures(self._store, self)
        self.keeps_current = False
        """Whether figures are made anew after every edit."""
        self.current.made.connect(self._take_current)
        self.current.changed.connect(self.figures_changed)
        self.current.changed.connect(self._tidy_current)
        self.inputs = InputFiles(self)
        self.inputs.moved.connect(self._inputs_moved)
        self.changed.connect(lambda: self._follow_inputs())
        self.run_changed.connect(lambda: self._follow_inputs(anew=True))
        self._quiet = QTimer(self, singleShot=True, interval=REHEARSE_AFTER)
        self._quiet.timeout.connect(self._rehearse_now)
        self._handlers: dict[int, Any] = {}
        self.waits = Waits(self)
        self._sketches: dict[tuple[str, str, str], list[dict[str, object]]] = {}

    def warm(self) -> None:
        """Start the workers before they are needed."""
        self._helper.warm()
        self._runner.warm()
        if self.keeps_current:
            self.current.warm()

    def close(self) -> None:
        """End the workers and take the stored results away."""
        self._closed = True
        self._quiet.stop()
        self.current.close()
        self.inputs.close()
        self._runner.close()
        self._helper.close()
        drop_scratch(self._store)

    # -- the document

    @property
    def state(self) -> SessionState:
        return self._history.state

    @property
    def document(self) -> Document:
        return self.state.document

    @property
    def bound(self) -> Document:
        """The document with the layers that parameters name put in, as far as they can be."""
        if self._bound[0] is not self.state:
            try:
                document = bound(self.document, self.values())
            except EskretError:
                document = self.document
            self._bound = (self.state, document)
        return self._bound[1]

    @property
    def dirty(self) -> bool:
        return self.document != self._saved

    @property
    def running(self) -> bool:
        return self._run_job is not None

    def value(self, name: str) -> object:
        """A parameter's value now."""
        parameter = next(p for p in self.document.parameters if p.name == name)
        return self.state.values.get(name, parameter.default)

    def values(self) -> dict[str, object]:
        """All parameters' values; a default stands in for one that cannot be."""
        out = {}
        for parameter in self.document.parameters:
            try:
                out[parameter.name] = parameter.accept(self.value(parameter.name))
            except DocumentError:
                out[parameter.name] = parameter.default
        return out

    def new(self, folder: Path | None = None) -> None:
        """Begin an empty workflow in a folder."""
        self._load(Document(title="New workflow", names=AS_TYPED), None, folder or self.folder)
        self._saved = self.document

    def take_built(self, document: Document, folder: Path) -> None:
        """Open a workflow that has no file yet."""
        self._load(document, None, folder)
        self._saved = Document()
        self.changed.emit()

    def begin_with(self, document: Document, folder: Path) -> None:
        """Begin a workflow from what somebody gives, as ``new`` begins an empty one."""
        self._load(document, None, folder)
        self._saved = self.document

    def open(self, path: Path) -> None:
        """Open a workflow file.

        Raises
        ------
        EskretError : it cannot be read; what was open stays open.
        """
        document = documents.read(path)
        self._load(document, path.resolve(), path.resolve().parent)

    def reopen(
        self, document: Document, path: Path | None, folder: Path, values: Mapping[str, object], told: Mapping[str, Any], run: int
    ) -> None:
        """Open a workflow as it was at a run of earlier, with the ledger of that run. Where its file is another by now, that
        counts as a change that is not saved."""
        try:
            saved = documents.read(path) if path is not None and path.exists() else Document()
        except EskretError:
            saved = Document()
        self._load(document, path, folder)
        known = {p.name for p in document.parameters}
        self._history.begin(SessionState(document, {n: v for n, v in values.items() if n in known}))
        self._saved = saved if saved.to_text() != document.to_text() else document
        self.last_run = dict(told)
        self.results = {s["id"]: dict(s) for s in told.get("steps", ())}
        self.changed.emit()
        self.figures_changed.emit()

        def take(event: Mapping[str, Any]) -> None:
            if event["event"] == "done" and self.state.document is document:
                for id, view in event["views"].items():
                    if id in self.results:
                        self.results[id]["view"] = view
                self.figures_changed.emit()
                self.selected_changed.emit(self.selected)

        self.ask("reopen", take, self, run=run)

    def _load(self, document: Document, path: Path | None, folder: Path) -> None:
        if self.running:
            self.stop()
        self.current.drop()
        self._history.begin(SessionState(document))
        self._saved = document
        self.path, self.folder = path, folder
        self.source_styles.clear()
        self._sketches.clear()
        self.inputs.follow(document, {}, folder, anew=True)
        self._openings += 1  # what was looked at for the workflow before this one may still be on screen
        shutil.rmtree(self._store / f"looks-{self._openings - 2}", ignore_errors=True)
        self.results.clear()
        self.forecast = RehearsalTold()
        self.last_run = {}
        self.selected = document.steps[0].id if document.steps else ""
        self.changed.emit()
        self.selected_changed.emit(self.selected)
        self._quiet.start(0)

    def save(self, path: Path | None = None) -> None:
        """Write the file.

        Raises
        ------
        EskretError : it cannot be written.
        """
        target = path or self.path
        if target is None:
            raise DocumentError("this workflow has no file yet", way_out="Choose one")
        documents.write(self.document, target)
        self._saved = self.document
        before = outputs_path(self.outputs_beside)
        if self.path is None and before.exists() and target.resolve().parent == self.folder.resolve():
            # what it wrote while it had no file stays its own
            shutil.copyfile(before, outputs_path(target.resolve()))
        moved = self.path != target.resolve()
        self.path = target.resolve()
        self.folder = self.path.parent
        self.changed.emit()
        if moved:
            self._quiet.start(0)

    # -- edits

    def edit(self, document: Document, what: str, values: Mapping[str, object] | None = None) -> None:
        """Take a changed document (and values) as an edit that can be undone."""
        before = self.state
        if self._history.edit(SessionState(document, before.values if values is None else values), what):
            self._become(before)

    def undo(self) -> None:
        """Take the last edit back."""
        before = self.state
        if self._history.undo():
            self._become(before)

    def redo(self) -> None:
        """Do again what was taken back."""
        before = self.state
        if self._history.redo():
            self._become(before)

    @property
    def undo_word(self) -> str:
        return self._history.undo_word

    @property
    def redo_word(self) -> str:
        return self._history.redo_word

    def _become(self, before: SessionState) -> None:
        """Another state is in force: what hangs on it follows."""
        self.current.drop()
        self._forget(before)
        ids = [s.id for s in self.document.steps]
        if self.selected not in ids:
            place = next((n for n, s in enumerate(before.document.steps) if s.id == self.selected), 0)
            self.selected = ids[min(place, len(ids) - 1)] if ids else ""
            self.changed.emit()
            self.selected_changed.emit(self.selected)
        else:
            self.changed.emit()
        self._quiet.start()

    def _forget(self, before: SessionState) -> None:
        """Drop the results of steps that changed, and of those that take from them."""
        after = self.state
        if before.document.crs != after.document.crs:
            self.results.clear()
            self.current.try_again({s.id for s in after.document.steps})
            return
        old = {s.id: s for s in before.document.steps}
        moved = {s.id for s in after.document.steps if replace_notes(old.get(s.id)) != replace_notes(s)}
        if self.fresh in moved:
            self.fresh = ""
        self._drop_results(moved | self._touched_by_values(self._values_of(before), self._values_of(after)))

    def _touched_by_values(self, before: Mapping[str, object], after: Mapping[str, object]) -> set[str]:
        """The steps that hang on a parameter whose value is another now, or that counts by one that is."""
        document = self.document
        names = {n for n in {*before, *after} if before.get(n) != after.get(n)}
        out: set[str] = set()
        todo = set(names)
        while todo:
            for step, name in edits.uses_of(document, todo.pop()):
                if step:
                    out.add(step)
                elif name not in names:
                    names.add(name)
                    todo.add(name)
        return out | {s.id for s in document.steps if names and s.each is not None}

    def _drop_results(self, moved: set[str]) -> None:
        """Drop the results of these steps and of those below them."""
        after = self.state
        self.current.try_again(moved)
        try:
            stale = dependents(self.bound, moved)
        except EskretError:
            stale = {s.id for s in after.document.steps}
        ids = {s.id for s in after.document.steps}
        self.results = {id: r for id, r in self.results.items() if id not in stale and id in ids}

    def _follow_inputs(self, anew: bool = False) -> None:
        """Have the files looked at that the steps read; during a run they are what it reads, and after it as it left them."""
        if not self.running:
            self.inputs.follow(self.document, self.values(), self.folder, anew)

    def _inputs_moved(self, steps: set[str]) -> None:
        """Files that steps read are others now: that counts as an edit."""
        there = {s.id for s in self.document.steps} & steps
        if self._closed or self.running or not there:
            return
        self.current.drop()
        self._drop_results(there)
        self.figures_changed.emit()
        self._quiet.start()

    @staticmethod
    def _values_of(state: SessionState) -> dict[str, object]:
        return {p.name: state.values.get(p.name, p.default) for p in state.document.parameters}

    def set_value(self, name: str, value: object) -> None:
        """Give a parameter a value for this session; the file keeps its default."""
        parameter = next(p for p in self.document.parameters if p.name == name)
        values = dict(self.state.values)
        if value == parameter.default:
            values.pop(name, None)
        else:
            values[name] = value
        self.edit(self.document, f"change {parameter.title}", values)

    def set_values(self, given: Mapping[str, object]) -> None:
        """Give several parameters values for this session, as one edit; what the type cannot be stays as it was."""
        values = dict(self.state.values)
        for parameter in self.document.parameters:
            if parameter.name not in given:
                continue
            try:
                value = parameter.accept(given[parameter.name])
            except DocumentError:
                continue  # it does not count now, or the form would not have let it pass
            if value == parameter.default:
                values.pop(parameter.name, None)
            else:
                values[parameter.name] = value
        self.edit(self.document, "change the values", values)

    def change_step(self, step: Step, what: str) -> None:
        """Exchange a step."""
        self.edit(edits.replace_step(self.document, step.id, step), what)

    def add_step(self, step: Step, at: int | None = None) -> str:
        """Put a step in and choose it; returns its id."""
        before = {s.id for s in self.document.steps}
        document = edits.add_step(self.document, step, at)
        added = next(s.id for s in document.steps if s.id not in before)
        self.edit(document, f"add {added}")
        self.select(added)
        self.fresh = added
        return added

    def place_after(self, id: str) -> int:
        """Where a step that takes from another belongs: below it and the branches made of it before, so that they stay in their order;
        above what is saved of it itself."""
        steps = self.document.steps
        at = self.document.index(id) + 1
        try:
            below = dependents(self.bound, {id})
        except EskretError:
            return at
        while at < len(steps) and steps[at].id in below:
            if steps[at].use in ("save", "publish") and any(Reference.parse(s).step == id for s in steps[at].source):
                break
            at += 1
        return at

    def add_step_after_source(self, step: Step, path: str, layer: str, layers: int) -> str:
        """Put a step in that takes from a source: from the step that loads it, which is put in as well where there is none."""
        load, at = self.load_step(path, layer, layers)
        there = next((s for s in self.document.steps if s.use == "load" and not s.off and s.settings == load.settings), None)
        document = self.document
        if there is None:
            before = {s.id for s in document.steps}
            document = edits.add_step(document, load, at)
            there = next(s for s in document.steps if s.id not in before)
        before = {s.id for s in document.steps}
        document = edits.add_step(document, replace(step, source=(there.id,)), None)
        added = next(s.id for s in document.steps if s.id not in before)
        self.edit(document, f"add {added}")
        self.select(added)
        self.fresh = added
        return added

    def load_files(self, paths: Sequence[str]) -> str:
        """Add the step that loads these files and folders, and another for texts with coordinates; the last one's id."""
        texts = [p for p in paths if is_text(Path(p))]
        layers = [p for p in paths if p not in texts]
        added = ""
        for use, chosen in (("load", layers), ("load_coordinates", texts)):
            if chosen:
                name = clean_name(Path(chosen[0]).stem) if len(chosen) == 1 else ""
                files = [relative(p, self.folder) for p in chosen]
                added = self.add_step(Step(name or use, use, (), {"files": files}), self._after_loads())
        return added

    def _after_loads(self) -> int:
        loads = [n for n, s in enumerate(self.document.steps) if s.use in ("load", "load_coordinates")]
        return loads[-1] + 1 if loads else 0

    def load_step(self, path: str, layer: str | Sequence[str], layers: int) -> tuple[Step, int]:
        """A step that loads a file, or one layer or some of it where it holds several; and where it belongs."""
        settings: dict[str, object] = {"files": [relative(path, self.folder)]}
        recording = path.lower().endswith(".gpx")
        some = [layer] if isinstance(layer, str) else list(layer)
        if some != [""] and layers > 1:
            settings["parts" if recording else "layers"] = some
        one = some[0] if len(some) == 1 else ""
        name = clean_name(one if one and layers > 1 and not recording else Path(path).stem)
        style = self.source_styles.get((path, one))
        return Step(name or "load", "load", (), settings, style={"*": style} if style else {}), self._after_loads()

    def load_for(self, id: str, path: str, layer: str, layers: int) -> None:
        """Let a source enter a step: one edit adds the step that loads it, and the reference."""
        step, at = self.load_step(path, layer, layers)
        at = min(at, self.document.index(id))
        before = {s.id for s in self.document.steps}
        document = edits.add_step(self.document, step, at)
        added = next(s.id for s in document.steps if s.id not in before)
        target = document.step(id)
        document = edits.replace_step(document, id, replace(target, source=(*target.source, added)))
        self.edit(document, f"load {added}")

    def select(self, id: str) -> None:
        """Take a step in hand."""
        if id != self.selected:
            self.selected = id
            self.settle_fresh()
            self.selected_changed.emit(id)

    def select_next_look(self) -> None:
        """Take the next step in hand that asks for a look; after the last comes the first."""
        ids = [r.id for r in self.rows() if r.state == "look"]
        if ids:
            order = [s.id for s in self.document.steps]
            here = order.index(self.selected) if self.selected in order else -1
            self.select(next((id for id in ids if order.index(id) > here), ids[0]))

    def step(self) -> Step | None:
        """The step in hand."""
        return next((s for s in self.document.steps if s.id == self.selected), None)

    # -- rehearsing and running

    def rehearse(self) -> None:
        """Rehearse now, and say what came of it."""
        self._asked = True
        self.settle_fresh()
        self._rehearse_now()

    def rehearse_soon(self) -> None:
        """Rehearse after a moment without edits, and say nothing of it."""
        self._quiet.start()

    def _rehearse_now(self) -> None:
        if self._rehearse_job is not None:
            # its answer is not wanted any more; the looks under way in the same process are
            self._helper.stop(self._rehearse_job, insist=False)
        self._rehearse_job = self._helper.send("rehearse", records=self._records(), **self.request())

    def _records(self) -> str | None:
        """Where what a workflow wrote is remembered while it has no file."""
        return None if self.path is not None else str(self.outputs_beside)

    @property
    def outputs_beside(self) -> Path:
        """The workflow's file; while it has none, the place of one among what this window keeps for the time being."""
        return self.path or self._store / f"unsaved-{self._openings}.toml"

    def request(self) -> dict[str, object]:
        """The workflow as it stands, as a worker is asked for it."""
        return {
            "text": self.document.to_text(),
            "values": dict(self.state.values),
            "folder": str(self.folder),
            "workflow": str(self.path) if self.path else None,
        }

    def keep_current(self, on: bool) -> None:
        """Make figures anew after every edit from now on, or do not."""
        self.keeps_current = on
        if on:
            self._quiet.start(0)
        else:
            self.current.drop()

    def make_current(self, asked: bool = False) -> None:
        """Have the figures made that are not there, of steps that only make figures.

        Parameters
        ----------
        asked : also of steps that take long.
        """
        if self.running or any(not f.step for f in self.forecast.errors):
            return
        wrong = {f.step for f in self.forecast.errors} | {id for id, result in self.results.items() if result["state"] == "failed"}
        able = {s.id for s in self.document.steps if not s.off and (makes_figures(s) or stands(s))}
        try:
            able -= dependents(self.bound, {s.id for s in self.document.steps if not s.off and s.id not in able} | wrong)
        except EskretError:
            return
        self.current.make(self.request(), able - set(self.results), wrong, partial(dependents, self.bound), asked)

    def _take_current(self, event: dict[str, Any]) -> None:
        """A step's figures were made. One that is there already, and was taken up as it was, does not move."""
        before = self.results.get(event["id"])
        taken_up = event["tasks"] and event["reused"] == event["tasks"]
        if before is None or not taken_up or any(before.get(n) != event[n] for n in ("inputs", "outputs", "remarks", "state")):
            self.results[event["id"]] = event  # which is shown with what is still being made

    def _tidy_current(self) -> None:
        """Take away what was made for figures that are on screen no more."""
        if not self.current.working:
            self.current.tidy({Path(path) for result in self.results.values() for path in _paths(result.get("view") or {})})

    def run(self, fresh: bool = False) -> None:
        """Run the workflow in the worker; ``fresh`` does also anew what an earlier run made and nothing has changed."""
        if self.running:
            return
        self.settle_fresh()
        self.current.drop()  # the run goes first, and takes up what was made
        self._runs += 1
        self.started.clear()
        self.results.clear()
        # the run before this one is still on screen; those before that went when it began
        shutil.rmtree(self._store / f"run-{self._runs - 2}", ignore_errors=True)
        store = self._store / f"run-{self._runs}"
        self._run_job = self._runner.send("run", store=str(store), fresh=fresh, records=self._records(), **self.request())
        self.run_changed.emit()
        self.figures_changed.emit()

    def run_rounds(self, rows: Sequence[Mapping[str, object]], go_on: bool) -> None:
        """Run the workflow in the worker once a row of values, in place of those given now."""
        if not self.running:
            self.current.drop()
            self._in_rounds = True
            self._run_job = self._runner.send("rounds", rows=[dict(r) for r in rows], go_on=go_on, **self.request())
            self.run_changed.emit()

    def rehearse_rounds(self, rows: Sequence[Mapping[str, object]], handler: object, owner: QObject) -> None:
        """Rehearse every row of values."""
        self.ask("rehearse_rounds", handler, owner, rows=[dict(r) for r in rows], **self.request())

    def stop(self) -> None:
        """Stop the run."""
        if self._run_job is not None:
            self._runner.stop(self._run_job)

    def ask(self, do: str, handler: object, owner: QObject | None = None, says: object = "", **request: object) -> int:
        """Give the helper a job; ``handler`` is called with its last event, unless its owner is gone by then.

        Parameters
        ----------
        says : what is waited for, told where it takes longer than a moment.
        """
        if do in ("open", "sketch", "reopen"):
            request["store"] = self.new_store()
        job = self._helper.send(do, **request)
        self._handlers[job] = (handler, owner)
        if says:
            self.waits.begin(job, str(says))
        return job

    def new_store(self) -> str:
        """A folder of its own for a layer that is looked at."""
        self._looks += 1
        store = self._store / f"looks-{self._openings}" / f"{self._looks}"
        store.parent.mkdir(parents=True, exist_ok=True)
        return str(store)

    def _take(self, event: dict[str, object]) -> None:
        if self._closed:
            return  # what it would show has been taken away
        if event["by"] == "helper":
            self._take_help(event)
        elif event["job"] == self._run_job:
            self._take_run(event)

    def _take_help(self, event: dict[str, object]) -> None:
        job = event["job"]
        if job == self._rehearse_job:
            self._rehearse_job = None
            if event["event"] == "done":
                self.forecast = RehearsalTold.model_validate(event)
                self.figures_changed.emit()
                if self.keeps_current:
                    self.make_current()
            if self._asked:
                self._asked = False
                self._say_forecast(event)
        elif job in self._handlers:
            handler, owner = self._handlers.pop(job)
            self.waits.end(job)
            if owner is None or isValid(owner):
                handler(event)

    def _say_forecast(self, event: dict[str, object]) -> None:
        if event["event"] != "done":
            self.told.emit("bad", event["text"], event.get("action", ""))
            return
        errors = self.forecast.errors
        looks = [f for f in self.forecast.findings if f.level == "look"]
        if errors:
            first, once = errors[0], findings_once(errors)
            more = f" And {len(once) - 1} more, marked in the ledger." if len(once) > 1 else ""
            where = f"Step {first.step}: " if first.step else ""
            self.told.emit("bad", f"{where}{once[0][2]}{more}", first.action)
            if first.step:
                self.select(first.step)
        else:
            outputs = [o for s in self.forecast.steps.values() for o in s.outputs]
            will = f"{pluralise(len(outputs), 'output')} foretold"
            text = f"Ready to run: {will}, nothing written. Rehearsed in {self.forecast.seconds:.1f} s."
            if looks:
                text += f" To look at: {findings_once(looks)[0][2]}"
            self.told.emit("look" if looks else "good", text, "")

    def _take_run(self, event: dict[str, Any]) -> None:
        kind = event["event"]
        if event.get("note"):
            self.told.emit("look", str(event["note"]), "")
        if self._in_rounds:
            if kind == "progress":
                self.progress.emit(event)
            else:
                self.rounds_told.emit(event)
            if kind in ("done", "error", "crashed"):
                self._in_rounds, self._run_job = False, None
                self.run_changed.emit()
                self._quiet.start(0)
            return
        if kind == "step_started":
            self.started.add(event["step"])
            self.figures_changed.emit()
        elif kind == "progress":
            self.progress.emit(event)
        elif kind == "step_finished":
            self.started.discard(event["id"])
            self.results[event["id"]] = event
            self.figures_changed.emit()
        elif kind == "run_finished":
            self.last_run = event
        elif kind in ("done", "error", "crashed"):
            self._end_run(event)

    def _end_run(self, event: dict[str, Any]) -> None:
        self._run_job = None
        unfinished = set(self.started)
        self.started.clear()
        kind = event["event"]
        if kind == "done":
            state, error = self.last_run["state"], self.last_run["error"]
            rows = ledger.rows(self.document, self.results, values=self.state.values)
            summary = ledger.summary([r for r in rows if r.state])
            if state in ("balanced", "look"):
                looks = any(r.state == "look" for r in rows)
                tone, text = "good" if state == "balanced" else "look", f"Run finished: {summary}.{_said(self.last_run)}"
                self.told.emit(tone, text, "show" if looks else "")
            else:
                self.told.emit("bad", error, "")
        else:
            self.told.emit("look" if event.get("stopped") else "bad", event["text"], event.get("action", ""))
            for finding in event.get("findings", ())[:1]:
                if finding["step"]:
                    self.select(finding["step"])
            self.last_run = {
                "state": "stopped" if event.get("stopped") else "failed",
                "seconds": 0.0,
                "error": event["text"],
                "outputs": [],
            }
        if kind == "crashed":
            for id in unfinished:
                self.results[id] = {
                    "id": id,
                    "use": "",
                    "state": "failed",
                    "seconds": 0.0,
                    "inputs": [],
                    "outputs": [],
                    "remarks": [],
                    "error": event["text"],
                }
        self.run_changed.emit()
        self.figures_changed.emit()
        self._quiet.start(0)

    # -- how layers are drawn

    def line_of(self, layer: StoredLayer, step: str = "") -> styles.Line:
        """The steps a stored layer came through; of one that no run has made, the step it is shown at."""
        line = [(str(id), str(key)) for id, key in layer.info.get("line", ())]
        return line or [(step or self.selected, layer.key)]

    def style_of(self, layer: StoredLayer) -> Style:
        """How a stored layer is drawn."""
        return styles.style_for(self.document, self.line_of(layer))

    def set_style(self, place: tuple[str, str], style: Style | None, what: str) -> None:
        """Say how a layer is drawn from a step on: step and key, or a pattern of keys; None says nothing."""
        step = next((s for s in self.document.steps if s.id == place[0]), None)
        if step is not None:
            self.change_step(styles.with_style(step, place[1], style), what)

    def change_map(self, said: MapSaid, what: str) -> None:
        """Say what else is on the map."""
        self.edit(replace(self.document, map=said), what)

    # -- what is shown

    def rows(self) -> list[ledger.StepRow]:
        """The ledger's rows as they stand; made once between two signals that something has changed."""
        if self._rows is None:
            self._rows = ledger.rows(self.document, self.results, self.forecast.steps, self.state.values)
        return self._rows

    def _forget_rows(self) -> None:
        self._rows = None

    def findings(self, id: str) -> list[FindingTold]:
        """What the last rehearsal says of a step; of one just added not yet what it lacks."""
        if self._found_in is not self.forecast:
            self._found_in, self._found = self.forecast, {}
            for finding in self.forecast.findings:
                self._found.setdefault(finding.step, []).append(finding)
        return [f for f in self._found.get(id, ()) if id != self.fresh or f.level != "error"]

    def settle_fresh(self) -> None:
        """The step that was just added is one like the others from now on."""
        if self.fresh:
            self.fresh = ""
            self.figures_changed.emit()

    def view(self, id: str) -> Mapping[str, Any] | None:
        """Where a step's layers are stored, if it ran."""
        return self.results.get(id, {}).get("view")

    def fields_entering(self, id: str) -> list[tuple[str, str]]:
        """Names and types of the fields that enter a step, in the order of its layers, each once."""
        found = self.forecast.steps.get(id)
        out: dict[str, str] = {}
        for layer in found.entering if found else ():
            out.update({name: word for name, word in layer.fields if name not in out})
        return list(out.items())

    def fields_for(self, id: str, setting: str = "") -> list[tuple[str, str]]:
        """Names and types of the fields of the layers that a setting of a step names; of those that enter, without one."""
        if not setting:
            return self.fields_entering(id)
        step = next((s for s in self.document.steps if s.id == id), None)
        reference = Reference.parse(str(step.settings.get(setting) or "") if step else "")
        found = self.forecast.steps.get(reference.step)
        out: dict[str, str] = {}
        for layer in found.leaving if found else ():
            if reference.means(layer):
                out.update({name: word for name, word in layer.fields if name not in out})
        return list(out.items())

    def fields_of(self, reference: str) -> list[tuple[str, str]]:
        """Names and types of the fields of the first layer that a reference names, as the rehearsal knows them."""
        asked = Reference.parse(reference)
        found = self.forecast.steps.get(asked.step)
        for layer in found.leaving if found else ():
            if asked.means(layer):
                return list(layer.fields)
        return []

    def others_stored(self, id: str) -> list[StoredLayer]:
        """Stored layers that a step's settings name: from its own run, or from the steps they belong to."""
        view = self.view(id)
        if view:
            return [StoredLayer(i) for i in view.get("others", ())]
        step = next((s for s in self.document.steps if s.id == id), None)
        if step is None:
            return []
        out = []
        for name in reference_settings(step):
            reference = Reference.parse(str(step.settings.get(name) or ""))
            out += [x for x in map(StoredLayer, self.leaving(reference.step)) if reference.means(x)]
        return out

    def leaving(self, id: str) -> Sequence[Mapping[str, object]]:
        """What is stored of the layers that leave a step: from its run, or, of a sketch, as it was drawn."""
        view = self.view(id)
        if view is not None:
            return list(view["leaving"])
        step = next((s for s in self.document.steps if s.id == id), None)
        if step is None or step.use != "sketch":
            return []
        asked = (id, str(dict(step.settings)), self.document.crs)
        if asked not in self._sketches:
            self._sketches[asked] = []

            def take(event: dict[str, Any]) -> None:
                if event["event"] == "done":
                    self._sketches[asked] = [event["layer"]]
                    self.figures_changed.emit()

            self.ask("sketch", take, step=id, settings=dict(step.settings), crs=self.document.crs)
        return self._sketches[asked]

    def leaving_stored(self, id: str) -> list[StoredLayer]:
        """Stored layers that a step left in the last run."""
        return [StoredLayer(dict(i)) for i in self.leaving(id)]

    def entering_stored(self, id: str) -> list[StoredLayer]:
        """Stored layers that enter a step: from its own run, or from the steps it takes from."""
        view = self.view(id)
        if view:
            return [StoredLayer(i) for i in view["entering"]]
        step = next((s for s in self.bound.steps if s.id == id), None)
        out: list[StoredLayer] = []
        for reference in map(Reference.parse, step.source if step else ()):
            out += [x for x in map(StoredLayer, self.leaving(reference.step)) if reference.means(x)]
        return list({x.home: x for x in out}.values())


def _paths(view: Mapping[str, Any]) -> Generator[str, None, None]:
    """Where what a step's view shows is stored."""
    for told in view.values():
        for one in told.values() if isinstance(told, Mapping) else told:
            yield str(one["path"])


def _said(run: Mapping[str, Any]) -> str:
    """What a run has to say as a whole, such as that it completed an earlier one first."""
    looks = [r["text"] for r in run.get("remarks", ()) if r["look"]]
    return f" {looks[0]}" if looks else ""


def replace_notes(step: Step | None) -> Step | None:
    """A step without what does not change its result."""
    return None if step is None else replace(step, heading="", note="", style={})
