"""The settings of a step that uses another workflow: the parameters of that one, its layers among them."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from eskret.desktop.forms.binding import BindButton
from eskret.desktop.forms.entering import MenuEditor
from eskret.desktop.forms.layers_editor import LayerEditor
from eskret.desktop.forms.parameter_editors import ValueEditor
from eskret.desktop.forms.parameter_form import offers_of
from eskret.desktop.forms.setting_editors import SettingEditor
from eskret.desktop.state.paths import relative
from eskret.desktop.state.session import Session
from eskret.errors import EskretError
from eskret.operations.settings import SettingInfo
from eskret.workflow.faces.catalogue import read_cached, workflows_in
from eskret.workflow.model.document import Document
from eskret.workflow.model.parameters import Parameter, enabled


class WorkflowEditor(MenuEditor):
    """Which workflow: one of the folder's, or any other file."""

    def __init__(self, info: SettingInfo, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(info.label, parent)
        self._session = session
        self._value = ""

    def show_value(self, value: object) -> None:
        self._value = str(value or "")
        self.say(self._value or "choose a workflow", self._value)

    def fill(self) -> None:
        self.menu.clear()
        for path, document in workflows_in(self._session.folder):
            if self._session.path is None or path != self._session.path:
                self.tick(f"{path.name}   {document.title}", path.name == self._value, partial(self._take, path.name))
        self.menu.addSeparator()
        self.menu.addAction("Another file …").triggered.connect(lambda _=False: self._choose())

    def _take(self, name: str, _checked: bool = True) -> None:
        self.settled.emit(name)

    def _choose(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "A workflow to use", str(self._session.folder), "Workflows (*.toml)")
        if path:
            self.settled.emit(relative(path, self._session.folder))


class InnerEditor(SettingEditor):
    """A field for each parameter of the workflow that a step uses. It changes the step itself: values and layers both."""

    def __init__(self, session: Session, step: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._step = session, step
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(9)
        self.empty = QLabel()
        self.empty.setObjectName("faint")
        self.empty.setAccessibleName("Its parameters")
        self.empty.setWordWrap(True)
        self._column.addWidget(self.empty)
        self.rows: dict[str, _Row] = {}
        self._document: Document | None = None
        self._asked: tuple[object, ...] = ()

    def show_value(self, value: object) -> None:
        """Show the step as it stands."""
        step = next((s for s in self._session.document.steps if s.id == self._step), None)
        if step is None:
            return
        document, problem = self._inner(str(step.settings.get("file") or ""))
        if document is None or self._document is None or document.parameters != self._document.parameters:
            for row in self.rows.values():
                row.setParent(None)
                row.deleteLater()
            self.rows = {}
            for parameter in document.parameters if document is not None else ():
                row = _Row(self._session, self._step, parameter, self._settle)
                self.rows[parameter.name] = row
                self._column.addWidget(row)
        self._document = document
        nothing = document is not None and not document.parameters
        self.empty.setText(problem or ("It has no parameters." if nothing else ""))
        self.empty.setVisible(bool(self.empty.text()))
        values, layers = dict(step.settings.get("values", {})), dict(step.settings.get("layers", {}))
        given = {p.name: values.get(p.name, p.default) for p in document.parameters} if document is not None else {}
        for name, row in self.rows.items():
            by = row.parameter.enabled_by
            # a value that comes of a parameter is not known here, so nothing can be said to hang on it
            unknown = by is None or document is None or isinstance(given.get(by.parameter), Mapping)
            counts = unknown or enabled(document.parameters if document is not None else (), name, given)
            row.setEnabled(counts)
            row.setToolTip("" if counts else "It does not count as the others are set.")
            row.show_value(layers.get(name, values.get(name)), name in layers or name in values)
        self._ask(str(step.settings.get("file") or ""), values)

    def _inner(self, file: str) -> tuple[Document | None, str]:
        if not file:
            return None, "Choose a workflow first."
        path = Path(file) if Path(file).is_absolute() else self._session.folder / file
        try:
            return read_cached(path), ""
        except EskretError as error:
            return None, error.sentence()

    def _ask(self, file: str, values: Mapping[str, object]) -> None:
        """Read the choices that its parameters have, with the values given here."""
        document = self._document
        if document is None or not any(p.choices_from is not None for p in document.parameters):
            return
        plain = {k: v if isinstance(v, bool | int | float) else str(v) for k, v in values.items() if not isinstance(v, Mapping)}
        asked = (file, document.to_text(), tuple(plain.items()))
        if asked == self._asked:
            return
        self._asked = asked
        folder = (self._session.folder / file).parent

        def take(event: Mapping[str, Any]) -> None:
            if asked == self._asked and event["event"] == "done":
                for name, offer in offers_of(event["offers"]).items():
                    if name in self.rows:
                        self.rows[name].show_offer(offer)

        self._session.ask("offers", take, self, text=document.to_text(), values=plain, folder=str(folder))

    def _settle(self, parameter: Parameter, value: object) -> None:
        """Take a value; None gives the workflow's own back."""
        session = self._session
        step = session.document.step(self._step)
        table = "layers" if parameter.type == "layer" and not isinstance(value, Mapping) else "values"
        settings = dict(step.settings)
        for name in ("values", "layers"):
            kept = {k: v for k, v in settings.get(name, {}).items() if k != parameter.name}
            if name == table and value is not None:
                kept[parameter.name] = value
            if kept:
                settings[name] = kept
            else:
                settings.pop(name, None)
        session.change_step(replace(step, settings=settings), f"change {parameter.title}")

    def target(self) -> QWidget:
        first = next(iter(self.rows.values()), None)
        return first.target() if first is not None else self.empty


class _Row(QWidget):
    """One parameter of the inner workflow."""

    def __init__(self, session: Session, step: str, parameter: Parameter, settle: Callable[[Parameter, object], None]) -> None:
        super().__init__()
        self.parameter = parameter
        self._settle_with = settle
        self._shown: object = None
        self.layer: LayerEditor | None = None
        self.editor: ValueEditor | None = None
        if parameter.type == "layer":
            self.layer = LayerEditor(SettingInfo(parameter.title, parameter.help, "layer", tables=True), session, step)
            self.layer.settled.connect(lambda value: settle(parameter, value or None))
        else:
            self.editor = ValueEditor(session, parameter)
            if self.editor.line is not None:
                self.editor.line.editingFinished.connect(self._settle)
            else:
                self.editor.typed.connect(self._settle)
        self.bind = BindButton(session, step, lambda value: settle(parameter, value))
        self.label = QLabel(parameter.title)
        self.label.setObjectName("faint")
        self.label.setToolTip(parameter.help)
        self.label.setVisible(parameter.type != "flag")  # the box says it itself
        self.own = QPushButton()
        self.own.setObjectName("link")
        self.own.clicked.connect(lambda: settle(parameter, None))
        head = QHBoxLayout()
        head.setSpacing(4)
        head.addWidget(self.label)
        head.addStretch()
        head.addWidget(self.bind)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        column.addLayout(head)
        column.addWidget(self.editor or self.layer)  # type: ignore[arg-type]
        column.addWidget(self.own)

    def show_value(self, value: Any, given: bool) -> None:
        """Show what the step gives, or the workflow's own value."""
        bound = isinstance(value, Mapping) and set(value) == {"parameter"}
        self._shown = value if given else self.parameter.default
        self.bind.show_bound(value["parameter"] if bound else "")
        if self.layer is not None:
            self.layer.setVisible(not bound)
            self.layer.show_value(value if given and not bound else "")
            if not given:
                self.layer.say("its own", str(self.parameter.default))
        elif self.editor is not None:
            self.editor.setVisible(not bound)
            self.label.setVisible(bound or self.parameter.type != "flag")
            if not (self.editor.line is not None and self.editor.line.hasFocus() and given and not bound):
                self.editor.show_value(self.parameter.default if bound else self._shown)
        default = self.parameter.default
        own = {True: "yes", False: "no"}[default] if isinstance(default, bool) else str(default)
        self.own.setText(f"Back to its own: {own}")
        self.own.setVisible(given and not bound)

    def show_offer(self, offer: Any) -> None:
        if self.editor is not None:
            self.editor.show_offer(offer)

    def _settle(self) -> None:
        if self.editor is None:
            return
        value = self.editor.value()
        if str(value) != str(self._shown) or isinstance(value, bool) != isinstance(self._shown, bool):
            with contextlib.suppress(EskretError):  # the rehearsal says what is wrong with it
                value = self.parameter.accept(value)
            self._settle_with(self.parameter, value if isinstance(value, bool | int | float) else str(value))

    def target(self) -> QWidget:
        return self.editor.target() if self.editor is not None else self.layer.target() if self.layer is not None else self
