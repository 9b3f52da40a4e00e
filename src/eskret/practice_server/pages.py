"""The practice server for a person with a browser: plain pages, no scripts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape
from typing import Any
from urllib.parse import urlsplit

from eskret.practice_server.documents import SUMMARY, TITLE

_STYLE = """
body{margin:0;font:15px/1.5 sans-serif;color:#1D2B2A;background:#FFFDF7}
header{background:#16302F;color:#FFFDF7;padding:.9rem 1.5rem}header a{color:#FFFDF7}
header p{margin:0}h1{font-size:1.25rem;margin:.2rem 0 0}main{padding:1rem 1.5rem}
table{border-collapse:collapse;font-size:.9rem}th{text-align:left;border-bottom:2px solid #16302F}
th,td{padding:.25rem .9rem .25rem 0;vertical-align:top}tr:nth-child(even) td{background:#F1F6EC}
a{color:#22695A}.more{margin-right:1.2rem}pre{white-space:pre-wrap;overflow-wrap:anywhere}dt{font-weight:600}
"""


def landing(home: str) -> str:
    """The first page."""
    return _page(
        home,
        TITLE,
        f'<p>{escape(SUMMARY)}</p><ul><li><a href="{_href(home)}/collections?f=html">Datasets</a>'
        f'<li><a href="{_href(home)}/conformance?f=html">What of the standard is kept</a>'
        f'<li><a href="{_href(home)}/api?f=html">The interface</a></ul>',
    )


def conformance(home: str, classes: Sequence[str]) -> str:
    """The conformance classes as a list."""
    return _page(home, "What of the standard is kept", _list(classes))


def interface(home: str, definition: Mapping[str, Any]) -> str:
    """The interface as a table of what can be asked."""
    rows = []
    for path, ways in definition["paths"].items():
        for way in ("get", "post", "put", "patch", "delete"):
            if way in ways:
                rows.append([f"{way.upper()} {path}", ways[way]["summary"]])
    return _page(home, "The interface", _table(["Request", "What it does"], [[escape(c) for c in r] for r in rows]))


def collections(home: str, found: Sequence[tuple[Mapping[str, Any], int]]) -> str:
    """The datasets with their counts."""
    rows = [
        [
            f'<a href="{_href(home)}/collections/{_href(c["id"])}?f=html">{escape(c["title"])}</a>',
            f"{n:,}",
            escape(c["updated"][:16].replace("T", " ")),
        ]
        for c, n in found
    ]
    body = _table(["Dataset", "Features", "Changed (UTC)"], rows) if rows else "<p>Nothing is published here yet.</p>"
    return _page(home, "Datasets", body)


def collection(home: str, told: Mapping[str, Any], count: int, properties: Mapping[str, Any]) -> str:
    """A dataset: what it is and what fields it has."""
    at = f"{_href(home)}/collections/{_href(told['id'])}"
    box = told.get("extent", {}).get("spatial", {}).get("bbox", [[]])[0]
    fields = [[escape(n), escape(f"{s['type']} {s.get('format', '')}")] for n, s in properties.items()]
    body = (
        f"<p>{escape(told['description'])}</p><dl><dt>Features<dd>{count:,}<dt>West, south, east, north<dd>"
        f"{escape(', '.join(f'{v:g}' for v in box) or 'not known')}<dt>Changed<dd>{escape(told['updated'])}</dl>"
        f'<p><a href="{at}/items?f=html">Features</a></p>' + _table(["Field", "Type"], fields)
    )
    return _page(home, told["title"], body)


def items(home: str, dataset: str, title: str, page: Mapping[str, Any], properties: Sequence[str]) -> str:
    """A page of features as a table."""
    at = f"{_href(home)}/collections/{_href(dataset)}/items"
    rows = [
        [f'<a href="{at}/{_href(f["id"])}?f=html">{escape(f["id"])}</a>', *(escape(_shown(f["properties"].get(n))) for n in properties)]
        for f in page["features"]
    ]
    more = "".join(
        f'<a class="more" href="{_href(x["href"])}">{words}</a>'
        for x in page["links"]
        for rel, words in (("next", "Next page"), ("first", "First page"))
        if x["rel"] == rel
    )
    told = f"<p>{page['numberReturned']:,} of {page['numberMatched']:,} features. {more}</p>"
    return _page(home, title, told + _table(["Id", *map(escape, properties)], rows))


def item(home: str, feature: Mapping[str, Any], geometry: str) -> str:
    """One feature."""
    rows = [[escape(n), escape(_shown(v))] for n, v in feature["properties"].items()]
    body = _table(["Field", "Value"], rows) + f"<pre>{escape(geometry)}</pre>"
    return _page(home, f"Feature {feature['id']}", body)


def problem(home: str, code: str, says: str) -> str:
    """What is wrong."""
    return _page(home, code, f"<p>{escape(says)}</p>")


def _shown(value: object) -> str:
    return "" if value is None else str(value)


def _href(text: str) -> str:
    """An address as the value of an attribute; of another kind than http, nothing."""
    return escape(text, quote=True) if urlsplit(text).scheme in ("", "http", "https") else ""


def _list(lines: Sequence[str]) -> str:
    return "<ul>" + "".join(f"<li>{escape(x)}" for x in lines) + "</ul>"


def _table(heads: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    head = "".join(f"<th>{h}" for h in heads)
    return f"<table><thead><tr>{head}<tbody>" + "".join("<tr><td>" + "<td>".join(r) for r in rows) + "</table>"


def _page(home: str, title: str, body: str) -> str:
    return (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>{escape(title)}</title><style>{_STYLE}</style>'
        f'<header><p><a href="{_href(home)}/?f=html">{TITLE}</a> · '
        f'<a href="{_href(home)}/collections?f=html">Datasets</a></p>'
        f"<h1>{escape(title)}</h1></header><main>{body}</main></html>\n"
    )
