"""The editor of a step's rounds: once for all, or once a layer, a value, a row."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from eskret.core.naming import clean_name
from eskret.desktop.forms.layers_editor import LayerEditor
from eskret.desktop.forms.setting_editors import SettingEditor
from eskret.desktop.state.session import Session
from eskret.desktop.views.parts import done_typing, show_text
from eskret.operations.settings import SettingInfo
from eskret.workflow.model.iteration import ForEach

_KINDS = {"": "once", "layers": "once for each layer", "values": "once for each value of a field", "rows": "once for each row"}
_OF = SettingInfo("Of", "", "layer", tables=True)


class RoundsEditor(SettingEditor):
    """Tells an ``Each``, or None for once."""

    def __init__(self, session: Session, step: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._step = session, step
        self._value: ForEach | None = None
        self.kind = QComboBox()
        self.kind.setAccessibleName("How often it is done")
        self.kind.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        for kind, words in _KINDS.items():
            self.kind.addItem(words, kind)
        self.kind.activated.connect(lambda _: self._change_kind())
        self.of = LayerEditor(_OF, session, step)
        self.of.settled.connect(lambda value: self._change(of=str(value)))
        self.field = QComboBox()
        self.field.setAccessibleName("Field whose values are gone through")
        self.field.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.field.activated.connect(lambda _: self._change(field=self.field.currentText()))
        self.called = QLineEdit()
        self.called.setAccessibleName("What it is called in the settings")
        done_typing(self.called, self._change_name)
        self.go_on = QCheckBox("Go on after a round that fails")
        self.go_on.clicked.connect(lambda on: self._change(go_on=bool(on)))
        self.says = QLabel()
        self.says.setObjectName("faint")
        self.says.setWordWrap(True)
        self._rows = QWidget()
        rows = QFormLayout(self._rows)
        rows.setContentsMargins(0, 0, 0, 0)
        rows.setSpacing(5)
        rows.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        self._labels: dict[str, QLabel] = {}
        for name, words, widget in (("of", "Of", self.of), ("field", "Field", self.field), ("called", "Called", self.called)):
            label = QLabel(words)
            label.setObjectName("faint")
            self._labels[name] = label
            rows.addRow(label, widget)
        rows.addRow(self.says)
        rows.addRow(self.go_on)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        column.addWidget(self.kind)
        column.addWidget(self._rows)
        self.watch(self.kind, self.field, self.called, self.of.button, self.go_on)

    def show_value(self, value: ForEach | None) -> None:
        self._value = value
        self.kind.setCurrentIndex(self.kind.findData(value.kind if value is not None else ""))
        self._rows.setVisible(value is not None)
        if value is None:
            return
        self.of.show_value(value.of)
        self._show("field", self.field, value.kind == "values")
        self._show("called", self.called, value.kind != "rows")
        names = [n for n, _ in self._session.fields_of(value.of)]
        if value.field and value.field not in names:
            names.append(value.field)
        if [self.field.itemText(n) for n in range(self.field.count())] != names:
            self.field.clear()
            self.field.addItems(names)
        self.field.setCurrentIndex(names.index(value.field) if value.field in names else -1)
        show_text(self.called, value.name)
        self.go_on.setChecked(value.go_on)
        if value.kind == "rows":
            self.says.setText("Settings name the fields of a row: $field in a condition, {field} in a name.")
        else:
            name = value.name or "…"
            self.says.setText(
                f"Settings name the layer ${name}."
                if value.kind == "layers"
                else f"Settings name the value: ${name} in a condition, {{{name}}} in a name."
            )

    def _show(self, name: str, widget: QWidget, on: bool) -> None:
        self._labels[name].setVisible(on)
        widget.setVisible(on)

    def _change_kind(self) -> None:
        kind = self.kind.currentData()
        if not kind:
            self._tell(None)
            return
        before = self._value
        of = before.of if before is not None else next((s.id for s in self._session.document.steps if s.id != self._step), "")
        fields = [n for n, _ in self._session.fields_of(of)]
        field = (before.field if before is not None else "") or (fields[0] if fields else "value")
        field = field if kind == "values" else ""
        name = {"values": clean_name(field, keep_case=True), "layers": "one", "rows": ""}[kind]
        self._tell(ForEach(kind, of, field, name, before.go_on if before is not None else False))

    def _change(self, of: str | None = None, field: str | None = None, go_on: bool | None = None) -> None:
        value = self._value
        if value is None:
            return
        now = ForEach(
            value.kind,
            value.of if of is None else of,
            value.field if field is None else field,
            value.name,
            value.go_on if go_on is None else go_on,
        )
        if of is not None and value.kind == "values":
            fields = [n for n, _ in self._session.fields_of(of)]
            if fields and now.field not in fields:
                now = ForEach(now.kind, now.of, fields[0], clean_name(fields[0], keep_case=True), now.go_on)
        elif field is not None and value.name == clean_name(value.field, keep_case=True):
            now = ForEach(now.kind, now.of, field, clean_name(field, keep_case=True), now.go_on)
        self._tell(now)

    def _change_name(self) -> None:
        value = self._value
        name = clean_name(self.called.text(), keep_case=True)
        if value is not None and name and name != value.name:
            self._tell(ForEach(value.kind, value.of, value.field, name, value.go_on))
        elif value is not None:
            self.called.setText(value.name)

    def _tell(self, value: ForEach | None) -> None:
        if value != self._value:
            self.settled.emit(value)

    def target(self) -> QWidget:
        return self.kind
