"""A step layer by layer: a sheet with a row for each layer of its set, for the settings that one has for itself; and how
layers are named, all of them at once."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QLabel, QLineEdit, QMenu, QPushButton, QVBoxLayout, QWidget

from eskret.core.words import pluralise, strip_markup
from eskret.desktop.state.session import Session
from eskret.desktop.table.grid_model import Cell, Column, GridModel
from eskret.desktop.table.grid_view import GridView
from eskret.desktop.views.parts import View, in_row
from eskret.errors import EskretError
from eskret.formats.known import format_to_write
from eskret.operations.base import Context, Operation
from eskret.operations.registry import operation_by_id
from eskret.operations.settings import SettingInfo, default_of, setting_info
from eskret.operations.support.as_text import KINDS, choices_of, from_text, to_text
from eskret.operations.support.naming_layers import Named, names_of
from eskret.workflow.model.document import Step

_LAYER, _ROWS, _FILLED, _NAME, _NOTE = " layer", " rows", " filled", " name", " note"


class LayersView(View):
    """An empty cell has what stands in the settings of the step."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Layer by layer", parent)
        self._step = ""
        self.keys: list[str] = []
        self._typed: str | None = None  # a template that is being typed
        self.says = QLabel()
        self.says.setObjectName("faint")
        self.says.setWordWrap(True)
        self.template = QLineEdit()
        self.template.setAccessibleName("How every layer is called")
        self.template.setMinimumWidth(300)
        self.template.textEdited.connect(self._type)
        self.template.editingFinished.connect(self._take_template)
        self.put_in = QPushButton("Put in")
        self.put_in.setToolTip("What can stand for something else in a name")
        self.put_in.setMenu(QMenu(self.put_in))
        self.put_in.menu().aboutToShow.connect(self._fill_menu)
        self.names_say = QLabel()
        self.names_say.setObjectName("faint")
        self.naming = QWidget()
        strip = in_row(QLabel("Every layer is called"), self.template, self.put_in, self.names_say, None)
        strip.setContentsMargins(0, 0, 0, 0)
        self.naming.setLayout(strip)
        self.search = QLineEdit()
        self.search.setPlaceholderText("Show only layers with this in their name")
        self.search.setAccessibleName("Show only some layers")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(lambda _: self.refresh())
        self.model = GridModel(self)
        self.model.wanted.connect(self._want)
        self.grid = GridView(self.model, "Settings of single layers")
        hint = QLabel(
            "Type into a cell, or paste from a sheet. Ctrl+D fills down, Delete gives the step's own setting back, Ctrl+Z undoes."
        )
        hint.setObjectName("faint")
        head = in_row(self.title, self.says, None, self.back)
        head.setStretchFactor(self.says, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 10, 12, 10)
        column.setSpacing(9)
        column.addLayout(head)
        column.addWidget(self.naming)
        column.addWidget(self.search)
        column.addWidget(self.grid, 1)
        column.addWidget(hint)
        session.changed.connect(self.refresh)
        session.figures_changed.connect(self.refresh)

    # -- what is shown

    def open_view(self) -> None:
        """Show the step in hand."""
        self._step = self._session.selected
        self._typed = None
        self.search.clear()
        self.refresh()

    def refresh(self) -> None:
        """Show the step as it stands."""
        if not self.isVisible():
            return
        step, operation = self._found()
        if step is None or operation is None:
            self.closed.emit()  # it was taken out, or undone
            return
        facts = self._entering()
        self.keys = [f.key for f in facts]
        self.keys += [k for k in step.layer if k not in self.keys]
        wanted = self.search.text().casefold()
        self.keys = [k for k in self.keys if wanted in k.casefold()]
        infos = self._infos(operation)
        templated = next((n for n, i in infos.items() if i.kind == "template"), "")
        self.naming.setVisible(bool(templated))
        named, problem = self._names(step, facts, templated) if templated else ({}, "")
        self._show_naming(step, operation, templated, named, problem)
        row = next((r for r in self._session.rows() if r.id == step.id), None)
        self.says.setText(strip_markup(row.sentence) if row is not None else step.id)
        self._show_grid(step, operation, infos, {f.key: f for f in facts}, named)

    def _found(self) -> tuple[Step | None, Operation | None]:
        step = next((s for s in self._session.document.steps if s.id == self._step), None)
        try:
            return step, operation_by_id(step.use) if step is not None else None
        except EskretError:
            return step, None

    def _entering(self) -> list[Any]:
        found = self._session.forecast.steps.get(self._step)
        return list(found.entering) if found is not None else []

    @staticmethod
    def _infos(operation: Operation) -> dict[str, SettingInfo]:
        infos = setting_info(operation.Settings)
        allowed = operation.single
        return {n: i for n, i in infos.items() if i.kind in KINDS and (allowed is None or n in allowed)}

    def _names(self, step: Step, facts: Sequence[Any], setting: str) -> tuple[dict[str, Named], str]:
        """What every layer comes out as, and what is wrong with the template."""
        whole = self._typed if self._typed is not None else str(step.settings.get(setting, "{layer}"))
        own = {k: str(v[setting]) for k, v in step.layer.items() if v.get(setting)}
        context = Context(self._session.folder, step.id, self._session.values())
        try:
            target = format_to_write(Path(str(step.settings.get("to", ""))))
            mode = str(step.settings.get("names", "")) or self._session.document.names
            found = names_of(facts, lambda key: own.get(key, whole), context, target, mode)
        except EskretError as error:
            return {}, error.sentence()
        return {n.key: n for n in found}, ""

    def _show_naming(self, step: Step, operation: Operation, setting: str, named: dict[str, Named], problem: str) -> None:
        if not setting:
            return
        text = str(step.settings.get(setting, default_of(operation.Settings, setting)))
        if self._typed is None and self.template.text() != text:
            self.template.setText(text)
        changed = sum(bool(n.notes) for n in named.values())
        clashes = sum(n.clash for n in named.values())
        told = [f"{clashes} come out the same" if clashes else "", f"{changed} changed to fit" if changed else ""]
        self.names_say.setText(problem or ", ".join(t for t in told if t) or "All names are good.")
        self.names_say.setObjectName("wrong" if problem or clashes else "faint")
        self.names_say.style().unpolish(self.names_say)
        self.names_say.style().polish(self.names_say)

    def _show_grid(
        self, step: Step, operation: Operation, infos: dict[str, SettingInfo], facts: dict[str, Any], named: dict[str, Named]
    ) -> None:
        columns = [Column(_LAYER, "Layer", False, width=190), Column(_ROWS, "Features", False, right=True, width=76)]
        for name, info in infos.items():
            columns.append(Column(name, info.label, True, choices_of(info), width=170, tip=info.help))
        if self.naming.isVisibleTo(self):
            columns += [
                Column(_FILLED, "Filled in", False, width=200),
                Column(_NAME, "Comes out as", False, width=200),
                Column(_NOTE, "Why it is not as typed", False, width=260),
            ]
        rows: list[dict[str, str]] = []
        inherited: dict[Cell, str] = {}
        problems: dict[Cell, str] = {}
        colours: dict[Cell, str] = {}
        findings = [f for f in self._session.findings(step.id) if f.level == "error" and f.layer]
        for n, key in enumerate(self.keys):
            own = step.layer.get(key, {})
            one = facts.get(key)
            row = {_LAYER: key, _ROWS: "" if one is None or one.count is None else f"{one.count:,}"}
            if one is None:
                problems[n, _LAYER] = "No such layer enters this step."
            for name, info in infos.items():
                if name in own:
                    row[name] = to_text(info, own[name])
                else:
                    value = step.settings.get(name, default_of(operation.Settings, name))
                    typed = self._typed if info.kind == "template" and self._typed is not None else None
                    inherited[n, name] = to_text(info, value) if typed is None else typed
            for found in findings:
                if found.layer == key and found.setting in infos:
                    problems[n, found.setting] = found.text
            if key in named:
                row[_FILLED] = named[key].filled
                row[_NAME], row[_NOTE] = named[key].name, "; ".join(named[key].notes)
                if named[key].clash:
                    problems[n, _NAME] = "Another layer comes out the same."
            colours[n, _ROWS] = colours[n, _NOTE] = colours[n, _FILLED] = "faint"
            rows.append(row)
        self.model.show(columns, rows, inherited=inherited, problems=problems, colours=colours)

    # -- what is typed

    def _want(self, cells: Sequence[tuple[Cell, str]]) -> None:
        step, operation = self._found()
        if step is None or operation is None:
            return
        infos = self._infos(operation)
        layer = {k: dict(v) for k, v in step.layer.items()}
        for (row, name), text in cells:
            if row >= len(self.keys) or name not in infos:
                continue
            own = layer.setdefault(self.keys[row], {})
            if text.strip():
                own[name] = from_text(infos[name], text)
            else:
                own.pop(name, None)
        layer = {k: v for k, v in layer.items() if v}
        if layer != step.layer:
            count = len({row for (row, _), _ in cells})
            self._session.change_step(replace(step, layer=layer), f"change {pluralise(count, 'layer')}")

    def _type(self, text: str) -> None:
        self._typed = text
        self.refresh()

    def _take_template(self) -> None:
        step, operation = self._found()
        if self._typed is None or step is None or operation is None:
            return
        name = next(n for n, i in self._infos(operation).items() if i.kind == "template")
        text, self._typed = self._typed, None
        same = text == default_of(operation.Settings, name)
        self._session.change_step(step.with_setting(name, None if same else text), f"change {name}")
        self.refresh()

    def _fill_menu(self) -> None:
        menu = self.put_in.menu()
        menu.clear()
        given = [("layer", "the layer's name"), ("step", "the step that made it"), ("n", "its number in the set")]
        given += [(p.name, p.title) for p in self._session.document.parameters]
        for name, words in given:
            put: Callable[[], None] = partial(self._put, name)
            menu.addAction(f"{{{name}}}   {words}").triggered.connect(lambda _=False, put=put: put())

    def _put(self, name: str) -> None:
        self.template.insert(f"{{{name}}}")
        self._typed = self.template.text()
        self._take_template()
