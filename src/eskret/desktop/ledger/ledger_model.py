"""The ledger as a Qt model: headings and steps at the top, a step's layers below it."""

from __future__ import annotations

from dataclasses import dataclass, field

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QObject, QPersistentModelIndex, Qt

from eskret.core.words import strip_markup
from eskret.desktop.ledger.notes import Note, notes_of, urgent
from eskret.desktop.ledger.threads import RowThreads, lanes
from eskret.desktop.state.session import Session
from eskret.workflow.faces.ledger import LayerRow, StepRow
from eskret.workflow.model.references import sources_of

NUMBER, THREAD, STEP, LAYERS, IN, OUT, ASIDE, TOTAL, TIME, STATE = range(10)
TITLES = ("#", "Thread", "Step", "Layers", "In", "Out", "Set aside", "Control total", "Time", "State")
RowRole = Qt.ItemDataRole.UserRole
Index = QModelIndex | QPersistentModelIndex


@dataclass
class Node:
    """A row of the model: a heading, a step, a note below it, or a layer of a step."""

    kind: str
    step: StepRow | None = None
    layer: LayerRow | None = None
    text: str = ""
    parent: Node | None = None
    children: list[Node] = field(default_factory=list)
    position: int = 0
    thread: int = -1
    state: str = ""
    note: Note | None = None
    notes: int = 0  # how many there are of a step, shown or not


class LedgerModel(QAbstractItemModel):
    """Rebuilt where the steps change; where only figures do, the rows stay and are told to repaint."""

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.nodes: list[Node] = []
        self.threads: list[RowThreads] = []
        self._open: dict[str, bool] = {}  # steps whose notes somebody opened or folded
        session.changed.connect(self.refresh)
        session.figures_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Take the ledger as it stands."""
        nodes = self._build()
        if nodes and _shape(nodes) == _shape(self.nodes):
            for old, new in zip(self.nodes, nodes, strict=True):
                old.step, old.text, old.state, old.note, old.notes = new.step, new.text, new.state, new.note, new.notes
                for child, fresh in zip(old.children, new.children, strict=True):
                    child.layer, child.step = fresh.layer, fresh.step
            last = self.index(len(nodes) - 1, STATE)
            self.dataChanged.emit(self.index(0, 0), last)
            for node in self.nodes:
                if node.children:
                    home = self.index(node.position, 0)
                    self.dataChanged.emit(self.index(0, 0, home), self.index(len(node.children) - 1, STATE, home))
        else:
            self.beginResetModel()
            self.nodes = nodes
            self.endResetModel()

    def _build(self) -> list[Node]:
        session = self._session
        rows = session.rows()
        ids = [r.id for r in rows]
        takes = {s.id: [r.step for r in sources_of(s)] for s in session.bound.steps}
        self.threads = lanes(ids, takes)
        nodes: list[Node] = []
        for number, row in enumerate(rows):
            if row.heading:
                nodes.append(Node("heading", text=row.heading, thread=number - 1))
            node = Node("step", step=row, thread=number, state=self._state(row))
            findings = [(f.level, f.text) for f in session.findings(row.id)]
            notes = notes_of(row, findings)
            node.notes = len(notes)
            if len(row.children) > 1:
                node.children = [Node("layer", row, child, parent=node, position=i, thread=number) for i, child in enumerate(row.children)]
            nodes.append(node)
            asked = self._open.get(row.id)
            if asked or (asked is None and urgent(row, findings)):
                nodes += [Node("note", step=row, thread=number, note=note) for note in notes if asked or note.tone != "note"]
        for i, node in enumerate(nodes):
            node.position = i
        return nodes

    def _state(self, row: StepRow) -> str:
        if row.off:
            return "off"
        if row.id in self._session.started:
            return "running"
        if row.state:
            return row.state
        if row.id in self._session.current.making:
            return "updating"
        if row.id in self._session.current.waiting:
            return "waiting"
        if any(f.level == "error" for f in self._session.findings(row.id)):
            return "error"
        return ""

    def notes_open(self, id: str) -> bool:
        """Whether what there is to say of a step stands below it."""
        return any(n.kind == "note" and n.step is not None and n.step.id == id for n in self.nodes)

    def open_notes(self, id: str, on: bool) -> None:
        """Let what there is to say of a step stand below it, or fold it away."""
        self._open[id] = on
        self.refresh()

    # -- Qt's questions

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        nodes = self.node(parent).children if parent.isValid() else self.nodes
        if 0 <= row < len(nodes) and 0 <= column < len(TITLES):
            return self.createIndex(row, column, nodes[row])
        return QModelIndex()

    def parent(self, index: Index) -> QModelIndex:  # type: ignore[override]
        node = self.node(index).parent if index.isValid() else None
        return self.createIndex(node.position, 0, node) if node is not None else QModelIndex()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        if not parent.isValid():
            return len(self.nodes)
        return len(self.node(parent).children) if parent.column() == 0 else 0

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(TITLES)

    def node(self, index: Index) -> Node:
        found = index.internalPointer()
        assert isinstance(found, Node)
        return found

    def index_of(self, id: str) -> QModelIndex:
        """The row of a step."""
        for node in self.nodes:
            if node.kind == "step" and node.step is not None and node.step.id == id:
                return self.index(node.position, 0)
        return QModelIndex()

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> object:
        if orientation != Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return TITLES[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            right = section in (NUMBER, LAYERS, IN, OUT, ASIDE, TOTAL, TIME)
            return (Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft) | Qt.AlignmentFlag.AlignVCenter
        return None

    def flags(self, index: Index) -> Qt.ItemFlag:
        if not index.isValid() or self.node(index).kind == "heading":
            return Qt.ItemFlag.ItemIsEnabled
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable

    def data(self, index: Index, role: int = 0) -> object:
        if not index.isValid():
            return None
        node = self.node(index)
        if role == RowRole:
            return node
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            return self.text(node, index.column())
        if role == Qt.ItemDataRole.ToolTipRole:
            return self._tip(node) if node.kind == "step" else node.note.text if node.note is not None else None
        return None

    def text(self, node: Node, column: int) -> str:
        """What stands in a cell, without bold."""
        if node.kind == "heading":
            return node.text if column == STEP else ""
        if node.kind == "note":
            return node.note.text if node.note is not None and column == STEP else ""
        if node.kind == "layer":
            assert node.layer is not None
            layer = node.layer
            return {
                STEP: layer.key,
                IN: _n(layer.rows_in),
                OUT: _n(layer.rows_out),
                ASIDE: _n(layer.aside or None),
                TOTAL: layer.total,
                STATE: "; ".join(r for r, _ in layer.reasons),
            }.get(column, "")
        assert node.step is not None
        row = node.step
        if column == STEP:
            return strip_markup(row.sentence)
        words = {"running": "running", "off": "off", "error": "cannot run"}
        return {
            NUMBER: str(row.number),
            LAYERS: _n(row.layers),
            IN: _n(row.rows_in),
            OUT: _n(row.rows_out),
            ASIDE: _n(row.aside or None),
            TOTAL: row.total,
            TIME: row.time,
            STATE: words.get(node.state, node.state),
        }.get(column, "")

    def _tip(self, node: Node) -> str:
        row = node.step
        assert row is not None
        lines = [strip_markup(row.sentence)]
        if node.state == "waiting":
            lines.append("This or a step above it takes longer than five seconds: press Ctrl+U to update its figures, or run.")
        if row.reused:
            part = "All of it" if row.reused == row.tasks else f"{row.reused:,} of its {row.tasks:,} parts"
            lines.append(f"{part} was made by an earlier run, and nothing has changed since that it hangs on.")
        findings = [(f.level, f.text) for f in self._session.findings(row.id)]
        lines += [note.text for note in notes_of(row, findings)]
        return "\n".join(lines)


def _n(value: int | None) -> str:
    return "" if value is None else f"{value:,}"


def _shape(nodes: list[Node]) -> list[object]:
    """What must be equal for rows to stay: kinds, steps, layers."""
    return [(n.kind, n.step.id if n.step else n.text, n.thread, [c.layer.key for c in n.children if c.layer]) for n in nodes]
