"""The practice server for a person with a browser: plain pages, no scripts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from eskret import pages
from eskret.pages import Link, Table
from eskret.practice_server.documents import SUMMARY, TITLE


def landing(home: str) -> str:
    """The first page."""
    ways = [("collections", "Datasets"), ("conformance", "What of the standard is kept"), ("api", "The interface")]
    return _page(home, TITLE, text=SUMMARY, links=[Link(f"{home}/{path}?f=html", words) for path, words in ways])


def conformance(home: str, classes: Sequence[str]) -> str:
    """The conformance classes as a list."""
    return _page(home, "What of the standard is kept", links=classes)


def interface(home: str, definition: Mapping[str, Any]) -> str:
    """The interface as a table of what can be asked."""
    rows = []
    for path, ways in definition["paths"].items():
        for way in ("get", "post", "put", "patch", "delete"):
            if way in ways:
                rows.append([f"{way.upper()} {path}", ways[way]["summary"]])
    return _page(home, "The interface", table=Table(["Request", "What it does"], rows))


def collections(home: str, found: Sequence[tuple[Mapping[str, Any], int]]) -> str:
    """The datasets with their counts."""
    if not found:
        return _page(home, "Datasets", text="Nothing is published here yet.")
    rows = [[Link(f"{home}/collections/{c['id']}?f=html", c["title"]), f"{n:,}", c["updated"][:16].replace("T", " ")] for c, n in found]
    return _page(home, "Datasets", table=Table(["Dataset", "Features", "Changed (UTC)"], rows, numbers=(1,)))


def collection(home: str, told: Mapping[str, Any], count: int, properties: Mapping[str, Any]) -> str:
    """A dataset: what it is and what fields it has."""
    box = told.get("extent", {}).get("spatial", {}).get("bbox", [[]])[0]
    facts = {
        "Features": f"{count:,}",
        "West, south, east, north": ", ".join(f"{v:g}" for v in box) or "not known",
        "Changed": told["updated"],
    }
    fields = [[n, f"{s['type']} {s.get('format', '')}"] for n, s in properties.items()]
    links = [Link(f"{home}/collections/{told['id']}/items?f=html", "Features")]
    return _page(home, told["title"], text=told["description"], facts=facts, links=links, table=Table(["Field", "Type"], fields))


def items(home: str, dataset: str, title: str, page: Mapping[str, Any], properties: Sequence[str]) -> str:
    """A page of features as a table."""
    at = f"{home}/collections/{dataset}/items"
    rows = [[Link(f"{at}/{f['id']}?f=html", f["id"]), *(_shown(f["properties"].get(n)) for n in properties)] for f in page["features"]]
    words = {"next": "Next page", "first": "First page"}
    links = [Link(x["href"], words[x["rel"]]) for rel in words for x in page["links"] if x["rel"] == rel]
    told = f"{page['numberReturned']:,} of {page['numberMatched']:,} features."
    return _page(home, title, text=told, links=links, table=Table(["Id", *properties], rows))


def item(home: str, feature: Mapping[str, Any], geometry: str) -> str:
    """One feature."""
    rows = [[n, _shown(v)] for n, v in feature["properties"].items()]
    return _page(home, f"Feature {feature['id']}", table=Table(["Field", "Value"], rows), preformatted=geometry)


def problem(home: str, code: str, says: str) -> str:
    """What is wrong."""
    return _page(home, code, text=says)


def _shown(value: object) -> str:
    return "" if value is None else str(value)


def _page(
    home: str,
    title: str,
    text: str = "",
    facts: Mapping[str, str] | None = None,
    links: Sequence[Link | str] = (),
    table: Table | None = None,
    preformatted: str = "",
) -> str:
    above = [Link(f"{home}/?f=html", TITLE), Link(f"{home}/collections?f=html", "Datasets")]
    return pages.page(
        "practice.html", title=title, above=above, text=text, facts=facts, links=links, table=table, preformatted=preformatted
    )
