"""The editor of a condition: coloured as it is typed, mistakes marked at their place, a live count of what it keeps."""

from __future__ import annotations

from PySide6.QtCore import QStringListModel, Qt
from PySide6.QtGui import QColor, QFont, QKeyEvent, QSyntaxHighlighter, QTextCharFormat, QTextCursor, QTextDocument
from PySide6.QtWidgets import QCompleter, QLabel, QPlainTextEdit, QWidget

from eskret.core.expression import tokens
from eskret.desktop.forms.setting_editors import LinesEditor
from eskret.desktop.forms.values_list import ValuesList, with_value
from eskret.desktop.state.session import Session
from eskret.desktop.theme.style import theme
from eskret.operations.settings import SettingInfo

_FUNCTIONS = ("starts_with", "ends_with", "contains", "lower", "upper", "trim", "length", "round", "abs", "coalesce")
_WORDS = ("LIKE", "ILIKE", "AND", "OR", "NOT", "IN", "IS NULL", "IS NOT NULL", "BETWEEN")


class Colours(QSyntaxHighlighter):
    """Colours an expression; underlines a mistake."""

    def __init__(self, document: QTextDocument) -> None:
        super().__init__(document)
        self.fields: set[str] = set()
        self.words: set[str] = set()
        """Further words of the language."""
        self.mistake: tuple[int, int] | None = None
        theme.changed.connect(self.rehighlight)

    def highlightBlock(self, text: str) -> None:
        p = theme.palette
        begin = self.currentBlock().position()
        for token in tokens(text):
            colour = {"text": p.look, "number": p.threads[0], "parameter": p.threads[1], "comment": p.faint}.get(token.kind)
            shape = QTextCharFormat()
            if token.kind == "word" or token.text.lower() in self.words:
                shape.setFontWeight(QFont.Weight.DemiBold)
            elif token.kind == "name" and token.text.strip('"').lower() in self.fields:
                colour = p.good
            if colour:
                shape.setForeground(QColor(colour))
            self.setFormat(token.start, len(token.text), shape)
        if self.mistake and self.mistake[0] >= begin:
            start, length = self.mistake
            shape = QTextCharFormat()
            shape.setForeground(QColor(p.bad))
            shape.setUnderlineColor(QColor(p.bad))
            shape.setUnderlineStyle(QTextCharFormat.UnderlineStyle.WaveUnderline)
            self.setFormat(start - begin, max(1, length), shape)


class _Text(QPlainTextEdit):
    """A text with a list of names that could follow."""

    def __init__(self) -> None:
        super().__init__()
        self.completer_ = QCompleter(self)
        self._words = QStringListModel(self.completer_)
        self.completer_.setModel(self._words)
        self.completer_.setWidget(self)
        self.completer_.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.completer_.activated.connect(self._put)

    def offer(self, words: list[str]) -> None:
        """The words that can be completed."""
        self._words.setStringList(words)

    def _put(self, word: str) -> None:
        cursor = self.textCursor()
        cursor.movePosition(QTextCursor.MoveOperation.Left, QTextCursor.MoveMode.KeepAnchor, len(self._begun()))
        cursor.insertText(word)
        self.setTextCursor(cursor)

    def _begun(self) -> str:
        before = self.textCursor().block().text()[: self.textCursor().positionInBlock()]
        begun = ""
        for sign in reversed(before):
            if not (sign.isalnum() or sign in "_$"):
                break
            begun = sign + begun
        return begun

    def keyPressEvent(self, event: QKeyEvent) -> None:
        popup = self.completer_.popup()
        assert popup is not None
        if popup.isVisible() and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Tab, Qt.Key.Key_Escape):
            event.ignore()
            return
        super().keyPressEvent(event)
        begun = self._begun()
        if event.text() and len(begun) >= 1 and begun[-1:] == event.text()[-1:]:
            self.completer_.setCompletionPrefix(begun)
            if self.completer_.completionCount() and self.completer_.currentCompletion().lower() != begun.lower():
                place = self.cursorRect()
                place.setWidth(180)
                self.completer_.complete(place)
                popup.setCurrentIndex(self.completer_.completionModel().index(0, 0))
                return
        popup.hide()


class SqlEditor(LinesEditor):
    """An SQL expression; below it a line of what comes of it."""

    LINES = 3

    def __init__(self, info: SettingInfo, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(info, self.LINES, parent)
        self._pause.setInterval(500)
        self.text.textChanged.connect(self._forget_mistake)
        self.colours = Colours(self.text.document())
        self.count = QLabel()
        self.count.setObjectName("faint")
        self.layout().addWidget(self.count)  # type: ignore[union-attr]
        self.count.hide()

    def make_text(self) -> QPlainTextEdit:
        return _Text()

    def offer(self, fields: list[tuple[str, str]], parameters: list[str]) -> None:
        """What can stand in the condition: fields with their types, parameters."""
        names = [name for name, _ in fields]
        self.colours.fields = {n.lower() for n in names}
        assert isinstance(self.text, _Text)
        self.text.offer([*names, *(f"${p}" for p in parameters), *_FUNCTIONS, *_WORDS])
        self._colour()

    def show_mistake(self, start: int, length: int) -> None:
        """Underline a part of the text; none for a negative start."""
        mistake = (min(start, max(0, len(self.text.toPlainText()) - 1)), length) if start >= 0 else None
        if mistake != self.colours.mistake:
            self.colours.mistake = mistake
            self._colour()

    def _colour(self) -> None:
        """Colours the text anew, which to the toolkit is a change of it, though nobody typed anything."""
        silent = self.text.blockSignals(True)
        self.colours.rehighlight()
        self.text.blockSignals(silent)

    def show_count(self, text: str) -> None:
        """Say what comes of it."""
        self.count.setText(text)
        self.count.setVisible(bool(text))

    def _forget_mistake(self) -> None:
        if self.colours.mistake:
            self.colours.mistake = None


class ConditionEditor(SqlEditor):
    """A condition, with the values of a field to click and a count of what it keeps."""

    def __init__(self, info: SettingInfo, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(info, session, parent)
        self.values = ValuesList(session)
        self.values.taken.connect(self._put_value)
        self.layout().addWidget(self.values)  # type: ignore[union-attr]

    def _put_value(self, field: str, value: object) -> None:
        cursor = self.text.textCursor().position()
        self.text.setPlainText(with_value(self.text.toPlainText(), cursor, field, value))
        self.text.moveCursor(QTextCursor.MoveOperation.End)
        self._settle()


class ExpressionEditor(SqlEditor):
    """An expression that gives a value, with those of the first rows."""

    def __init__(self, info: SettingInfo, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(info, session, parent)
        self.count.setWordWrap(True)


_OF_QUERIES = (
    *("SELECT", "FROM", "WHERE", "GROUP BY", "HAVING", "ORDER BY", "LIMIT", "DISTINCT", "WITH", "UNION ALL"),
    *("JOIN", "LEFT JOIN", "USING", "ON", "AS", "OVER", "PARTITION BY", "DESC", "row_number", "rank", "count", "sum", "avg", "min", "max"),
)


class QueryEditor(SqlEditor):
    """A query over all layers that enter, which are offered by their names."""

    LINES = 9

    def offer_layers(self, layers: list[str], fields: list[tuple[str, str]], parameters: list[str]) -> None:
        """What can stand in it."""
        assert isinstance(self.text, _Text)
        names = list(dict.fromkeys(name for name, _ in fields))
        self.colours.fields = {n.lower() for n in (*layers, *names)}
        self.colours.words = {word.lower() for words in _OF_QUERIES for word in words.split()}
        self.text.offer([*layers, *names, "geometry", *(f"${p}" for p in parameters), *_OF_QUERIES, *_FUNCTIONS, *_WORDS])
        self._colour()
