"""Open what a script builds: read and allowed once, run in a process of its own, and shown as a ledger."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QLabel, QWidget

from eskret.desktop.python_console.python_text import PythonText
from eskret.desktop.state.session import Session
from eskret.desktop.views.heads import Box
from eskret.user_operations import trust
from eskret.workflow.model.document import parse


class ScriptBox(Box):
    """Shows the script; asks for leave to run it where nobody gave it yet, and which workflow, where it builds several."""

    built = Signal(object, object, str)  # document, folder, sentence

    def __init__(self, session: Session, script: Path, parent: QWidget) -> None:
        super().__init__(f"Open {script.name}", "Allow and open", parent)
        self._session, self._script = session, script
        self._found: list[dict[str, Any]] = []
        self.setMinimumWidth(720)
        self.says = QLabel()
        self.says.setWordWrap(True)
        self.says.setObjectName("faint")
        self.code = PythonText("The script")
        self.code.setMinimumHeight(340)
        self.which = QComboBox()
        self.which.setAccessibleName("Which workflow to open")
        self.which.hide()
        for widget in (self.says, self.code, self.which):
            self.column.addWidget(widget)
        self.finish()
        try:
            self._text = script.read_bytes()
            self.code.show_code(self._text.decode("utf-8", "replace"))
        except OSError as error:
            self._text = b""
            self.say_wrong(f"{script} cannot be read: {error.strerror}.")
            self.ok.setEnabled(False)
            return
        if trust.is_trusted_file(script):
            self.ok.setText("Open")
            self._build()
        else:
            self.says.setText(
                "To open what it builds, the script is run. It can do whatever you can do on this machine: read it first. "
                "What it would write or run itself is left undone."
            )

    def take(self) -> None:
        if self._found:
            self._open(self._found[max(0, self.which.currentIndex())])
            return
        try:
            if self._script.read_bytes() != self._text:
                self.say_wrong("It has changed since it was shown. Close this and open it again.")
                return
            trust.trust_file(self._script)
        except OSError as error:
            self.say_wrong(f"It cannot be kept that you allow it: {error}.")
            return
        self._build()

    def _build(self) -> None:
        self.ok.setEnabled(False)
        self.says.setText("It is run …")

        def take(event: Mapping[str, Any]) -> None:
            self.ok.setEnabled(True)
            if event["event"] != "done":
                self.says.setText("")
                self.say_wrong(str(event["text"]))
                return
            self._found = list(event["built"])
            if len(self._found) == 1:
                self._open(self._found[0])
                return
            self.says.setText("It builds several workflows.")
            self.ok.setText("Open")
            self.which.show()
            for one in self._found:
                self.which.addItem(one["title"] or one["name"] or "no title")

        self._session.ask("built", take, self, path=str(self._script))

    def _open(self, one: Mapping[str, Any]) -> None:
        told = f"Built by {self._script.name}; save it to give it a file of its own."
        self.built.emit(parse(one["text"], self._script.name), self._script.resolve().parent, told)
        self.accept()
