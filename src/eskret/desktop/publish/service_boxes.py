"""Small boxes of the Publish view: the address of a service, its token, faults to practise on."""

from __future__ import annotations

import re

from PySide6.QtWidgets import QWidget

from eskret.desktop.state.publisher import Publisher
from eskret.desktop.views.heads import Box


class AddressBox(Box):
    """Ask for the address of a service."""

    def __init__(self, publisher: Publisher, parent: QWidget) -> None:
        super().__init__("Add a service", "Add it", parent)
        self._publisher = publisher
        self.add_line("address", "Address", "https://", "The landing page of an OGC API - Features service. It is remembered.")
        self.finish()

    def take(self) -> None:
        """Add it, if it can be one."""
        address = self.lines["address"].text().strip()
        if not re.fullmatch(r"https?://[^\s/]+(/\S*)?", address):
            self.say_wrong("An address begins with https:// or http:// and names a host.")
            return
        self._publisher.add_service(address)
        self.accept()


class TokenBox(Box):
    """Ask for the token of a service."""

    def __init__(self, publisher: Publisher, address: str, parent: QWidget) -> None:
        super().__init__("Token of a service", "Keep it", parent)
        self._publisher, self._address = publisher, address
        self.add_line(
            "token",
            f"Token for {address.split('//')[-1]}",
            "",
            "It is kept in the keyring of your desktop, and in no file of Eskret's. Leave it empty to forget it.",
        )
        self.lines["token"].setEchoMode(self.lines["token"].EchoMode.Password)
        self.finish()

    def take(self) -> None:
        """Keep it."""
        self._publisher.keep_token(self._address, self.lines["token"].text().strip())
        self.accept()


class PractiseBox(Box):
    """Ask what the practice server shall do wrong."""

    _LINES = (
        ("slow", "Seconds before each answer", "0 for none."),
        ("lose", "Cut this request off", "Its number from now on; it is not carried out. 0 for none."),
        ("lose_answer", "Lose the answer of this request", "Its number from now on; it is carried out. 0 for none."),
        ("answer", "Answer with this status", "Such as 503 or 429, instead of doing anything. 0 for none."),
        ("answer_from", "... from this request on", "Its number from now on."),
        ("answer_times", "... so many times", "0 for always."),
    )

    def __init__(self, publisher: Publisher, parent: QWidget) -> None:
        super().__init__("Faults to practise on", "OK", parent)
        self._publisher = publisher
        for name, label, help_ in self._LINES:
            self.add_line(name, label, "1" if name == "answer_from" else "0", help_)
        self.finish()

    def take(self) -> None:
        """Tell the practice server, if all are numbers."""
        told: dict[str, float] = {}
        for name, label, _ in self._LINES:
            text = self.lines[name].text().strip().replace(",", ".")
            whole = name != "slow"
            if not re.fullmatch(r"\d{1,6}" if whole else r"\d{1,4}(\.\d+)?", text):
                self.say_wrong(f"'{label}' must be a {'whole ' if whole else ''}number.")
                return
            told[name] = int(text) if whole else float(text)
        self._publisher.set_faults(told)
        self.accept()
