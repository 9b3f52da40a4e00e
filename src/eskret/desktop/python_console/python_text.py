"""Python as coloured text to read."""

from __future__ import annotations

from typing import Any

from pygments.lexers.python import PythonLexer
from pygments.token import Comment, Keyword, Name, Number, Operator, String, Token
from PySide6.QtCore import QPoint
from PySide6.QtGui import QColor, QSyntaxHighlighter, QTextCharFormat, QTextCursor, QTextDocument, QTextFormat
from PySide6.QtWidgets import QPlainTextEdit, QTextEdit, QWidget

from eskret.desktop.theme.style import theme

MONO = "monospace"
_COLOURS: tuple[tuple[Any, str], ...] = (
    (Comment, "faint"),
    (String.Doc, "faint"),
    (String, "good"),
    (Number, "thread"),
    (Keyword, "bad"),
    (Name.Decorator, "look"),
    (Name.Function, "violet"),
    (Name.Class, "violet"),
    (Operator.Word, "bad"),
)
"""What is coloured, by the colours of the theme; the rest is ink."""


def _colour(use: str) -> QColor:
    threads = theme.palette.threads
    return QColor({"thread": threads[0], "violet": threads[1]}.get(use) or getattr(theme.palette, use))


class _Highlighter(QSyntaxHighlighter):
    """Colours from one reading of the whole text: what a line is can hang on lines far above."""

    def __init__(self, document: QTextDocument) -> None:
        super().__init__(document)
        self._lines: list[list[tuple[int, int, str]]] = []

    def read(self, text: str) -> None:
        """Take a text's parts; the text is set after this."""
        lines: list[list[tuple[int, int, str]]] = [[]]
        at = 0
        for kind, value in PythonLexer(stripnl=False, ensurenl=False).get_tokens(text):
            use = next((u for of, u in _COLOURS if kind in of), "") if kind is not Token.Text else ""
            for number, part in enumerate(value.split("\n")):
                if number:
                    lines.append([])
                    at = 0
                if use and part:
                    lines[-1].append((at, len(part.encode("utf-16-le")) // 2, use))
                at += len(part.encode("utf-16-le")) // 2
        self._lines = lines

    def highlightBlock(self, text: str) -> None:
        number = self.currentBlock().blockNumber()
        for start, length, use in self._lines[number] if number < len(self._lines) else ():
            made = QTextCharFormat()
            made.setForeground(_colour(use))
            self.setFormat(start, length, made)


class PythonText(QPlainTextEdit):
    """Reads, does not write; lines can be marked."""

    def __init__(self, name: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("code")
        self.setAccessibleName(name)
        self.setReadOnly(True)
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self._highlighter = _Highlighter(self.document())
        self._marked: dict[int, str] = {}
        theme.changed.connect(self._recolour)

    def show_code(self, text: str) -> None:
        """Show a text; where it is the one shown already, nothing moves."""
        if text == self.toPlainText():
            return
        place = self.verticalScrollBar().value()
        self._highlighter.read(text)
        self.setPlainText(text)
        self.verticalScrollBar().setValue(place)

    def mark(self, lines: dict[int, str]) -> None:
        """Mark lines (from 1) with a colour of the theme."""
        self._marked = dict(lines)
        marks = []
        for line, use in lines.items():
            block = self.document().findBlockByNumber(line - 1)
            if not block.isValid():
                continue
            mark = QTextEdit.ExtraSelection()
            mark.cursor = QTextCursor(block)
            mark.format.setBackground(_colour(use))
            mark.format.setProperty(QTextFormat.Property.FullWidthSelection, True)
            marks.append(mark)
        self.setExtraSelections(marks)

    def go_to(self, line: int) -> None:
        """Bring a line (from 1) into view."""
        block = self.document().findBlockByNumber(line - 1)
        if block.isValid():
            self.setTextCursor(QTextCursor(block))
            self.centerCursor()

    def ensure_shown(self, line: int) -> None:
        """Bring a line (from 1) into view, if it is not, without taking the cursor along."""
        height = self.fontMetrics().lineSpacing()
        first = self.firstVisibleBlock().blockNumber() + 1
        if not first <= line <= first + self.viewport().height() // height - 2:
            self.verticalScrollBar().setValue(max(0, line - 4))

    def line_at(self, place: QPoint) -> int:
        """The number (from 1) of the line at a place in the viewport."""
        return self.cursorForPosition(place).blockNumber() + 1

    def _recolour(self) -> None:
        self._highlighter.rehighlight()
        self.mark(self._marked)
