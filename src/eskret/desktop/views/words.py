"""The word list as a view of its own: every spelling met, and the word to use for it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QFont, QKeySequence, QShortcut
from PySide6.QtWidgets import QAbstractItemView, QComboBox, QHeaderView, QLabel, QLineEdit, QPushButton, QTableView, QVBoxLayout, QWidget

from eskret.core.wordlist import ANY, EMPTY, WordEntry
from eskret.core.words import pluralise
from eskret.desktop.state.open_and_save import may_leave
from eskret.desktop.state.paths import relative
from eskret.desktop.state.session import Session
from eskret.desktop.theme.style import font, theme
from eskret.desktop.views.parts import in_row, push_button
from eskret.errors import EskretError
from eskret.formats.wordlist_file import read_list, write_list
from eskret.operations.registry import operation_by_id
from eskret.operations.settings import setting_info
from eskret.workflow.model.references import Reference

FIELD, SPELLING, COUNT, SUGGESTED, WORD = range(5)
_HEADS = ("Field", "Spelling", "Met", "Suggested", "Word to use")
_ALL = "all fields"
Index = QModelIndex | QPersistentModelIndex


class WordsModel(QAbstractTableModel):
    """The entries shown: those of one field or all, near spellings together. ``settled`` asks for a word in a row."""

    settled = Signal(list, str)  # positions in the list, the word

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.entries: list[WordEntry] = []
        self.shown: list[int] = []

    def show_entries(self, entries: Sequence[WordEntry], field: str, open_only: bool) -> None:
        """Show these; of one field where one is named, only those without a word where that is asked."""
        self.beginResetModel()
        self.entries = list(entries)
        chosen = [n for n, e in enumerate(entries) if (not field or e.field == field) and not (open_only and e.word)]
        most: dict[tuple[str, str], int] = {}
        for n in chosen:
            place = (entries[n].field, entries[n].suggestion)
            most[place] = most.get(place, 0) + entries[n].count
        self.shown = sorted(
            chosen,
            key=lambda n: (
                entries[n].field,
                -most[entries[n].field, entries[n].suggestion],
                entries[n].suggestion,
                -entries[n].count,
                entries[n].spelling,
            ),
        )
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.shown)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(_HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return _HEADS[section]
        if role == Qt.ItemDataRole.TextAlignmentRole and section == COUNT:
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        entry = self.entries[self.shown[index.row()]]
        column = index.column()
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            if column == WORD and role == Qt.ItemDataRole.DisplayRole and not entry.word:
                return "not settled"
            spelling = entry.spelling.replace(" ", "·") if entry.spelling != entry.spelling.strip() else entry.spelling
            if not spelling and role == Qt.ItemDataRole.DisplayRole:
                spelling = "an empty text"
            return [entry.field, spelling, f"{entry.count:,}", entry.suggestion, entry.word][column]
        if role == Qt.ItemDataRole.TextAlignmentRole and column == COUNT:
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.ForegroundRole:
            if column == WORD and not entry.word:
                return theme.colour("look")
            return theme.colour("faint") if column in (FIELD, COUNT) or not entry.count else None
        if role == Qt.ItemDataRole.FontRole and column == WORD and entry.word:
            return font(13, QFont.Weight.DemiBold)
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        usual = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return usual | Qt.ItemFlag.ItemIsEditable if index.column() == WORD else usual

    def setData(self, index: Index, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.EditRole or index.column() != WORD:
            return False
        self.settled.emit([self.shown[index.row()]], str(value).strip())
        return True


class WordsView(QWidget):
    """Choose spellings, say the word, take it back; saved to the list when told to."""

    closed = Signal()

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._session = session
        self.path: Path | None = None
        self.entries: tuple[WordEntry, ...] = ()
        self._saved: tuple[WordEntry, ...] = ()
        self._before: list[tuple[WordEntry, ...]] = []
        self._new: Path | None = None  # a list that no step names yet, made of what was drafted
        self.lists = QComboBox()
        self.lists.setAccessibleName("Word list")
        self._pairs = False  # whether the file is somebody's list of two columns
        self.lists.setMinimumWidth(180)
        self.lists.activated.connect(lambda _: self._other_list())
        self.fields = QComboBox()
        self.fields.setAccessibleName("Field")
        self.fields.setMinimumWidth(130)
        self.fields.activated.connect(lambda _: self._show())
        self.open_only = QPushButton("Only those not settled")
        self.open_only.setCheckable(True)
        self.open_only.clicked.connect(lambda: self._show())
        self.draft = QPushButton("Take in what was met")
        self.draft.setToolTip("Bring spellings and counts of the last run's drafted list in; decisions stay")
        self.draft.clicked.connect(self.take_in)
        self.says = QLabel()
        self.says.setObjectName("faint")
        back = QPushButton("Back to the ledger")
        back.clicked.connect(self.closed)
        head = in_row(QLabel("Word list"), self.lists, QLabel("of"), self.fields, self.open_only, self.draft, None, back)
        self.model = WordsModel(self)
        self.model.settled.connect(self.settle)
        self.table = QTableView()
        self.table.setAccessibleName("Spellings and words")
        self.table.setModel(self.model)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setShowGrid(False)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(25)
        self.table.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.table.horizontalHeader().setHighlightSections(False)
        for column in (SPELLING, SUGGESTED, WORD):
            self.table.horizontalHeader().setSectionResizeMode(column, QHeaderView.ResizeMode.Stretch)
        self.table.selectionModel().selectionChanged.connect(lambda *_: self._enable())
        self.word = QLineEdit()
        self.word.setAccessibleName("Word for what is chosen")
        self.word.setPlaceholderText("word for the spellings chosen")
        self.word.setFixedWidth(250)
        self.word.returnPressed.connect(self.fill)
        self.fill_button = push_button("Use it", "Use this word for all spellings chosen (Enter)", self.fill)
        self.suggest_button = push_button(
            "Use the suggestion", "For the selected words; with none selected, for all that are not settled", self.suggest
        )
        self.keep_button = push_button("Keep as spelled", "Use the spelling itself for what is chosen", self.keep)
        self.empty_button = push_button("Leave empty", "Leave no value where this is spelled", lambda: self.settle(self._chosen(), EMPTY))
        self.clear_button = push_button("Not settled", "Clear the word of the selected spellings", lambda: self.settle(self._chosen(), ""))
        self.undo_button = push_button("Undo", "Undo the last decision (Ctrl+Z)", self.undo)
        self.save_button = push_button("Save the list", "Write the file; the next run uses it (Ctrl+S)", self.save)
        self.save_button.setObjectName("primary")
        foot = in_row(
            self.word,
            self.fill_button,
            self.suggest_button,
            self.keep_button,
            self.empty_button,
            self.clear_button,
            self.undo_button,
            None,
            self.says,
            self.save_button,
        )
        whole = QVBoxLayout(self)
        whole.setContentsMargins(16, 12, 16, 12)
        whole.setSpacing(10)
        whole.addLayout(head)
        whole.addWidget(self.table, 1)
        whole.addLayout(foot)
        QShortcut(QKeySequence("Escape"), self, self.closed.emit, context=Qt.ShortcutContext.WidgetWithChildrenShortcut)

    # -- which list

    def used_lists(self) -> list[Path]:
        """The word lists that steps of the workflow name, each once."""
        out: dict[Path, None] = {}
        for step in self._session.document.steps:
            try:
                infos = setting_info(operation_by_id(step.use).Settings)
            except EskretError:
                continue
            for name, info in infos.items():
                value = step.settings.get(name)
                if info.kind == "wordlist" and isinstance(value, str) and value:
                    path = Path(value).expanduser()
                    out[path if path.is_absolute() else self._session.folder / path] = None
        return list(out)

    def open_view(self) -> None:
        """Offer the lists of the workflow and open the one that was open, or the first; one that is empty yet with what was met."""
        paths = self.used_lists()
        met = bool(self._drafted_there())
        self._new = self._place_for_new() if met and not paths else None
        if self._new is not None:
            paths = [self._new]
        self.lists.clear()
        for path in paths:
            self.lists.addItem(relative(str(path), self._session.folder), str(path))
        if self.path not in paths:
            self._forget()
            if paths:
                self.open_list(paths[0])
        if self.path is not None:
            self.lists.setCurrentIndex(self.lists.findData(str(self.path)))
        if met and self.path is not None and not self.entries and not self._before:
            self.take_in()
        self._show()

    def _place_for_new(self) -> Path:
        """Where a list of what was drafted goes: the file that a step saves the draft to, else one that is not there yet."""
        steps = self._session.document.steps
        drafts = {s.id for s in steps if s.use == "draft_words"}
        for step in steps:
            to = str(step.settings.get("to", ""))
            if step.use == "save" and to.endswith(".csv") and "{" not in to and drafts & {Reference.parse(r).step for r in step.source}:
                return self._session.folder / to
        place, number = self._session.folder / "words.csv", 2
        while place.exists():
            place, number = self._session.folder / f"words_{number}.csv", number + 1
        return place

    def _forget(self) -> None:
        self.path, self.entries, self._saved, self._before = None, (), (), []

    def _other_list(self) -> None:
        path = Path(self.lists.currentData())
        if path != self.path and self.may_leave():
            self.open_list(path)
        self.lists.setCurrentIndex(self.lists.findData(str(self.path)))

    def open_list(self, path: Path) -> None:
        """Read a list; one that is not there yet is empty."""
        self._forget()
        self.path, self._pairs = path, False
        try:
            self.entries = tuple(read_list(path)) if path.exists() else ()
        except EskretError as error:
            self.says.setText(error.sentence())
        self._pairs = bool(self.entries) and all(e.field == ANY and not e.count for e in self.entries)
        self._saved = self.entries
        self.fields.clear()
        self._show()

    def take_in(self) -> None:
        """Bring in what the last run drafted: spellings, counts and suggestions; decisions made here stay."""
        met = self._drafted()
        words = {(e.field, e.spelling): e.word for e in self.entries if e.word}
        fresh = [replace(e, word=words.get((e.field, e.spelling), e.word)) for e in met]
        known = {(e.field, e.spelling) for e in fresh}
        old = [replace(e, count=0) for e in self.entries if (e.field, e.spelling) not in known]
        self._change((*fresh, *old))

    def _drafted(self) -> list[WordEntry]:
        out: list[WordEntry] = []
        for step in self._session.document.steps:
            if step.use != "draft_words":
                continue
            for layer in self._session.leaving_stored(step.id):
                out += [WordEntry(r["field"], r["spelling"], r["count"], r["suggestion"], r["word"] or "") for r in layer.table.to_pylist()]
        return out

    # -- deciding

    def _chosen(self) -> list[int]:
        return [self.model.shown[i.row()] for i in self.table.selectionModel().selectedRows()]

    def settle(self, places: Sequence[int], word: str) -> None:
        """Use a word for some entries; an empty one takes theirs away."""
        chosen = set(places)
        self._change(tuple(replace(e, word=word) if n in chosen else e for n, e in enumerate(self.entries)))

    def fill(self) -> None:
        """Use the word typed for what is chosen."""
        if self.word.text().strip() and self._chosen():
            self.settle(self._chosen(), self.word.text().strip())
            self.word.clear()

    def suggest(self) -> None:
        """Take the suggestion for what is chosen; without, for all shown that are not settled."""
        places = set(self._chosen() or [n for n in self.model.shown if not self.entries[n].word])
        self._change(tuple(replace(e, word=e.suggestion) if n in places else e for n, e in enumerate(self.entries)))

    def keep(self) -> None:
        """Use the spelling itself for what is chosen."""
        places = set(self._chosen())
        self._change(tuple(replace(e, word=e.spelling.strip()) if n in places else e for n, e in enumerate(self.entries)))

    def _change(self, entries: tuple[WordEntry, ...]) -> None:
        if entries != self.entries:
            self._before.append(self.entries)
            self.entries = entries
            self._show()

    def undo(self) -> None:
        """Take the last change back."""
        if self._before:
            self.entries = self._before.pop()
            self._show()

    def save(self) -> None:
        """Write the list; the workflow is looked at anew."""
        if self.path is None or self.entries == self._saved:
            return
        try:
            write_list(self.path, self.entries)
        except EskretError as error:
            self.says.setText(error.sentence())
            return
        if self._pairs:
            self._pairs = False
            text = f"{self.path.name} was a list of two columns; it has those of a word list now, and counts as before."
            self._session.told.emit("look", text, "")
        self._saved = self.entries
        self._show()
        if self.path == self._new:
            self._name_it(relative(str(self.path), self._session.folder))
        self._session.rehearse()

    def _name_it(self, file: str) -> None:
        """Have the drafts keep to the list that was made of them: so that decisions stay, and a step that applies words finds it."""
        document = self._session.document
        steps = tuple(
            replace(s, settings={**s.settings, "earlier": file}) if s.use == "draft_words" and not s.settings.get("earlier") else s
            for s in document.steps
        )
        self._session.edit(replace(document, steps=steps), "keep to the list")
        self._new = None
        self._session.told.emit("good", f"{file} is kept to by what drafts words. Add Apply words below it to have them used.", "")

    def may_leave(self) -> bool:
        """Ask about decisions that are not saved; False where the analyst stays."""
        name = self.path.name if self.path else ""
        text = f"“{name}” has decisions that are not saved."
        if self.dirty and not may_leave(self, text, self.save, lambda: not self.dirty):
            return False
        self.entries, self._before = self._saved, []  # what was left is not asked about again
        return True

    @property
    def dirty(self) -> bool:
        """Whether decisions are not in the file yet."""
        return self.entries != self._saved

    # -- showing

    def _show(self) -> None:
        names = list(dict.fromkeys(e.field for e in self.entries))
        if [self.fields.itemText(n) for n in range(1, self.fields.count())] != names:
            self.fields.clear()
            self.fields.addItems([_ALL, *names])
        field = self.fields.currentText() if self.fields.currentIndex() > 0 else ""
        self.model.show_entries(self.entries, field, self.open_only.isChecked())
        self.table.setColumnWidth(COUNT, 70)
        settled = sum(bool(e.word) for e in self.entries)
        words = len({(e.field, e.use) for e in self.entries})
        if self.path is None:
            self.says.setText("No step of this workflow uses a word list. Add Draft words or Apply words.")
        elif not self.entries:
            self.says.setText("The list is empty: run the workflow, then take in what was met.")
        else:
            state = "not saved" if self.dirty else "saved"
            known = {(e.field, e.spelling) for e in self.entries}
            more = sum((e.field, e.spelling) not in known for e in self._drafted())
            fresh = f" · {more:,} more met, not taken in yet" if more else ""
            self.says.setText(f"{settled:,} of {pluralise(len(self.entries), 'spelling')} settled, {words:,} words · {state}{fresh}")
        self._enable()

    def _enable(self) -> None:
        chosen = bool(self.table.selectionModel().selectedRows())
        for button in (self.fill_button, self.keep_button, self.empty_button, self.clear_button):
            button.setEnabled(chosen)
        self.word.setEnabled(chosen)
        self.suggest_button.setEnabled(chosen or any(not self.entries[n].word for n in self.model.shown))
        self.undo_button.setEnabled(bool(self._before))
        self.save_button.setEnabled(self.path is not None and self.dirty)
        self.draft.setEnabled(self.path is not None and bool(self._drafted_there()))

    def _drafted_there(self) -> bool:
        return any(s.use == "draft_words" and self._session.leaving_stored(s.id) for s in self._session.document.steps)
