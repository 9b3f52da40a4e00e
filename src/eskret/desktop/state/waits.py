"""What is being waited for, said once it takes longer than a moment."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer, Signal

MOMENT = 150
"""Milliseconds that are waited for without a word."""


class Waits(QObject):
    """``changed`` carries what is waited for, or nothing once that is there; of several the one that was begun first."""

    changed = Signal(str)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._under_way: dict[object, str] = {}
        self._said = ""
        self._soon = QTimer(self, singleShot=True, interval=MOMENT)
        self._soon.timeout.connect(self._say)

    def begin(self, key: object, text: str) -> None:
        """Something is waited for from now on."""
        self._under_way[key] = text
        if not self._soon.isActive() and not self._said:
            self._soon.start()

    def end(self, key: object) -> None:
        """It is there."""
        if self._under_way.pop(key, None) is None:
            return
        if not self._under_way:
            self._soon.stop()
        if self._said:
            self._say()

    def _say(self) -> None:
        text = next(iter(self._under_way.values()), "")
        if text != self._said:
            self._said = text
            self.changed.emit(text)
