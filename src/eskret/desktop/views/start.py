"""What a newcomer sees: what this is for, three doors, the lessons, and what was open before."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QPointF, QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFont, QFontMetrics, QPainter, QPainterPath, QPaintEvent, QPixmap, QResizeEvent
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QPushButton, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from eskret.desktop.theme.icons import application_icon, paint_state
from eskret.desktop.theme.style import font, theme
from eskret.desktop.views.ledger_sample import LedgerSample
from eskret.desktop.views.offered import LESSONS, Lesson

CARD, PICTURE = 186, 82


class Door(QPushButton):
    """A large button: what it does, and a line on it."""

    def __init__(self, title: str, line: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("door")
        self.setAccessibleName(title)
        self._title, self._line = title, line
        self.setToolTip(line)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(64)

    def sizeHint(self) -> QSize:
        return QSize(240, 64)

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        area = self.rect().adjusted(18, 11, -14, -11)
        painter.setFont(font(15, QFont.Weight.DemiBold))
        painter.setPen(theme.colour("ink"))
        painter.drawText(area, Qt.AlignmentFlag.AlignTop, self._title)
        painter.setFont(font(12))
        painter.setPen(theme.colour("faint"))
        line = QFontMetrics(painter.font()).elidedText(self._line, Qt.TextElideMode.ElideRight, area.width())
        painter.drawText(area, Qt.AlignmentFlag.AlignBottom, line)
        painter.end()


class LessonCard(QPushButton):
    """A lesson: its picture, its title, what one learns in how many minutes."""

    def __init__(self, lesson: Lesson, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("door")
        self.lesson = lesson
        self._picture = QPixmap(str(lesson.picture))
        self.setAccessibleName(f"Lesson: {lesson.title}. {lesson.learns}. About {lesson.minutes} minutes.")
        self.setToolTip(f"{lesson.title}\n{lesson.learns}.")
        self.setFixedSize(CARD, PICTURE + 92)

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
        place = QRectF(3, 3, self.width() - 6, PICTURE)
        clip = QPainterPath()
        clip.addRoundedRect(place, 4, 4)
        painter.setClipPath(clip)
        painter.fillRect(place, theme.colour("sea"))
        if not self._picture.isNull():
            painter.drawPixmap(place, self._picture, QRectF(self._picture.rect()))
        painter.setClipping(False)
        words = QRect(10, PICTURE + 9, self.width() - 18, 80)
        painter.setFont(font(13, QFont.Weight.DemiBold))
        painter.setPen(theme.colour("ink"))
        title = QFontMetrics(painter.font()).elidedText(self.lesson.title, Qt.TextElideMode.ElideRight, words.width())
        painter.drawText(words, Qt.AlignmentFlag.AlignTop, title)
        painter.setFont(font(12))
        painter.setPen(theme.colour("faint"))
        wrap = Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap
        painter.drawText(words.adjusted(0, 19, 0, -18), wrap, self.lesson.learns)
        painter.drawText(words, Qt.AlignmentFlag.AlignBottom, f"{self.lesson.minutes} minutes")
        painter.end()


class RecentRow(QPushButton):
    """A workflow that was open before: its name, where it is, how its last run ended."""

    def __init__(self, path: str, said: str, state: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("door")
        self._path, self._said, self._state = Path(path), said, state
        self.setFixedHeight(32)
        self.setToolTip(path)
        self.setAccessibleName(f"{self._path.name} in {self._path.parent.name}: {said}")

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        middle = Qt.AlignmentFlag.AlignVCenter
        area = self.rect().adjusted(14, 0, -14, 0)
        painter.setFont(font(13, QFont.Weight.DemiBold))
        painter.setPen(theme.colour("ink"))
        painter.drawText(area, middle, self._path.name)
        used = QFontMetrics(painter.font()).horizontalAdvance(self._path.name) + 14
        painter.setFont(font(12))
        painter.setPen(theme.colour("faint"))
        room = QFontMetrics(painter.font()).horizontalAdvance(self._said) + 22
        painter.drawText(area, middle | Qt.AlignmentFlag.AlignRight, self._said)
        if self._state:
            paint_state(painter, self._state, QPointF(area.right() - room + 12.0, area.center().y() + 1.0))
        left = area.adjusted(used, 0, -room - 10, 0)
        painter.drawText(
            left, middle, QFontMetrics(painter.font()).elidedText(self._path.parent.name, Qt.TextElideMode.ElideMiddle, left.width())
        )
        painter.end()


class StartView(QScrollArea):
    """Shown until something is open."""

    demo_asked = Signal()
    new_asked = Signal()
    open_asked = Signal()
    recent_asked = Signal(str)
    lesson_asked = Signal(str)  # its file
    back_asked = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Start")
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        title = QLabel("Write the work down once, run it every quarter")
        title.setStyleSheet("font-size: 22px; font-weight: 600;")
        what = QLabel(
            "A workflow is a ledger of steps: load files, keep and shape what matters, save it where others find it. "
            "Every step says how many features came in, went on and were set aside, and why. Drop files anywhere to begin."
        )
        what.setObjectName("faint")
        what.setWordWrap(True)
        self.new = Door("Start in a folder", "Choose the folder that holds your files")
        self.open = Door("Open a workflow", "A .toml file that you or a colleague has made")
        self.demo = Door("Open the demo", "The first lesson's workflow, ready to run")
        self.demo.clicked.connect(self.demo_asked)
        self.new.clicked.connect(self.new_asked)
        self.open.clicked.connect(self.open_asked)
        doors = QHBoxLayout()
        doors.setSpacing(12)
        for door in (self.new, self.open, self.demo):
            doors.addWidget(door)
        self._recent = QVBoxLayout()
        self._recent.setSpacing(4)
        self.recent_title = _eyebrow("Recent")
        self.cards = [LessonCard(lesson) for lesson in LESSONS]
        for card in self.cards:
            card.clicked.connect(lambda _=False, c=card: self.lesson_asked.emit(c.lesson.file))
        self._grid = QGridLayout()
        self._grid.setSpacing(12)
        self._columns = 0
        lessons = _eyebrow("Lessons: a whole job each, done by you in an invented sound, led step by step")
        inner = QVBoxLayout()
        inner.setSpacing(10)
        inner.setContentsMargins(0, 0, 0, 0)
        self.back = QPushButton("Back to the workflow")
        self.back.setObjectName("link")
        self.back.clicked.connect(self.back_asked)
        self.back.hide()
        inner.addWidget(self.back)
        mark = QLabel()
        mark.setPixmap(application_icon().pixmap(QSize(44, 44), self.devicePixelRatioF()))
        mark.setAccessibleName("Eskret")
        head = QHBoxLayout()
        head.setSpacing(14)
        head.addWidget(mark)
        head.addWidget(title, 1)
        inner.addLayout(head)
        inner.addWidget(what)
        inner.addSpacing(6)
        inner.addLayout(doors)
        for part in (self.recent_title, lessons):
            inner.addSpacing(8)
            inner.addWidget(part)
            inner.addLayout(self._recent if part is self.recent_title else self._grid)
        inner.addSpacing(16)
        inner.addWidget(LedgerSample())
        inner.addStretch()
        self._frame = QWidget()
        self._frame.setLayout(inner)
        body = QWidget()
        body.setObjectName("startView")
        body.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        outer = QHBoxLayout(body)
        outer.setContentsMargins(28, 26, 28, 24)
        outer.addStretch(1)
        outer.addWidget(self._frame)
        outer.addStretch(1)
        self.setWidget(body)
        self._arrange()

    def _arrange(self) -> None:
        """As many cards beside each other as there is room for."""
        columns = min(5, max(2, (self.viewport().width() - 56) // (CARD + 12)))
        if columns == self._columns:
            return
        self._columns = columns
        for n, card in enumerate(self.cards):
            self._grid.addWidget(card, n // columns, n % columns)
        self._frame.setFixedWidth(columns * (CARD + 12) - 12)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._arrange()

    def offer_back(self, title: str) -> None:
        """Offer to go back to what is open."""
        self.back.setText(f"Back to {title or 'the workflow'}")
        self.back.show()

    def show_recent(self, told: list[tuple[str, str, str]]) -> None:
        """List the files opened last: path, how the last run ended in words, its state."""
        while self._recent.count():
            item = self._recent.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        self.recent_title.setVisible(bool(told))
        for path, said, state in told[:4]:
            row = RecentRow(path, said, state)
            row.clicked.connect(lambda _=False, p=path: self.recent_asked.emit(p))
            self._recent.addWidget(row)


def _eyebrow(text: str) -> QLabel:
    label = QLabel(text)
    label.setObjectName("eyebrow")
    return label
