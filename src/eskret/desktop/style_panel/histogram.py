"""How the numbers of a field are spread, in the colours of their classes; a limit between classes can be dragged."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from eskret.core.style.classes import class_of, histogram, written
from eskret.core.style.ramps import ramp_colours
from eskret.desktop.theme.style import NARROW, font, theme

BARS = 48
_FOOT = 16
_NEAR = 6.0


class Histogram(QWidget):
    """Bars of equal steps from the least value to the greatest."""

    breaks_dragged = Signal(list)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedHeight(92)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        self.setAccessibleName("How the values are spread")
        self._counts = np.zeros(BARS, np.int64)
        self._limits = np.linspace(0, 1, BARS + 1)
        self._breaks: list[float] = []
        self._ramp, self._turned = "tide", False
        self._held = -1

    def show_values(self, values: np.ndarray, breaks: Sequence[float], ramp: str, turned: bool) -> None:
        """Show numbers (float64, NaN for none) and the limits between their classes."""
        self._counts, self._limits = histogram(values, BARS)
        self._breaks, self._ramp, self._turned = list(breaks), ramp, turned
        total = int(self._counts.sum())
        self.setToolTip(f"{total:,} values in {BARS} equal steps; drag a line to set a break of your own")
        self.update()

    @property
    def breaks(self) -> list[float]:
        """The limits between classes as they are shown."""
        return self._breaks

    def _x(self, value: float) -> float:
        low, high = self._limits[0], self._limits[-1]
        return float((value - low) / (high - low)) * (self.width() - 2) + 1

    def _value(self, x: float) -> float:
        low, high = self._limits[0], self._limits[-1]
        return float(low + (x - 1) / max(1, self.width() - 2) * (high - low))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        height = self.height() - _FOOT
        painter.fillRect(self.rect(), theme.colour("field"))
        most = max(1, int(self._counts.max()))
        middles = (self._limits[:-1] + self._limits[1:]) / 2
        colours = ramp_colours(self._ramp, len(self._breaks) + 1, self._turned)
        of = class_of(middles, self._breaks)
        for n, count in enumerate(self._counts.tolist()):
            if count:
                left, right = self._x(self._limits[n]), self._x(self._limits[n + 1])
                tall = max(1.5, count / most * (height - 6))
                bar = QRectF(left, height - tall, max(1.0, right - left - 0.6), tall)
                painter.fillRect(bar, QColor(colours[int(of[n])]))
                painter.setPen(QPen(theme.colour("faint"), 0.5))
                painter.drawRect(bar)
        painter.setPen(QPen(theme.colour("ink"), 1.2))
        for n, limit in enumerate(self._breaks):
            x = self._x(limit)
            painter.setPen(QPen(theme.colour("hand" if n == self._held else "ink"), 2.4 if n == self._held else 1.2))
            painter.drawLine(QPointF(x, 2), QPointF(x, height))
        painter.setPen(theme.colour("faint"))
        painter.drawLine(QPointF(0, height), QPointF(self.width(), height))
        painter.setFont(font(11, family=NARROW))
        low, high = written([float(self._limits[0]), float(self._limits[-1])])
        foot = QRectF(1, height, self.width() - 2, _FOOT)
        painter.drawText(foot, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, low)
        painter.drawText(foot, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, high)
        if 0 <= self._held < len(self._breaks):
            painter.setPen(theme.colour("ink"))
            painter.drawText(foot, Qt.AlignmentFlag.AlignCenter, written(self._breaks)[self._held])
        painter.end()

    def _digits(self) -> int:
        """As many decimals as a pixel is worth."""
        step = (self._limits[-1] - self._limits[0]) / max(1, self.width())
        return max(0, int(np.ceil(-np.log10(step)))) if step > 0 else 0

    def _break_at(self, x: float) -> int:
        far = [abs(self._x(b) - x) for b in self._breaks]
        return int(np.argmin(far)) if far and min(far) <= _NEAR else -1

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self._held = self._break_at(event.position().x())
            self.update()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        near = self._held >= 0 or self._break_at(x) >= 0
        self.setCursor(Qt.CursorShape.SizeHorCursor if near else Qt.CursorShape.ArrowCursor)
        if self._held < 0:
            return
        # a break stays between its neighbours
        edges = [float(self._limits[0]), *self._breaks, float(self._limits[-1])]
        low, high = edges[self._held], edges[self._held + 2]
        room = min(2.0 * 10.0 ** -self._digits(), (high - low) / 3)
        self._breaks[self._held] = min(max(self._value(x), low + room), high - room)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held >= 0:
            self._held = -1
            self.update()
            rounded = sorted({round(b, self._digits()) for b in self._breaks})
            self.breaks_dragged.emit([int(b) if float(b).is_integer() else b for b in rounded])
