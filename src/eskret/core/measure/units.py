"""Lengths and areas with a named unit: ``200 m``, ``0.5 nmi``, ``3 ha``.

A unit is never left to be guessed. The foot and the mile are the international ones (0.3048 m and 1,609.344 m, exact by
the agreement of 1959); the US survey foot (1200/3937 m) only by its full name.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from eskret.errors import SettingError

LENGTHS = {
    "mm": 0.001,
    "cm": 0.01,
    "m": 1.0,
    "km": 1000.0,
    "ft": 0.3048,
    "yd": 0.9144,
    "mi": 1609.344,
    "nmi": 1852.0,
    "US survey ft": 1200 / 3937,
}
"""Metres of one unit."""

AREAS = {"m2": 1.0, "ha": 10_000.0, "km2": 1e6, "ft2": 0.3048**2, "acre": 4046.8564224, "mi2": 1609.344**2}
"""Square metres of one unit; the acre is the international one."""

_WORDS = {
    "metre": "m",
    "metres": "m",
    "meter": "m",
    "meters": "m",
    "kilometre": "km",
    "kilometres": "km",
    "kilometer": "km",
    "kilometers": "km",
    "foot": "ft",
    "feet": "ft",
    "yard": "yd",
    "yards": "yd",
    "mile": "mi",
    "miles": "mi",
    "nautical mile": "nmi",
    "nautical miles": "nmi",
    "us survey foot": "US survey ft",
    "us survey feet": "US survey ft",
    "us survey ft": "US survey ft",
    "hectare": "ha",
    "hectares": "ha",
    "acres": "acre",
    "m²": "m2",
    "km²": "km2",
    "ft²": "ft2",
    "mi²": "mi2",
    "sq m": "m2",
    "sq km": "km2",
    "second": "s",
    "seconds": "s",
    "sec": "s",
    "minute": "min",
    "minutes": "min",
    "hour": "h",
    "hours": "h",
    "day": "d",
    "days": "d",
}
_FORM = re.compile(r"\s*([+-]?(?:\d[\d,]*\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*(.*?)\s*")


@dataclass(frozen=True, slots=True)
class Quantity:
    """A figure with its unit; ``si`` is in metres, square metres or seconds."""

    value: float
    unit: str
    si: float

    def __str__(self) -> str:
        return f"{self.value:g} {self.unit}"


def parse_length(text: str) -> Quantity:
    """A length of text such as ``200 m``.

    Raises
    ------
    SettingError : no number, or no unit of length that is known.
    """
    return _parse(text, LENGTHS, "length", "200 m")


def parse_area(text: str) -> Quantity:
    """An area of text such as ``3 ha``; raises as ``parse_length`` does."""
    return _parse(text, AREAS, "area", "3 ha")


def parse_measure(text: str) -> Quantity:
    """A length or an area, whichever the unit says; raises as ``parse_length`` does."""
    try:
        return parse_area(text)
    except SettingError:
        try:
            return parse_length(text)
        except SettingError as error:
            known = ", ".join([*AREAS, *LENGTHS])
            raise SettingError(error.problem, way_out=f"Write a number and one of {known}") from error


TIMES = {"s": 1.0, "min": 60.0, "h": 3600.0, "d": 86_400.0}
"""Seconds of one unit."""


SPEEDS = {"m/s": 1.0, "km/h": 1 / 3.6, "kn": 1852 / 3600, "mph": 1609.344 / 3600}
"""Metres a second of one unit; the knot is a nautical mile an hour."""


def parse_speed(text: str) -> Quantity:
    """A speed of text such as ``0.5 km/h``; ``si`` is in metres a second. Raises as ``parse_length`` does."""
    return _parse(text, SPEEDS, "speed", "0.5 km/h")


def parse_time(text: str) -> Quantity:
    """A span of time of text such as ``10 min``; ``si`` is in seconds. Raises as ``parse_length`` does."""
    return _parse(text, TIMES, "time", "10 min")


def _parse(text: str, units: dict[str, float], what: str, example: str) -> Quantity:
    found = _FORM.fullmatch(str(text))
    if found is None:
        raise SettingError(f"'{text}' is no {what}", way_out=f"Write a number and its unit, such as {example}")
    value = float(found[1].replace(",", ""))
    named = found[2]
    unit = named if named in units else _WORDS.get(named.lower(), named.lower())
    if not named:
        raise SettingError(f"'{text}' names no unit", way_out=f"Write it with one, such as {example}")
    if unit not in units:
        raise SettingError(f"'{named}' is no unit of {what} known here", way_out=f"It can be {', '.join(units)}")
    return Quantity(value, unit, value * units[unit])
