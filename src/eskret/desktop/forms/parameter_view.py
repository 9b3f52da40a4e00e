"""Parameters as a view of their own: which there are, what the one in hand is, and how a run asks for them."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QListWidget, QListWidgetItem, QScrollArea, QVBoxLayout, QWidget

from eskret.core.naming import number_collisions
from eskret.desktop.forms.parameter_form import ValuesForm
from eskret.desktop.forms.parameter_properties import Properties
from eskret.desktop.state.session import Session
from eskret.desktop.views.parts import View, in_row, push_button, rule
from eskret.workflow.model.edits import move_parameter, put_parameter, remove_parameter
from eskret.workflow.model.parameters import TYPES, Parameter


class ParametersView(View):
    """Add, order, describe and take out; the form at the right is the one that asks."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, "Parameters", parent)
        self.says = QLabel("Values at the top of the workflow: change one, and run it again.")
        self.says.setObjectName("faint")
        self.list = QListWidget()
        self.list.setObjectName("shelfList")
        self.list.setAccessibleName("Parameters in their order")
        self.list.currentRowChanged.connect(lambda _: self._choose())
        self.add_button = push_button("Add a parameter", "A value that steps can name", self.add)
        self.up_button = push_button("Up", "Move it up", lambda: self._move(-1))
        self.down_button = push_button("Down", "Move it down", lambda: self._move(1))
        self.remove_button = push_button("Remove", "Remove it; settings that used it keep its value", self.remove)
        self.properties = Properties(session)
        self.form = ValuesForm(session)
        self._build()
        session.changed.connect(self.refresh)
        session.figures_changed.connect(self.refresh)

    def _build(self) -> None:
        shelf = QWidget()
        shelf.setObjectName("shelf")
        shelf.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        shelf.setFixedWidth(290)
        left = QVBoxLayout(shelf)
        left.setContentsMargins(12, 12, 12, 12)
        left.setSpacing(8)
        left.addWidget(self.list, 1)
        left.addWidget(self.add_button)
        left.addLayout(in_row(self.up_button, self.down_button, self.remove_button))
        self.empty = QLabel(
            "There are no parameters yet.\n\nA parameter is a value at the top of the workflow, such as a district, a year or "
            "a folder. Steps name it: $district in a condition, {district} in the name of a file. Whoever runs the workflow is "
            "asked for it."
        )
        self.empty.setObjectName("faint")
        self.empty.setWordWrap(True)
        middle = _scrolling(self.properties, self.empty)
        asked = QLabel("How a run asks for them")
        asked.setObjectName("eyebrow")
        right = _scrolling(asked, self.form)
        right.setFixedWidth(400)
        panes = QHBoxLayout()
        panes.setContentsMargins(0, 0, 0, 0)
        panes.setSpacing(0)
        for widget in (shelf, middle, rule(upright=True), right):
            panes.addWidget(widget)
        panes.setStretchFactor(middle, 1)
        head = in_row(self.title, self.says, None, self.back)
        head.setContentsMargins(14, 10, 12, 10)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(head)
        column.addWidget(rule())
        column.addLayout(panes, 1)

    def open_view(self, name: str = "") -> None:
        """Show the parameters as they are now, this one in hand."""
        self.refresh()
        names = [p.name for p in self._session.document.parameters]
        if name in names:
            self.list.setCurrentRow(names.index(name))

    def refresh(self) -> None:
        """Show the document as it stands."""
        if not self.isVisible():
            return
        parameters = self._session.document.parameters
        chosen = self.properties.name
        self.list.blockSignals(True)
        while self.list.count() > len(parameters):
            self.list.takeItem(self.list.count() - 1)
        for n, p in enumerate(parameters):
            if n >= self.list.count():
                self.list.addItem(QListWidgetItem())
            self.list.item(n).setText(f"{p.title}\n{TYPES[p.type]}")
        names = [p.name for p in parameters]
        if names and chosen not in names:
            chosen = names[min(max(self.list.currentRow(), 0), len(names) - 1)]
        if names:
            self.list.setCurrentRow(names.index(chosen))
        self.list.blockSignals(False)
        self.empty.setVisible(not names)
        self.properties.setVisible(bool(names))
        self.properties.show_parameter(chosen if names else "")
        at = self.list.currentRow()
        self.up_button.setEnabled(bool(names) and at > 0)
        self.down_button.setEnabled(bool(names) and at < len(names) - 1)
        self.remove_button.setEnabled(bool(names))
        self.form.show_parameters(self._session.document, {p.name: self._session.value(p.name) for p in parameters})

    def showEvent(self, event: object) -> None:
        super().showEvent(event)  # type: ignore[arg-type]
        self.refresh()

    def _choose(self) -> None:
        parameters = self._session.document.parameters
        row = self.list.currentRow()
        if 0 <= row < len(parameters):
            self.properties.show_parameter(parameters[row].name)
            self.refresh()

    def add(self) -> None:
        """Add a parameter, ready to be named."""
        taken = [p.name for p in self._session.document.parameters]
        name = number_collisions(["wanted"], taken=taken)[0]
        self.properties.name = name
        self._session.edit(put_parameter(self._session.document, Parameter(name)), f"add parameter {name}")
        self.properties.called.setFocus()
        self.properties.called.selectAll()

    def remove(self) -> None:
        """Take the parameter in hand out."""
        name = self.properties.name
        if self.properties.parameter is not None:
            values = {n: v for n, v in self._session.state.values.items() if n != name}
            self._session.edit(remove_parameter(self._session.document, name), f"remove parameter {name}", values)

    def _move(self, by: int) -> None:
        if self.properties.parameter is not None:
            name = self.properties.name
            self._session.edit(move_parameter(self._session.document, name, by), f"move parameter {name}")


def _scrolling(*widgets: QWidget) -> QScrollArea:
    body = QWidget()
    body.setObjectName("formBody")
    column = QVBoxLayout(body)
    column.setContentsMargins(18, 14, 18, 14)
    column.setSpacing(10)
    for widget in widgets:
        column.addWidget(widget)
    column.addStretch()
    scroll = QScrollArea()
    scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    scroll.setWidgetResizable(True)
    scroll.setFrameShape(QFrame.Shape.NoFrame)
    scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    scroll.setWidget(body)
    return scroll
