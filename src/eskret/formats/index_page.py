"""A page that lists the files of a delivery, to be opened from the folder they stand in: no script, no network."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from html import escape
from urllib.parse import quote

_STYLE = """
body{margin:0;font:15px/1.5 sans-serif;color:#1D2B2A;background:#FFFDF7}header{background:#16302F;color:#FFFDF7;padding:1rem 1.5rem}
h1{font-size:1.3rem;margin:0}main{padding:1rem 1.5rem}table{border-collapse:collapse}
th{text-align:left;border-bottom:2px solid #16302F;font-size:.85rem}th,td{padding:.3rem 1.2rem .3rem 0;vertical-align:top}
tr:nth-child(even) td{background:#F1F6EC}a{color:#22695A}.n{text-align:right}small{color:#4A5B59}
"""


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
    title = escape(words.get("title") or "Files")
    said = f"<p>{escape(words['description'])}</p>" if words.get("description") else ""
    licence = f"<p>Licence: {escape(words['licence'])}</p>" if words.get("licence") else ""
    rows = []
    for one in files:
        link = f'<a href="{escape(quote(one.file), quote=True)}">{escape(one.file)}</a>'
        layer = f"<br><small>{escape(one.layer)}</small>" if one.layer else ""
        fields = ", ".join(f"{escape(n)} <small>{escape(t)}</small>" for n, t in one.fields)
        rows.append(
            f'<tr><td>{link}{layer}<td class="n">{one.features:,}<td>{escape(one.kind)}<td>{escape(one.crs)}'
            f'<td class="n">{_size(one.size)}<td>{fields}'
        )
    heads = '<th>File<th class="n">Features<th>Geometry<th>CRS<th class="n">Size<th>Fields'
    return (
        f'<!doctype html><html lang="en"><meta charset="utf-8"><title>{title}</title><style>{_STYLE}</style>'
        f"<header><h1>{title}</h1></header><main>{said}<table><thead><tr>{heads}<tbody>{''.join(rows)}</table>"
        f"{licence}<p><small>Made {escape(made)}.</small></p></main></html>\n"
    )


def _size(size: int) -> str:
    if size < 1_000_000:
        return f"{max(size / 1000, 0.1):,.1f} kB"
    return f"{size / 1_000_000:,.1f} MB"
