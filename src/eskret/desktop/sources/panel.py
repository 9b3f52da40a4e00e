"""The shelf at the left: files of the project folder with their layers, and what this workflow has saved."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QFileSystemWatcher, QModelIndex, QPersistentModelIndex, QPoint, QPointF, QRect, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QFont, QFontMetrics, QKeyEvent, QPainter, QPen
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QMenu,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QToolButton,
    QTreeView,
    QVBoxLayout,
    QWidget,
)

from eskret.core.words import counted_kind, pluralise
from eskret.desktop.sources.scan import DEPTH, FoundFile, Scan, scan
from eskret.desktop.state.background import Background
from eskret.desktop.state.list_model import Role, Row, RowsModel
from eskret.desktop.state.session import Session
from eskret.desktop.table.field_list import file_words
from eskret.desktop.theme.icons import paint_kind
from eskret.desktop.theme.style import NARROW, font, theme
from eskret.workflow.outputs import file_backups

ROW = 22
EMPTY = "No readable files in this folder yet. Put recordings, GeoPackages, shapefiles or GeoJSON into it."
LISTED = 1_000
"""Files of a folder that are listed at once, and rows from which on folders are folded: each row costs the tree some time."""
MANY = 30
"""Files to look into from which on it is said how far that is."""


class _Delegate(QStyledItemDelegate):
    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        return QSize(60, ROW)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        rect: QRect = option.rect
        told: dict[str, object] = index.data(Role) or {}
        what = told.get("what")
        text = str(index.data(Qt.ItemDataRole.DisplayRole))
        painter.save()
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        whole = QRect(0, rect.top(), option.widget.width(), rect.height())
        if chosen and what != "section":
            painter.fillRect(whole, theme.colour("shelf_chosen"))
            painter.fillRect(QRect(0, rect.top(), 3, rect.height()), theme.colour("ring"))
            if option.state & QStyle.StateFlag.State_HasFocus:
                painter.setPen(QPen(theme.colour("ink"), 1, Qt.PenStyle.DotLine))
                painter.drawRect(whole.adjusted(0, 0, -1, -1))
        middle = Qt.AlignmentFlag.AlignVCenter
        if what == "section":
            painter.setFont(font(12, QFont.Weight.DemiBold, NARROW))
            painter.setPen(theme.colour("faint"))
            painter.drawText(rect.adjusted(12, 2, -8, 0), middle, text)
            painter.setPen(theme.colour("field_line"))
            painter.drawLine(whole.topLeft(), whole.topRight())
        elif what in ("folder", "service"):
            painter.setFont(font(13, QFont.Weight.DemiBold))
            painter.setPen(theme.colour("ink"))
            area = rect.adjusted(12, 0, -8, 0)
            tree = self.parent()
            if isinstance(tree, QTreeView) and not tree.isExpanded(index):
                painter.setFont(font(12))
                painter.drawText(area, middle | Qt.AlignmentFlag.AlignRight, str(told.get("figures", "")))
                painter.setFont(font(13, QFont.Weight.DemiBold))
                area.adjust(0, 0, -44, 0)
            painter.drawText(area, middle, QFontMetrics(painter.font()).elidedText(text, Qt.TextElideMode.ElideMiddle, area.width()))
        else:
            self._entry(painter, rect.adjusted(10, 0, 0, 0), told, text, index)
        painter.restore()

    def _entry(self, painter: QPainter, rect: QRect, told: dict[str, Any], text: str, index: QModelIndex | QPersistentModelIndex) -> None:
        middle = Qt.AlignmentFlag.AlignVCenter
        kind = told.get("kind", "")
        centre = QPointF(rect.left() + 7.0, rect.center().y() + 1.0)
        if kind:
            paint_kind(painter, kind, centre, theme.colour("faint"))
        elif index.model().hasChildren(index):
            tree = self.parent()
            assert isinstance(tree, QTreeView)
            painter.setPen(QPen(theme.colour("faint"), 1.6))
            x, y = centre.x(), centre.y()
            steps = [(-3, -1.5), (0, 1.5), (3, -1.5)] if tree.isExpanded(index) else [(-1.5, -3), (1.5, 0), (-1.5, 3)]
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.drawPolyline([QPointF(x + dx, y + dy) for dx, dy in steps])
        figures = str(told.get("figures", ""))
        painter.setFont(font(11 if told.get("problem") else 12))
        room = QFontMetrics(painter.font()).horizontalAdvance(figures)
        painter.setPen(QColor(theme.palette.bad if told.get("problem") else theme.palette.faint))
        painter.drawText(rect.adjusted(0, 0, -8, 0), middle | Qt.AlignmentFlag.AlignRight, figures)
        painter.setFont(font())
        painter.setPen(theme.colour("ink"))
        area = rect.adjusted(19, 0, -room - 14, 0)
        painter.drawText(area, middle, QFontMetrics(painter.font()).elidedText(text, Qt.TextElideMode.ElideMiddle, area.width()))


class _Tree(QTreeView):
    entered = Signal()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.entered.emit()
        else:
            super().keyPressEvent(event)


@dataclass(frozen=True)
class Look:
    """What was seen in a file when it had changed last: what its row says of it, and its layers where it has several."""

    changed: float
    told: Mapping[str, Any]
    tip: str | Callable[[], str]
    layers: tuple[tuple[str, Mapping[str, Any], Callable[[], str]], ...] = ()

    def rows(self) -> list[Row]:
        return [Row(name, dict(told), tip) for name, told, tip in self.layers]


class SourcesPanel(QWidget):
    """Choosing a layer asks to look at it; Enter or a double click asks to load it."""

    look_asked = Signal(str, str, str)  # path, layer, key
    load_asked = Signal(str, str, int)  # path, layer (empty for the whole file), number of layers in the file
    layers_asked = Signal(str, list)  # path, some of its layers
    several_asked = Signal(list)  # paths
    tidy_asked = Signal(str)  # path of a GeoPackage
    back_asked = Signal(str)  # path

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("shelf")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._session = session
        self._looks: dict[str, Look] = {}
        self._waiting: deque[FoundFile] = deque()
        self._to_look = 0  # how many of them there were when it began
        self._busy = False
        self._scanning = self._again = False
        self._background = Background(self)
        self._found = Scan(Path(), (), (), (), (), False, False)
        self._whole: set[str] = set()  # folders of which all files are listed, however many
        self._folded: set[str] = set()
        self._filling = False
        self._watched: set[str] = set()
        self._cut = ""  # what of the folder is not shown
        self._published: tuple[tuple[str, str, tuple[tuple[str, str, str], ...]], ...] = ()
        self.model = RowsModel(self)
        self._of_file: dict[str, Row] = {}
        self.tree = _Tree()
        self.tree.setAccessibleName("Sources")
        self.tree.setModel(self.model)
        self.tree.setItemDelegate(_Delegate(self.tree))
        self.tree.setHeaderHidden(True)
        self.tree.setRootIsDecorated(False)
        self.tree.setUniformRowHeights(True)  # else every row is asked for its own
        self.tree.setIndentation(12)
        self.tree.setSelectionMode(QTreeView.SelectionMode.ExtendedSelection)
        self.tree.setEditTriggers(QTreeView.EditTrigger.NoEditTriggers)
        self.tree.setExpandsOnDoubleClick(False)
        self.tree.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.tree.selectionModel().currentChanged.connect(self._chosen)
        self.tree.clicked.connect(self._clicked)
        self.tree.expanded.connect(lambda i: self._fold(i, False))
        self.tree.collapsed.connect(lambda i: self._fold(i, True))
        self.tree.doubleClicked.connect(lambda _: self._load())
        self.tree.entered.connect(self._load)
        self.tree.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.tree.customContextMenuRequested.connect(self._menu)
        title = QLabel("Sources")
        title.setObjectName("eyebrow")
        self.refresh_button = QToolButton()
        self.refresh_button.setObjectName("quiet")
        self.refresh_button.setText("Refresh")
        self.refresh_button.setToolTip("Read the folder again")
        self.refresh_button.clicked.connect(self.look_again)
        head = QHBoxLayout()
        head.setContentsMargins(12, 9, 6, 0)
        head.addWidget(title)
        head.addStretch()
        head.addWidget(self.refresh_button)
        self.hint = QLabel()
        self.hint.setObjectName("faint")
        self.hint.setWordWrap(True)
        self.hint.setContentsMargins(12, 4, 10, 8)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addLayout(head)
        column.addWidget(self.tree, 1)
        column.addWidget(self.hint)
        self._watcher = QFileSystemWatcher(self)
        self._soon = QTimer(self, singleShot=True, interval=400)
        self._soon.timeout.connect(self.refresh)
        self._watcher.directoryChanged.connect(lambda _: self._soon.start())
        session.changed.connect(self._soon.start)
        session.run_changed.connect(self._soon.start)
        theme.changed.connect(self.tree.viewport().update)

    def look_again(self) -> None:
        """Forget what was seen and read the folder anew."""
        self._looks.clear()
        self._found = replace(self._found, offered=(), saved=())
        self.refresh()

    def show_published(self, services: Sequence[tuple[str, str, Sequence[tuple[str, str, str]]]]) -> None:
        """Show published datasets below the files: for each service its address and name, and of each dataset id, title, count."""
        told = tuple((a, n, tuple(d)) for a, n, d in services if d)
        if told != self._published:
            self._published = told
            self._fill()

    @property
    def settled(self) -> bool:
        """Whether all that the folder holds is shown, with what is in it."""
        return not (self._scanning or self._busy or self._waiting or self._soon.isActive())

    def refresh(self) -> None:
        """Show what the folder holds now: it is read beside the window's thread."""
        if self._scanning:
            self._again = True
            return
        self._scanning = True
        self._background.run(partial(scan, self._session.folder, self._session.outputs_beside), self._take)

    def _take(self, found: Scan) -> None:
        self._scanning = False
        if self._again or found.folder != self._session.folder:
            self._again = False
            self.refresh()
            return
        if found == self._found:
            return
        if found.folder != self._found.folder:
            self._whole.clear()
            self._folded.clear()
        self._found = found
        self._watch(set(found.folders))
        files = [*found.offered, *found.saved]
        there = {f.path for f in files}
        self._session.seen_sources = {p: x for p, x in self._session.seen_sources.items() if p in there}
        self._looks = {p: x for p, x in self._looks.items() if p in there}
        self._waiting = deque(f for f in files if not f.text and self._seen_before(f) is None)
        self._to_look = len(self._waiting)
        self._cut = f"More than {len(files):,} files: the others are not listed. " if found.cut else ""
        self._cut += f"Folders more than {DEPTH} deep are not listed." if found.deeper else ""
        self._fill()
        self._next()

    def _fill(self) -> None:
        """Put up the rows of all that was found; what was in hand is so again, without being looked at anew."""
        here = self.tree.currentIndex().data(Role) if self.tree.currentIndex().isValid() else None
        self._of_file = {}
        tops = self._grouped(self._found.offered)
        if self._found.saved:
            tops += [_section("Saved by this workflow"), *self._grouped(self._found.saved)]
        if self._published:
            tops += [_section("Published"), *(_service(*told) for told in self._published)]
        self.model.fill(tops)
        self._filling = True
        listed = 0
        for row in tops:
            listed += len(row.below) + 1
            if row.below and row.told.get("path") not in self._folded and (row.told["what"] != "folder" or listed <= LISTED):
                self.tree.expand(self.model.index_of(row))
                for file in row.below:
                    if file.below:
                        self.tree.expand(self.model.index_of(file))
        self._filling = False
        self._restore(here)

    def _seen_before(self, file: FoundFile) -> Look | None:
        look = self._looks.get(file.path)
        return look if look is not None and look.changed == file.changed else None

    def _watch(self, folders: set[str]) -> None:
        gone, new = self._watched - folders, folders - self._watched
        if gone:
            self._watcher.removePaths(sorted(gone))
        if new:
            self._watcher.addPaths(sorted(new))
        self._watched = folders

    def _restore(self, here: dict[str, object] | None) -> None:
        """After a rebuild, the row that was in hand is so again, without being looked at anew."""
        for row in self.model.rows() if here else ():
            if here and row.told.get("path") == here.get("path") and row.told.get("layer") == here.get("layer"):
                block = self.tree.selectionModel().blockSignals(True)
                self.tree.setCurrentIndex(self.model.index_of(row))
                self.tree.selectionModel().blockSignals(block)

    def _grouped(self, files: Sequence[FoundFile]) -> list[Row]:
        """Rows of files, those of a folder below its name, each with what was seen in it."""
        groups: dict[str, list[FoundFile]] = {}
        for file in files:
            groups.setdefault(file.group, []).append(file)
        out: list[Row] = []
        for name, members in groups.items():
            listed = members if name in self._whole else members[:LISTED]
            rows = [self._row(file) for file in listed]
            if len(listed) < len(members):
                text = f"{pluralise(len(members) - len(listed), 'more file')}"
                rows.append(Row(text, {"what": "more", "group": name, "figures": "list them"}, "Enter lists them all."))
            path = str(Path(members[0].path).parent)
            told = {"what": "folder", "path": path, "figures": f"{len(members):,}"}
            tip = f"{pluralise(len(members), 'file')}\nEnter adds the step that loads all of them."
            out += [Row(name.replace(os.sep, " / "), told, tip, below=rows)] if name else rows
        return out

    def _row(self, file: FoundFile) -> Row:
        row = Row(file.name, {"what": "file", "path": file.path, "figures": ""})
        look = self._seen_before(file)
        if file.text:
            row.told.update(figures="text", kind="", text=True)
            row.tip = f"{file.name}\nText with coordinates; Enter adds the step that loads it."
        elif look is not None:
            row.told, row.tip = {**row.told, **look.told}, look.tip
            row.below = look.rows()
        self._of_file[file.path] = row
        return row

    # -- looking at files, one after the other

    def _next(self) -> None:
        done = self._to_look - len(self._waiting)
        looking = f"Looking into file {done + 1:,} of {self._to_look:,} …" if self._waiting and self._to_look > MANY else ""
        few = (
            ""
            if self.model.rowCount()
            else "No readable files in this folder yet. Put recordings, GeoPackages, shapefiles or GeoJSON into it."
        )
        text = looking or few or self._cut
        if text != self.hint.text():
            self.hint.setText(text)
            self.hint.setVisible(bool(text))
        if self._busy or not self._waiting:
            return
        file = self._waiting.popleft()
        self._busy = True
        self._session.ask("look", lambda event, f=file: self._seen(f, event), self, path=file.path)

    def _seen(self, file: FoundFile, event: dict[str, Any]) -> None:
        self._busy = False
        found = event["layers"] if event["event"] == "done" else str(event["text"])
        look = self._looks[file.path] = _look(file, found)
        self._session.seen_sources[file.path] = found if isinstance(found, list) else []
        row = self._of_file.get(file.path)
        if row is not None:
            row.told, row.tip = {**row.told, **look.told}, look.tip
            if row.below or look.layers:
                self.model.put_below(row, look.rows())
            self.model.tell(row)
            index = self.model.index_of(row)
            if look.layers:
                self.tree.expand(index)
            if row.told.get("layer") and self.tree.currentIndex() == index:
                self._chosen(index, QModelIndex())  # chosen before it was known what it holds
        self._next()

    def close_down(self) -> None:
        """Let no reading outlive the window."""
        self._background.close()

    # -- choosing

    def _fold(self, index: QModelIndex, on: bool) -> None:
        """Remember what somebody folded, for when the rows are put up anew."""
        told = index.data(Role) or {}
        if not self._filling and told.get("path"):
            (self._folded.add if on else self._folded.discard)(told["path"])

    def _list_all(self, group: str) -> None:
        self._whole.add(group)
        self._fill()

    def _clicked(self, index: QModelIndex) -> None:
        told = index.data(Role) or {}
        if told.get("what") == "more":
            self._list_all(told["group"])
        elif told.get("what") in ("file", "folder") and self.model.hasChildren(index):
            self.tree.setExpanded(index, not self.tree.isExpanded(index))

    def _chosen(self, index: QModelIndex, _before: QModelIndex) -> None:
        told = index.data(Role) or {}
        if told.get("layer"):
            self.look_asked.emit(told["path"], told["layer"], told["key"])

    def _load(self) -> None:
        chosen = [
            t for t in (i.data(Role) or {} for i in self.tree.selectionModel().selectedRows()) if t.get("path") and not t.get("problem")
        ]
        told = self.tree.currentIndex().data(Role) or {}
        paths = list(dict.fromkeys(t["path"] for t in chosen))
        layers = [t for t in chosen if t["what"] == "layer"]
        if told.get("what") == "more":
            self._list_all(told["group"])
        elif told.get("what") == "published":
            self.load_asked.emit(told["path"], told["layer"], 1)
        elif len(layers) > 1 and len(layers) == len(chosen):
            for path in paths:
                some = [t["layer"] for t in layers if t["path"] == path]
                self.layers_asked.emit(path, some)
        elif len(paths) > 1 or told.get("text") or told.get("what") == "folder":
            self.several_asked.emit(paths or [told["path"]])
        elif told.get("path") and not told.get("problem"):
            self.load_asked.emit(told["path"], told.get("layer", ""), int(told.get("layers", 1)))

    def _menu(self, at: QPoint) -> None:
        """What can be done with the row under the pointer, or with the one in hand."""
        index = self.tree.indexAt(at)
        told = (index if index.isValid() else self.tree.currentIndex()).data(Role) or {}
        if not told.get("path") or told.get("problem"):
            return
        self.menu = QMenu(self.tree)
        if told["what"] == "folder":
            self.menu.addAction("Load this folder", lambda: self.several_asked.emit([told["path"]]))
            self.menu.addAction("Load it with its subfolders", lambda: self.several_asked.emit([f"{told['path']}/**/*"]))
            self.menu.popup(self.tree.viewport().mapToGlobal(at))
            return
        self.menu.addAction("Fetch it" if told.get("what") == "published" else "Load it", self._load)
        if told.get("what") != "published" and file_backups.changes(Path(told["path"])):
            self.menu.addAction("Undo its last change", lambda: self.back_asked.emit(told["path"]))
        if str(told["path"]).lower().endswith(".gpkg"):
            self.menu.addAction("Names, sections, take out …", lambda: self.tidy_asked.emit(told["path"]))
        self.menu.popup(self.tree.viewport().mapToGlobal(at))

    def release(self) -> None:
        """Nothing is in hand here any more: the analyst turned to a step."""
        block = self.tree.selectionModel().blockSignals(True)
        self.tree.setCurrentIndex(QModelIndex())
        self.tree.selectionModel().blockSignals(block)
        self.tree.viewport().update()

    def take_in_hand(self, row: Row) -> None:
        """Choose a row as a click would, and go there."""
        index = self.model.index_of(row)
        self.tree.setCurrentIndex(index)
        self.tree.scrollTo(index)
        self.tree.setFocus()

    def chosen_source(self) -> dict[str, Any]:
        """The row in hand; empty for none."""
        return self.tree.currentIndex().data(Role) or {}


def _section(title: str) -> Row:
    return Row(title, {"what": "section"}, heading=True)


def _look(file: FoundFile, found: list[dict[str, Any]] | str) -> Look:
    path = Path(file.path)
    if isinstance(found, str):
        return Look(file.changed, {"figures": "unreadable", "problem": True, "kind": ""}, found)
    if len(found) == 1:
        return Look(file.changed, {**_facts(found[0]), "layers": 1}, lambda: _file_tip(path, _tip(found[0])))
    layers = []
    for facts in found:
        name = str(facts["name"]).replace("_", " ") if path.suffix == ".gpx" else facts["name"]
        layers.append((name, {"what": "layer", "path": file.path, "layers": len(found), **_facts(facts)}, partial(_tip, facts)))
    told = {"figures": f"{len(found)} layers" if found else "empty", "layers": len(found), "kind": ""}
    return Look(file.changed, told, partial(_file_tip, path, f"{path.name}  {len(found)} layers"), tuple(layers))


def _service(address: str, name: str, datasets: Sequence[tuple[str, str, str]]) -> Row:
    rows = [
        Row(
            title,
            {"what": "published", "path": address, "layer": id, "key": id, "figures": count},
            f"{id} at {address}\nEnter adds the step that fetches it.",
        )
        for id, title, count in datasets
    ]
    return Row(name, {"what": "service"}, heading=True, below=rows)


def _file_tip(path: Path, first: str) -> str:
    return f"{first}\n{file_words(path)}"


def _facts(facts: dict[str, Any]) -> dict[str, object]:
    figures = "" if facts["count"] is None else counted_kind(facts["count"], facts["kind"])
    return {"layer": facts["name"], "key": facts["key"], "kind": facts["kind"], "figures": figures}


def _tip(facts: dict[str, Any]) -> str:
    fields = ", ".join(f"{n} ({w})" for n, w in facts["fields"][:20])
    crs = facts["crs"] or ("" if facts["kind"] == "table" else "no CRS declared")
    return f"{facts['name']}  {crs}\n{fields}"
