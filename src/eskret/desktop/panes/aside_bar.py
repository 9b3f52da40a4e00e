"""Why features were set aside or altered, counted; one reason at a time can be looked at, and what was set aside taken back in or saved."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QWidget

from eskret.desktop.panes.pane import QuietButton
from eskret.workflow.cache.stored import StoredAside


class AsideBar(QWidget):
    """Shown while rows that were set aside or altered are looked at."""

    reason_chosen = Signal(str)  # empty for all of them
    elsewhere_chosen = Signal(str, str, str)  # view, layer and reason
    back_asked = Signal()
    save_asked = Signal()
    walk_asked = Signal(int)  # 1 for the next, -1 for the one before

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(34)
        label = QLabel("Why")
        label.setObjectName("faint")
        self.box = QComboBox()
        self.box.setAccessibleName("Why features were set aside or altered")
        self.box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.box.setMaximumWidth(520)
        self.box.activated.connect(lambda _: self._chosen(self.box.currentData()))
        self.back = QuietButton("Take them back in", "Add steps that put them back with what left")
        self.back.clicked.connect(self.back_asked)
        self.save = QuietButton("Save as a layer", "Add a step that keeps exactly these, and one that saves them")
        self.save.clicked.connect(self.save_asked)
        self.before = QuietButton("Previous", "Go to the feature before this one (Alt+Left)")
        self.before.clicked.connect(lambda: self.walk_asked.emit(-1))
        self.next = QuietButton("Next", "Go to the next feature, near enough to see it (Alt+Right)")
        self.next.clicked.connect(lambda: self.walk_asked.emit(1))
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 3, 8, 3)
        row.addWidget(label)
        row.addWidget(self.box, 3)
        row.addWidget(self.before)
        row.addWidget(self.next)
        row.addStretch(1)
        row.addWidget(self.back)
        row.addWidget(self.save)
        self.hide()

    def _chosen(self, what: str | tuple[str, str, str]) -> None:
        if isinstance(what, str):
            self.reason_chosen.emit(what)
        else:
            self.elsewhere_chosen.emit(*what)

    def show_reasons(
        self, some: StoredAside | None, chosen: str, aside: bool, back: bool, elsewhere: Sequence[tuple[str, str, StoredAside]] = ()
    ) -> None:
        """Offer the reasons of these rows, the most frequent first; below them those of the step's other layers and views.

        Parameters
        ----------
        chosen : the reason that is looked at alone; empty for all.
        aside : whether they were set aside, not altered.
        back : whether they can be taken back in.
        elsewhere : view and key of layers of which rows were set aside or altered too, as on the other side of a join.
        """
        self.setVisible(some is not None)
        if some is None:
            return
        self.box.clear()
        self.box.addItem(f"all {len(some.rows):,}", "")
        for reason, count in _counted(some):
            self.box.addItem(f"{count:,} · {reason}", reason)
        for view, key, other in elsewhere:
            for reason, count in _counted(other):
                self.box.addItem(f"{key}: {count:,} · {reason}", (view, key, reason))
        self.box.setCurrentIndex(max(0, self.box.findData(chosen)))
        self.back.setVisible(aside and back)
        self.save.setVisible(aside)


def _counted(some: StoredAside) -> list[tuple[str, int]]:
    """The reasons of rows with their numbers, the most frequent first."""
    counts = np.bincount(np.asarray(some.codes).astype(np.int64), minlength=len(some.reasons)).tolist()
    told: dict[str, int] = {}
    for reason, count in zip(some.reasons, counts, strict=True):
        told[reason] = told.get(reason, 0) + count
    return [(reason, count) for reason, count in sorted(told.items(), key=lambda one: -one[1]) if count]
