"""A lesson under way: it watches the open workflow, says what comes next and points at where it is done."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QModelIndex, QObject, QRect, QTimer, Signal
from PySide6.QtWidgets import QWidget

from eskret.desktop.lessons import guide
from eskret.desktop.lessons.guide import Task
from eskret.desktop.lessons.pointer import Pointer
from eskret.desktop.lessons.strip import GuideStrip
from eskret.workflow.model.document import Document

if TYPE_CHECKING:
    from eskret.desktop.frame.workbench import Workbench

_LOOK = 250  # milliseconds between two looks at where what is pointed at is now


class LessonUnderWay(QObject):
    """``begin`` starts one; it ends when another workflow is opened, or when it is left."""

    ended = Signal()

    def __init__(self, bench: Workbench) -> None:
        super().__init__(bench)
        self._bench, self._session = bench, bench.session
        self.strip = GuideStrip()
        self.pointer = Pointer(bench)
        self.lesson: Document | None = None
        self.task: Task | None = None
        self._folder = Path()
        self._of = 0
        self._finished = False
        self._shown: tuple[object, ...] = ()  # what was brought into view last
        self._left_alone = False
        self._scrolled = 0  # where that left the form
        self.strip.done_for_me.connect(self._do)
        self.strip.left.connect(self.leave)
        self._session.changed.connect(self._look)
        self._session.run_changed.connect(self._look)
        self._session.selected_changed.connect(lambda _: self._point())
        self._pointing = QTimer(self, interval=_LOOK)
        self._pointing.timeout.connect(self._look_again)

    def begin(self, lesson: Document, folder: Path) -> None:
        """Begin a lesson: an empty workflow in its folder, with the lesson's title and parameters."""
        self.lesson = None
        self._session.begin_with(guide.begin(lesson), folder)
        self._folder, self._of, self._finished = folder, guide.whole(lesson, folder), False
        self.lesson = lesson
        self._pointing.start()
        self._look()

    def leave(self) -> None:
        """Go on without guidance."""
        self.lesson = self.task = None
        self._pointing.stop()
        self.pointer.hide()
        self.strip.hide()
        self.ended.emit()

    def _look(self) -> None:
        """See what is done, and say what comes next."""
        lesson, session = self.lesson, self._session
        if lesson is None:
            return
        if session.folder != self._folder or session.document.title != lesson.title:
            self.leave()  # another workflow was opened
            return
        server = guide.serving(lesson)
        left = [*([server] if server is not None else []), *guide.tasks(lesson, session.document, self._folder)]
        self._finished = self._finished or (not left and not session.running and session.last_run.get("state") in ("balanced", "look"))
        if left:
            self.task = left[0]
            text = self.task.text
        elif not self._finished:
            self.task = Task(guide.RUN, "All steps are there. Press Run: everything is saved together, or nothing is.")
            text = self.task.text
        else:
            self.task = None
            text = "Done. Click on the figures in the ledger to see what came in, what left and what was set aside, and why. Save keeps it."
        done = self._of if self.task is None else max(0, self._of - 1 - len(left))
        able = self.task is not None and self.task.kind != guide.RUN
        self.strip.show_task(lesson.title, text, done, self._of, able)
        self._point()

    def _do(self) -> None:
        task, lesson = self.task, self.lesson
        if task is None or lesson is None:
            return
        if task.kind == guide.SERVE:
            self._bench.publisher.start_practice()
            return
        changed = guide.done_for(task, lesson, self._session.document, self._folder)
        before = {s.id for s in self._session.document.steps}
        self._session.edit(changed, "a step of the lesson")
        added = next((s.id for s in changed.steps if s.id not in before), "")
        self._session.select(added or task.step)
        self._session.fresh = added

    def _look_again(self) -> None:
        if self.task is not None and self.task.kind == guide.SERVE:
            self._look()  # nothing tells of a server that somebody started elsewhere
        else:
            self._point()

    def _point(self) -> None:
        """Point at where the task is done now; what is out of view is brought into it once."""
        widget, part = self._place()
        shown = (self.task, self._session.selected, widget)
        bar = self._bench.form.verticalScrollBar()
        if shown != self._shown:
            self._shown, self._left_alone = shown, False
        elif bar.value() not in (0, self._scrolled):
            self._left_alone = True  # somebody looks elsewhere; back at the top it was filled anew
        if widget is not None and not self._left_alone and not _seen(widget, part):
            self._bring_into_view(widget)
            self._scrolled = bar.value()
            widget, part = self._place()
        self.pointer.point_at(widget, part)

    def _bring_into_view(self, widget: QWidget) -> None:
        bench, task = self._bench, self.task
        tree = bench.sources.tree
        if task is not None and task.from_sources and widget in (tree, tree.viewport()):
            index = self._source_index(task.files[0])
            if index is not None:
                tree.scrollTo(index)
        elif bench.form.isAncestorOf(widget):
            bench.form.ensureWidgetVisible(widget, 0, 12)

    def _place(self) -> tuple[QWidget | None, QRect | None]:
        bench, task = self._bench, self.task
        if task is None or not bench.isVisible():
            return None, None
        if task.kind == guide.SERVE:
            there = bench.pages.page == "publish"
            return (bench.views.publish.practice, None) if there else (bench.bar.publish, None)
        if bench.pages.page != "work" or bench.finder.isVisible():
            return None, None
        if task.kind == guide.RUN:
            return bench.bar.run, None
        if task.kind == guide.ADD:
            tree = bench.sources.tree
            if not task.from_sources:
                return bench.add_button, None
            row = self._source_row(task.files[0])
            return (tree.viewport(), row) if row is not None else (tree, None)
        if task.step and task.step != self._session.selected:
            index = bench.ledger.model().index_of(task.step)  # type: ignore[attr-defined]
            rect = bench.ledger.visualRect(index)
            return bench.ledger.viewport(), QRect(0, rect.top(), bench.ledger.viewport().width(), rect.height())
        form = bench.form
        if task.setting.startswith("step."):
            return (form.about, None) if not form.about.isChecked() else (form.blocks[task.setting], None)
        if task.setting not in form.blocks:
            return (form.more, None)
        block = form.blocks[task.setting]
        return (block, None) if block.isVisible() else (form.more, None)

    def _source_row(self, file: str) -> QRect | None:
        """Where the row of a file, or of the folder that a pattern is of, stands in the sources."""
        tree, index = self._bench.sources.tree, self._source_index(file)
        rect = tree.visualRect(index) if index is not None else QRect()
        return QRect(0, rect.top(), tree.viewport().width(), rect.height()) if rect.isValid() else None

    def _source_index(self, file: str) -> QModelIndex | None:
        path = self._folder / file
        wanted = str(path.parent if "*" in file else path)
        sources = self._bench.sources
        for row in sources.model.rows():
            if row.told.get("path") == wanted and row.told.get("what") in ("file", "folder"):
                return sources.model.index_of(row)
        return None


def _seen(widget: QWidget, part: QRect | None) -> bool:
    """Whether all of it is to be seen, or as much as there is room for."""
    visible = widget.visibleRegion().boundingRect()
    wanted = part if part is not None else widget.rect()
    window = widget.window().height()
    return widget.isVisible() and visible.intersected(wanted).height() >= min(wanted.height(), window // 5)
