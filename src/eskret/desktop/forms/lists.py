"""Editors of lists: values, pairs, changed cells and drawn shapes, as lines of text that can be read and typed."""

from __future__ import annotations

import json
from typing import Any

from eskret.desktop.forms.setting_editors import LinesEditor, TextEditor
from eskret.operations.settings import SettingInfo

_ARROW = " -> "
_NOTHING = "(empty)"


class FeaturesEditor(LinesEditor):
    """Values of a key field, one a line; what looks like a whole number is one."""

    def __init__(self, info: SettingInfo) -> None:
        super().__init__(SettingInfo(info.label, info.help, info.kind), 4)

    def value(self) -> list[object]:
        return [_typed(line.strip()) for line in self.text.toPlainText().splitlines() if line.strip()]

    def to_text(self, value: Any) -> str:
        # a text that looks like a number must not come back as one
        return "\n".join(f'"{v}"' if isinstance(v, str) and _typed(v) != v else str(v) for v in value or [])


def _typed(text: str) -> object:
    if len(text) > 1 and text[0] == text[-1] == '"':
        return text[1:-1]
    plain = text.lstrip("-")
    return int(text) if plain.isdigit() and (plain == "0" or plain[0] != "0") and len(plain) < 19 else text


class BoxEditor(TextEditor):
    """Four numbers: west, south, east, north."""

    def value(self) -> list[float | str]:
        parts = [p.strip() for p in self.line.text().split(",") if p.strip()]
        out: list[float | str] = []
        for part in parts:
            try:
                out.append(float(part))
            except ValueError:
                out.append(part)  # the rehearsal says what is wrong with it
        return out

    def to_text(self, value: Any) -> str:
        return ", ".join(f"{v:g}" if isinstance(v, float) else str(v) for v in value or [])


class PairsEditor(LinesEditor):
    """``name = value``, one a line."""

    def __init__(self, info: SettingInfo) -> None:
        super().__init__(info, 2)

    def value(self) -> dict[str, str]:
        out = {}
        for line in self.text.toPlainText().splitlines():
            name, sign, value = line.partition("=")
            if sign and name.strip():
                out[name.strip()] = value.strip()
        return out

    def to_text(self, value: Any) -> str:
        return "\n".join(f"{k} = {v}" for k, v in (value or {}).items())


class CellsEditor(LinesEditor):
    """Changed cells, one a line: ``key, field: old -> new``. Taking a line out takes the change back."""

    def __init__(self, info: SettingInfo) -> None:
        super().__init__(SettingInfo(info.label, info.help, info.kind, example="B-017, bottom: sannd -> sand"), 5)
        self._cells: list[dict[str, object]] = []

    def value(self) -> list[dict[str, object]]:
        known = {_line(c): c for c in self._cells}
        out = []
        for text in filter(None, (t.strip() for t in self.text.toPlainText().splitlines())):
            cell = known.get(text) or _cell(text)
            if cell is not None:
                out.append(cell)
        return out

    def to_text(self, value: Any) -> str:
        self._cells = [c for c in value or [] if isinstance(c, dict)]
        return "\n".join(map(_line, self._cells))


def _line(cell: dict[str, object]) -> str:
    old, new = (_NOTHING if cell.get(n) is None else str(cell[n]) for n in ("old", "new"))
    return f"{cell.get('key')}, {cell.get('field')}: {old}{_ARROW}{new}"


def _cell(text: str) -> dict[str, object] | None:
    head, colon, change = text.partition(": ")
    key, comma, field = head.rpartition(", ")
    old, arrow, new = change.partition(_ARROW)
    if not (colon and comma and arrow):
        return None
    cell: dict[str, object] = {"key": _typed(key), "field": field}
    cell.update({n: v for n, v in (("old", old.strip()), ("new", new.strip())) if v != _NOTHING})
    return cell


class ShapesEditor(LinesEditor):
    """GeoJSON text, spread out to be read."""

    def __init__(self, info: SettingInfo) -> None:
        super().__init__(SettingInfo(info.label, info.help, info.kind), 6)

    def to_text(self, value: object) -> str:
        return str(value or "")

    def value(self) -> str:
        text = self.text.toPlainText().strip()
        try:
            return json.dumps(json.loads(text), separators=(",", ":"))
        except json.JSONDecodeError:
            return text
