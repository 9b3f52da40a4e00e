"""What the window knows of published datasets: services, pushes, the practice server; and what is under way. No widgets here."""

from __future__ import annotations

import subprocess
import sys
import threading
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from PySide6.QtCore import QObject, Signal
from shiboken6 import isValid

from eskret.core.naming import fill_template
from eskret.desktop.state.session import Session
from eskret.errors import EskretError
from eskret.process.client import Worker
from eskret.services import practice, tokens

_REMEMBERED = "services"
_PRACTICE_PORT = "8731"


@dataclass
class KnownService:
    """A service: what it publishes, as far as it was asked; ``problem`` where it did not answer."""

    address: str
    token_from: str = ""
    datasets: list[dict[str, Any]] | None = None
    problem: str = ""
    asking: bool = False
    practice: bool = False
    remembered: bool = False


@dataclass
class _Under:
    """What is under way."""

    job: int
    push: str
    back: bool
    progress: dict[str, Any] = field(default_factory=dict)


class Publisher(QObject):
    """Services and pushes. Signals say what changed."""

    services_changed = Signal()
    pushes_changed = Signal()
    sending_changed = Signal()
    told = Signal(str, str)  # tone and text
    _event = Signal(object)
    _practice_line = Signal(str)

    def __init__(self, session: Session, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._session = session
        self.services: dict[str, KnownService] = {}
        self.pushes: list[dict[str, object]] = []
        self.sending: _Under | None = None
        self._handlers: dict[int, tuple[Callable[[Mapping[str, object]], None], QObject | None]] = {}
        self._worker = Worker(self._event.emit)
        self._event.connect(self._take)
        self._practice: subprocess.Popen[str] | None = None
        self._practice_line.connect(self._practice_said)
        self._closed = False
        session.run_changed.connect(self._after_run)

    def close_down(self) -> None:
        """End what is under way; a push that is can be completed later. The practice server started here ends too."""
        self._closed = True
        self._worker.close()
        self.stop_practice()

    # -- services

    def addresses(self) -> dict[str, KnownService]:
        """The services that are known: those that run here, those of the workflow, those remembered."""
        found: dict[str, KnownService] = {}
        for server in practice.running():
            found[server.address] = KnownService(server.address, practice=True)
        values = self._session.values()
        for step in self._session.document.steps:
            address = step.settings.get("service")
            if step.use not in ("publish", "fetch") or not isinstance(address, str) or not address:
                continue
            try:
                address = fill_template(address, values).rstrip("/")
            except EskretError:
                continue
            variable = str(step.settings.get("token_from") or "")
            found.setdefault(address, KnownService(address, variable))
        for address in self._remembered():
            found.setdefault(address, KnownService(address)).remembered = True
        return found

    def refresh(self) -> None:
        """Ask every service what it publishes, and the record for its pushes."""
        known = self.addresses()
        for address, service in known.items():
            before = self.services.get(address)
            if before is not None:
                service.datasets = before.datasets
        self.services = known
        for service in known.values():
            self._ask_service(service)
        self.services_changed.emit()
        self.refresh_pushes()

    def _ask_service(self, service: KnownService) -> None:
        service.asking = True

        def take(event: Mapping[str, Any]) -> None:
            service.asking = False
            done = event["event"] == "done"
            service.datasets = list(event["datasets"]) if done else None
            service.problem = "" if done else str(event["text"])
            self.services_changed.emit()

        self.ask("service", take, self, address=service.address, token_from=service.token_from)

    def add_service(self, address: str) -> None:
        """Remember a service and ask it."""
        address = address.strip().rstrip("/")
        if address and self._session.memory is not None:
            self._session.memory.setValue(_REMEMBERED, list(dict.fromkeys([*self._remembered(), address])))
        self.refresh()

    def forget_service(self, address: str) -> None:
        """Remember a service no more."""
        if self._session.memory is not None:
            self._session.memory.setValue(_REMEMBERED, [a for a in self._remembered() if a != address])
        self.refresh()

    def _remembered(self) -> list[str]:
        memory = self._session.memory
        found: Any = memory.value(_REMEMBERED, []) if memory is not None else []
        return [str(a) for a in ([found] if isinstance(found, str) else found or [])]

    def variable(self, address: str) -> str:
        """The environment variable that holds a service's token, where the workflow names one."""
        known = self.services.get(address)
        return known.token_from if known is not None else ""

    def dataset(self, address: str, id: str) -> dict[str, Any] | None:
        """What is known of a dataset."""
        service = self.services.get(address)
        return next((d for d in (service.datasets or []) if d["id"] == id), None) if service is not None else None

    def keep_token(self, address: str, token: str) -> None:
        """Keep a token in the keyring, or take it out for an empty one."""

        def take(event: Mapping[str, object]) -> None:
            if event["event"] == "done":
                self.told.emit("good", "The token is kept." if token else "The token is forgotten.")
                self.refresh()
            else:
                self.told.emit("bad", str(event["text"]))

        self.ask("keep_token", take, self, address=tokens.origin_of(address), token=token)

    # -- the practice server

    @property
    def practising(self) -> bool:
        """Whether a practice server that this window started runs."""
        return self._practice is not None

    def start_practice(self) -> None:
        """Start the practice server."""
        if self._practice is not None:
            return
        command = [sys.executable, "-P", "-m", "eskret", "practice-server", "--port", _PRACTICE_PORT]
        # it ends when its input does, so that a window that is gone leaves none behind
        self._practice = subprocess.Popen(
            [*command, "--while-input"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )
        self._listener = threading.Thread(target=self._listen, args=(self._practice,), daemon=True)
        self._listener.start()

    def _listen(self, process: subprocess.Popen[str]) -> None:
        assert process.stdout is not None
        with process.stdout as lines:
            for line in lines:
                if not self._closed:
                    self._practice_line.emit(line.strip())
        process.wait()
        if not self._closed and isValid(self):
            self._practice_line.emit("")

    def _practice_said(self, line: str) -> None:
        if not line:
            self._practice = None
        elif not line.startswith("Practice server at"):
            self.told.emit("bad", line)
        self.refresh()

    def stop_practice(self) -> None:
        """End the practice server that this window started."""
        process = self._practice
        if process is not None:
            process.terminate()
            if process.stdin is not None:
                process.stdin.close()
            try:
                process.wait(3)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
            self._listener.join(2.0)  # it holds this object, which is to be freed on its own thread

    def set_faults(self, told: Mapping[str, float]) -> None:
        """Have the practice server that runs be slow or fail, for practice."""
        address = next((a for a, s in self.services.items() if s.practice), "")

        def take(event: Mapping[str, object]) -> None:
            if event["event"] != "done":
                self.told.emit("bad", str(event["text"]))
            elif any(told[n] for n in ("slow", "lose", "lose_answer", "answer")):
                self.told.emit("look", "The practice server does as it was told; requests are counted from now on.")
            else:
                self.told.emit("good", "The practice server works as it should.")

        if address:
            self.ask("practice_faults", take, self, address=address, faults=dict(told))

    # -- pushes

    def refresh_pushes(self) -> None:
        """Read the record of pushes anew."""

        def take(event: Mapping[str, Any]) -> None:
            if event["event"] == "done":
                self.pushes = list(event["pushes"])
                self.pushes_changed.emit()

        self.ask("pushes", take, self)

    def push(self, id: str) -> dict[str, Any] | None:
        """What is known of a push."""
        return next((p for p in self.pushes if p["id"] == id), None)

    def waiting(self) -> list[dict[str, Any]]:
        """Pushes of this workflow that were prepared and not sent."""
        path = str(self._session.path.resolve()) if self._session.path is not None else ""
        return [p for p in self.pushes if p["state"] == "prepared" and p["workflow"] == path]

    def _after_run(self) -> None:
        if not self._session.running and self._session.last_run.get("pushes"):
            self.refresh_pushes()

    def carry_out(self, id: str, back: bool, theirs: str = "refuse") -> None:
        """Send a push, or take it back; one at a time."""
        if self.sending is not None:
            return

        def take(event: Mapping[str, Any]) -> None:
            self.sending = None
            if event["event"] == "done":
                self._say(event["push"])
            else:
                text = str(event["text"])
                if event.get("stopped") or event["event"] == "crashed":
                    text = "Stopped. What was sent so far is written down: it can be completed, or taken back."
                self.told.emit("look" if event.get("stopped") else "bad", text)
            self.sending_changed.emit()
            self.refresh()

        job = self.ask("carry_out", take, self, id=id, back=back, theirs=theirs)
        self.sending = _Under(job, id, back)
        self.sending_changed.emit()

    def _say(self, push: Mapping[str, object]) -> None:
        name = push["dataset"]
        if push["state"] == "pushed":
            text = f"'{name}' is up to date: {push['added']:,} added, {push['changed']:,} changed, {push['removed']:,} removed."
        elif push["state"] == "undone":
            text = f"'{name}' is as it was before."
        else:
            text = ""
        tone = "good" if push["state"] in ("pushed", "undone") and not push["says"] else "look"
        self.told.emit(tone, " ".join(filter(None, (text, str(push["says"])))))

    def stop(self) -> None:
        """Stop what is being sent."""
        if self.sending is not None:
            self._worker.stop(self.sending.job)

    def discard(self, id: str) -> None:
        """Throw a push away that nobody sent."""
        self.ask("discard", lambda event: self.refresh_pushes(), self, id=id)

    # -- the worker

    def ask(self, do: str, handler: Callable[[Mapping[str, object]], None], owner: QObject | None = None, **request: object) -> int:
        """Give the worker a job; ``handler`` hears its last event, unless its owner is gone by then."""
        if do in ("push", "look_published"):
            request = {"store": self._session.new_store(), "crs": self._session.document.crs, **request}
        job = self._worker.send(do, **request)
        self._handlers[job] = (handler, owner)
        return job

    def _take(self, event: dict[str, object]) -> None:
        kind, job = event["event"], event["job"]
        if self._closed:
            return  # what it would show has been taken away with the session
        if kind == "progress":
            if self.sending is not None and self.sending.job == job:
                self.sending.progress = event
                self.sending_changed.emit()
        elif kind in ("done", "error", "crashed") and job in self._handlers:
            handler, owner = self._handlers.pop(job)
            if owner is None or isValid(owner):
                handler(event)
