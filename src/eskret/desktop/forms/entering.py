"""The editor of what enters a step: earlier steps, or single layers of them."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QAction, QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QSizePolicy, QWidget

from eskret.desktop.forms.setting_editors import SettingEditor
from eskret.desktop.state.paths import relative
from eskret.desktop.state.session import Session
from eskret.desktop.theme.icons import icon
from eskret.desktop.theme.style import theme
from eskret.operations.sentences import join_words
from eskret.workflow.model.references import Reference


class Opener(QPushButton):
    """A field with a wedge that opens a menu. (A button's own menu would take the room of its text.)"""

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        icon("wedge", theme.colour("faint")).paint(painter, self.width() - 22, 0, 16, self.height())
        painter.end()


class MenuEditor(SettingEditor):
    """A button that says what is chosen and opens a list to choose from."""

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.button = Opener()
        self.button.setObjectName("entering")
        self.button.setAccessibleName(name)
        self.button.setMinimumWidth(60)
        self.button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.menu = QMenu(self.button)
        self.menu.aboutToShow.connect(self.fill)
        self.button.clicked.connect(lambda: self.menu.popup(self.button.mapToGlobal(QPoint(0, self.button.height()))))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.button, 1)
        self.watch(self.button)

    def fill(self) -> None:
        """Put what can be chosen into the menu."""
        raise NotImplementedError

    def say(self, text: str, more: str) -> None:
        """Say what is chosen, and all of it on a tip."""
        self.button.setText(self.button.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, 236))
        self.button.setToolTip(more)

    def tick(self, words: str, chosen: bool, do: Callable[[bool], None]) -> None:
        """An entry that is ticked or not."""
        action = QAction(words, self.menu)
        action.setCheckable(True)
        action.setChecked(chosen)
        action.triggered.connect(lambda on: do(on))
        self.menu.addAction(action)

    def word(self, text: str) -> None:
        """A line that only says something."""
        action = QAction(text, self.menu)
        action.setEnabled(False)
        self.menu.addAction(action)

    def target(self) -> QWidget:
        return self.button


class EnteringEditor(MenuEditor):
    """What enters a step: earlier steps, or single layers of them."""

    def __init__(self, session: Session, step: str, parent: QWidget | None = None) -> None:
        super().__init__("Layers that enter", parent)
        self._session = session
        self._step = step
        self._value: list[str] = []

    def show_value(self, value: Any) -> None:
        self._value = list(value)
        names = [r.step if r.pattern == "*" else f"{r.step} · {r.pattern}" for r in map(Reference.parse, self._value)]
        text = join_words(names, 2) if names else "choose a step or layers"
        self.say(text, "\n".join(names))

    def fill(self) -> None:
        """Every earlier step with all it makes, and below it its layers one by one."""
        self.menu.clear()
        session = self._session
        at = session.document.index(self._step)
        for step in session.document.steps[:at]:
            self._tick(step.id, f"{step.id}: all layers", 0)
            found = session.forecast.steps.get(step.id)
            leaving = found.leaving if found else []
            if len(leaving) > 1:
                for facts in leaving:
                    count = "" if facts.count is None else f"   {facts.count:,} {facts.kind}"
                    self._tick(f"{step.id}:{facts.key}", f"{facts.key}{count}", 1)
            self.menu.addSeparator()
        if not at:
            self.word("There is no step before this one")
        loaded = {f for s in session.document.steps if s.use == "load" for f in s.settings.get("files", ())}
        fresh = [(p, x) for p, x in session.seen_sources.items() if relative(p, session.folder) not in loaded]
        if fresh:
            self.word("Load and use:")
            for path, layers in fresh[:30]:
                for seen in layers:
                    name = Path(path).name if len(layers) == 1 else f"{Path(path).name} · {seen['name']}"
                    action = QAction(f"      {name}", self.menu)
                    load = partial(session.load_for, self._step, path, seen["name"], len(layers))
                    action.triggered.connect(lambda _=False, do=load: do())
                    self.menu.addAction(action)

    def _tick(self, reference: str, words: str, indent: int) -> None:
        self.tick("      " * indent + words, reference in self._value, partial(self._change, reference))

    def _change(self, reference: str, on: bool) -> None:
        step = reference.partition(":")[0]
        value = [r for r in self._value if r != reference]
        if on:
            # all layers of a step and some of them at once would be the same layers twice
            whole = ":" not in reference
            value = [r for r in value if r.partition(":")[0] != step or (":" in r and not whole)]
            value.append(reference)
        self.settled.emit(tuple(value))
