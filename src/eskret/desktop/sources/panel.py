"""The shelf at the left: files of the project folder with their layers, and what this workflow has saved."""

from __future__ import annotations

import os
from collections.abc import Sequence
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

from eskret.core.files.datasets import is_dataset
from eskret.core.words import counted_kind
from eskret.desktop.state.list_model import Role, Row, RowsModel
from eskret.desktop.state.session import Session
from eskret.desktop.table.field_list import file_words
from eskret.desktop.theme.icons import paint_kind
from eskret.desktop.theme.style import NARROW, font, theme
from eskret.formats.sources import is_offered, is_text
from eskret.workflow.outputs import file_backups

MOST_FILES = 1500
DEPTH = 4


class _Delegate(QStyledItemDelegate):
    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        return QSize(60, 34 if (index.data(Role) or {}).get("what") == "section" else 22)

    def paint(self, painter: QPainter, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> None:
        rect: QRect = option.rect
        told: dict[str, object] = index.data(Role) or {}
        what = told.get("what")
        text = str(index.data(Qt.ItemDataRole.DisplayRole))
        painter.save()
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        whole = QRect(0, rect.top(), option.widget.width(), rect.height())
        if chosen and what in ("file", "layer", "published"):
            painter.fillRect(whole, theme.colour("shelf_chosen"))
            painter.fillRect(QRect(0, rect.top(), 3, rect.height()), theme.colour("hand"))
            if option.state & QStyle.StateFlag.State_HasFocus:
                painter.setPen(QPen(theme.colour("ink"), 1, Qt.PenStyle.DotLine))
                painter.drawRect(whole.adjusted(0, 0, -1, -1))
        middle = Qt.AlignmentFlag.AlignVCenter
        if what == "section":
            painter.setFont(font(12, QFont.Weight.DemiBold, NARROW))
            painter.setPen(theme.colour("faint"))
            painter.drawText(rect.adjusted(12, 10, -8, 0), middle, text)
        elif what == "folder":
            painter.setFont(font(13, QFont.Weight.DemiBold))
            painter.setPen(theme.colour("ink"))
            painter.drawText(rect.adjusted(12, 0, -8, 0), middle, text)
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


class SourcesPanel(QWidget):
    """Choosing a layer asks to look at it; Enter or a double click asks to load it."""

    look_asked = Signal(str, str, str)  # path, layer, key
    load_asked = Signal(str, str, int)  # path, layer (empty for the whole file), number of layers in the file
    several_asked = Signal(list)  # paths
    tidy_asked = Signal(str)  # path of a GeoPackage
    back_asked = Signal(str)  # path

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("shelf")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._session = session
        self._looks: dict[str, tuple[float, list[dict[str, Any]] | str]] = {}
        self._waiting: list[Path] = []
        self._busy = False
        self._shown: tuple[object, ...] = ()
        self._published: tuple[tuple[str, str, tuple[tuple[str, str, str], ...]], ...] = ()
        self.model = RowsModel(self)
        self._of_file: dict[str, Row] = {}
        self.tree = _Tree()
        self.tree.setAccessibleName("Sources")
        self.tree.setModel(self.model)
        self.tree.setItemDelegate(_Delegate(self.tree))
        self.tree.setHeaderHidden(True)
        self.tree.setRootIsDecorated(False)
        self.tree.setIndentation(12)
        self.tree.setSelectionMode(QTreeView.SelectionMode.ExtendedSelection)
        self.tree.setEditTriggers(QTreeView.EditTrigger.NoEditTriggers)
        self.tree.setExpandsOnDoubleClick(False)
        self.tree.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.tree.selectionModel().currentChanged.connect(self._chosen)
        self.tree.clicked.connect(self._clicked)
        self.tree.doubleClicked.connect(lambda _: self._load())
        self.tree.entered.connect(self._load)
        self.tree.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.tree.customContextMenuRequested.connect(self._menu)
        title = QLabel("Sources")
        title.setObjectName("eyebrow")
        self.refresh_button = QToolButton()
        self.refresh_button.setObjectName("quiet")
        self.refresh_button.setText("Look again")
        self.refresh_button.setToolTip("Read the folder anew")
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
        self._shown = ()
        self.refresh()

    def show_published(self, services: Sequence[tuple[str, str, Sequence[tuple[str, str, str]]]]) -> None:
        """Show published datasets below the files: for each service its address and name, and of each dataset id, title, count."""
        told = tuple((a, n, tuple(d)) for a, n, d in services if d)
        if told != self._published:
            self._published = told
            self.refresh()

    def refresh(self) -> None:
        """Show what the folder holds now."""
        folder = self._session.folder
        self._session.seen_sources = {p: x for p, x in self._session.seen_sources.items() if Path(p).is_relative_to(folder)}
        files = _files(folder)
        saved = self._session.saved_outputs()
        own = {str(folder / name) for name in saved}
        offered = [f for f in files if str(f) not in own]
        seen = (folder, tuple(files), tuple((n, tuple(x)) for n, x in saved.items()), tuple(_changed(f) for f in files), self._published)
        if seen == self._shown:
            return
        self._shown = seen
        folders = {str(f.parent) for f in files} | {str(folder)}
        if self._watcher.directories():
            self._watcher.removePaths(self._watcher.directories())
        self._watcher.addPaths(sorted(folders))
        here = self.tree.currentIndex().data(Role) if self.tree.currentIndex().isValid() else None
        tops = self._grouped(offered, folder)
        if saved:
            tops += [_section("Saved by this workflow"), *self._grouped([folder / name for name in saved], folder)]
        if self._published:
            tops.append(_section("Published"))
            for address, name, datasets in self._published:
                tops.append(
                    Row(
                        name,
                        {"what": "folder"},
                        heading=True,
                        below=[
                            Row(
                                title,
                                {"what": "published", "path": address, "layer": id, "key": id, "figures": count},
                                f"{id} at {address}\nEnter adds the step that fetches it.",
                            )
                            for id, title, count in datasets
                        ],
                    )
                )
        self._of_file = {r.told["path"]: r for top in tops for r in (top, *top.below) if r.told["what"] == "file"}
        self.model.fill(tops)
        self.tree.expandAll()
        for path in files:
            if is_text(path):
                self._show_text(path)
            elif self._looks.get(str(path), (0.0, ""))[0] != _changed(path):
                self._waiting.append(path)
            else:
                self._show(path)
        few = "No readable files in this folder yet. Put recordings, GeoPackages, shapefiles or GeoJSON into it."
        self.hint.setText("" if files else few)
        self.hint.setVisible(not files)
        self._restore(here)
        self._next()

    def _restore(self, here: dict[str, object] | None) -> None:
        """After a rebuild, the row that was in hand is so again, without being looked at anew."""
        for row in self.model.rows() if here else ():
            if here and row.told.get("path") == here.get("path") and row.told.get("layer") == here.get("layer"):
                block = self.tree.selectionModel().blockSignals(True)
                self.tree.setCurrentIndex(self.model.index_of(row))
                self.tree.selectionModel().blockSignals(block)

    def _grouped(self, files: list[Path], folder: Path) -> list[Row]:
        """Rows of files, those of a folder below its name."""
        groups: dict[str, list[Path]] = {}
        for path in files:
            place = path.parent.relative_to(folder) if path.is_relative_to(folder) else path.parent
            groups.setdefault(" / ".join(place.parts), []).append(path)
        out: list[Row] = []
        for name, members in groups.items():
            rows = [Row(path.name, {"what": "file", "path": str(path), "figures": ""}) for path in members]
            out += [Row(name, {"what": "folder"}, heading=True, below=rows)] if name else rows
        return out

    # -- looking at files, one after the other

    def _next(self) -> None:
        if self._busy or not self._waiting:
            return
        path = self._waiting.pop(0)
        self._busy = True
        self._session.ask("look", lambda event, p=path: self._seen(p, event), path=str(path))

    def _seen(self, path: Path, event: dict[str, Any]) -> None:
        self._busy = False
        self._looks[str(path)] = (_changed(path), event["layers"] if event["event"] == "done" else str(event["text"]))
        found = self._looks[str(path)][1]
        self._session.seen_sources[str(path)] = found if isinstance(found, list) else []
        self._show(path)
        self._next()

    def _show(self, path: Path) -> None:
        row = self._of_file.get(str(path))
        if row is None:
            return
        found = self._looks[str(path)][1]
        told, below = dict(row.told), []
        if isinstance(found, str):
            told.update(figures="unreadable", problem=True, kind="")
            row.tip = found
        elif len(found) == 1:
            told.update(_facts(found[0]), layers=1)
            row.tip = f"{_tip(found[0])}\n{file_words(path)}"
        else:
            told.update(figures=f"{len(found)} layers" if found else "empty", layers=len(found), kind="")
            row.tip = f"{path.name}  {len(found)} layers\n{file_words(path)}"
            for facts in found:
                name = str(facts["name"]).replace("_", " ") if path.suffix == ".gpx" else facts["name"]
                told_of = {"what": "layer", "path": str(path), "layers": len(found), **_facts(facts)}
                below.append(Row(name, told_of, _tip(facts)))
        row.told = told
        self.model.put_below(row, below)
        self.model.tell(row)
        index = self.model.index_of(row)
        self.tree.expand(index)
        if told.get("layer") and self.tree.currentIndex() == index:
            self._chosen(index, QModelIndex())  # chosen before it was known what it holds

    def _show_text(self, path: Path) -> None:
        """A text is looked at when a step reads it: only then it is known how."""
        row = self._of_file.get(str(path))
        if row is not None:
            row.told = {**row.told, "figures": "text", "kind": "", "text": True}
            row.tip = f"{path.name}  {file_words(path)}\nText with coordinates; Enter adds the step that loads it."
            self.model.tell(row)

    # -- choosing

    def _clicked(self, index: QModelIndex) -> None:
        told = index.data(Role) or {}
        if told.get("what") == "file" and self.model.hasChildren(index):
            self.tree.setExpanded(index, not self.tree.isExpanded(index))

    def _chosen(self, index: QModelIndex, _before: QModelIndex) -> None:
        told = index.data(Role) or {}
        if told.get("layer"):
            self.look_asked.emit(told["path"], told["layer"], told["key"])

    def _load(self) -> None:
        chosen = [i.data(Role) or {} for i in self.tree.selectionModel().selectedRows()]
        paths = list(dict.fromkeys(t["path"] for t in chosen if t.get("path") and not t.get("problem")))
        told = self.tree.currentIndex().data(Role) or {}
        if told.get("what") == "published":
            self.load_asked.emit(told["path"], told["layer"], 1)
        elif len(paths) > 1 or told.get("text"):
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
        self.menu.addAction("Fetch it" if told.get("what") == "published" else "Load it", self._load)
        if told.get("what") != "published" and file_backups.changes(Path(told["path"])):
            self.menu.addAction("Take the last change of it back", lambda: self.back_asked.emit(told["path"]))
        if str(told["path"]).lower().endswith(".gpkg"):
            self.menu.addAction("Names, sections, take out …", lambda: self.tidy_asked.emit(told["path"]))
        self.menu.popup(self.tree.viewport().mapToGlobal(at))

    def release(self) -> None:
        """Nothing is in hand here any more: the analyst turned to a step."""
        block = self.tree.selectionModel().blockSignals(True)
        self.tree.setCurrentIndex(QModelIndex())
        self.tree.selectionModel().blockSignals(block)
        self.tree.viewport().update()

    def chosen_source(self) -> dict[str, Any]:
        """The row in hand; empty for none."""
        return self.tree.currentIndex().data(Role) or {}


def _files(folder: Path) -> list[Path]:
    """Readable files of a folder, a few levels deep and not without end; folders that are one layer among them."""
    out: list[Path] = []
    base = len(folder.parts)
    for home, folders, names in os.walk(folder):
        layers = [f for f in folders if is_dataset(Path(home) / f)]
        deeper = [f for f in folders if not f.startswith(".") and f not in layers]
        folders[:] = sorted(deeper) if len(Path(home).parts) - base < DEPTH else []
        found = (Path(home) / n for n in sorted([*names, *layers]))
        out += [p for p in found if is_offered(p) or (is_text(p) and not p.name.startswith("."))]
        if len(out) > MOST_FILES:
            break
    return out[:MOST_FILES]


def _changed(path: Path) -> float:
    try:
        return path.stat().st_mtime
    except OSError:
        return 0.0


def _section(title: str) -> Row:
    return Row(title, {"what": "section"}, heading=True)


def _facts(facts: dict[str, Any]) -> dict[str, object]:
    figures = "" if facts["count"] is None else counted_kind(facts["count"], facts["kind"])
    return {"layer": facts["name"], "key": facts["key"], "kind": facts["kind"], "figures": figures}


def _tip(facts: dict[str, Any]) -> str:
    fields = ", ".join(f"{n} ({w})" for n, w in facts["fields"][:20])
    crs = facts["crs"] or ("" if facts["kind"] == "table" else "no CRS declared")
    return f"{facts['name']}  {crs}\n{fields}"
