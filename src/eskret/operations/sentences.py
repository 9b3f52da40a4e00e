"""The sentence of a step in the ledger, from a template of its operation.

``Clip {entering} to {to}``: the layers that enter and the settings, each as it is shown. A part in brackets is left out where a setting in
it is empty, or another stands for it: ``[ by {by}| into one]``. ``{by:3}`` names no more than three of a list.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import get_origin

from eskret.core.words import bold
from eskret.operations.settings import OperationSettings, setting_info

_NOTHING = "…"
_SLOT = re.compile(r"\{(\w+)(?::(\d+))?\}")
_PART = re.compile(r"\[([^|\]]*)(?:\|([^\]]*))?\]")


def fill_sentence(template: str, model: type[OperationSettings], settings: Mapping[str, object], entering: str) -> str:
    """The sentence with these settings, as they stand in the file, not checked."""
    shown = _Shown(model, settings, entering)
    out, at = [], 0
    for part in _PART.finditer(template):
        out.append(shown.fill(template[at : part.start()]))
        whole = all(shown.value(name, most) for name, most in _SLOT.findall(part[1]))
        out.append(shown.fill(part[1] if whole else part[2] or ""))
        at = part.end()
    return "".join([*out, shown.fill(template[at:])])


class _Shown:
    """Settings as a sentence shows them."""

    def __init__(self, model: type[OperationSettings], settings: Mapping[str, object], entering: str) -> None:
        self.model, self.settings, self.entering = model, settings, entering

    def fill(self, text: str) -> str:
        return _SLOT.sub(lambda slot: self.value(slot[1], slot[2]) or self._nothing(slot[1]), text)

    def _nothing(self, name: str) -> str:
        return bold(_NOTHING) if name == "entering" or self._names_layer(name) else _NOTHING

    def _names_layer(self, name: str) -> bool:
        return setting_info(self.model)[name].kind == "layer"

    def value(self, name: str, most: str | None) -> str:
        """A setting as it is shown; empty where it is, or of another form than it should be."""
        if name == "entering":
            return bold(self.entering) if self.entering else ""
        given = self.settings.get(name)
        form = get_origin(self.model.model_fields[name].annotation)
        if form is list:
            return join_words(map(str, given), int(most or 4)) if isinstance(given, list) else ""
        if form is dict:
            return join_words(map(str, given.values()), int(most or 3)) if isinstance(given, Mapping) else ""
        if self._names_layer(name):
            return bold(str(given).split(":")[-1]) if given else ""
        return " ".join(str(given).split()) if given else ""


def join_words(names: Iterable[str], most: int = 2) -> str:
    """``a and b``, or ``a and 4 more``."""
    items = list(names)
    if len(items) <= most:
        return " and ".join(filter(None, (", ".join(items[:-1]), items[-1]))) if items else ""
    return f"{', '.join(items[: most - 1])} and {len(items) - most + 1} more"


def share(part: int, whole: int) -> str:
    """``74 of 108, 68.5 %``: a percentage is of all features, counted."""
    return f"{part:,} of {whole:,}, {100 * part / whole:.1f} %" if whole else "0 of 0"
