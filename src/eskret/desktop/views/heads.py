"""Small boxes: what stands at the top of the workflow, and the keys."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

from PySide6.QtCore import Qt
from PySide6.QtGui import QFont, QKeySequence
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QKeySequenceEdit,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from eskret.core.crs import crs_facts
from eskret.core.naming import AS_TYPED, TIDY
from eskret.desktop.state.session import Session
from eskret.desktop.theme.style import font
from eskret.errors import EskretError


class Box(QDialog):
    """Labelled lines, what is wrong, and two buttons."""

    def __init__(self, title: str, action: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setMinimumWidth(440)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(18, 16, 18, 14)
        self.column.setSpacing(6)
        head = QLabel(title)
        head.setFont(font(15, QFont.Weight.DemiBold))
        head.setStyleSheet("font-size: 15px; font-weight: 600;")
        self.column.addWidget(head)
        self.lines: dict[str, QLineEdit] = {}
        self.wrong = QLabel()
        self.wrong.setObjectName("wrong")
        self.wrong.setWordWrap(True)
        self.wrong.hide()
        self.ok = QPushButton(action)
        self.ok.setObjectName("primary")
        self.ok.setDefault(True)
        self.ok.clicked.connect(self.take)
        leave = QPushButton("Cancel")
        leave.clicked.connect(self.reject)
        self._row = QHBoxLayout()
        self._row.addStretch()
        self._row.addWidget(leave)
        self._row.addWidget(self.ok)

    def add_line(self, name: str, label: str, value: str, help_: str) -> None:
        """A labelled line with its help."""
        line = QLineEdit(value)
        line.setAccessibleName(label)
        self.lines[name] = line
        title = QLabel(label)
        title.setBuddy(line)
        told = QLabel(help_)
        told.setObjectName("faint")
        told.setWordWrap(True)
        self.column.addSpacing(6)
        for widget in (title, line, told):
            self.column.addWidget(widget)

    def add_choice(self, label: str, value: str, choices: Mapping[str, str], help_: str) -> QComboBox:
        """A labelled choice with its help; what it is of is each item's data."""
        box = QComboBox()
        box.setAccessibleName(label)
        for key, words in choices.items():
            box.addItem(words, key)
        box.setCurrentIndex(max(0, box.findData(value)))
        title = QLabel(label)
        title.setBuddy(box)
        told = QLabel(help_)
        told.setObjectName("faint")
        told.setWordWrap(True)
        self.column.addSpacing(6)
        for widget in (title, box, told):
            self.column.addWidget(widget)
        return box

    def finish(self) -> None:
        """Put the buttons below."""
        self.column.addWidget(self.wrong)
        self.column.addSpacing(8)
        self.column.addLayout(self._row)

    def say_wrong(self, text: str) -> None:
        self.wrong.setText(text)
        self.wrong.show()

    def take(self) -> None:
        raise NotImplementedError


class HeadsBox(Box):
    """Title, summary, coordinate system and how layers are named."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__("The workflow", "Change it", parent)
        self._session = session
        document = session.document
        self.add_line("title", "Title", document.title, "Stands at the top of the window and of reports.")
        self.add_line("summary", "Summary", document.summary, "One sentence on what it does.")
        self.add_line(
            "crs",
            "Coordinate system",
            document.crs,
            "Layers are reprojected to it as they are loaded, for example EPSG:32626. Empty keeps each as it is.",
        )
        older = {} if document.names else {"": "are tidied, save where one of just that name is there"}
        self.names = self.add_choice(
            "Names of layers that are saved",
            document.names,
            {AS_TYPED: "stay as they are", TIDY: "are tidied: small letters, digits, underscores", **older},
            "What a format cannot hold is told. A step that saves can say otherwise; names of files are always tidied.",
        )
        self.finish()

    def take(self) -> None:
        session = self._session
        values = {name: line.text().strip() for name, line in self.lines.items()}
        if values["crs"]:
            try:
                values["crs"] = crs_facts(values["crs"]).code
            except EskretError as error:
                self.say_wrong(error.sentence())
                return
        document = replace(
            session.document, title=values["title"], summary=values["summary"], crs=values["crs"], names=str(self.names.currentData())
        )
        session.edit(document, "change the workflow")
        self.accept()


class KeysBox(QDialog):
    """What the keys do."""

    def __init__(self, keys: Sequence[tuple[str, str]], chosen: str, choose: Callable[[str], str], parent: QWidget) -> None:
        """``chosen`` opens the search over everything; ``choose`` takes others and says what is wrong with them."""
        super().__init__(parent)
        self.setWindowTitle("Keys")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        grid = QGridLayout(self)
        grid.setContentsMargins(20, 16, 20, 16)
        grid.setHorizontalSpacing(26)
        grid.setVerticalSpacing(7)
        for row, (key, what) in enumerate(keys):
            name = QLabel(key)
            name.setFont(font(13, QFont.Weight.DemiBold))
            name.setStyleSheet("font-weight: 600;")
            grid.addWidget(name, row, 0)
            grid.addWidget(QLabel(what), row, 1)
            if key == chosen:
                self.opens = name
        self._choose = choose
        self.editor = QKeySequenceEdit(QKeySequence(chosen))
        self.editor.setAccessibleName("Keys that open Find anything")
        self.editor.setMaximumSequenceLength(1)
        self.use = QPushButton("Use these keys")
        self.use.clicked.connect(self._use)
        self.says = QLabel()
        self.says.setObjectName("wrong")
        title = QLabel("Open Find anything by")
        title.setBuddy(self.editor)
        line = QHBoxLayout()
        for widget in (title, self.editor, self.use):
            line.addWidget(widget)
        line.addWidget(self.says, 1)
        grid.setRowMinimumHeight(len(keys), 8)
        grid.addLayout(line, len(keys) + 1, 0, 1, 2)

    def _use(self) -> None:
        keys = self.editor.keySequence().toString()
        wrong = self._choose(keys)
        self.says.setText(wrong)
        if not wrong:
            self.opens.setText(keys)
