"""What a project has of its own operations, as the window knows it; files that change are noticed.

The window itself never imports them: another process does, and tells.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from PySide6.QtCore import QFileSystemWatcher, QObject, QTimer, Signal

from eskret.desktop.state.session import Session
from eskret.operations.registry import offer_own
from eskret.user_operations import trust
from eskret.user_operations.descriptors import OperationCard, ProblemCard, ProjectCard, shown_of

QUIET = 200
"""Milliseconds without a change before changed files are read."""
PATIENCE = 20_000
"""Milliseconds that the code may take to load before it is said that it does not."""


class OwnCode(QObject):
    """Follows the folder of the session."""

    changed = Signal()  # operations, problems or trust
    told = Signal(str, str)  # tone and text

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self.folder: Path | None = None
        self._told: ProjectCard | None = None
        self._said: tuple[object, ...] = ()
        self._asked = 0
        self._quiet = QTimer(self, singleShot=True, interval=QUIET)
        self._quiet.timeout.connect(self.look)
        self._watcher = QFileSystemWatcher(self)
        self._watcher.fileChanged.connect(lambda _: self._quiet.start())
        self._watcher.directoryChanged.connect(lambda _: self._quiet.start())
        self._patience = QTimer(self, singleShot=True, interval=PATIENCE)
        self._patience.timeout.connect(self._give_up)
        offer_own([])
        session.changed.connect(self._follow)

    def close_down(self) -> None:
        """Let go of what is watched and offered."""
        self._quiet.stop()
        self._patience.stop()
        watched = [*self._watcher.files(), *self._watcher.directories()]
        if watched:
            self._watcher.removePaths(watched)
        offer_own(None)

    def _follow(self) -> None:
        if self._session.folder != self.folder:
            self.folder = self._session.folder
            self._said = ()
            self.look()

    def look(self) -> None:
        """Have the folder read again."""
        folder = self._session.folder
        self._watch(folder)
        if not trust.code_in(folder):
            self._patience.stop()
            self._asked = 0
            self._hear(ProjectCard())
            return
        self._patience.start()
        self._asked = self._session.ask("own", self._take, self, folder=str(folder))

    def _watch(self, folder: Path) -> None:
        """Watch the folder and its files; a file that was replaced is a new one to the watcher."""
        home = folder / trust.FOLDER
        wanted = {str(folder)} | ({str(home), *map(str, trust.code_in(folder))} if home.is_dir() else set())
        watched = {*self._watcher.files(), *self._watcher.directories()}
        if watched - wanted:
            self._watcher.removePaths(sorted(watched - wanted))
        if wanted - watched:
            self._watcher.addPaths(sorted(wanted - watched))

    def _take(self, event: Mapping[str, object]) -> None:
        if event["job"] != self._asked:
            return
        self._patience.stop()
        if event["event"] == "done":
            self._hear(ProjectCard.model_validate(event))
        else:
            self.told.emit("bad", f"The operations of this project cannot be loaded: {event['text']}")

    def _give_up(self) -> None:
        self.told.emit(
            "bad",
            f"The code in {self._session.folder / trust.FOLDER} has not finished loading. Look for what it does "
            "outside its functions: that happens at every loading.",
        )

    @property
    def card(self) -> ProjectCard:
        """What is known of the project's code."""
        return self._told or ProjectCard()

    @property
    def files(self) -> tuple[str, ...]:
        """Its files, from the project's folder."""
        return self.card.files

    @property
    def problems(self) -> tuple[ProblemCard, ...]:
        """What is wrong with them."""
        return self.card.problems

    @property
    def operations(self) -> tuple[OperationCard, ...]:
        """What can be used of them."""
        return self.card.operations

    @property
    def trusted(self) -> bool:
        """Whether the code may run."""
        return self.card.trusted

    @property
    def hash(self) -> str:
        """Of all the code."""
        return self.card.hash

    def _hear(self, told: ProjectCard) -> None:
        if told == self._told:
            return
        first = self._told is None
        self._told = told
        problem = "" if self.trusted else "nobody has allowed the code that came with this project yet"
        problem = problem or "; ".join(p.text for p in self.problems[:3])
        offer_own([shown_of(card) for card in self.operations], problem)
        self.changed.emit()
        if not first or self.files:
            self._session.changed.emit()  # what a step says hangs on the operations there are
            self._session.rehearse_soon()
        self._say()

    def _say(self) -> None:
        if not self.trusted:
            said: tuple[object, ...] = ("trust", self.hash)
            text = f"This project brings code of its own: {_in_words(self.files)}. Nothing of it runs before it is allowed."
            tone = "look"
        elif self.problems:
            said = ("problems", *(p.text for p in self.problems))
            text = "; ".join(p.text for p in self.problems[:3]) + "."
            tone = "bad"
        else:
            said, text, tone = (), "", ""
        if said != self._said:
            self._said = said
            self.told.emit(tone, text)


def _in_words(names: Sequence[str]) -> str:
    more = f" and {len(names) - 3} more" if len(names) > 3 else ""
    return ", ".join(names[:3]) + more
