"""The values of a field with how often each stands there; a click puts one into the condition."""

from __future__ import annotations

import re
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from eskret.core.expression import as_written
from eskret.desktop.panes.edit_actions import condition_for, literal
from eskret.desktop.state.session import Session
from eskret.desktop.table.layer_model import show

MANY = 12
"""More values than this can be searched."""
MOST = 300


class ValuesList(QWidget):
    """A field to choose, and its values below."""

    taken = Signal(str, object)  # field, value

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self._layers: list[dict[str, object]] = []
        self._asked: tuple[object, ...] = ()
        self.box = QComboBox()
        self.box.setAccessibleName("Field whose values are listed")
        self.box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.box.setMinimumContentsLength(8)
        self.box.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.box.activated.connect(lambda _: self._ask())
        self.list = QListWidget()
        self.list.setAccessibleName("Values; Enter or a click puts one into the condition")
        self.list.setAlternatingRowColors(True)
        self.list.setFixedHeight(112)
        self.list.itemClicked.connect(self._take)
        self.list.itemActivated.connect(self._take)
        self.search = QLineEdit()
        self.search.setAccessibleName("Show only values with this text")
        self.search.setPlaceholderText("find a value")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._filter)
        self.search.hide()
        label = QLabel("Values of")
        label.setObjectName("faint")
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(label)
        row.addWidget(self.box, 1)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addLayout(row)
        column.addWidget(self.search)
        column.addWidget(self.list)
        self.hide()

    def offer(self, fields: list[tuple[str, str]], layers: list[dict[str, object]], mentioned: str) -> None:
        """Offer the fields of layers that can be read now; without any the list is not there.

        Parameters
        ----------
        mentioned : the condition; the field it names first is shown, until the analyst chooses another.
        """
        names = [name for name, _ in fields]
        there = bool(names and layers)
        self.setVisible(there)
        self._layers = layers
        if [self.box.itemText(n) for n in range(self.box.count())] != names:
            self.box.clear()
            self.box.addItems(names)
            lower = mentioned.lower()
            first = next((n for n in names if re.search(rf"\b{re.escape(n.lower())}\b", lower)), names[0] if names else "")
            self.box.setCurrentText(first)
        if there:
            self._ask()

    def _ask(self) -> None:
        field = self.box.currentText()
        asked = (field, tuple(x["path"] for x in self._layers))
        if not field or asked == self._asked:
            return
        self._asked = asked

        def take(event: dict[str, object]) -> None:
            if asked == self._asked and event["event"] == "done":
                self._fill(event)

        self._session.ask("values", take, self, layers=self._layers, field=field, most=MOST)

    def _filter(self, text: str) -> None:
        """Show only the values in which a text stands."""
        wanted = text.strip().casefold()
        for n in range(self.list.count()):
            item = self.list.item(n)
            item.setHidden(bool(wanted) and wanted not in item.text().casefold())

    def _fill(self, event: dict[str, Any]) -> None:
        self.list.clear()
        self.search.clear()
        self.search.setVisible(len(event["values"]) > MANY)
        for value, count in event["values"]:
            item = QListWidgetItem(f"{show(value)}   {count:,}")
            item.setData(Qt.ItemDataRole.UserRole, value)
            self.list.addItem(item)
        if event["empty"]:
            item = QListWidgetItem(f"no value   {event['empty']:,}")
            item.setData(Qt.ItemDataRole.UserRole, None)
            self.list.addItem(item)

    def _take(self, item: QListWidgetItem) -> None:
        self.taken.emit(self.box.currentText(), item.data(Qt.ItemDataRole.UserRole))


_WAITS = re.compile(r"(=|<>|!=|<|>|<=|>=|\bLIKE|\bILIKE|\bBETWEEN|\bAND|,|\()\s*$", re.IGNORECASE)


def with_value(text: str, cursor: int, field: str, value: object) -> str:
    """The condition with a value put in: where the text waits for one, else as a condition on its field of its own.

    A condition that was made by clicking takes further values of its field into a list, and lets go of one clicked again.
    """
    before, after = text[:cursor], text[cursor:]
    if value is not None and _WAITS.search(before) and not re.search(r"\)\s*$", before):
        return f"{before.rstrip()} {literal(value)}{after}" if before.rstrip()[-1:] not in "(" else f"{before}{literal(value)}{after}"
    name = as_written(field)
    if value is None:
        return _joined(text, f"{name} IS NULL")
    made = re.compile(
        rf"{re.escape(name)}\s*(?:=\s*(?P<one>{_LITERAL})|IN\s*\((?P<list>{_LITERAL}(?:\s*,\s*{_LITERAL})*)\))", re.IGNORECASE
    )
    found = made.search(text)
    if found is None:
        return _joined(text, condition_for(field, [value]))
    known = re.findall(_LITERAL, found["one"] or found["list"])
    mine = literal(value)
    kept = [k for k in known if k != mine] if mine in known else [*known, mine]
    if not kept:
        return (text[: found.start()] + text[found.end() :]).strip()
    condition = f"{name} = {kept[0]}" if len(kept) == 1 else f"{name} IN ({', '.join(kept)})"
    return text[: found.start()] + condition + text[found.end() :]


_LITERAL = r"(?:'(?:[^']|'')*'|-?\d+(?:\.\d+)?|true|false)"


def _joined(text: str, condition: str) -> str:
    return f"{text.rstrip()} AND {condition}" if text.strip() else condition
