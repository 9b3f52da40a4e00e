"""A page that lists the files of a delivery, to be opened from the folder they stand in: no script, no network."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from eskret import pages


@dataclass(frozen=True)
class Listed:
    """A file, or a layer of one: where it stands from the page, what it holds."""

    file: str
    layer: str
    features: int
    kind: str
    crs: str
    fields: Sequence[tuple[str, str]]
    size: int


def index_page(files: Sequence[Listed], words: Mapping[str, str], made: str) -> str:
    """The page as text.

    Parameters
    ----------
    words : title, description and licence.
    made : when, as people read it.
    """
    told = {n: words.get(n, "") for n in ("title", "description", "licence")}
    return pages.page("files.html", title=told["title"] or "Files", words=told, files=files, made=made)
