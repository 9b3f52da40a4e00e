"""How a ledger reads, drawn: a sample for those who see one for the first time."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRect, Qt
from PySide6.QtGui import QColor, QFont, QFontMetrics, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from eskret.desktop.theme.icons import paint_state
from eskret.desktop.theme.style import NARROW, font, theme

middle = Qt.AlignmentFlag.AlignVCenter


class LedgerSample(QWidget):
    """How a ledger reads, drawn: three steps of one thread with their figures."""

    ROWS = (
        ("Load", "marks.gpx", "", "173", ""),
        ("Keep", "marks", " where the description begins with Pile", "61", "112"),
        ("Save", "marks", " to survey.gpkg", "61", ""),
    )

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedHeight(142)
        self.setAccessibleName("A sample ledger: 173 features in, 61 used, 112 set aside with their reason")
        theme.changed.connect(self.update)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        width = self.width()
        columns = (("In", width - 300), ("Out", width - 230), ("Set aside", width - 140), ("State", width - 100))
        painter.setFont(font(12, QFont.Weight.DemiBold, NARROW))
        painter.setPen(theme.colour("faint"))
        for title, x in columns:
            right = title != "State"
            area = QRect(x - 90, 0, 90, 24) if right else QRect(x, 0, 90, 24)
            painter.drawText(area, middle | (Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft), title)
        painter.setPen(QPen(theme.colour("ink"), 1))
        painter.drawLine(0, 25, width, 25)
        before = "173"
        for number, (verb, what, rest, out, aside) in enumerate(self.ROWS):
            top = 26 + number * 29
            if number % 2 == 0:
                painter.fillRect(QRect(0, top, width, 28), theme.colour("band"))
            x = 46
            for text, weight in ((f"{verb} ", QFont.Weight.Normal), (what, QFont.Weight.DemiBold), (rest, QFont.Weight.Normal)):
                painter.setFont(font(13, weight))
                painter.setPen(theme.colour("ink"))
                painter.drawText(QRect(x, top, 500, 28), middle, text)
                x += QFontMetrics(painter.font()).horizontalAdvance(text)
            cells = (("" if number == 0 else before, "ink", 300), (out, "ink", 230), (aside, "bad", 140))
            for text, colour, at in cells:
                painter.setFont(font(13, QFont.Weight.DemiBold if colour == "bad" else QFont.Weight.Normal))
                painter.setPen(theme.colour(colour))
                painter.drawText(QRect(width - at - 90, top, 90, 28), middle | Qt.AlignmentFlag.AlignRight, text)
            paint_state(painter, "balanced", QPointF(width - 95.0, top + 14.5))
            painter.setPen(theme.colour("good"))
            painter.setFont(font())
            painter.drawText(QRect(width - 85, top, 85, 28), middle, "balanced")
            before = out
        painter.setPen(QPen(QColor(theme.palette.threads[0]), 2))
        painter.drawLine(QPointF(24, 40), QPointF(24, 98))
        painter.setBrush(QColor(theme.palette.threads[0]))
        for number in range(3):
            painter.drawEllipse(QPointF(24, 40 + number * 29), 3.4, 3.4)
        painter.setFont(font(12))
        painter.setPen(theme.colour("faint"))
        painter.drawText(
            QRect(0, 116, width, 24), middle, "173 in = 61 used + 112 set aside. Which ones, where they lie, and why, is a click away."
        )
        painter.end()
