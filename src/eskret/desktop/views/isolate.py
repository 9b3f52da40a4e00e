"""What the features that are chosen are to be called as a layer of their own, and where it goes."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QWidget

from eskret.core.words import pluralise
from eskret.desktop.views.heads import Box
from eskret.errors import EskretError
from eskret.formats import sources

_CONTAINER = ".gpkg"


class IsolateBox(Box):
    """Asks for the name and the place; ``add`` is given both once they are said, and writes the steps."""

    def __init__(self, count: int, name: str, places: dict[str, str], add: Callable[[str, str], None], parent: QWidget) -> None:
        title = "One feature as a layer of its own" if count == 1 else f"{pluralise(count, 'feature')} as a layer of their own"
        super().__init__(title, "Add the steps", parent)
        self._add = add
        self.add_line("name", "Name of the layer", name, "What it is called in the file, and the step that picks them here.")
        when = "It is written when the workflow is run; nothing else in that file changes."
        self.place = self.add_choice("Into", next(iter(places)), places, when)
        self.finish()
        self.lines["name"].selectAll()

    def take(self) -> None:
        name, place = self.lines["name"].text().strip(), str(self.place.currentData())
        if not name:
            self.say_wrong("Say what the layer is called.")
            return
        if "{" in name or "}" in name:
            self.say_wrong("A name with braces would be filled in; leave them out.")
            return
        there = Path(place)
        try:
            names = sources.layer_names(there) if there.suffix.lower() == _CONTAINER and there.is_file() else []
        except EskretError as error:
            self.say_wrong(error.sentence())
            return
        if name.lower() in (n.lower() for n in names):
            self.say_wrong(f"{there.name} has a layer '{name}' already. Choose another name.")
            return
        self._add(name, place)
        self.accept()
