"""A button beside a setting that lets it take the value of a parameter, or makes a parameter of it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QMenu, QToolButton, QWidget

from eskret.desktop.state.session import Session


class BindButton(QToolButton):
    """``take`` gets ``{"parameter": name}``, or None to have a value of its own again."""

    def __init__(
        self,
        session: Session,
        step: str,
        take: Callable[[object], None],
        make: Callable[[], None] | None = None,
        parent: QWidget | None = None,
    ) -> None:
        super().__init__(parent)
        self.setObjectName("bind")
        self._session, self._step, self._take, self._make = session, step, take, make
        self._bound = ""
        self.menu_ = QMenu(self)
        self.menu_.aboutToShow.connect(self._fill)
        self.clicked.connect(lambda: self.menu_.popup(self.mapToGlobal(QPoint(0, self.height()))))
        self.show_bound("")

    def show_bound(self, name: str) -> None:
        """Say which parameter the setting takes its value of; none for no name."""
        self._bound = name
        self.setText(f"takes ${name}" if name else "$")
        self.setToolTip(f"Takes the value of '{name}'" if name else "Use the value of a parameter")
        self.setAccessibleName(self.toolTip())

    def names(self) -> list[tuple[str, str]]:
        """What a value can be taken of: parameters, and what the rounds of the step give; with words."""
        document = self._session.document
        step = next((s for s in document.steps if s.id == self._step), None)
        out = [(p.name, p.title) for p in document.parameters]
        if step is not None and step.each is not None:
            if step.each.kind == "rows":
                fields = self._session.fields_of(step.each.of)
                out += [(n, f"{n} of the row") for n, _ in fields]
            else:
                out.append((step.each.name, f"{step.each.name} of the round"))
        return out

    def _fill(self) -> None:
        self.menu_.clear()
        for name, words in self.names():
            action = self.menu_.addAction(words)
            action.setCheckable(True)
            action.setChecked(name == self._bound)
            action.triggered.connect(lambda _=False, n=name: self._take({"parameter": n}))
        if self._make is not None and not self._bound:
            self.menu_.addSeparator()
            make = self._make
            self.menu_.addAction("Make a parameter of it").triggered.connect(lambda _=False: make())
        if self._bound:
            self.menu_.addSeparator()
            self.menu_.addAction("A value of its own").triggered.connect(lambda _=False: self._take(None))
        if self.menu_.isEmpty():
            self.menu_.addAction("There are no parameters yet").setEnabled(False)
