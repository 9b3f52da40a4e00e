"""Two runs side by side: values and figures that differ, outputs, and what was added, removed and changed in one of them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QLabel, QSplitter, QVBoxLayout, QWidget

from eskret.core.words import pluralise
from eskret.desktop.state.session import Session
from eskret.desktop.table.grid_model import Column
from eskret.desktop.table.read_table import ReadTable
from eskret.desktop.views.changes import ChangesPane
from eskret.desktop.views.parts import in_row
from eskret.workflow.cache.stored import StoredLayer
from eskret.workflow.history import comparison
from eskret.workflow.history.comparison import Compared, OutputPair
from eskret.workflow.history.runs import Runs, Whole

_STEPS = (
    Column("step", "Step", False, width=300),
    Column("in", "In", False, right=True, width=80),
    Column("out", "Out", False, right=True, width=90),
    Column("aside", "Set aside", False, right=True, width=100),
    Column("total", "Control total", False, right=True, width=180),
    Column("state", "State", False, width=90),
)
_OUTPUTS = (
    Column("name", "Left behind", False, width=430),
    Column("features", "Features", False, right=True, width=120),
    Column("state", "Content", False, width=200),
)
_COLOURS = {comparison.SAME: "good", comparison.DIFFERS: "look"}


class ComparedPane(QWidget):
    """Figures of the two above, features below."""

    def __init__(self, session: Session, runs: Runs, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._runs = session, runs
        self._pair: tuple[Whole, Whole] | None = None
        self._found: Compared | None = None
        self._asked = 0
        self.differs = QLabel()
        self.differs.setWordWrap(True)
        self.differs.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.steps = ReadTable("Figures of both runs", _STEPS)
        self.outputs = ReadTable("Outputs of both runs", _OUTPUTS)
        self.outputs.chosen_changed.connect(lambda: self._show_output())
        self.key = QComboBox()
        self.key.setAccessibleName("What tells features apart")
        self.key.activated.connect(lambda _: self._show_output(str(self.key.currentData())))
        self._key_words = QLabel("Told apart by")
        self._key_words.setObjectName("faint")
        self.says = QLabel()
        self.says.setObjectName("faint")
        self.says.setWordWrap(True)
        self.changes = ChangesPane(session)
        below = QWidget()
        column = QVBoxLayout(below)
        column.setContentsMargins(0, 6, 0, 0)
        column.setSpacing(6)
        column.addLayout(in_row(self.changes.switch, None, self._key_words, self.key))
        column.addWidget(self.says)
        column.addWidget(self.changes, 1)
        tables = QSplitter(Qt.Orientation.Vertical)
        tables.setHandleWidth(1)
        for part in (self.steps, self.outputs, below):
            tables.addWidget(part)
        tables.setSizes([130, 120, 380])
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(6)
        whole.addWidget(self.differs)
        whole.addWidget(tables, 1)

    def compare(self, earlier: Whole, later: Whole) -> None:
        """Show two runs."""
        if self._pair is not None and [w.kept.id for w in self._pair] == [earlier.kept.id, later.kept.id]:
            return
        self._pair = earlier, later
        found = self._found = comparison.compare(earlier, later, self._runs)
        lines = [f"{name}: {a or 'nothing'} → {b or 'nothing'}" for name, a, b in found.values]
        if earlier.kept.workflow != later.kept.workflow:
            lines.append(f"They are of two workflows: {earlier.kept.file} and {later.kept.file}.")
        elif found.text:
            changed = [t.strip() for t in found.text if t[:1] in "+-" and t[1:].strip()]
            more = f" and {len(changed) - 4} more lines" if len(changed) > 4 else ""
            lines.append("The workflow was changed: " + ",  ".join(changed[:4]) + more)
        same = sum(not s.differs for s in found.steps)
        if same:
            all_ = same == len(found.steps)
            lines.append("All figures are the same." if all_ else f"The figures of {pluralise(same, 'step')} are the same; these differ:")
        self.differs.setText("\n".join(lines))
        self._fill_steps(found)
        self._fill_outputs(found)

    def _fill_steps(self, found: Compared) -> None:
        rows, colours = [], {}
        shown = [s for s in found.steps if s.differs]
        self.steps.setVisible(bool(shown))
        for n, one in enumerate(shown):
            row = {"step": one.sentence}
            figures = ("rows_in", "rows_out", "aside", "total", "state")
            for key, name in zip(("in", "out", "aside", "total", "state"), figures, strict=True):
                a, b = (getattr(r, name, None) for r in (one.earlier, one.later))
                row[key] = _both(a, b)
                if a != b:
                    colours[n, key] = "look"
            rows.append(row)
        self.steps.show_rows(rows, colours=colours)

    def _fill_outputs(self, found: Compared) -> None:
        rows, colours = [], {}
        for n, one in enumerate(found.outputs):
            counts = (x.features if x is not None else None for x in (one.earlier, one.later))
            kept = "" if one.shown or one.state == comparison.SAME else " (its features are not kept)"
            rows.append({"name": one.name, "features": _both(*counts), "state": f"{one.state}{kept}"})
            colours[n, "state"] = _COLOURS.get(one.state, "bad")
        self.outputs.show_rows(rows, colours=colours)
        first = [n for n, o in enumerate(found.outputs) if o.shown and o.state != comparison.SAME]
        first = first or [n for n, o in enumerate(found.outputs) if o.shown]
        self.outputs.choose(first[:1])
        if not first:
            self._show_output()

    def _output(self) -> OutputPair | None:
        chosen = self.outputs.chosen()
        outputs = self._found.outputs if self._found is not None else ()
        return outputs[chosen[0]] if chosen and chosen[0] < len(outputs) else None

    def _show_output(self, key: str | None = None) -> None:
        """Have the difference of an output taken and show it."""
        one = self._output()
        self._asked += 1
        if one is None or not one.shown or one.later is None or self._pair is None:
            self.changes.show_layer(None, hint="Choose an output whose features both runs have.")
            self.says.setText("")
            self._offer([], "")
            return
        if key is None:
            self.changes.show_layer(None, hint="Being compared …")
        asked = self._asked

        def take(event: Mapping[str, Any]) -> None:
            if asked != self._asked:
                return
            if event["event"] != "done":
                self.changes.show_layer(None, hint=str(event["text"]))
                return
            self.says.setText("; ".join(event["said"]))
            self._offer(event["keys"], event["key"])
            self.changes.show_difference(StoredLayer(event["layer"]))

        a, b = (w.kept.id for w in self._pair)
        self._session.ask(
            "difference_of_runs",
            take,
            self,
            "Comparing the two runs …",
            earlier=a,
            later=b,
            path=one.later.path,
            layer=one.later.layer,
            key=key,
            store=self._session.new_store(),
        )

    def _offer(self, keys: list[str], chosen: str) -> None:
        for widget in (self._key_words, self.key):
            widget.setVisible(self._output() is not None and self.changes.isVisible())
        self.key.clear()
        for name in keys:
            self.key.addItem(name, name)
        self.key.addItem("their shape", "")
        self.key.setCurrentIndex(self.key.findData(chosen))

    def close_down(self) -> None:
        """Let no work outlive the window."""
        self.changes.close_down()


def _both(a: object, b: object) -> str:
    mine, theirs = ("–" if x is None else f"{x:,}" if isinstance(x, int) else str(x) for x in (a, b))
    return mine if mine == theirs else f"{mine} → {theirs}"
