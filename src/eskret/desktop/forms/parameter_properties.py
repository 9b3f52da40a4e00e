"""What a parameter is: its name, type, value, choices, limits, and what it hangs on, as a form."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtWidgets import QComboBox, QGridLayout, QLabel, QLineEdit, QPlainTextEdit, QVBoxLayout, QWidget

from eskret.desktop.forms.parameter_editors import ValueEditor
from eskret.desktop.state.session import Session
from eskret.desktop.views.parts import done_typing, show_text
from eskret.errors import DocumentError, EskretError
from eskret.operations.base import Source
from eskret.operations.registry import operation_by_id
from eskret.workflow.model.edits import put_parameter, rename_parameter, uses_of
from eskret.workflow.model.parameters import TYPES, ChoicesFrom, EnabledBy, Parameter, parameter_of

NONE, LISTED, READ = "any value", "one of a list", "one that a layer has"
_EMPTY: dict[str, object] = {"number": 0, "flag": False, "date": "2031-01-01", "measure": "1 m"}


class Properties(QWidget):
    """The parameter in hand. Every change is an edit of the document that can be undone."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.name = ""
        self._filling = False
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(14)
        self._grid.setVerticalSpacing(9)
        self._grid.setColumnMinimumWidth(0, 118)
        self._grid.setColumnStretch(1, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addLayout(self._grid)
        column.addStretch()
        self._labels: dict[str, QLabel] = {}
        self._listing = False
        self.called = self._line("Name", self._rename)
        self.label = self._line("Label", lambda: self._change(label=self.label.text().strip()))
        self.type = self._combo("Type", lambda: self._change_type(self.type.currentData()))
        for kind, words in TYPES.items():
            self.type.addItem(words, kind)
        self.help = QPlainTextEdit()
        self.help.setFixedHeight(52)
        self.help.setTabChangesFocus(True)
        self._pause = QTimer(self, singleShot=True, interval=500)
        self._pause.timeout.connect(self._change_help)
        self.help.textChanged.connect(lambda: None if self._filling else self._pause.start())
        self.help.installEventFilter(self)
        self._put("Help", self.help)
        self.value_home = QWidget()
        QVBoxLayout(self.value_home).setContentsMargins(0, 0, 0, 0)
        self._put("Value in the file", self.value_home)
        self.value: ValueEditor | None = None
        self.choice = self._combo("It can be", self._change_choices)
        self.choice.addItems([NONE, LISTED, READ])
        self.listed = self._line("Choices", self._change_listed)
        self.listed.setPlaceholderText("parted by commas, such as North, East, South")
        self.layer = self._combo("Layer", self._change_read)
        self.field = self._combo("Field", self._change_read)
        self.where = self._line("Only rows where", self._change_read)
        self.where.setPlaceholderText("a condition, such as district = $district")
        self.least = self._line("Not less than", lambda: self._change_limit("min", self.least))
        self.most = self._line("Not more than", lambda: self._change_limit("max", self.most))
        self.by = self._combo("Only when", self._change_by)
        self.by_values = self._line("is", self._change_by)
        self.by_values.setPlaceholderText("parted by commas; yes or no")
        self.used = QLabel()
        self.used.setObjectName("faint")
        self.used.setWordWrap(True)
        self.used.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self._put("Used in", self.used)
        self.wrong = QLabel()
        self.wrong.setObjectName("wrong")
        self.wrong.setWordWrap(True)
        self.wrong.hide()
        self._grid.addWidget(self.wrong, self._grid.rowCount(), 1)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.help and event.type() == QEvent.Type.FocusOut:
            self._finish_help()
        return super().eventFilter(watched, event)

    # -- building

    def _put(self, title: str, widget: QWidget) -> None:
        row = self._grid.rowCount()
        label = QLabel(title)
        label.setObjectName("faint")
        label.setBuddy(widget)
        self._labels[title] = label
        top = Qt.AlignmentFlag.AlignTop if isinstance(widget, QPlainTextEdit) else Qt.AlignmentFlag.AlignVCenter
        self._grid.addWidget(label, row, 0, top)
        self._grid.addWidget(widget, row, 1)

    def _line(self, title: str, done: Callable[[], None]) -> QLineEdit:
        line = QLineEdit()
        line.setAccessibleName(title)
        done_typing(line, lambda: None if self._filling else done())
        self._put(title, line)
        return line

    def _combo(self, title: str, done: Callable[[], None]) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(title)
        box.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(10)
        box.activated.connect(lambda _: None if self._filling else done())
        self._put(title, box)
        return box

    # -- showing

    @property
    def parameter(self) -> Parameter | None:
        return next((p for p in self._session.document.parameters if p.name == self.name), None)

    def show_parameter(self, name: str) -> None:
        """Take a parameter in hand."""
        other = name != self.name
        if other:
            self._finish_help()  # what was typed is of the one before
        self.name = name
        if other:
            self.wrong.hide()
            self._listing = False
            for line in self.findChildren(QLineEdit):
                line.setModified(False)  # what was typed was of the other
        self.refresh()

    def refresh(self) -> None:
        """Show it as it stands."""
        parameter = self.parameter
        if parameter is None:
            return
        self._filling = True
        try:
            self._fill(parameter)
        finally:
            self._filling = False

    def _fill(self, p: Parameter) -> None:
        for line, text in (
            (self.called, p.name),
            (self.label, p.label),
            (self.listed, ", ".join(map(str, p.choices))),
            (self.least, _figure(p.min)),
            (self.most, _figure(p.max)),
        ):
            show_text(line, text)
        self.label.setPlaceholderText(p.title)
        if self.help.toPlainText().strip() != p.help and not self._pause.isActive():
            self.help.setPlainText(p.help)
        self.type.setCurrentIndex(self.type.findData(p.type))
        self._fill_value(p)
        self._fill_choices(p)
        self._fill_by(p)
        uses = [f"{i}: {s}" if i else f"parameter {s}" for i, s in uses_of(self._session.document, p.name)]
        self.used.setText(
            ", ".join(uses) or f"nothing yet. Write ${p.name} in a condition or {{{p.name}}} in a name, or let a setting take its value."
        )

    def _fill_value(self, p: Parameter) -> None:
        home = self.value_home.layout()
        assert home is not None
        if self.value is None or replace(self.value.parameter, default=p.default, help=p.help) != p:
            if self.value is not None:
                self.value.setParent(None)
                self.value.deleteLater()
            # choices that are read come with the form at the right; here any of them can be typed
            self.value = ValueEditor(self._session, replace(p, choices_from=None) if p.type != "layer" else p)
            self.value.parameter = p
            home.addWidget(self.value)
            if self.value.line is not None:
                done_typing(self.value.line, self._change_value)
            else:
                self.value.typed.connect(self._change_value)
        if self.value.line is None or not self.value.line.isModified():
            self.value.show_value(p.default)

    def _fill_choices(self, p: Parameter) -> None:
        can = p.type in ("text", "number", "choice", "date", "field")
        of = p.choices_from
        self.choice.setCurrentText(READ if of is not None else LISTED if p.choices else NONE)
        if of is None and (p.type == "choice" or self._listing):
            self.choice.setCurrentText(LISTED)
        self._show("It can be", self.choice, can)
        self._show("Choices", self.listed, can and self.choice.currentText() == LISTED)
        for title, widget in (("Layer", self.layer), ("Field", self.field), ("Only rows where", self.where)):
            self._show(title, widget, of is not None and can)
        for title, widget in (("Not less than", self.least), ("Not more than", self.most)):
            self._show(title, widget, p.type == "number")
        if of is not None:
            self._offer(self.layer, self._loaded(), of.layer)
            self._offer(self.field, ["", *self._fields_of(of.layer)], of.field, "the names of its fields")
            show_text(self.where, of.where)

    def _fill_by(self, p: Parameter) -> None:
        others = [q.name for q in self._session.document.parameters if q.name != p.name]
        by = p.enabled_by
        self._offer(self.by, ["", *others], by.parameter if by is not None else "", "always")
        self._show("Only when", self.by, bool(others) or by is not None)
        self._show("is", self.by_values, by is not None)
        if by is not None:
            text = ", ".join({True: "yes", False: "no"}[v] if isinstance(v, bool) else str(v) for v in by.values)
            show_text(self.by_values, text)

    def _show(self, title: str, widget: QWidget, on: bool) -> None:
        self._labels[title].setVisible(on)
        widget.setVisible(on)

    @staticmethod
    def _offer(box: QComboBox, values: list[str], chosen: str, empty: str = "") -> None:
        if chosen not in values:
            values = [*values, chosen]
        if [box.itemData(n) for n in range(box.count())] != values:
            box.clear()
            for value in values:
                box.addItem(value or empty, value)
        box.setCurrentIndex(values.index(chosen))

    def _loaded(self) -> list[str]:
        """Layers that steps load, as references, and parameters that stand for one."""
        others = [p for p in self._session.document.parameters if p.type == "layer" and p != self.parameter]
        out = [f"${p.name}" for p in others]
        for step in self._session.document.steps:
            try:
                loads = isinstance(operation_by_id(step.use), Source)
            except EskretError:
                loads = False
            found = self._session.forecast.steps.get(step.id)
            if loads and found is not None:
                out += [f"{step.id}:{f.key}" for f in found.leaving]
        return sorted(out, key=lambda reference: reference.startswith("$"))

    def _fields_of(self, reference: str) -> list[str]:
        if reference.startswith("$"):
            reference = str(self._session.values().get(reference[1:], ""))
        return [name for name, _ in self._session.fields_of(reference)]

    # -- changing

    def _say(self, text: str) -> None:
        self.wrong.setText(text)
        self.wrong.setVisible(bool(text))

    def _change(self, **changes: Any) -> None:
        """Change it, unless it could not be so."""
        before = self.parameter
        if before is None:
            return
        after = replace(before, **changes)
        try:
            parameter_of(after.name, _without_none(after.to_table()), "it")
            if after.default != "":
                after.accept(after.default)
        except DocumentError as error:
            self._say(f"{error.problem[:1].upper()}{error.problem[1:]}. {error.way_out}".rstrip(". ") + ".")
            return
        self._say("")
        values = {n: v for n, v in self._session.state.values.items() if n != after.name}
        self._session.edit(put_parameter(self._session.document, after), f"change {after.title}", values)

    def _rename(self) -> None:
        text = self.called.text().strip()
        if text == self.name or self.parameter is None:
            return
        try:
            document = rename_parameter(self._session.document, self.name, text)
        except DocumentError as error:
            self._say(error.sentence())
            return
        self._say("")
        at = [p.name for p in self._session.document.parameters].index(self.name)
        values = {n: v for n, v in self._session.state.values.items() if n != self.name}
        self.name = document.parameters[at].name
        self._session.edit(document, f"rename {text}", values)

    def _change_type(self, kind: str) -> None:
        before = self.parameter
        if before is None or kind == before.type:
            return
        bare = replace(before, type=kind, choices=(), choices_from=None, min=None, max=None)
        try:
            default = bare.accept(before.default)
        except DocumentError:
            default = _EMPTY.get(kind, "")
        keeps = kind in ("text", "choice", "field")
        self._change(
            type=kind,
            default=default,
            choices=before.choices if keeps else (),
            choices_from=before.choices_from if keeps else None,
            min=None,
            max=None,
        )

    def _finish_help(self) -> None:
        if self._pause.isActive():
            self._pause.stop()
            self._change_help()

    def _change_help(self) -> None:
        self._change(help=self.help.toPlainText().strip())

    def _change_value(self) -> None:
        if self.value is not None and not self._filling and self.parameter is not None:
            try:
                self._change(default=self.parameter.accept(self.value.value()))
            except DocumentError as error:
                self._say(error.sentence())

    def _change_choices(self) -> None:
        wanted = self.choice.currentText()
        self._listing = wanted == LISTED  # it stays so while there is nothing in the list yet
        if wanted == READ:
            loaded = self._loaded()
            if not loaded:
                self._say("No step loads a layer yet. Add one that loads what there is to choose from.")
                self.refresh()
                return
            fields = self._fields_of(loaded[0])
            self._change(choices=(), choices_from=ChoicesFrom(loaded[0], fields[0] if fields else ""))
        elif wanted == LISTED:
            default = self.parameter.default if self.parameter is not None else ""
            self._change(choices=(default,) if default != "" else (), choices_from=None)
        else:
            kind = self.parameter.type if self.parameter is not None else "text"
            self._change(choices=(), choices_from=None, type="text" if kind == "choice" else kind)

    def _change_listed(self) -> None:
        p = self.parameter
        if p is None:
            return
        try:
            bare = replace(p, choices=(), choices_from=None)
            found = tuple(dict.fromkeys(bare.accept(v.strip()) for v in self.listed.text().split(",") if v.strip()))
        except DocumentError as error:
            self._say(error.sentence())
            return
        default = p.default if p.default in found or not found else found[0]
        self._change(choices=found, default=default)

    def _change_read(self) -> None:
        layer = self.layer.currentData() or ""
        fields = self._fields_of(layer)
        field = self.field.currentData() or ""
        if field and field not in fields:
            field = fields[0] if fields else ""
        self._change(choices_from=ChoicesFrom(layer, field, self.where.text().strip()))

    def _change_limit(self, name: str, line: QLineEdit) -> None:
        text = line.text().strip()
        try:
            value = None if not text else int(text) if text.lstrip("+-").isdigit() else float(text)
        except ValueError:
            self._say(f"'{text}' is not a number.")
            return
        self._change(**{name: value})

    def _change_by(self) -> None:
        name = self.by.currentData()
        if not name:
            self._change(enabled_by=None)
            return
        other = next((q for q in self._session.document.parameters if q.name == name), None)
        words = [v.strip() for v in self.by_values.text().split(",") if v.strip()] if self.by_values.isVisible() else []
        before = self.parameter.enabled_by if self.parameter is not None else None
        if before is None or before.parameter != name or not words:
            words = ["yes"] if other is not None and other.type == "flag" else [str(other.default)] if other else ["yes"]
        try:
            values = tuple(other.accept(w) if other is not None else w for w in words)
        except DocumentError as error:
            self._say(error.sentence())
            return
        self._change(enabled_by=EnabledBy(name, values))


def _figure(value: float | None) -> str:
    return "" if value is None else f"{value:g}"


def _without_none(table: dict[str, object]) -> dict[str, object]:
    """A table with an empty default left out: it has no value yet, which is not a wrong one."""
    return {k: v for k, v in table.items() if not (k == "default" and v == "")}
