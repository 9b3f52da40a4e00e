"""The Publish view: services and their datasets, what a push would change, the push itself, and the pushes there were."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMessageBox, QProgressBar, QVBoxLayout, QWidget

from eskret.core.words import duration, pluralise
from eskret.desktop.publish.service_boxes import AddressBox, PractiseBox, TokenBox
from eskret.desktop.state.publisher import Publisher
from eskret.desktop.state.session import Session
from eskret.desktop.theme.icons import StateMark
from eskret.desktop.theme.style import theme
from eskret.desktop.views.changes import ChangesPane
from eskret.desktop.views.parts import in_row, push_button
from eskret.desktop.views.published_list import PushList, ServiceTree, figures_of, mark_of, moment, state_words
from eskret.workflow.cache.stored import StoredLayer
from eskret.workflow.model.document import Step

_MODES = {"update": "bring it up to date", "append": "add what is new", "replace": "make it exactly the layer"}


class PublishView(QWidget):
    """A view of its own. ``added`` says that a step was added to the workflow."""

    closed = Signal()
    added = Signal(str)

    def __init__(self, session: Session, publisher: Publisher, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("pane")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._session, self._publisher = session, publisher
        self._of: tuple[str, ...] = ()  # what is shown: a push and its id, a dataset with its service, a service
        self._asked = 0
        self._states: dict[str, int] = {}
        whole = QHBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(self._shelf())
        whole.addWidget(self._desk(), 1)
        publisher.services_changed.connect(self._services)
        publisher.pushes_changed.connect(self._pushes)
        publisher.sending_changed.connect(self._sending)
        publisher.told.connect(self.tell)
        QShortcut(QKeySequence("Escape"), self, self.closed.emit, context=Qt.ShortcutContext.WidgetWithChildrenShortcut)

    # -- putting together

    def _shelf(self) -> QWidget:
        shelf = QWidget()
        shelf.setObjectName("shelf")
        shelf.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        shelf.setFixedWidth(290)
        self.tree = ServiceTree()
        self.tree.chosen.connect(self._choose_dataset)
        self.list = PushList()
        self.list.chosen.connect(lambda id: self.show_push(id))
        self.practice = push_button("Start the practice server", "A stand-in for a service, on this machine alone", self._practise)
        add = push_button("Add a service …", "By the address of its landing page", lambda: AddressBox(self._publisher, self).open())
        again = push_button("Ask again", "Ask all services what they publish now", self._publisher.refresh)
        row = QHBoxLayout()
        row.setContentsMargins(12, 4, 12, 4)
        row.setSpacing(6)
        row.addWidget(add, 1)
        row.addWidget(again, 1)
        self.faults = push_button(
            "Faults …", "Make the practice server slow or unreliable, to practise", lambda: PractiseBox(self._publisher, self).open()
        )
        practice = QHBoxLayout()
        practice.setContentsMargins(12, 0, 12, 8)
        practice.setSpacing(6)
        practice.addWidget(self.practice, 1)
        practice.addWidget(self.faults)
        column = QVBoxLayout(shelf)
        column.setContentsMargins(0, 10, 0, 0)
        column.setSpacing(2)
        column.addWidget(_eyebrow("Services and what they publish"))
        column.addWidget(self.tree)
        column.addLayout(row)
        column.addLayout(practice)
        column.addWidget(_eyebrow("Pushes, the latest first"))
        column.addWidget(self.list, 1)
        return shelf

    def _desk(self) -> QWidget:
        desk = QWidget()
        self.title = QLabel()
        self.title.setObjectName("title")
        self.mark = StateMark()
        self.state = QLabel()
        back = push_button("Back to the ledger", "Esc", self.closed.emit)
        top = in_row(self.title, self.mark, self.state, None, back)
        self.facts = QLabel()
        self.facts.setObjectName("faint")
        self.facts.setWordWrap(True)
        self.facts.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.says = QLabel()
        self.says.setWordWrap(True)
        self.send = push_button("Send", "Send these changes to the service", lambda: self._carry_out(False))
        self.send.setObjectName("primary")
        self.back = push_button("Take back", "Bring the dataset to what it was before this push", lambda: self._carry_out(True))
        self.leave = push_button("Leave theirs", "Features that somebody else changed stay as they are", lambda: self._settle("leave"))
        self.over = push_button(
            "Send ours over theirs",
            "They are changed all the same; taking the push back brings theirs back",
            lambda: self._settle("overwrite"),
        )
        self.discard = push_button("Discard", "Discard this push; nothing was sent", self._discard)
        self.keep = push_button("Save the difference …", "A step that saves it to a file", self._save)
        self.fetch = push_button("Fetch it", "Add a step that brings this dataset into the workflow", self._fetch)
        self.publish_to = push_button("Publish to it", "Add a step that brings this dataset up to date", self._publish)
        self.token = push_button("Token …", "Keep the token that this service wants", self._token)
        self.forget = push_button("Forget the service", "Remove it from this list", self._forget)
        self.acts = (
            self.send,
            self.back,
            self.leave,
            self.over,
            self.keep,
            self.discard,
            self.publish_to,
            self.fetch,
            self.token,
            self.forget,
        )
        self.changes = ChangesPane(self._session)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(170)
        self.progress_text = QLabel()
        self.progress_text.setObjectName("faint")
        self.stop = push_button("Stop", "What was sent stays sent, and is written down", self._publisher.stop)
        acts = in_row(self.changes.switch, *self.acts, self.progress, self.progress_text, self.stop, None)
        column = QVBoxLayout(desk)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        head = QVBoxLayout()
        head.setContentsMargins(16, 10, 12, 10)
        head.setSpacing(6)
        head.addLayout(top)
        head.addWidget(self.facts)
        head.addWidget(self.says)
        head.addLayout(acts)
        column.addLayout(head)
        line = QWidget()
        line.setFixedHeight(1)
        line.setObjectName("paneHead")
        line.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        column.addWidget(line)
        column.addWidget(self.changes, 1)
        self._show_nothing()
        return desk

    # -- what is shown

    def open_view(self) -> None:
        """The view comes up: everything is asked anew, and what waits to be sent is shown first."""
        self._publisher.refresh()
        waiting = self._publisher.waiting()
        if waiting and self._of != ("push", waiting[0]["id"]):
            self.show_push(waiting[0]["id"])

    def tell(self, tone: str, text: str) -> None:
        """Say what just happened."""
        self.says.setText(text)
        self.says.setStyleSheet(f"color: {theme.palette.bad if tone == 'bad' else theme.palette.ink};")
        self.says.setVisible(bool(text))

    def _services(self) -> None:
        self.tree.show_services(self._publisher.services)
        running = any(s.practice for s in self._publisher.services.values())
        own = self._publisher.practising
        self.practice.setText("Stop the practice server" if own else "Start the practice server")
        self.practice.setEnabled(own or not running)
        self.faults.setVisible(running)
        self.practice.setToolTip("It was started elsewhere" if running and not own else "A stand-in for a service, on this machine alone")
        if self._of[:1] == ("dataset",):
            self._show_dataset_words(*self._of[1:])
        elif not self._of:
            self._show_nothing()

    def _pushes(self) -> None:
        self.list.show_pushes(self._publisher.pushes)
        if self._of[:1] == ("push",):
            id = self._of[1]
            if self._publisher.push(id) is None:
                self._of = ()
                self._show_nothing()
            else:
                self.show_push(id, again=True)
        waiting = self._publisher.waiting()
        if not self._of and waiting and self.isVisible():
            self.show_push(waiting[0]["id"])

    def _show_nothing(self) -> None:
        self.title.setText("Publish")
        self.state.setText("")
        self.mark.hide()
        steps = any(s.use == "publish" for s in self._session.document.steps)
        answers = any(s.datasets is not None for s in self._publisher.services.values())
        if steps:
            text = "Run the workflow: its publish step takes the difference, and what would change is shown here before anything is sent."
        elif answers:
            text = "Choose a dataset at the left to look at it, to fetch it, or to publish to it."
        else:
            text = (
                "Start the practice server, or add a service by its address. Then a publish step in the workflow shows here "
                "what it would change."
            )
        self.facts.setText(text)
        self.says.hide()
        self._offer()
        self.changes.show_layer(None)

    def show_push(self, id: str, again: bool = False) -> None:
        """Show a push: what it changes, on the map and in the table."""
        known = self._publisher.push(id)
        if known is None:
            return
        if not again:
            self.says.hide()
            self._states = {}
            self.changes.show_layer(None, hint="Being read …")
        self._of = ("push", id)
        self.list.mark(id)
        self.tree.release()
        self._show_push_words(known)

        def take(event: Mapping[str, Any]) -> None:
            if self._of != ("push", id) or asked != self._asked:
                return
            if event["event"] != "done":
                self.tell("bad", str(event["text"]))
                return
            self._states = dict(event["states"])
            self._show_push_words(event["push"])
            self.changes.show_push(StoredLayer(event["layer"]), len(event["push"]["key"]), again)

        self._asked += 1
        asked = self._asked
        self._publisher.ask("push", take, self, id=id)

    def _show_push_words(self, push: Mapping[str, Any]) -> None:
        self.title.setText(f"{push['dataset']} at {push['service'].split('//')[-1]}")
        self.state.setText(state_words(push["state"]))
        self.mark.show()
        self.mark.show_state(mark_of(push["state"]))
        how = _MODES.get(push["mode"], push["mode"]) + (f" by {', '.join(push['key'])}" if push["key"] else "")
        where = f"step {push['step']} of {push['title'] or push['workflow'] or 'a workflow'}" if push["step"] else "a workflow"
        stay = push["unchanged"]
        kept = f"{pluralise(stay, 'feature')} {'stays as it is' if stay == 1 else 'stay as they are'}"
        sent = f" ({self._states['done']:,} of them sent)" if push["state"] in ("part", "sending") and self._states else ""
        told = f"{figures_of(push)}{sent}; {kept}. {how[:1].upper()}{how[1:]}."
        self.facts.setText(f"{told} The difference was taken {moment(push['taken'])} by {where}.")
        if push["says"] and not self.says.isVisible():
            self.tell("look", push["says"])
        self._offer(push)

    def _choose_dataset(self, address: str, id: str) -> None:
        self.says.hide()
        self.list.release()
        self._of = ("dataset", address, id) if id else ("service", address)
        if not id:
            self._show_service(address)
            return
        self._show_dataset_words(address, id)
        self.changes.show_layer(None, hint="Being fetched …")

        def take(event: Mapping[str, Any]) -> None:
            if self._of != ("dataset", address, id) or asked != self._asked:
                return
            if event["event"] != "done":
                self.tell("bad", str(event["text"]))
                self.changes.show_layer(None)
                return
            self.changes.show_layer(StoredLayer(event["layer"]))

        self._asked += 1
        asked = self._asked
        known = self._publisher.services.get(address)
        variable = known.token_from if known is not None else ""
        self._publisher.ask("look_published", take, self, address=address, dataset=id, token_from=variable)

    def _show_service(self, address: str) -> None:
        known = self._publisher.services.get(address)
        self.title.setText(address)
        self.mark.hide()
        self.state.setText("")
        if known is None:
            return
        if known.problem:
            self.facts.setText(known.problem)
        elif known.datasets is None:
            self.facts.setText("Being asked …")
        else:
            self.facts.setText(f"It publishes {pluralise(len(known.datasets), 'dataset')}. Choose one to look at it.")
        self._offer(service=True)
        self.changes.show_layer(None)

    def _show_dataset_words(self, address: str, id: str) -> None:
        told = self._publisher.dataset(address, id)
        if told is None:
            return
        self.title.setText(f"{told['title']}")
        self.mark.hide()
        count = pluralise(told["count"], "feature") if told["count"] is not None else "an unknown number of features"
        self.state.setText(f"{id} at {address.split('//')[-1]}")
        changed = f"changed {moment(told['updated'])}" if told["updated"] else "when it changed is not told"
        fields = "which fields it has is not told"
        if told["fields"] is not None:
            fields = "fields: " + ", ".join(f"{n} ({t})" if t else n for n, t in told["fields"].items())
        text = f"{told['description'].rstrip('.')}. " if told["description"] else ""
        self.facts.setText(f"{text}{count[:1].upper()}{count[1:]}; {changed}; {fields}.")
        self._offer(dataset=True)

    def _offer(self, push: Mapping[str, object] | None = None, dataset: bool = False, service: bool = False) -> None:
        """Show the acts that make sense now."""
        sending = self._publisher.sending
        state = push["state"] if push is not None else ""
        conflicts = self._states.get("conflict", 0) if push is not None else 0
        part = state in ("sending", "part")
        self.send.setText("Send" if state == "prepared" else "Send again" if state == "undone" else "Complete it")
        self.send.setVisible(state in ("prepared", "undone") or (part and not conflicts))
        self.back.setText("Go on taking back" if state == "undoing" else "Take back")
        self.back.setVisible(state in ("pushed", "sending", "part", "undoing"))
        self.leave.setVisible(bool(conflicts) and state in ("part", "undoing"))
        self.over.setVisible(bool(conflicts) and state in ("part", "undoing"))
        self.discard.setVisible(state == "prepared")
        self.keep.setVisible(state == "prepared" and self._step_of(push) is not None)
        self.fetch.setVisible(dataset)
        self.publish_to.setVisible(dataset)
        self.token.setVisible(service or dataset)
        known = self._publisher.services.get(self._of[1]) if service else None
        self.forget.setVisible(known is not None and known.remembered)
        busy = sending is not None
        for act in self.acts if busy else ():
            act.hide()
        for widget in (self.progress, self.progress_text, self.stop):
            widget.setVisible(busy)

    def _step_of(self, push: Mapping[str, object] | None) -> Step | None:
        path = str(self._session.path.resolve()) if self._session.path is not None else ""
        if push is None or push["workflow"] != path:
            return None
        return next((s for s in self._session.document.steps if s.id == push["step"]), None)

    # -- acts

    def _practise(self) -> None:
        if self._publisher.practising:
            self._publisher.stop_practice()
        else:
            self.practice.setEnabled(False)
            self._publisher.start_practice()

    def _push_id(self) -> str:
        return self._of[1] if self._of[:1] == ("push",) else ""

    def _carry_out(self, back: bool) -> None:
        id = self._push_id()
        push = self._publisher.push(id)
        if push is None:
            return
        back = back or push["state"] == "undoing"
        self.says.hide()
        self._publisher.carry_out(id, back)

    def _settle(self, theirs: str) -> None:
        push = self._publisher.push(self._push_id())
        if push is not None:
            self.says.hide()
            self._publisher.carry_out(push["id"], push["state"] == "undoing", theirs)

    def _sending(self) -> None:
        sending = self._publisher.sending
        push = self._publisher.push(self._push_id())
        self._offer(push, self._of[:1] == ("dataset",), self._of[:1] == ("service",))
        if sending is None:
            return
        told = sending.progress
        of, done = int(told.get("of", 0)), int(told.get("done", 0))
        self.progress.setRange(0, of)
        self.progress.setValue(done)
        verb = "taken back" if sending.back else "sent"
        text = f"{done:,} of {pluralise(of, 'change')} {verb}" if of else "Asking the service …"
        since = done - int(told.get("first", 0))
        if since > 0 and told["seconds"] > 1 and done < of:
            text += f", about {duration(told['seconds'] * (of - done) / since)} left"
        self.progress_text.setText(text)

    def _discard(self) -> None:
        answer = QMessageBox.question(self, "Discard", "Discard this difference? Nothing was sent; the next run finds it again.")
        if answer == QMessageBox.StandardButton.Yes:
            self._publisher.discard(self._push_id())

    def _save(self) -> None:
        step = self._step_of(self._publisher.push(self._push_id()))
        if step is not None:
            settings = {"to": f"out/{step.id}_difference.gpkg"}
            self._add(Step(f"{step.id}_difference", "save", (step.id,), settings), self._session.document.index(step.id) + 1)

    def _fetch(self) -> None:
        _, address, id = self._of
        self._add(Step(id, "fetch", (), {"service": address, "dataset": id, **self._variable(address)}), None)

    def _publish(self) -> None:
        _, address, id = self._of
        step = self._session.step()
        source = (step.id,) if step is not None else ()
        settings = {"service": address, "dataset": id, **self._variable(address)}
        self._add(Step("publish", "publish", source, settings), None)

    def _variable(self, address: str) -> dict[str, str]:
        known = self._publisher.services.get(address)
        return {"token_from": known.token_from} if known is not None and known.token_from else {}

    def _add(self, step: Step, at: int | None) -> None:
        self.added.emit(self._session.add_step(step, at))

    def _token(self) -> None:
        TokenBox(self._publisher, self._of[1], self).open()

    def _forget(self) -> None:
        address = self._of[1]
        self._of = ()
        self._publisher.forget_service(address)

    def close_down(self) -> None:
        """Let no work outlive the window."""
        self.changes.close_down()


def _eyebrow(text: str) -> QLabel:
    label = QLabel(text)
    label.setObjectName("eyebrow")
    label.setContentsMargins(12, 4, 12, 2)
    return label
