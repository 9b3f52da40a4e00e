"""Pages for a browser: templates over one base, in which whatever is put is escaped unless it says it is HTML.

The templates stand beside this file, one a kind of page; ``parts.html`` has what several of them show.
"""

from __future__ import annotations

import base64
import hashlib
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

if TYPE_CHECKING:
    from collections.abc import Sequence

    from jinja2 import Environment


@dataclass(frozen=True)
class Table:
    """A table of texts under its heads; ``numbers`` are the columns that stand at the right."""

    heads: Sequence[str]
    rows: Sequence[Sequence[object]]
    title: str = ""
    numbers: Sequence[int] = ()
    narrow: bool = False


@dataclass(frozen=True)
class Link:
    """A text that leads somewhere; an address of another kind than the web's is left out."""

    href: str
    text: str


@cache
def _environment() -> Environment:
    from jinja2 import Environment, PackageLoader, StrictUndefined  # not where no page is written: 30 ms

    made = Environment(
        loader=PackageLoader("eskret", "pages"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
    )
    made.filters.update(count=_count, moment=_moment, paragraphs=_paragraphs, href=_href, bytes=_bytes)
    return made


def page(template: str, **values: object) -> str:
    """A page as text.

    Parameters
    ----------
    template : the name of a file of this room.
    values : what it asks for; one that it asks for and does not get is an error.
    """
    return _environment().get_template(template).render(**values)


def style(*names: str) -> str:
    """Sheets of this room, one after another."""
    return "".join(_environment().get_template(name).render() for name in names)


@dataclass(frozen=True)
class Script:
    """A script of this room, and how a page's policy names it, so that nothing else is run there."""

    text: str
    source: str


def script(name: str) -> Script:
    """A script to be put into a page as it stands."""
    text = _environment().get_template(name).render()
    digest = base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()
    return Script(text, f"'sha256-{digest}'")


def _count(value: int | None) -> str:
    """A number as people read it; nothing for none."""
    return "" if value is None else f"{value:,}"


def _moment(text: str) -> str:
    """A time as people here read it."""
    try:
        return datetime.fromisoformat(text).astimezone().strftime("%-d %B %Y, %H:%M %Z")
    except ValueError:
        return text


def _paragraphs(text: str) -> list[str]:
    return [" ".join(p.split()) for p in text.split("\n\n") if p.strip()]


def _href(text: str) -> str:
    """An address for a link; one of another kind than the web's is none."""
    return text if urlsplit(text).scheme in ("", "http", "https") else ""


def _bytes(size: int) -> str:
    """A size of a file as people read it."""
    if size < 1_000_000:
        return f"{max(size / 1000, 0.1):,.1f} kB"
    return f"{size / 1_000_000:,.1f} MB"
