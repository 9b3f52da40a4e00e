"""Opening and saving: dialogs, what was opened lately, and what is not saved yet."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from platformdirs import user_data_path
from PySide6.QtCore import QObject, QSettings, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from eskret.core.naming import clean_name
from eskret.core.words import moment
from eskret.desktop.state.session import Session
from eskret.errors import EskretError
from eskret.workflow.faces.script import to_script
from eskret.workflow.handover.pack import ENDING as PACKS
from eskret.workflow.history.runs import Runs, Whole
from eskret.workflow.model import document as documents
from eskret.workflow.model.document import Document

RECENT = 8
_WORKFLOWS = "Workflows (*.toml)"
_ENDED = {"balanced": "balanced", "look": "something to look at", "failed": "failed", "stopped": "stopped"}
"""How a run ended, as the list of what was open before says it."""
_SCRIPTS = "Scripts that build workflows (*.py)"


class Files(QObject):
    """Asks with dialogs over ``window``; ``opened`` says that the session holds something else now."""

    opened = Signal()
    failed = Signal(str)  # a sentence
    recent_changed = Signal()
    unpack_asked = Signal(object)  # the path of a pack
    script_asked = Signal(object)  # the path of a script that builds workflows

    def __init__(self, session: Session, settings: QSettings, window: QWidget) -> None:
        super().__init__(window)
        self._session = session
        self._settings = settings
        self._window = window
        self.guards: list[Callable[[], bool]] = []

    def open_path(self, path: Path) -> None:
        """Open a workflow file or a folder; what cannot be opened is said, and what was open stays."""
        if path.suffix.lower() == PACKS:
            self.unpack_asked.emit(path)
            return
        if path.suffix.lower() == ".py":
            self.script_asked.emit(path)
            return
        if not self.may_leave():
            return
        try:
            workflows = sorted(p for p in path.glob("*.toml") if p.is_file()) if path.is_dir() else [path]
            if path.is_dir() and len(workflows) != 1:
                self._session.new(path.resolve())
            else:
                self._session.open(workflows[0])
                self._remember(workflows[0])
        except EskretError as error:
            self.failed.emit(error.sentence())
            return
        self.opened.emit()

    def reopen(self, whole: Whole) -> bool:
        """Open a workflow as it was at a run of earlier; False where what is open is not left, or it cannot be."""
        if not self.may_leave():
            return False
        kept = whole.kept
        try:
            self._session.reopen(
                whole.document, Path(kept.workflow) if kept.workflow else None, Path(kept.folder), kept.given, whole.told, kept.id
            )
        except EskretError as error:
            self.failed.emit(error.sentence())
            return False
        self.opened.emit()
        return True

    def open_demo(self) -> None:
        """Open the demo in the user's data folder, made the first time; what was changed in it stays."""
        from eskret.demo.generate import lessons

        self.open_path(lessons(_demo())[0])

    def lesson(self, file: str) -> tuple[Document, Path] | None:
        """A lesson's workflow and the folder of the demo, made where it is not there; None where what is open is not left."""
        if not self.may_leave():
            return None
        home = _demo()
        try:
            return documents.read(home / file), home
        except EskretError as error:
            self.failed.emit(error.sentence())
            return None

    def new_in_folder(self) -> None:
        """Choose a folder and begin an empty workflow in it."""
        folder = QFileDialog.getExistingDirectory(self._window, "The folder that holds your files", str(self._session.folder))
        if folder and self.may_leave():
            self._session.new(Path(folder))
            self.opened.emit()

    def open_dialog(self) -> None:
        """Choose a workflow file."""
        path, _ = QFileDialog.getOpenFileName(
            self._window, "Open a workflow", str(self._session.folder), f"{_WORKFLOWS};;{_SCRIPTS};;All (*)"
        )
        if path:
            self.open_path(Path(path))

    def unpack_dialog(self) -> None:
        """Choose a pack that was handed over."""
        path, _ = QFileDialog.getOpenFileName(self._window, "Unpack what was handed over", str(self._session.folder), "Packs (*.zip)")
        if path:
            self.unpack_asked.emit(Path(path))

    def save(self) -> None:
        """Save, or ask for a name the first time."""
        if self._session.path is None:
            self.save_as()
        else:
            self._save(None)

    def save_as(self) -> None:
        """Save under another name."""
        name = clean_name(self._session.document.title) or "workflow"
        begin = str(self._session.folder / f"{name}.toml")
        path, _ = QFileDialog.getSaveFileName(self._window, "Save the workflow", begin, _WORKFLOWS)
        if path:
            self._save(Path(path if path.endswith(".toml") else f"{path}.toml"))

    def _save(self, target: Path | None) -> None:
        try:
            self._session.save(target)
        except EskretError as error:
            self.failed.emit(error.sentence())
            return
        if target is not None:
            self._remember(target)

    def save_script(self) -> None:
        """Save Python that rebuilds the workflow."""
        session = self._session
        file = session.path.name if session.path else "workflow.toml"
        begin = str(session.folder / f"{Path(file).stem}.py")
        path, _ = QFileDialog.getSaveFileName(self._window, "Save as a Python script", begin, "Python (*.py)")
        if path:
            try:
                Path(path).write_text(to_script(session.document, file), encoding="utf-8")
            except (EskretError, OSError) as error:
                self.failed.emit(str(error))

    def may_leave(self) -> bool:
        """Ask about what is not saved, here and in other views; False where the analyst stays."""
        session = self._session
        mine = not session.dirty or may_leave(
            self._window, f"“{session.document.title}” has changes that are not saved.", self.save, lambda: not session.dirty
        )
        return mine and all(guard() for guard in self.guards)

    def recent_told(self) -> list[tuple[str, str, str]]:
        """Files opened lately, each with how its last run ended in words, and as a state."""
        runs, out = Runs(), []
        for path in self.recent():
            found = runs.find(workflow=Path(path), most=1) if path.endswith(".toml") else []
            said = f"{_ENDED.get(found[0].state, found[0].state)} {moment(found[0].started)}" if found else "not run yet"
            out.append((path, said, found[0].state if found else ""))
        return out

    def recent(self) -> list[str]:
        """Files opened lately that are still there, the last first."""
        found: Any = self._settings.value("recent", [])
        paths = [found] if isinstance(found, str) else list(found or [])
        return [p for p in paths if Path(p).exists()]

    def _remember(self, path: Path) -> None:
        paths = [str(path.resolve()), *(p for p in self.recent() if p != str(path.resolve()))]
        self._settings.setValue("recent", paths[:RECENT])
        self.recent_changed.emit()


def _demo() -> Path:
    """The demo's folder among the user's data, made the first time."""
    from eskret.demo.generate import lessons, make

    home = user_data_path("eskret", appauthor=False) / "demo" / "orrel-sound"
    if not lessons(home):
        make(home)
    return home


def may_leave(window: QWidget, text: str, save: Callable[[], object], saved: Callable[[], bool]) -> bool:
    """Ask whether to save before leaving; False where the analyst stays, or what was to be saved could not be."""
    box = QMessageBox(window)
    box.setText(text)
    keep = box.addButton("Save", QMessageBox.ButtonRole.AcceptRole)
    drop = box.addButton("Discard", QMessageBox.ButtonRole.DestructiveRole)
    box.addButton("Cancel", QMessageBox.ButtonRole.RejectRole)
    box.exec()
    if box.clickedButton() is keep:
        save()
        return saved()
    return box.clickedButton() is drop
