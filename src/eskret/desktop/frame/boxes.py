"""The boxes that open over the window: heads, own code, handing over, scripts; and the handbook in the browser."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QWidget

from eskret.desktop.frame import handbook_pages
from eskret.desktop.frame.key_list import FOR_THE_SEARCH, KEYS
from eskret.desktop.python_console.opening import ScriptBox
from eskret.desktop.state import launcher
from eskret.desktop.state.open_and_save import Files
from eskret.desktop.state.session import Session
from eskret.desktop.user_operations.box import CodeBox, NewOperationBox
from eskret.desktop.user_operations.code import OwnCode
from eskret.desktop.views.handover import PackBox, UnpackBox
from eskret.desktop.views.heads import HeadsBox, KeysBox
from eskret.errors import EskretError
from eskret.workflow.model.document import Document


class Boxes(QObject):
    """Opens them over ``window``. ``working`` says whether a workflow is open."""

    told = Signal(str, str)  # tone and text

    def __init__(self, session: Session, files: Files, own: OwnCode, window: QWidget, working: Callable[[], bool]) -> None:
        super().__init__(window)
        self._session, self._files, self._own, self._window, self._working = session, files, own, window, working
        files.unpack_asked.connect(self.unpack)
        files.script_asked.connect(self.open_script)

    def edit_heads(self) -> None:
        """Title, summary and CRS of the workflow."""
        HeadsBox(self._session, self._window).open()

    def show_code(self, file: str = "") -> None:
        """The code of the project's own operations."""
        if self._working():
            self.code_box = CodeBox(self._own, self.new_operation, self._window, file)
            self.code_box.open()

    def new_operation(self) -> None:
        """Begin an operation of one's own."""
        if self._working():
            NewOperationBox(self._own, self._begun, self._window).open()

    def _begun(self, file: str) -> None:
        if not any(b.isVisible() for b in self._window.findChildren(CodeBox)):
            self.show_code(file)
        text = f"{file} is a file to start from. Change it in any editor; what you save is taken up at once."
        self.told.emit("good", text)

    def pack(self) -> None:
        """Pack the workflow with all that it needs."""
        session = self._session
        if session.path is None or session.dirty:
            self.told.emit("look", "Save the workflow first: what is packed is its file.")
            return
        box = PackBox(session, self._window)
        box.packed.connect(lambda text: self.told.emit("good", text))
        box.open()

    def unpack(self, pack: Path) -> None:
        """Unpack a workflow that was handed over, and open it."""
        box = UnpackBox(self._session, pack, self._window)
        box.unpacked.connect(self._unpacked)
        box.open()

    def _unpacked(self, path: str, said: str) -> None:
        self._files.open_path(Path(path))
        if said:
            self.told.emit("look", said)

    def open_script(self, script: Path) -> None:
        """Open what a script builds."""
        box = ScriptBox(self._session, script, self._window)
        box.built.connect(self._built)
        box.open()

    def _built(self, document: Document, folder: Path, said: str) -> None:
        if self._files.may_leave():
            self._session.take_built(document, folder)
            self._files.opened.emit()
            self.told.emit("good", said)

    def show_handbook(self, use: str = "") -> None:
        """The handbook in the browser: the page of an operation, or the first."""
        try:
            handbook_pages.open_page(handbook_pages.write(self._session, use))
        except EskretError as error:
            self.told.emit("bad", error.sentence())

    def add_launcher(self) -> None:
        """An entry among the applications of the desktop."""
        try:
            entry = launcher.add()
        except EskretError as error:
            self.told.emit("bad", error.sentence())
        else:
            self.told.emit("good", f"Eskret stands among the applications of the desktop now ({entry}).")

    def show_keys(self, search: str, choose: Callable[[str], str]) -> None:
        """What the keys do; ``search`` opens the search over everything, and ``choose`` has other keys do that."""
        KeysBox([(search, what) if keys == FOR_THE_SEARCH else (keys, what) for keys, what in KEYS], search, choose, self._window).open()
