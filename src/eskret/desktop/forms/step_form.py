"""The form of the step in hand, made from its operation's settings model."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFrame, QLabel, QPushButton, QScrollArea, QVBoxLayout, QWidget

from eskret.core.layer import Certainty
from eskret.core.naming import clean_name, number_collisions
from eskret.core.words import pluralise
from eskret.desktop.forms.binding import BindButton
from eskret.desktop.forms.condition import ConditionEditor, ExpressionEditor, SqlEditor
from eskret.desktop.forms.editors import editor_for
from eskret.desktop.forms.entering import EnteringEditor
from eskret.desktop.forms.preview import TextPreview
from eskret.desktop.forms.rounds_editor import RoundsEditor
from eskret.desktop.forms.setting_editors import ChoiceEditor, FlagEditor, SettingEditor, TextEditor
from eskret.desktop.state.session import Session
from eskret.desktop.views.parts import in_row
from eskret.errors import EskretError
from eskret.operations.registry import OWN, operation_by_id
from eskret.operations.sentences import join_words
from eskret.operations.settings import SettingInfo, default_of, setting_info, with_lists
from eskret.operations.support.as_text import from_text, parameters_meant, parameters_named
from eskret.workflow.faces.ledger import grouped_remarks, reason_text
from eskret.workflow.faces.said_once import findings_once
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
_OWN = {
    "id": SettingInfo("Name of the step", "Other steps call it by this name; they follow when it changes.", "text"),
    "heading": SettingInfo("Heading above it", "A heading of your own in the ledger.", "text", example="One district"),
    "note": SettingInfo("Note", "For yourself and whoever comes after; kept in the workflow file.", "text"),
}


def note(kind: str, text: str) -> QFrame:
    """A framed text: ``note``, ``noteMakes`` or ``noteWrong``."""
    frame = QFrame()
    frame.setObjectName(kind)
    label = QLabel(text)
    label.setWordWrap(True)
    label.setTextFormat(Qt.TextFormat.PlainText)
    column = QVBoxLayout(frame)
    column.setContentsMargins(10, 7, 8, 7)
    column.addWidget(label)
    return frame


def retext(frame: QFrame, text: str) -> None:
    """Change the text of a note; without any it is not there."""
    label = frame.findChild(QLabel)
    assert isinstance(label, QLabel)
    label.setText(text)
    frame.setVisible(bool(text))


class FieldBlock(QWidget):
    """Label, editor, help while it is in focus, and what is wrong with it."""

    def __init__(self, info: SettingInfo, editor: SettingEditor, bind: BindButton | None = None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.info = info
        self.editor = editor
        self.bind = bind
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        if info.kind != "flag":
            label = QLabel(info.label)
            label.setObjectName("faint")
            label.setBuddy(editor.target())
            column.addLayout(in_row(label, None, bind) if bind is not None else in_row(label))
            column.addWidget(editor)
        elif bind is not None:
            column.addLayout(in_row(editor, None, bind))
        else:
            column.addWidget(editor)
        self.help = note("note", info.help)
        self.help.hide()
        column.addWidget(self.help)
        self.wrong = QLabel()
        self.wrong.setObjectName("wrong")
        self.wrong.setWordWrap(True)
        self.wrong.setTextFormat(Qt.TextFormat.PlainText)
        self.wrong.hide()
        column.addWidget(self.wrong)

    def show_wrong(self, text: str) -> None:
        """Say what is wrong; nothing for no text."""
        self.wrong.setText(text)
        self.wrong.setVisible(bool(text))
        self.editor.mark_wrong(bool(text))


class SettingsForm(QScrollArea):
    """The form. It is built anew when another step is taken in hand, and only filled anew when its values change."""

    by_layer_asked = Signal()
    page_asked = Signal(str)  # the id of an operation

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._session = session
        self._built = ("", "", Path())
        self.blocks: dict[str, FieldBlock] = {}
        self._counted: tuple[object, ...] = ()
        self._chosen_among: tuple[object, ...] = ()
        self._preview: TextPreview | None = None
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
        """Put the cursor into a field."""
        if name in self.blocks:
            self.blocks[name].editor.target().setFocus()
            self.ensureWidgetVisible(self.blocks[name])

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
        self._makes = note("noteMakes", "")
        self._general = note("noteWrong", "")
        if step is None:
            hint = QLabel("Choose a step in the ledger to see its settings, or add one.")
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
        if operation.has_input:
            self._add(column, "from", _FROM, EnteringEditor(self._session, step.id))
        for name, info in setting_info(operation.Settings).items():
            if info.kind == "layers":
                continue  # they stand among the parameters of the workflow that is used
            self._add(column, name, info, editor_for(info, self._session, step.id), step.id)
            if operation.previews_text and info.kind == "files":
                self._preview = TextPreview(self._session)
                column.addWidget(self._preview)
        if operation.single != ():
            self.by_layer = QPushButton("Layer by layer …")
            self.by_layer.setObjectName("link")
            self.by_layer.setToolTip("Settings of single layers, and what each is called (Ctrl+L)")
            self.by_layer.clicked.connect(lambda _=False: self.by_layer_asked.emit())
            column.addWidget(self.by_layer, 0, Qt.AlignmentFlag.AlignLeft)
        column.addWidget(self._makes)
        line = QFrame()
        line.setFrameShape(QFrame.Shape.HLine)
        column.addWidget(line)
        self._add(column, "step.each", _ROUNDS, RoundsEditor(self._session, step.id))
        for name, info in _OWN.items():
            self._add(column, f"step.{name}", info, TextEditor(info))
        self._add(column, "step.result", _RESULT, FlagEditor(_RESULT))
        column.addStretch()
        self.setWidget(body)

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

    def _add(self, column: QVBoxLayout, name: str, info: SettingInfo, editor: SettingEditor, step: str = "") -> None:
        bind = None
        if step and info.kind in _BINDABLE:
            bind = BindButton(self._session, step, partial(self._bind, name), partial(self._make_parameter, name))
        block = FieldBlock(info, editor, bind)
        self.blocks[name] = block
        column.addWidget(block)
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
            block.help.setVisible(other == name and bool(block.info.help))

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
        general = [f.text for f in findings if f.level == "error" and f.setting not in own]
        retext(self._general, "\n".join(dict.fromkeys(general)))
        retext(self._makes, self._makes_text(step))

    def _shown(self, info: SettingInfo, step: Step) -> bool:
        if info.shown_when is None:
            return True
        other, endings = info.shown_when
        default = default_of(operation_by_id(step.use).Settings, other)
        value = str(step.settings.get(other, "" if default is None else default))
        return any(value.lower().endswith(str(e).lower()) for e in endings)

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
        editor.offer(session.fields_entering(step.id), [p.name for p in session.document.parameters])
        mistakes = [f for f in session.findings(step.id) if f.setting == name and f.level == "error"]
        editor.show_mistake(mistakes[0].start if mistakes else -1, mistakes[0].length if mistakes else 0)
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

    def _makes_text(self, step: Step) -> str:
        """What the step will make, as far as the rehearsal knows."""
        found = self._session.forecast.steps.get(step.id)
        if step.off:
            return "Switched off: what enters goes on unchanged."
        if step.id in self._session.results:
            return self._made_text(step)
        told = [f for f in self._session.findings(step.id) if f.level in ("note", "look")]
        notes = [text for _, _, text in findings_once(told)]
        if found is not None and not found.known:
            return "\n".join(dict.fromkeys(notes))
        if found is None or any(f.level == "error" for f in self._session.findings(step.id)):
            return ""
        lines = []
        for plan in found.outputs[:6]:
            at_most = "" if plan.certainty == Certainty.KNOWN else "at most "
            count = "" if plan.features is None else f", {at_most}{pluralise(plan.features, 'feature')}"
            what = f"{Path(plan.path).name}, layer {plan.layer}" if plan.layer else Path(plan.path).name
            was = f" (from {plan.original})" if plan.layer and plan.original not in (plan.layer, "") else ""
            verb = {
                "write": "Writes",
                "replace": "Replaces",
                "skip": "Leaves as it is",
                "append": "Appends to",
                "update": "Brings up to date",
            }[plan.action]
            lines.append(f"{verb} {what}{was}{count}")
        if len(found.outputs) > 6:
            lines.append(f"and {len(found.outputs) - 6} more")
        if not found.outputs and found.leaving:
            counts = [x.count for x in found.leaving]
            uncertain = any(x.certainty != Certainty.KNOWN for x in found.leaving)
            total = sum(c or 0 for c in counts)
            word = "at most " if uncertain else ""
            keys = join_words([x.key for x in found.leaving], 4)
            lines.append(f"Leaves {pluralise(len(found.leaving), 'layer')}: {keys}; {word}{pluralise(total, 'feature')}.")
        return "\n".join([*lines, *dict.fromkeys(notes)])

    def _made_text(self, step: Step) -> str:
        """What the step made in the last run."""
        result = self._session.results[step.id]
        if result["error"]:
            return str(result["error"])
        lines = []
        for one in result["inputs"]:
            aside = sum(r["count"] for r in one["set_aside"])
            if aside:
                lines.append(f"{one['layer']}: {aside:,} of {pluralise(one['rows'], 'feature')} set aside")
                lines += ["   " + reason_text(r["reason"], r["count"]) for r in one["set_aside"]]
        saved = [o for o in self._session.last_run.get("outputs", ()) if o.get("step") == step.id]
        for output in saved:
            layer = f", layer {output['layer']}" if output["layer"] else ""
            verb = "Saved" if output.get("written", True) else "Left as it was"
            lines.append(f"{verb} {Path(output['path']).name}{layer}: {pluralise(output['features'], 'feature')}.")
        if not saved:
            outputs = result["outputs"]
            keys = join_words([o["layer"] for o in outputs], 4)
            rows = sum(o["rows"] for o in outputs)
            lines.append(f"Left {pluralise(len(outputs), 'layer')}: {keys}; {pluralise(rows, 'feature')}.")
        lines += [text + "." for text, _ in grouped_remarks(result["remarks"])]
        return "\n".join(lines)

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
