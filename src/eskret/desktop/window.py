"""The main window: on screen at once, furnished right after.

What is in it needs libraries that take most of a second to import. So the window shows its bar and its paper first.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QRect, QSettings, Qt
from PySide6.QtGui import QCloseEvent, QFont, QPainter, QPaintEvent
from PySide6.QtWidgets import QMainWindow

from eskret.desktop.state.collector import window_begins, window_ends
from eskret.desktop.theme.style import font, theme, undressed

if TYPE_CHECKING:
    from eskret.desktop.frame.workbench import Workbench


class Window(QMainWindow):
    """The frame; ``workbench`` is there once it is furnished."""

    def __init__(self, settings: QSettings) -> None:
        super().__init__()
        window_begins()
        self._closed = False
        self._settings = settings
        self.workbench: Workbench | None = None
        self.setWindowTitle("Eskret")
        self.setMinimumSize(720, 460)
        room = self.screen().availableGeometry()
        self.resize(min(1280, room.width()), min(800, room.height()))
        place = settings.value("place")
        if place is not None and self.restoreGeometry(place) and not (self.isMaximized() or self.isFullScreen()):
            # it may have been left on a larger screen
            room = self.screen().availableGeometry()
            self.resize(min(self.width(), room.width()), min(self.height(), room.height()))

    def furnish(self, path: Path | None = None) -> Workbench:
        """Put everything in, and open a workflow or a folder where one is given."""
        from eskret.desktop.frame.workbench import Workbench

        with undressed():
            self.workbench = Workbench(self._settings)
            self.setCentralWidget(self.workbench)
        self.workbench.titled.connect(self.setWindowTitle)
        self.workbench.close_asked.connect(self.close)
        if path is not None:
            self.workbench.files.open_path(path)
        self.workbench.warm_later()
        return self.workbench

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.colour("paper"))
        painter.fillRect(QRect(0, 0, self.width(), 46), theme.colour("bar"))
        painter.setPen(theme.colour("bar_ink"))
        painter.setFont(font(15, QFont.Weight.DemiBold))
        painter.drawText(QRect(16, 0, 400, 46), Qt.AlignmentFlag.AlignVCenter, "Eskret")
        painter.end()

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.workbench is not None and not self.workbench.close_down():
            event.ignore()
            return
        self._settings.setValue("place", self.saveGeometry())
        event.accept()
        if not self._closed:
            self._closed = True
            window_ends()
