"""Saves what is on the map: the picture of it, and the style of the layer in hand; and the report of the last run."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QWidget

from eskret.core.style.style import CLASSES
from eskret.desktop.map_view.canvas import symbols
from eskret.desktop.map_view.picture import PictureOptions, save
from eskret.desktop.panes.viewer import LEAVING, Viewer
from eskret.desktop.state.background import Background
from eskret.desktop.state.session import Session
from eskret.desktop.theme.style import theme
from eskret.desktop.views.picture import MapBox, ask_file
from eskret.errors import EskretError
from eskret.formats.sld import sld_text, write_sld
from eskret.workflow.history.runs import Whole


class Saving(QObject):
    """Asks where, writes, and tells how it went."""

    told = Signal(str, str)  # tone, sentence

    def __init__(self, session: Session, viewer: Viewer, window: QWidget) -> None:
        super().__init__(window)
        self._session, self._viewer, self._window = session, viewer, window
        self._background = Background(self)

    def close_down(self) -> None:
        """Let no work outlive the window."""
        self._background.close()

    def save_map(self) -> MapBox:
        """Ask how the map is to be saved."""
        view = self._viewer.canvas.view
        name = f"{self._viewer.key or 'map'}"
        box = MapBox(self._session.folder, name, self._session.document.title, (view.width, view.height), self._window)
        box.asked.connect(self._save)
        box.open()
        return box

    def _save(self, path: Path, wanted: PictureOptions) -> None:
        scene, view, palette = self._viewer.canvas.scene, self._viewer.canvas.view, theme.palette

        def work() -> str:
            try:
                save(scene, view, path, wanted, palette)
            except EskretError as error:
                return error.sentence()
            return ""

        def take(problem: str) -> None:
            self.told.emit("bad" if problem else "good", problem or f"The map is saved as {path}.")

        self._background.run(work, take)

    def save_report(self) -> None:
        """Ask where the report of the last run is to be written, and have it written."""
        session = self._session
        name = session.path.stem if session.path is not None else "run"
        path = ask_file(self._window, "Save the report", session.folder / f"{name}-report.html", "Web page (*.html)")
        if path is not None:
            self.save_report_to(path if path.suffix else path.with_suffix(".html"))

    def save_report_to(self, path: Path) -> None:
        """Have the report of the last run written."""
        session = self._session
        told = {k: v for k, v in session.last_run.items() if k not in ("event", "by", "job")}
        layers = []
        for step in session.document.steps:
            view = session.view(step.id)
            if view is not None and step.use in ("save", "publish"):
                layers += [[step.id, dict(info)] for info in view["leaving"]]
        if not layers:
            last = next((s for s in reversed(session.document.steps) if session.view(s.id) is not None), None)
            layers = [[last.id, dict(i)] for i in (session.view(last.id) or {})["leaving"]] if last is not None else []

        take = partial(self._report_told, path)
        text, folder = session.document.to_text(), str(session.folder)
        session.ask("report", take, self, "Writing the report …", text=text, folder=folder, told=told, layers=layers, path=str(path))

    def save_report_of(self, whole: Whole) -> None:
        """Ask where the report of a run of earlier is to be written, and have it written."""
        kept = whole.kept
        begin = Path(kept.folder) / f"{Path(kept.workflow).stem or 'run'}-{kept.id}-report.html"
        path = ask_file(self._window, "Save the report", begin, "Web page (*.html)")
        if path is None:
            return
        path = path if path.suffix else path.with_suffix(".html")

        def got(event: Mapping[str, Any]) -> None:
            views = event.get("views", {})
            layers = [[id, info] for id, view in views.items() for info in view["leaving"]]
            session.ask(
                "report",
                partial(self._report_told, path),
                self,
                "Writing the report …",
                text=whole.text,
                folder=kept.folder,
                told=dict(whole.told),
                layers=layers,
                path=str(path),
            )

        session = self._session
        session.ask("reopen", got, self, run=kept.id)

    def _report_told(self, path: Path, event: Mapping[str, object]) -> None:
        done = event["event"] == "done"
        self.told.emit("good" if done else "bad", f"The report is saved as {path}." if done else str(event["text"]))

    def write_style(self) -> None:
        """Ask where the style is to be written, and write it."""
        layer, _ = self._viewer.current()
        if layer is None:
            return
        path = ask_file(self._window, "Write the style", self._session.folder / f"{layer.key}.sld", "OGC SLD (*.sld)")
        if path is None:
            return
        whole = path if path.suffix else path.with_suffix(".sld")
        if whole != path and whole.exists():
            # the question whether to replace it was asked of another name
            self.told.emit("look", f"There is a {whole.name} already. Choose it by its whole name to replace it.")
            return
        self.write_style_to(whole)

    def write_style_to(self, path: Path) -> None:
        """Write the style of the layer in hand as OGC SLD."""
        layer, _ = self._viewer.current()
        if layer is None:
            return
        style = self._viewer.style()
        held = style.field in layer.table.column_names
        breaks = self._viewer.stage.breaks(layer, style) if style.by == CLASSES and held else ()
        if breaks is None:
            self.told.emit("look", "The classes are still being found. Write the style when they are.")
            return
        usual = symbols()["leaving" if self._viewer.view == LEAVING else "plain"].fill
        column = layer.table.schema.field(style.field).type if held else None
        try:
            write_sld(sld_text(style, layer.key, layer.kind, column, breaks, usual), path)
        except EskretError as error:
            self.told.emit("bad", error.sentence())
            return
        self.told.emit("good", f"The style of {layer.key} is written as {path}.")
