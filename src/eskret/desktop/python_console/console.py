"""A pane to try things in: an interactive Python of its own process, with the open workflow and its results at hand."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from PySide6.QtCore import QFileSystemWatcher, QTimer, Signal
from PySide6.QtGui import QFontDatabase
from PySide6.QtWidgets import QLabel

from eskret.core.files.atomic import write_whole
from eskret.desktop.panes.pane import Pane, QuietButton
from eskret.desktop.state.session import Session
from eskret.desktop.theme.style import theme
from eskret.errors import EskretError
from eskret.process.console_state import BACK, STATE
from eskret.workflow.model.document import parse

_LONG = 80
"""Characters; the name of a socket cannot be much longer, so from here on the kernel listens on loopback, with a key."""
_BANNER = (
    "workflow is the open one; results[step][layer] is a GeoDataFrame of the last run;\n"
    "ledger(workflow) shows a changed one in the ledger.\n"
)
_QUIET = {"PYDEVD_DISABLE_FILE_VALIDATION": "1"}
"""The library that stands ready for a debugger need not say so."""
_BEGIN = """
def _begin():
    from pathlib import Path
    from eskret.formats import gdal
    gdal.with_frames()
    from eskret.process import console_state
    console_state.attach(get_ipython().user_ns, Path({folder!r}), get_ipython())
_begin()
del _begin
"""


class ConsolePane(Pane):
    """The kernel is started when the pane is first shown. It is a process of its own: what it does, the window survives."""

    closed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._folder: Path | None = None
        self._manager: Any = None
        self._client: Any = None
        self.widget: Any = None
        title = QLabel("Python")
        title.setObjectName("title")
        self.again = QuietButton("Restart", "Forget everything done here and start again")
        self.again.clicked.connect(self.restart)
        self.halt = QuietButton("Interrupt", "Stop what is at work in the pane")
        self.halt.clicked.connect(self.interrupt)
        close = QuietButton("Close", "Close the pane; its contents stay (Ctrl+Shift+P)")
        close.clicked.connect(self.closed)
        self.row.addWidget(title)
        self.row.addStretch()
        for button in (self.halt, self.again, close):
            self.row.addWidget(button)
        self._watcher = QFileSystemWatcher(self)
        self._watcher.directoryChanged.connect(lambda _: self._take_back())
        self._later = QTimer(self, singleShot=True, interval=60)
        self._later.timeout.connect(self._write_down)
        session.changed.connect(self._later.start)
        session.figures_changed.connect(self._later.start)
        theme.changed.connect(self._dress)

    def begin(self) -> None:
        """Start the kernel, where there is none yet, and go there."""
        if self.widget is None:
            if find_spec("qtconsole") is None:
                self._session.told.emit("bad", "The Python pane is not installed here: pip install 'eskret[python-pane]'.", "")
                self.closed.emit()
                return
            try:
                self._begin()
            except Exception as error:  # whatever a machine lacks for it: the window goes on without
                self._session.told.emit("bad", f"The Python pane cannot be opened: {type(error).__name__}: {error}.", "")
                self.closed.emit()
                return
        self.widget.setFocus()

    def _begin(self) -> None:
        os.environ.setdefault("QT_API", "pyside6")
        from qtconsole.manager import QtKernelManager
        from qtconsole.rich_jupyter_widget import RichJupyterWidget

        class Console(RichJupyterWidget):  # type: ignore[misc]
            """With the pane's own words at its head alone."""

            kernel_banner = property(lambda self: "", lambda self, text: None)

        # only whoever runs the window can reach the kernel: its sockets are files in a folder of theirs
        self._folder = Path(tempfile.mkdtemp(prefix="eskret-python-"))
        self._write_down()
        self._watcher.addPath(str(self._folder))
        self._manager = QtKernelManager(kernel_name="python3", transport="ipc", connection_file=str(self._folder / "kernel.json"))
        self._manager.ip = str(self._folder / "kernel")
        if len(str(self._folder)) > _LONG:
            self._manager.transport, self._manager.ip = "tcp", "127.0.0.1"
        # nothing that lies in the project's folder may pass for a library
        self._manager.start_kernel(
            cwd=str(self._session.folder),
            env={**os.environ, **_QUIET, "PYTHONSAFEPATH": "1"},
            extra_arguments=["--InteractiveShellApp.ignore_cwd=True"],
        )
        self._client = self._manager.client()
        self._client.start_channels()
        self.widget = Console()
        self.widget.font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        self.widget.setAccessibleName("Python")
        self.widget.banner = _BANNER
        self.widget.include_other_output = False
        self.widget.confirm_restart = False
        self.widget.kernel_manager = self._manager
        self.widget.kernel_client = self._client
        self.column.addWidget(self.widget, 1)
        self._dress()
        self._attach()

    def _attach(self) -> None:
        self._client.execute(_BEGIN.format(folder=str(self._folder)), silent=True)

    def _dress(self) -> None:
        if self.widget is None:
            return
        palette = theme.palette
        self.widget.style_sheet = (
            "QPlainTextEdit, QTextEdit { font-family: 'DejaVu Sans Mono', 'Liberation Mono', monospace; font-size: 12px; } "
            f"QPlainTextEdit, QTextEdit {{ background: {palette.field}; color: {palette.ink}; border: 0; border-radius: 0; "
            f"selection-background-color: {palette.hand}; selection-color: {palette.hand_ink}; }} "
            f".error {{ color: {palette.bad}; }} .in-prompt {{ color: {palette.good}; }} .out-prompt {{ color: {palette.look}; }} "
            f".in-prompt-number {{ font-weight: bold; }} .out-prompt-number {{ font-weight: bold; }} "
            f".inverted {{ background: {palette.ink}; color: {palette.field}; }}"
        )
        self.widget.syntax_style = "default" if palette.name == "light" else "native"

    def restart(self) -> None:
        """Begin anew with an empty kernel."""
        if self.widget is not None:
            self._manager.restart_kernel(now=True)
            self.widget.reset(clear=True)
            self._attach()

    def interrupt(self) -> None:
        """Stop what is at work."""
        if self.widget is not None:
            self._manager.interrupt_kernel()

    # -- what is at hand there, and what comes back

    def _write_down(self) -> None:
        if self._folder is None:
            return
        session = self._session
        results = {}
        for step in session.document.steps:
            view = session.view(step.id)
            if view is not None:
                results[step.id] = {str(info["key"]): dict(info) for info in view["leaving"]}
        told = {
            "text": session.document.to_text(),
            "path": str(session.path) if session.path is not None else "",
            "folder": str(session.folder),
            "values": {n: str(v) for n, v in session.values().items()},
            "results": results,
        }
        try:
            write_whole(self._folder / STATE, json.dumps(told, ensure_ascii=False), synced=False)
        except OSError:
            return

    def _take_back(self) -> None:
        """A workflow that was changed there goes into the ledger, as one edit."""
        if self._folder is None or not (self._folder / BACK).exists():
            return
        try:
            text = (self._folder / BACK).read_text(encoding="utf-8")
            (self._folder / BACK).unlink()
            self._session.edit(parse(text, "the Python pane"), "take what the Python pane made")
        except (OSError, EskretError) as error:
            told = error.sentence() if isinstance(error, EskretError) else str(error)
            self._session.told.emit("bad", told, "")

    def close_down(self) -> None:
        """End the kernel."""
        self._later.stop()
        theme.changed.disconnect(self._dress)
        if self._client is not None:
            self._client.stop_channels()
            self._manager.shutdown_kernel(now=True)
            self._client = self._manager = None
        if self._folder is not None:
            self._watcher.removePath(str(self._folder))
            shutil.rmtree(self._folder, ignore_errors=True)
            self._folder = None
