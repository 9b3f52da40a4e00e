"""What a newcomer sees: what this is for, and three doors."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QPointF, QRect, QSize, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontMetrics, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from eskret.desktop.theme.icons import paint_state
from eskret.desktop.theme.style import NARROW, font, theme

middle = Qt.AlignmentFlag.AlignVCenter


class Door(QPushButton):
    """A large button: what it does, and a line on it."""

    def __init__(self, title: str, line: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("door")
        self.setAccessibleName(title)
        self._title, self._line = title, line
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(64)

    def sizeHint(self) -> QSize:
        return QSize(380, 64)

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        area = self.rect().adjusted(18, 11, -14, -11)
        painter.setFont(font(15, QFont.Weight.DemiBold))
        painter.setPen(theme.colour("ink"))
        painter.drawText(area, Qt.AlignmentFlag.AlignTop, self._title)
        painter.setFont(font(12))
        painter.setPen(theme.colour("faint"))
        painter.drawText(area, Qt.AlignmentFlag.AlignBottom, self._line)
        painter.end()


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


class StartView(QWidget):
    """Shown until something is open."""

    demo_asked = Signal()
    new_asked = Signal()
    open_asked = Signal()
    recent_asked = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("startView")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        title = QLabel("Write the work down once, run it every quarter")
        title.setFont(font(22, QFont.Weight.DemiBold))
        title.setStyleSheet("font-size: 22px; font-weight: 600;")
        what = QLabel(
            "A workflow is a ledger of steps: load files, keep and shape what matters, save it where others find it. "
            "Every step says how many features came in, went on and were set aside, and why."
        )
        what.setObjectName("faint")
        what.setWordWrap(True)
        self.demo = Door("Open the demo", "An invented sound with its survey recordings, and a workflow to run")
        self.new = Door("Start in a folder", "Choose the folder that holds your files; its layers are listed at once")
        self.open = Door("Open a workflow", "A .toml file that you or a colleague has made")
        self.demo.clicked.connect(self.demo_asked)
        self.new.clicked.connect(self.new_asked)
        self.open.clicked.connect(self.open_asked)
        doors = QVBoxLayout()
        doors.setSpacing(10)
        for door in (self.demo, self.new, self.open):
            doors.addWidget(door)
        doors.addStretch()
        self.recent_title = QLabel("Opened lately")
        self.recent_title.setObjectName("eyebrow")
        self._recent = QVBoxLayout()
        self._recent.setSpacing(4)
        recent = QVBoxLayout()
        recent.addWidget(self.recent_title)
        recent.addLayout(self._recent)
        recent.addStretch()
        both = QHBoxLayout()
        both.setSpacing(48)
        both.addLayout(doors, 3)
        both.addLayout(recent, 2)
        inner = QVBoxLayout()
        inner.setSpacing(14)
        inner.addWidget(title)
        inner.addWidget(what)
        inner.addSpacing(10)
        inner.addLayout(both)
        inner.addSpacing(26)
        inner.addWidget(LedgerSample())
        inner.addStretch()
        frame = QWidget()
        frame.setMaximumWidth(900)
        frame.setLayout(inner)
        outer = QHBoxLayout(self)
        outer.setContentsMargins(40, 60, 40, 30)
        outer.addStretch(1)
        outer.addWidget(frame, 8)
        outer.addStretch(1)

    def show_recent(self, paths: list[str]) -> None:
        """List the files opened last."""
        while self._recent.count():
            item = self._recent.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        self.recent_title.setVisible(bool(paths))
        for path in paths:
            button = QPushButton(f"{Path(path).name}   {Path(path).parent.name}")
            button.setObjectName("link")
            button.setToolTip(path)
            button.clicked.connect(lambda _=False, p=path: self.recent_asked.emit(p))
            self._recent.addWidget(button)
