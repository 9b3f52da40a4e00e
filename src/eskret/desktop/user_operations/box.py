"""The code of a project's own operations: read, allowed, begun."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QDesktopServices, QFont
from PySide6.QtWidgets import QCheckBox, QDialog, QHBoxLayout, QLabel, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from eskret.core.words import pluralise
from eskret.desktop.python_console.python_text import PythonText
from eskret.desktop.theme.style import font
from eskret.desktop.user_operations.code import OwnCode
from eskret.desktop.views.heads import Box
from eskret.desktop.views.parts import push_button
from eskret.errors import DocumentError, EskretError
from eskret.user_operations import trust
from eskret.user_operations.descriptors import OperationCard
from eskret.user_operations.template import new_operation

_AT = Qt.ItemDataRole.UserRole


class CodeBox(QDialog):
    """Files at the left, the code at the right; what is to be said and done about it below."""

    def __init__(self, own: OwnCode, begin: Callable[[], None], parent: QWidget, show: str = "") -> None:
        super().__init__(parent)
        self._own = own
        self.setWindowTitle("Operations of your own")
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(980, 620)
        head = QLabel("Operations of your own")
        head.setFont(font(15, QFont.Weight.DemiBold))
        head.setStyleSheet("font-size: 15px; font-weight: 600;")
        self.says = QLabel()
        self.says.setWordWrap(True)
        self.files = QListWidget()
        self.files.setAccessibleName("Files")
        self.files.setFixedWidth(250)
        self.files.currentItemChanged.connect(lambda *_: self._show_file())
        self.code = PythonText("The code of the file")
        self.about = QLabel()
        self.about.setWordWrap(True)
        self.about.setObjectName("faint")
        self.onward = QCheckBox("Also what becomes of it here, in this folder, on this machine")
        self.onward.setToolTip("For code that you write yourself: it is not asked about again at every change")
        self.allow = QPushButton("Allow this code")
        self.allow.setObjectName("primary")
        self.allow.clicked.connect(self._allow)
        self.withdraw = push_button("Allow it no more", "Ask again before anything of it runs", self._withdraw)
        self.open_button = push_button("Open the file", "In the editor that your desktop has for it", self._open)
        self.new = push_button("New operation …", "Write a file to start from", begin)
        leave = push_button("Close", "", self.reject)
        right = QVBoxLayout()
        right.addWidget(self.code, 1)
        right.addWidget(self.about)
        middle = QHBoxLayout()
        middle.addWidget(self.files)
        middle.addLayout(right, 1)
        below = QHBoxLayout()
        for widget in (self.new, self.open_button, self.withdraw):
            below.addWidget(widget)
        below.addStretch()
        below.addWidget(self.onward)
        below.addWidget(self.allow)
        below.addWidget(leave)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 14)
        column.setSpacing(10)
        column.addWidget(head)
        column.addWidget(self.says)
        column.addLayout(middle, 1)
        column.addLayout(below)
        own.changed.connect(self.refresh)
        self._wanted = show
        self.refresh()

    def refresh(self) -> None:
        """Show what is known now."""
        own = self._own
        shown = self._wanted or self._file()
        self._wanted = ""
        self.files.blockSignals(True)
        self.files.clear()
        for name in own.files:
            wrong = [p for p in own.problems if Path(p.file) == self._path(name)]
            count = sum(1 for o in own.operations if Path(o.file) == self._path(name))
            words = "does not load" if wrong else pluralise(count, "operation") if own.trusted else "not allowed yet"
            item = QListWidgetItem(f"{Path(name).relative_to(trust.FOLDER)}\n   {words}")
            item.setData(_AT, name)
            self.files.addItem(item)
        rows = [n for n, name in enumerate(own.files) if name == shown]
        self.files.setCurrentRow(rows[0] if rows else 0)
        self.files.blockSignals(False)
        self._show_file()
        asks = bool(own.files) and not own.trusted
        self.allow.setVisible(asks)
        self.onward.setVisible(asks)
        self.withdraw.setVisible(bool(own.files) and own.trusted)
        self.open_button.setEnabled(bool(own.files))
        if asks:
            text = "This code came with the project. It can do whatever you can do on this machine: read it before you allow it."
        elif own.problems:
            text = "What does not load is marked, with the line; it is read again as soon as it is saved. The rest can be used."
        elif own.files:
            text = f"{pluralise(len(own.operations), 'operation')} of this project, found among the others when you add a step."
        else:
            text = "This project has no operations of its own yet. Begin one: a Python function that makes layers of layers."
        self.says.setText(text)

    def _file(self) -> str:
        item = self.files.currentItem()
        return str(item.data(_AT)) if item is not None else ""

    def _path(self, name: str) -> Path:
        return (self._own.folder or Path()) / name

    def _show_file(self) -> None:
        name = self._file()
        if not name:
            self.code.show_code("")
            self.about.setText("")
            return
        path = self._path(name)
        try:
            self.code.show_code(path.read_text(encoding="utf-8", errors="replace"))
        except OSError as error:
            self.code.show_code("")
            self.about.setText(f"It cannot be read: {error.strerror}.")
            return
        wrong = [p for p in self._own.problems if Path(p.file) == path]
        self.code.mark({p.line: "hand_row" for p in wrong if p.line})
        if wrong:
            self.code.go_to(wrong[0].line)
        mine = [o for o in self._own.operations if Path(o.file) == path]
        told = [p.text + "." for p in wrong] or [_about(o) for o in mine]
        self.about.setText("\n".join(told) or str(path))

    def _allow(self) -> None:
        folder = self._own.folder
        if folder is None:
            return
        try:
            trust.trust(folder, written_here=self.onward.isChecked(), told=self._own.hash)
        except DocumentError:
            # it changed since it was shown: what was read is not what would run
            self._own.look()
            self.says.setText("The code has changed since it was shown. Read it again, then allow it.")
            return
        except OSError as error:
            self.says.setText(f"It cannot be kept that you allow it: {error}.")
            return
        self._own.look()

    def _withdraw(self) -> None:
        if self._own.folder is not None:
            trust.distrust(self._own.folder)
            self._own.look()

    def _open(self) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(self._path(self._file()))))


class NewOperationBox(Box):
    """Asks for the title of a new operation and writes a file to start from."""

    def __init__(self, own: OwnCode, made: Callable[[str], object], parent: QWidget) -> None:
        super().__init__("New operation", "Write the file", parent)
        self._own, self._made = own, made
        self.add_line("title", "Title", "", "What it does, as a short order: Thin out points.")
        self.finish()

    def take(self) -> None:
        title = self.lines["title"].text().strip()
        if not title:
            self.say_wrong("Give it a title.")
            return
        try:
            path = new_operation(self._own.folder or Path(), title)
        except EskretError as error:
            self.say_wrong(error.sentence())
            return
        self._own.look()
        self.accept()
        self._made(f"{trust.FOLDER}/{path.name}")


def _about(card: OperationCard) -> str:
    by = f" By {card.author}." if card.author else ""
    limits = f" Limits: {card.limits}" if card.limits else ""
    return f"{card.title}: {card.doc.splitlines()[0]}{by}{limits}"
