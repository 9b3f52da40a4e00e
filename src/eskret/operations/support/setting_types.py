"""Types of settings that are texts with a meaning: lengths, areas, times and speeds with their unit, figures of fields.

Each is checked as it is typed; an empty text says that there is none, where the setting may be empty.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated

from pydantic import AfterValidator

from eskret.core.measure.aggregates import parse_statistics
from eskret.core.measure.units import Quantity, parse_area, parse_length, parse_measure, parse_speed, parse_time
from eskret.core.texts import codec_of
from eskret.errors import SettingError


def _checked(parse: Callable[[str], Quantity], fits: Callable[[float], bool], says: str) -> AfterValidator:
    def check(value: str) -> str:
        if value:
            try:
                found = parse(value).si
            except SettingError as error:
                raise ValueError(error.sentence()) from error
            if not fits(found):
                raise ValueError(says)
        return value

    return AfterValidator(check)


def _figures(value: dict[str, str]) -> dict[str, str]:
    try:
        parse_statistics(value)
    except SettingError as error:
        raise ValueError(error.sentence()) from error
    return value


def _figure(value: str) -> str:
    _figures({"figure": value})
    return value


def _encoding(value: str) -> str:
    if value and not codec_of(value):
        raise ValueError("no encoding is called so; it can be utf-8, cp1252, cp850, cp1251, iso-8859-15 and the like")
    return value


_SOME, _ANY, _OTHER = (
    (lambda v: v > 0, "it must be more than zero"),
    (lambda v: v >= 0, "it is not less than zero"),
    (lambda v: v != 0, "it must not be zero"),
)

Length = Annotated[str, _checked(parse_length, *_ANY)]
SomeLength = Annotated[str, _checked(parse_length, *_SOME)]
Offset = Annotated[str, _checked(parse_length, *_OTHER)]
SomeTime = Annotated[str, _checked(parse_time, *_SOME)]
Speed = Annotated[str, _checked(parse_speed, *_ANY)]
Area = Annotated[str, _checked(parse_area, *_ANY)]
Size = Annotated[str, _checked(parse_measure, *_ANY)]
"""An area or a length, whichever its unit says."""
TextEncoding = Annotated[str, AfterValidator(_encoding)]
"""The name of an encoding of texts; empty where it may be."""
Figures = Annotated[dict[str, str], AfterValidator(_figures)]
"""New field = figure and field, as ``parse_statistics`` reads them."""
Figure = Annotated[str, AfterValidator(_figure)]
