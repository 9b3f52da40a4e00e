"""Start the application: the window first, everything heavy after."""

from __future__ import annotations

import signal
import sys
from functools import partial
from importlib import import_module
from pathlib import Path

from PySide6.QtCore import QSettings, QTimer
from PySide6.QtWidgets import QApplication

from eskret.desktop.state import text_size
from eskret.desktop.state.background import Background
from eskret.desktop.theme import style
from eskret.desktop.theme.icons import application_icon
from eskret.desktop.window import Window


def settings() -> QSettings:
    """Where the window remembers files, theme and sizes."""
    return QSettings(QSettings.Format.IniFormat, QSettings.Scope.UserScope, "eskret", "window")


def make_application() -> QApplication:
    """The application, dressed; the one there is, if there is one."""
    found = QApplication.instance()
    app = found if isinstance(found, QApplication) else QApplication(sys.argv[:1])
    app.setApplicationName("Eskret")
    app.setDesktopFileName("eskret")
    app.setWindowIcon(application_icon())
    style.install(app, str(settings().value("theme", "")))
    return app


def start(path: Path | None = None) -> int:
    """Open the window, on a workflow or a folder where one is given; returns the exit code."""
    text_size.follow_desktop()
    app = make_application()
    window = Window(settings())
    window.show()
    # one turn of events, so that the frame is painted before the heavy imports begin
    app.processEvents()
    # what is in the window needs libraries that take a second to import: beside its thread, so that it answers meanwhile
    libraries = Background(window)

    def fill(_: object) -> None:
        if window.isVisible():  # nobody has closed it meanwhile
            window.furnish(path)

    libraries.run(partial(import_module, "eskret.desktop.frame.workbench"), fill)
    window.destroyed.connect(lambda: libraries.close())
    # without this, Ctrl+C in the terminal would wait for the next event of the window
    signal.signal(signal.SIGINT, lambda *_: window.close())
    pulse = QTimer(interval=250)
    pulse.timeout.connect(lambda: None)
    pulse.start()
    return app.exec()
