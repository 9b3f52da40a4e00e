"""The files that steps read: one that changes, comes or goes counts as an edit of the steps that read it. No widgets."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

from eskret.desktop.state.background import Background
from eskret.errors import EskretError
from eskret.formats.sources import find_files, is_source
from eskret.operations.registry import operation_by_id
from eskret.operations.settings import setting_info
from eskret.workflow.model.document import Document
from eskret.workflow.model.references import with_parameters

MOST = 500
"""More files than this are not watched one by one: only what comes into their folders and goes from them is noticed at once."""

State = tuple[tuple[str, ...], tuple[tuple[str, int, int], ...]]
"""What a step's settings say of files, and those that are there with their size and time of change."""


def said_of_files(document: Document, values: Mapping[str, Any]) -> dict[str, tuple[str, ...]]:
    """What the steps say of files that they read: names, folders and patterns, by step."""
    out: dict[str, tuple[str, ...]] = {}
    for step in document.steps:
        try:
            infos = setting_info(operation_by_id(step.use).Settings)
            names = [n for n in step.settings if n in infos and infos[n].kind in ("files", "file", "wordlist")]
            settings = with_parameters({n: step.settings[n] for n in names}, values)
        except EskretError:
            continue
        said = tuple(str(one) for v in settings.values() if v for one in (v if isinstance(v, list) else [v]))
        if said:
            out[step.id] = said
    return out


def states(said_by_step: Mapping[str, tuple[str, ...]], folder: Path) -> dict[str, State]:
    """The files that are there for what the steps say."""
    out: dict[str, State] = {}
    for id, said in said_by_step.items():
        found: dict[str, tuple[str, int, int]] = {}
        for one in said:
            try:
                # whatever is named outright is looked at; of a folder or a pattern what can be read
                paths = find_files([one], folder, other_endings=() if is_source(Path(one)) or not Path(one).suffix else (Path(one).suffix,))
            except EskretError:
                continue
            for path in paths:
                try:
                    told = path.stat()
                except OSError:
                    continue
                found[str(path)] = (str(path), told.st_size, told.st_mtime_ns)
        out[id] = (said, tuple(sorted(found.values())))
    return out


def changed(before: Mapping[str, State], after: Mapping[str, State]) -> set[str]:
    """The steps that read the same settings and other files than before."""
    return {id for id, (said, files) in after.items() if id in before and before[id][0] == said and before[id][1] != files}


class InputFiles(QObject):
    """Looks at them beside the window's thread, after an edit and when something happens to them."""

    moved = Signal(set)  # steps

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._background = Background(self)
        self._asked: tuple[dict[str, tuple[str, ...]], Path] | None = None
        self._known: dict[str, State] = {}
        self._busy = self._again = False
        self._watcher = QFileSystemWatcher(self)
        self._soon = QTimer(self, singleShot=True, interval=400)
        self._soon.timeout.connect(self._look)
        for happened in (self._watcher.fileChanged, self._watcher.directoryChanged):
            happened.connect(lambda _: self._soon.start())

    def follow(self, document: Document, values: Mapping[str, Any], folder: Path, anew: bool = False) -> None:
        """Look at the files of these steps from now on; ``anew`` knows nothing of them yet. Other edits make nobody look again."""
        asked = said_of_files(document, values), folder
        if anew:
            self._known = {}
        if anew or asked != self._asked:
            self._asked = asked
            self._soon.start()

    def close(self) -> None:
        """Let no look outlive the window."""
        self._soon.stop()
        self._background.close()

    def _look(self) -> None:
        if self._asked is None:
            return
        if self._busy:
            self._again = True
            return
        self._busy = True
        self._background.run(partial(states, *self._asked), partial(self._take, self._asked))

    def _take(self, asked: object, found: dict[str, State]) -> None:
        self._busy = False
        if self._again or asked is not self._asked:
            self._again = False
            self._look()
            return
        steps = changed(self._known, found)
        self._known = found
        files = [path for _, some in found.values() for path, _, _ in some]
        wanted = {str(Path(f).parent) for f in files} | set(files[:MOST] if len(files) <= MOST else ())
        watched = {*self._watcher.files(), *self._watcher.directories()}
        if watched - wanted:
            self._watcher.removePaths(sorted(watched - wanted))
        if wanted - watched:
            self._watcher.addPaths(sorted(wanted - watched))
        if steps:
            self.moved.emit(steps)
