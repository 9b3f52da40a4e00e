"""Colours to press on: a button for one, a strip for a ramp."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, QTimer, Signal
from PySide6.QtGui import QColor, QIcon, QPainter, QPaintEvent, QPen, QPixmap
from PySide6.QtWidgets import QColorDialog, QToolButton, QWidget

from eskret.core.style.ramps import RAMPS, ramp_colours
from eskret.desktop.theme.style import theme


class ColourButton(QToolButton):
    """Shows a colour; pressed, it asks for another. ``#RRGGBB``, or empty for none of its own."""

    chosen = Signal(str)

    def __init__(self, about: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("quiet")
        self.setAccessibleName(about)
        self.setFixedSize(36, 22)
        self.colour = ""
        self.usual = "#7DB6A3"
        self._about = about
        self.clicked.connect(self._ask)

    def show_colour(self, colour: str, usual: str = "") -> None:
        """Show a colour, or the usual one where there is none."""
        self.colour, self.usual = colour, usual or self.usual
        self.setToolTip(f"{self._about}: {colour or 'as usual'}")
        self.update()

    def _ask(self) -> None:
        box = QColorDialog(QColor(self.colour or self.usual), self)
        box.setOption(QColorDialog.ColorDialogOption.DontUseNativeDialog)
        box.setWindowTitle(self._about)
        box.finished.connect(lambda answer: self._answered(box, answer))
        box.open()

    def _answered(self, box: QColorDialog, answer: int) -> None:
        """Tell the colour once the box is through with its own closing: what hears of it may take this button away."""
        colour = box.selectedColor().name().upper()
        box.deleteLater()
        if answer:
            QTimer.singleShot(0, self, lambda: self.chosen.emit(colour))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.colour("hand" if self.hasFocus() else "field_line"), 2 if self.hasFocus() else 1))
        painter.setBrush(QColor(self.colour or self.usual))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(2, 2, -2, -2), 3, 3)
        painter.end()


STRIP = QSize(96, 14)


def ramp_icon(name: str, turned: bool) -> QIcon:
    """A ramp as a strip."""
    picture = QPixmap(STRIP * 2)
    picture.setDevicePixelRatio(2)
    painter = QPainter(picture)
    colours = ramp_colours(name, 12, turned)
    for n, colour in enumerate(colours):
        painter.fillRect(QRectF(n * STRIP.width() / 12, 0, STRIP.width() / 12 + 1, STRIP.height()), QColor(colour))
    painter.end()
    return QIcon(picture)


def ramp_titles() -> list[tuple[str, str]]:
    """Names and titles of the ramps."""
    return [(name, ramp.title) for name, ramp in RAMPS.items()]
