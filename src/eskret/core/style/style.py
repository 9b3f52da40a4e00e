"""How a layer is drawn: its colours, what they stand for, its labels. Said once, it goes with the layer."""

from __future__ import annotations

import dataclasses
import math
import re
from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Any

from eskret.core.style.ramps import RAMPS
from eskret.errors import SettingError

ONE, VALUES, CLASSES = "one", "values", "classes"
METHODS: Mapping[str, str] = {"quantiles": "Quantiles", "natural": "Natural breaks", "equal": "Equal steps", "own": "Own breaks"}
"""Ways of making classes, by the name a workflow file calls them."""

FEWEST, MOST = 2, 9
_HEX = re.compile(r"#[0-9A-Fa-f]{6}")


@dataclass(frozen=True)
class Style:
    """How a layer is drawn.

    Parameters
    ----------
    by : what tells features apart: ``one`` colour for all, a colour for each of some ``values`` of a field, or ``classes``
        of its numbers.
    colour : ``#RRGGBB`` of features that nothing tells apart; empty for the window's own.
    field : the field of ``values`` and ``classes``.
    colours : colour by value, as text; ``""`` stands for no value.
    method, count, breaks : how classes are made; ``breaks`` are the limits between own ones, ascending. A value on a limit
        belongs to the class below it.
    ramp, turned : colours of classes, from the other end where ``turned``.
    label : the field written beside features; empty for none.
    size : diameter of points in pixels; ``width`` of lines and outlines; 0 for what is usual.
    opacity : in percent.
    """

    by: str = ONE
    colour: str = ""
    field: str = ""
    colours: Mapping[str, str] = dataclasses.field(default_factory=dict)
    method: str = "quantiles"
    count: int = 5
    breaks: tuple[float, ...] = ()
    ramp: str = "tide"
    turned: bool = False
    label: str = ""
    size: float = 0.0
    width: float = 0.0
    opacity: int = 100

    def to_table(self) -> dict[str, object]:
        """What a workflow file says of it: only what is not as usual and has a say."""
        usual, out = Style(), {}
        silent = _SILENT[self.by] | ({"breaks"} if self.method != "own" else {"count"})
        for f in fields(self):
            value = getattr(self, f.name)
            if f.name not in silent and value != getattr(usual, f.name):
                out[f.name] = list(value) if isinstance(value, tuple) else dict(value) if f.name == "colours" else value
        return out


_SILENT = {
    ONE: {"field", "colours", "method", "count", "breaks", "ramp", "turned"},
    VALUES: {"method", "count", "breaks", "ramp", "turned"},
    CLASSES: {"colours"},
}


def style_of(table: Mapping[str, Any]) -> Style:
    """The style that a workflow file says.

    Raises
    ------
    SettingError : naming the key and what it can be.
    """
    known = [f.name for f in fields(Style)]
    for name in table:
        if name not in known:
            raise SettingError(f"'{name}' is nothing that a style says", way_out=f"It can say {', '.join(known)}")
    values = dict(table)
    for name in ("field", "label"):
        if not isinstance(values.get(name, ""), str):
            raise SettingError(f"'{name}' must be the name of a field")
    _one_of(values, "by", (ONE, VALUES, CLASSES))
    _one_of(values, "method", tuple(METHODS))
    _one_of(values, "ramp", tuple(RAMPS))
    _number(values, "count", FEWEST, MOST, whole=True)
    _number(values, "size", 0, 60)
    _number(values, "width", 0, 20)
    _number(values, "opacity", 0, 100, whole=True)
    if not isinstance(values.get("turned", False), bool):
        raise SettingError("'turned' must be true or false")
    colours = values.get("colours", {})
    if not isinstance(colours, Mapping):
        raise SettingError("'colours' must be a table of values and colours", way_out='Write { "North" = "#3E8E7E" }')
    for colour in [*colours.values(), *([values["colour"]] if values.get("colour") else [])]:
        if not isinstance(colour, str) or not _HEX.fullmatch(colour):
            raise SettingError(f"{colour!r} is no colour", way_out="Write it as #RRGGBB, such as #3E8E7E")
    values["breaks"] = _breaks(values.get("breaks", ()))
    made = Style(**values)
    if made.by != ONE and not made.field:
        raise SettingError(f"colours by {made.by} need a field", way_out='Write field = "name"')
    if made.by == CLASSES and made.method == "own" and not made.breaks:
        raise SettingError("own breaks are not given", way_out="Write breaks = [10, 20, 50]")
    return made


def _breaks(given: Any) -> tuple[float, ...]:
    good = isinstance(given, list | tuple) and all(
        isinstance(b, int | float) and not isinstance(b, bool) and math.isfinite(b) for b in given
    )
    if not good or list(given) != sorted(set(given)):
        raise SettingError("'breaks' must be ascending numbers", way_out="Write breaks = [10, 20, 50]")
    if len(given) >= MOST:
        raise SettingError(f"{len(given)} breaks make too many classes", way_out=f"Give at most {MOST - 1}")
    return tuple(given)


def _one_of(values: Mapping[str, object], name: str, known: tuple[str, ...]) -> None:
    if name in values and values[name] not in known:
        raise SettingError(f"'{name}' cannot be {values[name]!r}", way_out=f"It can be {', '.join(known)}")


def _number(values: Mapping[str, object], name: str, least: float, most: float, whole: bool = False) -> None:
    given = values.get(name, least)
    kinds: Any = int if whole else int | float
    if not isinstance(given, kinds) or isinstance(given, bool) or not least <= given <= most:
        what = "a whole number" if whole else "a number"
        raise SettingError(f"'{name}' must be {what} from {least:g} to {most:g}")
