"""A form with every parameter: its value, its help, what is wrong with it while it is typed, what hangs on what."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from eskret.desktop.forms.parameter_editors import ValueEditor
from eskret.desktop.state.session import Session
from eskret.errors import DocumentError
from eskret.workflow.model.choices import Offer
from eskret.workflow.model.document import Document
from eskret.workflow.model.parameters import Parameter, enabled

ASK_AFTER = 120
"""Milliseconds of quiet before the choices that hang on a value are read."""


class ValueBlock(QWidget):
    """One parameter: label, editor, help, and what is wrong or why it does not count."""

    def __init__(self, session: Session, parameter: Parameter, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.parameter = parameter
        self.editor = ValueEditor(session, parameter)
        self.label = QLabel(parameter.title)
        self.label.setBuddy(self.editor.target())
        self.label.setVisible(parameter.type != "flag")
        self.help = QLabel(parameter.help)
        self.help.setObjectName("faint")
        self.help.setWordWrap(True)
        self.help.setVisible(bool(parameter.help))
        self.wrong = QLabel()
        self.wrong.setObjectName("wrong")
        self.wrong.setWordWrap(True)
        self.wrong.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        for widget in (self.label, self.editor, self.wrong, self.help):
            column.addWidget(widget)

    def say(self, wrong: str, offer: Offer | None, counts: bool) -> None:
        """Show what is wrong, or why it does not count."""
        self.editor.setEnabled(counts)
        self.label.setEnabled(counts)
        self.editor.mark_wrong(bool(wrong) and counts)
        self.wrong.setText(wrong if counts else "")
        self.wrong.setVisible(bool(wrong) and counts)
        why = f"{offer.why}." if offer is not None and offer.why and not counts else ""
        self.help.setText(" ".join(filter(None, (self.parameter.help, why))))
        self.help.setVisible(bool(self.help.text()))


class ValuesForm(QWidget):
    """All parameters of a document. ``settled`` says after each change whether the values can be used."""

    settled = Signal(bool)
    entered = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(12)
        self.blocks: dict[str, ValueBlock] = {}
        self._document = Document()
        self._offers: dict[str, Offer] = {}
        self._asked = 0
        self._waiting = False
        self._quiet = QTimer(self, singleShot=True, interval=ASK_AFTER)
        self._quiet.timeout.connect(self._ask)

    def show_parameters(self, document: Document, values: Mapping[str, object]) -> None:
        """Show the parameters of a document with these values."""
        if document.parameters != self._document.parameters:
            for block in self.blocks.values():
                block.setParent(None)
                block.deleteLater()
            self.blocks = {p.name: self._block(p) for p in document.parameters}
            self._offers = {}
        self._document = document
        for parameter in document.parameters:
            self.blocks[parameter.name].editor.show_value(values.get(parameter.name, parameter.default))
        self._ask()
        self._check()

    def _block(self, parameter: Parameter) -> ValueBlock:
        block = ValueBlock(self._session, parameter)
        block.editor.typed.connect(self._typed)
        block.editor.entered.connect(self.entered)
        self._column.addWidget(block)
        return block

    def _typed(self) -> None:
        self._check()
        if any(p.choices_from is not None for p in self._document.parameters):
            self._waiting = True
            self._quiet.start()

    def _ask(self) -> None:
        """Read the choices there are with the values as they stand."""
        if not any(p.choices_from is not None for p in self._document.parameters):
            return
        self._asked += 1
        self._waiting = True
        number = self._asked

        def take(event: Mapping[str, Any]) -> None:
            if number != self._asked:
                return
            self._waiting = self._quiet.isActive()
            if event["event"] == "done":
                self._offers = offers_of(event["offers"])
                for name, offer in self._offers.items():
                    if name in self.blocks:
                        self.blocks[name].editor.show_offer(offer)
            self._check()

        self._session.ask(
            "offers", take, self, text=self._document.to_text(), values=_plain(self.values()), folder=str(self._session.folder)
        )

    def values(self) -> dict[str, object]:
        """What stands in the form, not checked."""
        return {name: block.editor.value() for name, block in self.blocks.items()}

    def wrong(self) -> dict[str, str]:
        """What is wrong, by parameter; of those that count."""
        values = self.values()
        out = {}
        for parameter in self._document.parameters:
            if not enabled(self._document.parameters, parameter.name, values):
                continue
            offer = self._offers.get(parameter.name)
            try:
                found = parameter.accept(values[parameter.name])
                if parameter.choices_from is not None and offer is not None and offer.choices is not None:
                    parameter.accept_among(found, offer.choices)
            except DocumentError as error:
                out[parameter.name] = _said(error)
            if offer is not None and offer.problem:
                out[parameter.name] = offer.problem
        return out

    def _check(self) -> None:
        values, wrong = self.values(), self.wrong()
        for name, block in self.blocks.items():
            counts = enabled(self._document.parameters, name, values)
            block.say(wrong.get(name, ""), self._offers.get(name), counts)
        self.settled.emit(not wrong)

    @property
    def ready(self) -> bool:
        """Whether everything was read and nothing is wrong."""
        return not self._waiting and not self.wrong()

    def focus_first(self) -> None:
        """Put the cursor into the first field that counts."""
        for block in self.blocks.values():
            if block.editor.isEnabled():
                block.editor.select()
                return


def _said(error: DocumentError) -> str:
    """What is wrong, where the place is plain to see."""
    text = f"{error.problem[:1].upper()}{error.problem[1:]}."
    return f"{text} {error.way_out}." if error.way_out else text


def _plain(values: Mapping[str, object]) -> dict[str, object]:
    return {k: v if isinstance(v, bool | int | float | str) else str(v) for k, v in values.items()}


def offers_of(told: Mapping[str, Mapping[str, Any]]) -> dict[str, Offer]:
    """Offers as a worker told them."""

    def choices(found: Sequence[object] | None) -> tuple[object, ...] | None:
        return None if found is None else tuple(found)

    return {n: Offer(choices(o["choices"]), o["enabled"], o["why"], o["problem"]) for n, o in told.items()}
