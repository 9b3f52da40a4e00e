"""The form of the step in hand, made from its operation's settings model."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from eskret.core.naming import clean_name, number_collisions
from eskret.core.words import pluralise
from eskret.desktop.forms.binding import BindButton
from eskret.desktop.forms.columns import OneOrTwoColumns
from eskret.desktop.forms.condition import ConditionEditor, ExpressionEditor, QueryEditor, SqlEditor
from eskret.desktop.forms.editors import editor_for
from eskret.desktop.forms.entering import EnteringEditor
from eskret.desktop.forms.field_block import WIDE, FieldBlock, note, retext
from eskret.desktop.forms.preview import TextPreview
from eskret.desktop.forms.rounds_editor import RoundsEditor
from eskret.desktop.forms.setting_editors import ChoiceEditor, FlagEditor, SettingEditor, TextEditor
from eskret.desktop.forms.what_it_makes import makes_text
from eskret.desktop.state.session import Session
from eskret.desktop.views.parts import in_row
from eskret.errors import EskretError
from eskret.operations.registry import OWN, operation_by_id
from eskret.operations.settings import SettingInfo, default_of, setting_info, with_lists
from eskret.operations.support.as_text import from_text, parameters_meant, parameters_named
from eskret.workflow.model.document import Step
from eskret.workflow.model.edits import put_parameter, rename_step, replace_step
from eskret.workflow.model.parameters import Parameter
from eskret.workflow.model.references import with_parameters

_FROM = SettingInfo("Layers that enter", "What this step works on: all layers of an earlier step, or some of them.", "from")
_ROUNDS = SettingInfo(
    "How often",
    "Once for all that enters; or in rounds, without drawing a loop: once for each layer, value or row. What "
    "comes of them leaves as one set.",
    "each",
)
_RESULT = SettingInfo("What this workflow gives", "Where another workflow uses this one as a step, it gets what leaves this step.", "flag")
_BINDABLE = {
    "text": "text",
    "number": "number",
    "whole": "number",
    "flag": "flag",
    "choice": "choice",
    "crs": "crs",
    "measure": "measure",
    "layer": "layer",
    "field": "field",
    "file": "file",
    "fields": "field",
    "files": "file",
    "patterns": "text",
    "target": "file",
}
"""Kinds of settings that can take the value of a parameter as a whole, with the type of one."""
_NOTHING = "Choose a step in the ledger to see its settings, or add one with Insert."
_OWN = {
    "id": SettingInfo("Name of the step", "Other steps call it by this name; they follow when it changes.", "text"),
    "heading": SettingInfo("Heading above it", "A heading of your own in the ledger.", "text", example="One district"),
    "note": SettingInfo("Note", "For yourself and whoever comes after; kept in the workflow file.", "text"),
}


class _Blocks(dict[str, FieldBlock]):
    """The blocks that were made, by setting; one that was not is made when it is asked for."""

    def __init__(self, make: Callable[[], object]) -> None:
        super().__init__()
        self._make = make

    def __missing__(self, name: str) -> FieldBlock:
        self._make()
        if name not in self:
            raise KeyError(name)
        return self[name]


class SettingsForm(QScrollArea):
    """The form. It is built anew when another step is taken in hand, and only filled anew when its values change."""

    by_layer_asked = Signal()
    page_asked = Signal(str)  # the id of an operation

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # it holds fields, and is none
        self.setAccessibleName("Settings of the step")
        self._session = session
        self._built = ("", "", Path())
        self.blocks: dict[str, FieldBlock] = {}
        self.after: QWidget | None = None
        """What stands before the form in the order in which Tab goes."""
        self._counted: tuple[object, ...] = ()
        self._chosen_among: tuple[object, ...] = ()
        self._preview: TextPreview | None = None
        self._infos: dict[str, SettingInfo] = {}
        self._opened: set[str] = set()  # operations of which the rare settings were asked for
        session.changed.connect(self.refresh)
        session.figures_changed.connect(self.refresh)
        session.selected_changed.connect(lambda _: self.refresh())
        self.refresh()

    def refresh(self) -> None:
        """Show the step in hand as it stands."""
        step = self._session.step()
        place = (step.id, step.use, self._session.folder) if step else ("", "", Path())
        if place != self._built:
            self._built = place
            self._build(step)
        if step is not None:
            self._fill(step)

    def rebuild(self) -> None:
        """Make the form anew where its step is an operation that may have changed."""
        step = self._session.step()
        if step is not None and step.use.startswith(OWN):
            self._built = ("", "", Path())
            self.refresh()

    def focus_field(self, name: str) -> None:
        """Put the cursor into a field, wherever in the form it is."""
        try:
            block = self.blocks[name]
        except KeyError:
            return
        for opener, part in ((self.more, self._rest), (self.about, self._about)):
            if part.isAncestorOf(block):
                opener.setChecked(True)
        block.editor.target().setFocus()
        self.ensureWidgetVisible(block)

    # -- building

    def _build(self, step: Step | None) -> None:
        body = QWidget()
        body.setObjectName("formBody")
        column = QVBoxLayout(body)
        column.setContentsMargins(12, 12, 12, 14)
        column.setSpacing(11)
        self.blocks = {}
        self._preview = None
        self._chosen_among = ()
        self._counted = ()  # a count that is still to come was for a field that is gone
        self.by_layer: QPushButton | None = None
        self.makes = note("noteMakes", "")
        self._general = note("noteWrong", "")
        if step is None:
            hint = QLabel(_NOTHING)
            hint.setObjectName("faint")
            hint.setWordWrap(True)
            column.addWidget(hint)
            column.addStretch()
            self.setWidget(body)
            return
        try:
            operation = operation_by_id(step.use)
        except EskretError as error:
            text = error.sentence()
            column.addWidget(note("noteWrong", text[:1].upper() + text[1:]))
            column.addStretch()
            self.setWidget(body)
            return
        column.addWidget(self._general)
        summary = QLabel(operation.summary)
        summary.setObjectName("faint")
        summary.setWordWrap(True)
        column.addWidget(summary)
        if operation.help:
            column.addWidget(self._how_to(" ".join(operation.help.split()), step.use))
        self.blocks = _Blocks(self._make_the_rest)
        self._common, self._rest, self._about = OneOrTwoColumns(), OneOrTwoColumns(), OneOrTwoColumns()
        if operation.has_input:
            self._add(self._common, "from", _FROM, EnteringEditor(self._session, step.id))
        # they stand among the parameters of the workflow that is used
        self._infos = {n: i for n, i in setting_info(operation.Settings).items() if i.kind != "layers"}
        for name, info in self._infos.items():
            if not self._is_rare(step, name):
                self._add_setting(self._common, step, name)
            if operation.previews_text and info.kind == "files":
                self._preview = TextPreview(self._session)
                self._common.add(self._preview, wide=True)
        self.more = self._opener(step.use in self._opened)
        self.more.toggled.connect(self._show_more)
        self.about = self._opener(False)
        self.about.toggled.connect(self._show_about)
        if operation.single != ():
            self.by_layer = QPushButton("Layer by layer …")
            self.by_layer.setObjectName("link")
            self.by_layer.setToolTip("Settings of single layers, and what each is called (Ctrl+L)")
            self.by_layer.clicked.connect(lambda _=False: self.by_layer_asked.emit())
        line = QFrame()
        line.setFrameShape(QFrame.Shape.HLine)
        for part in (self._common, self.more, self._rest, self.by_layer, self.makes, line, self.about, self._about):
            if isinstance(part, QPushButton):
                column.addWidget(part, 0, Qt.AlignmentFlag.AlignLeft)
            elif part is not None:
                column.addWidget(part)
        self._rest.setVisible(self.more.isChecked())
        self._about.hide()
        if self.more.isChecked():
            self._make_the_rest()
        column.addStretch()
        self.setWidget(body)
        self._order_tabs()

    def _opener(self, on: bool) -> QPushButton:
        opener = QPushButton()
        opener.setObjectName("link")
        opener.setCheckable(True)
        opener.setChecked(on)
        return opener

    def _order_tabs(self) -> None:
        """Tab goes from what stands before the form through its fields as they are seen."""
        before = self.after
        for block in self.blocks.values():
            target = block.editor.target()
            if before is not None:
                QWidget.setTabOrder(before, target)
            before = target

    def _add_setting(self, to: OneOrTwoColumns, step: Step, name: str) -> None:
        info = self._infos[name]
        self._add(to, name, info, editor_for(info, self._session, step.id), step.id)

    def _is_rare(self, step: Step, name: str) -> bool:
        """Whether a setting stands under More: one that is seldom needed, and that is as it is by itself."""
        return self._infos[name].rare and name not in step.settings

    def _make_the_rest(self) -> None:
        """Make the fields that are not seen at first."""
        step = self._session.step()
        if step is None or "step.id" in self.blocks:
            return
        for name in self._infos:
            if name not in self.blocks:
                self._add_setting(self._rest, step, name)
        self._add(self._about, "step.id", _OWN["id"], TextEditor(_OWN["id"]))
        for name in ("heading", "note"):
            self._add(self._about, f"step.{name}", _OWN[name], TextEditor(_OWN[name]))
        self._add(self._about, "step.each", _ROUNDS, RoundsEditor(self._session, step.id))
        self._add(self._about, "step.result", _RESULT, FlagEditor(_RESULT))
        self._order_tabs()
        self._fill(step)

    def _show_more(self, on: bool) -> None:
        """Show the settings that are seldom needed, now and whenever such a step is in hand; or fold them away."""
        use = self._built[1]
        (self._opened.add if on else self._opened.discard)(use)
        if on:
            self._make_the_rest()
        self._rest.setVisible(on)
        self._rest.lay()
        self._openers()

    def _show_about(self, on: bool) -> None:
        if on:
            self._make_the_rest()
        self._about.setVisible(on)
        self._about.lay()
        self._openers()

    def _openers(self) -> None:
        """What the openers say: how many settings are folded away, and what is said in them."""
        step = self._session.step()
        if step is None or not self.blocks:
            return
        rare = [
            n
            for n in self._infos
            if (n not in self.blocks or self._rest.isAncestorOf(self.blocks[n])) and self._shown(self._infos[n], step)
        ]
        self.more.setVisible(bool(rare))
        self.more.setText("Fewer settings" if self.more.isChecked() else f"More settings ({len(rare)})")
        said = [
            w for w, on in (("in rounds", step.each is not None), ("with a note", bool(step.note)), ("gives the result", step.result)) if on
        ]
        self.about.setText(f"The step itself: {step.id}" + "".join(f", {w}" for w in said))

    def _how_to(self, text: str, use: str) -> QWidget:
        """A line that opens into the operation's help."""
        told = note("note", text)
        told.hide()
        opener = QPushButton("How to use it")
        opener.setObjectName("link")
        opener.setCheckable(True)
        opener.toggled.connect(told.setVisible)
        both = QWidget()
        inner = QVBoxLayout(both)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(4)
        page = QPushButton("Handbook")
        page.setObjectName("link")
        page.setToolTip("All settings with their help, and how it is called in Python and on the command line")
        page.clicked.connect(lambda _=False: self.page_asked.emit(use))
        inner.addLayout(in_row(opener, page, None, spacing=16))
        inner.addWidget(told)
        return both

    def _add(self, to: OneOrTwoColumns, name: str, info: SettingInfo, editor: SettingEditor, step: str = "") -> None:
        bind = None
        if step and info.kind in _BINDABLE:
            bind = BindButton(self._session, step, partial(self._bind, name), partial(self._make_parameter, name))
        block = FieldBlock(info, editor, bind)
        self.blocks[name] = block
        to.add(block, wide=info.kind in WIDE)
        editor.settled.connect(lambda value, n=name: self._settled(n, value))
        editor.focused.connect(lambda n=name: self._help_for(n))
        editor.left.connect(self._session.settle_fresh)

    def _bind(self, name: str, value: object) -> None:
        """Let a setting take the value of a parameter; None gives it the value that it has now as its own."""
        step = self._session.step()
        if step is None:
            return
        if value is None:
            bound = step.settings.get(name)
            values = self._session.values()
            known = isinstance(bound, dict) and bound.get("parameter") in values
            value = values[bound["parameter"]] if known and isinstance(bound, dict) else None
            value = with_lists(operation_by_id(step.use).Settings, {name: value})[name]
        self._session.change_step(step.with_setting(name, value), f"change {name}")

    def _make_parameter(self, name: str) -> None:
        """Make a parameter of a setting as it stands, and let the setting take its value."""
        session, step = self._session, self._session.step()
        if step is None:
            return
        info, operation = self.blocks[name].info, operation_by_id(step.use)
        value = step.settings.get(name, default_of(operation.Settings, name))
        if isinstance(value, list) and len(value) > 1:
            session.told.emit("look", f"A parameter has one value, and '{info.label}' has {len(value)} now.", "")
            return
        if isinstance(value, list):
            value = value[0] if value else None
        kind = _BINDABLE[info.kind]
        taken = [p.name for p in session.document.parameters]
        called = number_collisions([clean_name(info.label) or name], taken=taken)[0]
        empty: object = {"number": 0, "flag": False}.get(kind, "")
        made = Parameter(
            called,
            kind,
            info.label,
            empty if value is None else value,
            tuple(info.choices) if kind == "choice" else (),
            help=f"{first}." if (first := info.help.split(". ")[0].rstrip(".")) else "",
        )
        document = put_parameter(session.document, made)
        bound = document.step(step.id).with_setting(name, {"parameter": called})
        session.edit(replace_step(document, step.id, bound), f"make a parameter of {name}")

    def _help_for(self, name: str) -> None:
        for other, block in self.blocks.items():
            block.show_help(other == name)

    # -- values

    def _fill(self, step: Step) -> None:
        try:
            operation = operation_by_id(step.use)
        except EskretError:
            return
        findings = self._session.findings(step.id)
        for name, block in self.blocks.items():
            if name == "from":
                block.editor.show_value(step.source)
            elif name.startswith("step."):
                block.editor.show_value(getattr(step, name.removeprefix("step.")))
            else:
                value = step.settings.get(name, default_of(operation.Settings, name))
                parameter = isinstance(value, dict) and set(value) == {"parameter"}
                block.editor.setEnabled(not parameter)
                block.editor.setToolTip(f"Takes the value of the parameter '{value['parameter']}'" if parameter else "")
                if block.bind is not None:
                    block.bind.show_bound(value["parameter"] if parameter else "")
                shown = self._session.values().get(value["parameter"]) if parameter else value
                shown = with_lists(operation.Settings, {name: shown})[name]
                block.editor.show_value(parameters_named(shown) if isinstance(shown, list) else shown)
                block.setVisible(self._shown(block.info, step))
            called = name.removeprefix("step.")
            wrong = [f.text for f in findings if f.level == "error" and f.setting == called]
            block.show_wrong("\n".join(dict.fromkeys(wrong)))
            if isinstance(block.editor, SqlEditor):
                self._fill_sql(block.editor, step, name)
        depends = getattr(operation, "depends", ())
        if depends:
            self._ask_choices(step)
        if self.by_layer is not None:
            self.by_layer.setVisible(step.each is None)  # rounds give the settings else
            told = f": {pluralise(len(step.layer), 'layer')} with settings of their own" if step.layer else " …"
            self.by_layer.setText(f"Layer by layer{told}")
        if self._preview is not None:
            try:
                self._preview.show_settings(with_parameters(step.settings, self._session.values()))
            except EskretError:
                self._preview.hide()  # it names no parameter that is there; the rehearsal says so
        own = {n.removeprefix("step.") for n in self.blocks}
        hidden = [f for f in findings if f.level == "error" and f.setting in self._infos and f.setting not in self.blocks]
        if hidden:
            self._make_the_rest()  # which fills all of it again
            self.more.setChecked(True)
            return
        general = [f.text for f in findings if f.level == "error" and f.setting not in own]
        retext(self._general, "\n".join(dict.fromkeys(general)))
        retext(self.makes, makes_text(self._session, step))
        for part in (self._common, self._rest, self._about):
            part.lay()
        self._openers()

    def _shown(self, info: SettingInfo, step: Step) -> bool:
        if info.shown_when is None:
            return True
        other, endings = info.shown_when
        default = default_of(operation_by_id(step.use).Settings, other)
        value = step.settings.get(other, "" if default is None else default)
        said = value if isinstance(value, list) and value else [str(value)]
        if self._infos[other].kind == "files" and any(not Path(str(v)).suffix or str(v).endswith("*") for v in said):
            return True  # of a folder or a pattern nobody knows here what is in it
        return any(str(v).lower().endswith(str(e).lower()) for v in said for e in endings)

    def _ask_choices(self, step: Step) -> None:
        """Have the choices made that hang on other settings."""
        session = self._session
        try:
            settings = with_parameters(step.settings, session.values())
        except EskretError:
            return  # the rehearsal says which parameter is not there
        asked = (step.id, step.use, tuple((k, str(v)) for k, v in settings.items()))
        if asked == self._chosen_among:
            return
        self._chosen_among = asked
        blocks = self.blocks

        def take(event: dict[str, Any]) -> None:
            if asked != self._chosen_among or event["event"] != "done" or blocks is not self.blocks:
                return
            for name, choices in event["choices"].items():
                block = blocks.get(name)
                if block is not None and isinstance(block.editor, ChoiceEditor):
                    block.editor.offer(choices)

        session.ask("own_choices", take, self, folder=str(session.folder), use=step.use, settings=settings)

    def _fill_sql(self, editor: SqlEditor, step: Step, name: str) -> None:
        """Offer what can stand in it, mark what is wrong, and ask what comes of it."""
        session = self._session
        parameters = [p.name for p in session.document.parameters]
        editor.offer(session.fields_entering(step.id), parameters)
        mistakes = [f for f in session.findings(step.id) if f.setting == name and f.level == "error"]
        editor.show_mistake(mistakes[0].start if mistakes else -1, mistakes[0].length if mistakes else 0)
        if isinstance(editor, QueryEditor):
            found = session.forecast.steps.get(step.id)
            editor.offer_layers([x.key for x in found.entering] if found else [], session.fields_entering(step.id), parameters)
            return
        layers = session.entering_stored(step.id)
        text = str(step.settings.get(name) or "")
        if isinstance(editor, ConditionEditor):
            editor.values.offer(session.fields_entering(step.id), [dict(x.info) for x in layers], text)
        if mistakes or not layers or not text:
            editor.show_count("")
            self._counted = ()
            return
        asked = (step.id, text, tuple(x.info["path"] for x in layers), tuple(session.values().items()))
        if asked == self._counted:
            return
        self._counted = asked
        answers: list[dict[str, object]] = []

        def take(event: dict[str, object]) -> None:
            if asked != self._counted or event["event"] != "done":
                return
            answers.append(event)
            if isinstance(editor, ExpressionEditor):
                editor.show_count(_first_values(event))
            elif len(answers) == len(layers):
                editor.show_count(_count_text(answers, "Keeps" if step.use == "keep" else "Holds for"))

        if isinstance(editor, ExpressionEditor):
            session.ask("compute", take, layer=dict(layers[0].info), value=text, values=session.values())
            return
        for layer in layers:
            session.ask("count", take, layer=dict(layer.info), where=text, values=session.values())

    def _settled(self, name: str, value: Any) -> None:
        session = self._session
        step = session.step()
        if step is None:
            return
        if name == "from":
            session.change_step(replace(step, source=tuple(value)), "change what enters")
        elif name == "step.id":
            self._rename(step, str(value))
        elif name.startswith("step."):
            session.change_step(replace(step, **{name.removeprefix("step."): value}), f"change {name.removeprefix('step.')}")
        else:
            operation = operation_by_id(step.use)
            if isinstance(value, str) and self.blocks[name].info.kind == "number":
                value = from_text(self.blocks[name].info, value)
            if isinstance(value, list):
                value = parameters_meant(value, [p.name for p in session.document.parameters])
            known = not operation.Settings.model_fields[name].is_required()
            same = known and value == default_of(operation.Settings, name)
            # what equals the default need not stand in the file
            session.change_step(step.with_setting(name, None if same else value), f"change {name}")

    def _rename(self, step: Step, name: str) -> None:
        session = self._session
        try:
            document = rename_step(session.document, step.id, name)
        except EskretError as error:
            self.blocks["step.id"].show_wrong(error.sentence())
            return
        new = document.steps[session.document.index(step.id)].id
        session.selected = new
        self._built = (new, step.use, session.folder)
        session.edit(document, "rename a step")
        session.selected_changed.emit(new)


def _count_text(answers: list[dict[str, Any]], verb: str) -> str:
    """How many features a condition holds for."""
    of, total = sum(a["of"] for a in answers), sum(a["kept"] for a in answers)
    share = f", {100 * total / of:.1f} %" if of else ""
    return f"{verb} {total:,} of {pluralise(of, 'feature')}{share}"


def _first_values(answer: dict[str, Any]) -> str:
    """What an expression gives for the first rows."""
    if answer.get("wrong"):
        return str(answer["wrong"])
    shown = ", ".join("(empty)" if v is None else str(v) for v in answer["values"])
    more = f" ... of {pluralise(answer['of'], 'row')}" if answer["of"] > len(answer["values"]) else ""
    return f"Gives {answer['type']}: {shown}{more}" if answer["values"] else f"Gives {answer['type']}"
